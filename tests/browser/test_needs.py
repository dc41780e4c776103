"""What people need, and the groups that give just that: from an empty table to everybody having it."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import same


def test_needs_are_typed_and_groups_that_give_them_are_taken_as_one_step(yard: Yard, page: Page) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    page.says("Nothing is needed yet")
    before = yard.now()

    def need(who: str, place: str, key: str) -> None:
        many = len(yard.now().needs)
        page.until(lambda: page.one(f"[role=gridcell][aria-label^='{who} on {place}:']")).click()
        page.keys(key)
        page.until(lambda: len(yard.now().needs) == many + 1)

    need("Amara Okafor", "keel / common", "c")
    need("Ansel Krug", "keel / common", "c")
    need("Beatriz Almeida", "keel / common", "x")
    need("Bo Hendrickx", "keel / common / photos", "r")
    assert {(one.who, one.place, one.wish) for one in yard.now().needs.values()} == {
        ("amara-okafor", "common", "change"),
        ("ansel-krug", "common", "change"),
        ("beatriz-almeida", "common", "must not"),
        ("bo-hendrickx", "photos", "read"),
    }
    page.says("2 needed and not had")
    page.until(lambda: page.all("[aria-label='Beatriz Almeida on keel / common: must not get to it, gets RO']"))
    asked = yard.now()

    page.button("Work them out").click()
    page.says("Proven: no fewer give this")
    page.press(".side button", "Take it")
    page.says("One undo takes it back")
    page.until(lambda: page.all(".ant-modal .effects, .ant-modal details, .ant-modal .muted"))
    page.press(".ant-modal-footer button", "Take it")
    page.until(lambda: not same(yard.now(), asked))
    after = resolve(yard.now(), ON)
    for user in yard.now().users.values():
        if user.active(ON):
            wanted = Level.RW if user.id in ("amara-okafor", "ansel-krug") else Level.NA
            assert after.level(user.id, "common") in ({Level.RW} if wanted == Level.RW else {Level.NA, Level.PT}), (
                user.id
            )
            assert (after.level(user.id, "photos") == Level.RO) == (user.id == "bo-hendrickx")
    page.says("0 needed and not had")
    page.says("The plan has changed since")
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), asked))
    page.chord(Keys.CONTROL, "z")
    page.until(lambda: len(yard.now().needs) == 3)
    assert before.needs == {}
    assert page.errors() == []


def test_what_people_get_today_becomes_needs_and_takes_fewer_grants(yard: Yard, page: Page) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    page.press(".tools button", "From what people get today")
    page.until(lambda: len(yard.now().needs) > 300)
    page.says("0 needed and not had")
    page.button("Work them out").click()
    page.says("Proven: no fewer give this")
    assert page.trouble() == []
    page.press(".side button", "Take it")
    page.says("changes nobody’s access")
    assert page.errors() == []
