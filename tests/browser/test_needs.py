"""What people need, and the groups that give just that: from an empty plan to an appliance on which everybody has it."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from tests.browser.test_first_minute import Novice
from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import RemoveNeed
from yardgate.core.model.plan import Plan, same
from yardgate.core.policy.compliance import keep
from yardgate.store import Plans

TABLE = {
    "Ada Brook": ("change", "change", "read"),
    "Milo Hart": ("change", "change", "read"),
    "Ruth Calder": ("change", "", "read"),
    "Jonas Weir": ("read", "must not", "change"),
    "Nell Ferris": ("read", "must not", "change"),
    "Sol Madigan": ("read", "must not", "change"),
    "Tess Orchard": ("read", "", "change"),
    "Kit Larkin": ("", "must not", "read"),
}
PLACES = ("store/office", "store/wages", "store/drawings")
ACTIONS = 40


def test_from_a_pasted_table_to_an_appliance_where_everybody_gets_what_it_says(yard: Yard, page: Page) -> None:
    page.go("/plans")
    me = Novice(page)
    store = Plans(yard.server.store())
    plan = me.begins("harbour")

    def now() -> Plan:
        return store.open(plan).plan

    me.press("Needs", ".stations a")
    me.press("A table of needs")
    me.until(lambda: me.one(".ant-drawer textarea").is_displayed())
    me.one(".ant-drawer textarea").click()
    lines = ["\t".join(("", *PLACES)), *("\t".join((name, *wishes)) for name, wishes in TABLE.items())]
    me.driver.execute_cdp_cmd("Input.insertText", {"text": "\n".join(lines)})  # as pasted: one act more
    me.press("Preview", ".ant-drawer-footer button")
    me.press("people", ".ant-drawer p button")
    me.press("Make them places", ".ant-drawer p button")
    me.says("Kit Larkin will be a new person")
    me.says("store/wages will be a new place")
    me.until(
        lambda: next(one for one in me.all(".ant-drawer-footer button.ant-btn-primary") if one.is_enabled())
    ).click()
    me.until(lambda: len(now().needs) == 21 and not me.all(".ant-drawer-content"))

    me.press("Work them out", ".side button")
    me.says("proven: none is simpler")
    me.press("Take it", ".side button")
    me.says("One undo takes it back")
    me.press("Take it", ".ant-modal-footer button")
    me.until(lambda: now().grants)
    me.press("Begin", ".stations a")
    me.press("Share them", ".stage button")
    me.until(lambda: now().shares)
    me.press("A Linux file server", ".behaviour button")
    me.says("Everybody gets what is granted")
    me.press("Choose", ".stage button")
    me.press("simulated", ".ant-modal .ant-radio-wrapper")
    me.press("Send it there from now on")
    me.until(lambda: not me.all(".ant-modal"))
    me.press("Read what it has", ".tools button")
    me.until(lambda: "is not known yet" not in me.text())
    me.press("Roll out", ".tools button")
    me.press("Start", ".ant-modal button")
    me.says("Confirm within")
    me.says("all as planned")
    me.press("Confirm", ".verdict button")
    me.one(".verdict.good")

    found = outcome(resolve(now(), ON))
    level = {"change": Level.RW, "read": Level.RO}
    for name, wishes in TABLE.items():
        for place, wish in zip(PLACES, wishes, strict=True):
            who = next(user.id for user in now().users.values() if user.full_name == name)
            assert found.level(who, place.partition("/")[2]) in (
                {level[wish]} if wish in level else {Level.NA, Level.PT}
            ), (name, place)
    clicks, keys = me.acts()
    assert me.errors() == []
    assert clicks + 1 + keys - len("harbour") < ACTIONS
    print(f"{clicks} clicks, {keys} keys, one table pasted")


def test_needs_are_typed_and_groups_that_give_them_are_taken_as_one_step(yard: Yard, page: Page) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    page.says("272 cells needed · 3 needed and not had · 2 had and not needed")
    store = Plans(yard.server.store())
    store.commit(yard.plan, store.open(yard.plan).revision, [RemoveNeed(one) for one in yard.now().needs], "ann")
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
    page.says("proven: none is simpler")
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
    page.button("More").click()
    page.press("[role=menuitem]", "Needs from what people get today")
    page.until(lambda: len(yard.now().needs) > 300)
    page.says("0 needed and not had")
    page.button("Work them out").click()
    page.says("proven: none is simpler")
    assert page.trouble() == []
    page.press(".side button", "Take it")
    page.says("changes nobody’s access")
    assert page.errors() == []


def test_several_answers_side_by_side_and_only_a_part_of_one_is_taken(yard: Yard, page: Page) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    page.press(".ant-checkbox-wrapper", "members of groups may change")
    page.button("Work them out").click()
    page.until(lambda: len(page.all("[role=radio].answer")) >= 3)
    page.until(lambda: page.all("[role=radio].answer") and "Simpler" in page.text(), 180)
    page.until(lambda: not page.all(".side .ant-btn-loading"), 90)
    page.says("a new one like Ansel Krug")
    assert "could also" not in page.one(".side").text
    page.one(".ladder .ant-slider-handle").send_keys(Keys.ARROW_RIGHT)
    page.says("could also")
    page.until(lambda: page.all("[role=gridcell][aria-label$='beyond the need']"))
    page.press("[role=radio].answer", "Exact")
    page.until(lambda: "could also" not in page.one(".side").text)
    page.says("a list by hand or a folder above decides otherwise")
    name = page.one(".suggested input")
    page.fill(name, "router-people")
    before = yard.now()
    page.press(".side button", "Take it")
    page.says("What to take")
    for part in (
        "keel / common",
        "keel / hulls",
        "keel / office / minutes",
        "keel / office / payroll",
        "keel / training",
    ):
        page.press(".parts .ant-checkbox-wrapper", part)
    page.until(lambda: page.all(".ant-modal .effects, .ant-modal .muted"))
    assert page.trouble() == []
    page.press(".ant-modal-footer button", "Take it")
    page.until(lambda: not same(yard.now(), before))
    after = yard.now()
    assert {place for place in after.places if after.grants.get(place) != before.grants.get(place)} <= {
        "drawings",
        "toolpaths",
        "quotes",
    }
    assert after.grants["drawings"] != before.grants["drawings"]
    page.says("The plan has changed since")
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))
    assert page.errors() == []


def test_who_asked_is_kept_groups_fit_a_newcomer_and_a_block_is_pasted(yard: Yard, page: Page) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    cell = "[role=gridcell][aria-label^='{} on keel / drawings / toolpaths:']"
    paste = "const data = new DataTransfer(); data.setData('text/plain', arguments[0]); document.querySelector('[role=grid]').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));"
    page.until(lambda: page.one(cell.format("Amara Okafor"))).click()
    page.driver.execute_script(paste, "change\tr\nx\t?\n")
    page.until(lambda: yard.now().needs.get("ansel-krug @ hulls"))
    wishes = {need.id: need.wish for need in yard.now().needs.values()}
    assert [wishes[one] for one in ("amara-okafor @ toolpaths", "amara-okafor @ hulls")] == ["change", "read"]
    assert [wishes[one] for one in ("ansel-krug @ toolpaths", "ansel-krug @ hulls")] == ["must not", "any"]
    page.says("must not and can read these on the board")
    page.driver.execute_script(paste, "change\tperhaps")
    page.says("says “perhaps”")
    page.driver.execute_script(paste, "\thulls\tphotos\nAda Nobody\tread\tchange\n")
    page.says("Ada Nobody")
    page.says("row is left out")
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".ant-drawer-content"))
    page.until(lambda: page.one(cell.format("Priya Natarajan"))).click()
    page.says("Priya Natarajan on keel / drawings / toolpaths")
    page.fill(page.one("[aria-label='Asked for by']"), "Mira Oyelaran\n")
    page.until(lambda: yard.now().needs["priya-natarajan @ toolpaths"].asked_by == "Mira Oyelaran")
    page.button("Which groups fit Priya Natarajan?").click()
    page.says("Priya Natarajan lacks training")
    page.press(".fits button", "Join")
    page.until(lambda: "priya-natarajan" in yard.now().groups["directors"].members)
    page.button("Undo").click()
    page.until(lambda: "priya-natarajan" not in yard.now().groups["directors"].members)
    page.press("a", "these on the board")
    page.says("otherwise than needed")
    page.cell("Ansel Krug", "toolpaths")
    assert page.errors() == []


def test_needs_that_are_met_become_promises_grants_are_made_simpler_and_a_group_of_several_is_made(
    yard: Yard, page: Page
) -> None:
    page.go(yard.at("needs"), "[role=grid]")
    page.says("3 needed and not had")
    page.button("More").click()
    page.press("[role=menuitem]", "Promise what is met")
    page.says("Each need that is met becomes a promise")
    assert page.trouble() == []
    before = yard.now()
    page.press(".ant-modal-footer button", "Promise it")
    page.until(lambda: len(yard.now().promises) > len(before.promises))
    made = {(one.who, one.place) for one in yard.now().promises.values()}
    assert ("priya-natarajan", "toolpaths") in made
    assert sum(one.who == "apprentices" and one.place == "training" for one in yard.now().promises.values()) == 1
    kept = keep(outcome(resolve(yard.now(), ON)))
    assert {one.promise.id for one in kept.broken} <= before.promises.keys()

    page.button("More").click()
    page.press("[role=menuitem]", "Simplify the grants")
    page.press(".ant-modal button", "Look")
    page.says("0 cells change", 180)
    assert page.trouble() == []
    grants = sum(map(len, yard.now().grants.values()))
    page.press(".ant-modal-footer button", "Take it")
    page.until(lambda: sum(map(len, yard.now().grants.values())) < grants)
    page.until(lambda: not page.all(".ant-modal"))
    page.button("More").click()
    page.press("[role=menuitem]", "Simplify the grants")
    page.press(".ant-modal .ant-segmented-item", "a place and below")
    page.press(".ant-modal button", "Look")
    page.says("Nothing to simplify here", 180)
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".ant-modal"))

    page.until(lambda: page.one("[role=gridcell][aria-label^='Ansel Krug on keel / common:']")).click()
    page.chord(Keys.SHIFT, Keys.ARROW_DOWN)
    page.press(".here button", "A group of these 2")
    page.says("It is granted what each of them needs")
    page.fill(page.one(".ant-modal input"), "visitors")
    assert page.trouble() == []
    page.press(".ant-modal-footer button", "Make it")
    page.until(lambda: any(group.name == "visitors" for group in yard.now().groups.values()))
    assert page.errors() == []
