"""Sheets to print: a person's card, and the access report by place and by person."""

from tests.browser.conftest import Page, Yard

PRINTED = "return [...document.querySelectorAll('.bar, .stations, .strip, .no-print')].filter(e => e.offsetParent !== null).length"


def test_a_persons_card_tells_what_they_reach_and_what_to_type(yard: Yard, page: Page) -> None:
    page.go(yard.at("people?who=priya-natarajan"))
    page.until(lambda: next(a for a in page.all(".side a") if a.text == "Card to print").click() or True)
    page.says("Sign in as priya.natarajan.")
    drawings = page.until(lambda: next(s for s in page.all(".reach") if s.text.startswith("drawings")))
    assert "you can open, change, add and delete" in drawings.text
    assert "Some folders in it are closed to you." in drawings.text
    assert "toolpaths" not in drawings.text, "what is closed is not named"
    for system, line in (
        ("Windows", r"\\keelson\drawings"),
        ("macOS", "smb://keelson/drawings"),
        ("Linux, /etc/fstab", "//keelson/drawings /mnt/drawings cifs "),
    ):
        page.one("input[aria-label='For which system']").click()
        page.until(lambda s=system: next(o for o in page.all(".ant-select-item-option") if o.text == s).click() or True)  # type: ignore[misc]
        page.until(lambda text=line: text in page.all(".reach")[1].text)  # type: ignore[misc]
    page.go(yard.at("card/guest"))
    page.says("There is nothing for this account yet.")
    page.go(yard.at("card/night-backup"))
    page.says("keelson:/srv/ballast/vm-images /mnt/images nfs4 _netdev 0 0")
    page.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    assert page.driver.execute_script(PRINTED) == 0
    page.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
    assert page.errors() == []


def test_the_access_report_by_place_and_by_person(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"))
    page.until(lambda: page.button("Export").click() or True)
    page.until(
        lambda: next(i for i in page.all(".ant-dropdown-menu-item") if "Access report" in i.text).click() or True
    )
    board = page.until(lambda: next(b for b in page.all(".report tbody") if "keel / common / noticeboard" in b.text))
    assert "everybody else (" in board.text
    page.until(lambda: next(i for i in page.all(".ant-segmented-item") if i.text == "By person").click() or True)
    page.until(lambda: "by=person" in page.driver.current_url)
    page.until(lambda: next(a for a in page.all(".report a") if a.text == "Priya Natarajan").click() or True)
    page.says("Sign in as priya.natarajan.")
    assert page.errors() == []
