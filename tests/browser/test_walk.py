"""Walking through the shares as several people side by side."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard

ROW = """
const row = [...document.querySelectorAll('.walk tbody tr')].find((one) => one.cells[0].innerText.trim() === arguments[0]);
return row ? [...row.cells].slice(1).map((cell) => cell.innerText.trim().replace(/\\s+/g, ' ')) : [];
"""


def row(page: Page, name: str) -> list[str]:
    """What the walkers find, in the row of this name; nothing while it is not there."""
    found: list[str] = page.driver.execute_script(ROW, name)
    return found


def test_two_people_and_a_machine_side_by_side(yard: Yard, page: Page) -> None:
    page.go(yard.at("walk?as=priya-natarajan~smb~!mira-oyelaran~smb~"))
    page.until(lambda: row(page, "drawings") == ["RW opens, saves", "RW opens, saves"])
    assert row(page, "images") == ["not offered over SMB"] * 2
    page.until(lambda: next(b for b in page.all(".walk .name") if b.text == "drawings").click() or True)
    page.until(lambda: row(page, "toolpaths") == ["not shown to them", "RW opens, saves"])
    page.until(lambda: next(b for b in page.all(".find-cell") if b.text == "not shown to them").click() or True)
    page.says("if they type its name, their computer says something like")
    page.says("5 · List of toolpaths NA")
    page.until(lambda: next(b for b in page.all("aside button") if "Promise that this" in b.text).click() or True)
    page.until(
        lambda: (
            next(
                i for i in page.all(".ant-dropdown-menu-item") if "not be able to read this over SMB" in i.text
            ).click()
            or True
        )
    )
    page.until(lambda: any(p.who == "priya-natarajan" and p.protocol == "smb" for p in yard.now().promises.values()))
    page.button("Compare with somebody").click()
    who = page.until(lambda: next(iter(page.all("[aria-label='Who walks']")[2:])))
    who.send_keys("Tomas")
    page.until(lambda: next(e for e in page.all(".ant-select-item-option-active") if "Tomas Brandt" in e.text))
    who.send_keys(Keys.ENTER)
    page.until(lambda: len(found := row(page, "toolpaths")) == 3 and found[2] == "RW opens, saves")
    page.button("\\\\keelson", ".trail").click()
    page.until(lambda: len(row(page, "training")) == 3)
    page.driver.back()
    page.until(lambda: row(page, "toolpaths")[:1] == ["not shown to them"])
    assert page.errors() == []


def test_trying_everyone_lists_what_one_would_not_think_of(yard: Yard, page: Page) -> None:
    page.go(yard.at("walk"))
    page.until(lambda: page.button("Try everyone").click() or True)
    page.says("700 cells tried")
    page.says("Imke Brouwer on keel / drawings / toolpaths: over SMB")
    section = page.until(lambda: next(s for s in page.all(".everyone section") if "Gets more" in s.text))
    assert "Henrik Vance on ballast / vm-images" in section.text
    page.until(lambda: page.all(".everyone section li .link")[0].click() or True)
    page.until(lambda: row(page, "files in vm-images") != [])
    page.driver.back()
    page.says("Everybody can write here 1")
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


def test_walking_as_whoever_claims_numbers_from_a_named_host(yard: Yard, page: Page) -> None:
    page.go(yard.at("walk?as=henrik-vance~nfs~192.0.2.20~linux"))
    page.until(lambda: row(page, "images") != [])
    who = page.until(lambda: page.one("[aria-label='Who walks']"))
    who.send_keys("54321:54321")
    page.until(lambda: next(e for e in page.all(".ant-select-item-option-active") if "claims 54321" in e.text))
    who.send_keys(Keys.ENTER)
    page.until(lambda: row(page, "images") == ["NA seen, refused"])
    page.until(lambda: page.all(".find-cell")[0].click() or True)
    page.says("Whoever claims 54321:54321 at")
    page.says("the client claims the uid 54321")
    page.go(yard.at("walk?as=54321~nfs~198.51.100.7%20lathe.yard.example~linux"))
    page.until(lambda: row(page, "images") == ["not shown to them"])
    assert page.errors() == []


def test_what_a_client_says_depends_on_the_client(yard: Yard, page: Page) -> None:
    for client, said in (
        ("windows", "You don’t currently have permission to access this folder."),
        ("macos", "The folder can’t be opened because you don’t have permission to see its contents."),
        ("linux", "“Permission denied”"),
    ):
        page.go(yard.at(f"walk?as=priya-natarajan~smb~~{client}&share=share-drawings&place=drawings"))
        page.until(lambda: row(page, "toolpaths") == ["not shown to them"])
        page.until(lambda: next(b for b in page.all(".find-cell") if b.text == "not shown to them").click() or True)
        page.says(said)
    assert page.errors() == []


def test_the_board_as_seen_over_ways_in(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?rows=people&who=edda-lindqvist&place=toolpaths"))
    page.until(lambda: page.level("Edda Lindqvist", "toolpaths").startswith("read-write"))
    page.says("As seen over SMB, through drawings. By share:")
    page.says("NFS, machines")
    chooser = page.until(lambda: page.one("[aria-label='As seen over']"))
    chooser.send_keys(Keys.ARROW_DOWN)
    page.until(lambda: next(o for o in page.all(".ant-select-item-option") if o.text == "over NFS").click() or True)
    page.until(lambda: "over=nfs" in page.driver.current_url)
    page.until(lambda: "read-only" in page.cell("Edda Lindqvist", "toolpaths").get_attribute("aria-label"))
    page.says("As seen over NFS, through machines.")
    page.until(lambda: "no share leads there" in page.cell("Edda Lindqvist", "quotes").get_attribute("aria-label"))
    assert page.errors() == []
