"""Sheets to print: a person's card, and the access report by place and by person."""

from tests.browser.conftest import Page, Yard

PRINTED = "return [...document.querySelectorAll('.bar, .stations, .strip, .no-print')].filter(e => e.offsetParent !== null).length"


def test_a_persons_card_tells_what_they_reach_and_what_to_type(yard: Yard, page: Page) -> None:
    page.go(yard.at("people?who=priya-natarajan"))
    page.until(lambda: next(a for a in page.all(".side a") if a.text == "Card to print").click() or True)
    page.says("Signs in as priya.natarajan; in Apprentices, Draughting")
    drawings = page.until(lambda: next(s for s in page.all(".reach") if s.text.startswith("drawings")))
    assert "You can open, change, add and delete." in drawings.text
    assert "toolpaths Closed to you NA" in drawings.text.replace("\n", " ")
    assert "\\\\keelson\\drawings" in drawings.text
    assert "smb://keelson/drawings" in drawings.text
    assert "//keelson/drawings /mnt/drawings cifs " in drawings.text
    page.go(yard.at("card/guest"))
    page.says("no share lets guests through to anything")
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
    assert "everybody else (26)" in board.text
    page.until(lambda: next(i for i in page.all(".ant-segmented-item") if i.text == "By person").click() or True)
    page.until(lambda: "by=person" in page.driver.current_url)
    page.until(lambda: next(a for a in page.all(".report a") if a.text == "Priya Natarajan").click() or True)
    page.says("Signs in as priya.natarajan")
    assert page.errors() == []
