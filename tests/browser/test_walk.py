"""Walking through the shares as several people side by side."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard


def row(page: Page, name: str) -> list[str]:
    """What the walkers find, in the row of this name."""
    cells = page.until(
        lambda: next(r for r in page.all(".walk tbody tr") if r.text.startswith(name)).find_elements(
            "css selector", "td"
        )
    )
    return [cell.text.replace("\n", " ") for cell in cells[1:]]


def test_two_people_and_a_machine_side_by_side(yard: Yard, page: Page) -> None:
    page.go(yard.at("walk?as=priya-natarajan~smb~!mira-oyelaran~smb~"))
    page.until(lambda: row(page, "drawings") == ["RW opens, saves", "RW opens, saves"])
    assert row(page, "images") == ["not offered over SMB"] * 2
    page.until(lambda: next(b for b in page.all(".walk .name") if b.text == "drawings").click() or True)
    page.until(lambda: row(page, "toolpaths") == ["not shown to them", "RW opens, saves"])
    page.until(lambda: next(b for b in page.all(".find-cell") if b.text == "not shown to them").click() or True)
    page.says("if they type its name, their computer says something like")
    page.says("5 · List of toolpaths NA")
    page.button("Add somebody beside").click()
    who = page.until(lambda: page.all("[aria-label='Who walks']")[2])
    who.send_keys("Tomas", Keys.ENTER)
    page.until(lambda: len(row(page, "toolpaths")) == 3 and "…" not in row(page, "toolpaths")[2])
    page.button("\\\\keelson", ".trail").click()
    page.until(lambda: len(row(page, "training")) == 3)
    page.driver.back()
    page.until(lambda: row(page, "toolpaths")[0] == "not shown to them")
    assert page.errors() == []


def test_over_nfs_from_a_host_that_no_rule_takes_in(yard: Yard, page: Page) -> None:
    page.go(yard.at("walk?as=tomas-brandt~nfs~192.0.2.7"))
    page.until(lambda: row(page, "machines") == ["not shown to them"])
    address = page.one("[aria-label='From which address']")
    address.send_keys(Keys.CONTROL, "a")
    address.send_keys("192.0.2.41", Keys.ENTER)
    page.until(lambda: row(page, "machines") == ["RO opens, reads"])
    address = page.one("[aria-label='From which address']")
    address.send_keys(Keys.CONTROL, "a")
    address.send_keys("bench", Keys.ENTER)
    page.says("value is not a valid IPv4 or IPv6 address")
