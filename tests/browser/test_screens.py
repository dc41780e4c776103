"""Every screen: no violation of accessibility, no script error; other tabs, lost servers, readers, large plans."""

import time
from collections.abc import Callable

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.plan import Plan
from yardgate.store import Plans
from yardgate.store.accounts import Accounts
from yardgate.tools.bench_browser import edit_times

SCREENS = (
    "begin", "needs", "people", "board", "board?view=grants", "board?view=off", "board?rows=people", "board?cells=personal", "shares?share=share-images",
    "storage?place=minutes", "storage?place=petrel-9", "storage?place=nightly", "walk", "promises", "promises?show=findings", "rollout", "directories",
    "cards?who=priya-natarajan,night-backup", "report", "report?by=person", "hand-over",
    "look", "look?who=priya-natarajan", "look?place=payroll", "look?what=findings", "look?what=history", "look?who=priya-natarajan&place=toolpaths",
)  # fmt: skip
THERE = ".c.RW, .c.mark, .needs-stand, .lines, .bars, .find-cell, .stage, .sentences, .steps, .directory, .walk, .paper .reach, .report td, .part li, .big li, .gate, .empty"


View = tuple[int, int, str]
ALL: tuple[View, ...] = (
    (1280, 800, "light"), (1280, 800, "dark"), (1024, 768, "light"), (1024, 768, "dark"), (390, 844, "light"), (390, 844, "dark"),
    (1920, 1080, "light"), (640, 400, "light"),  # the last is 1280 by 800 at a zoom of 200 %
)  # fmt: skip
EVERY_RUN: tuple[View, ...] = ((1280, 800, "light"), (1024, 768, "dark"), (390, 844, "light"))


def show(page: Page, view: View) -> None:
    width, height, scheme = view
    sizes = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", sizes)
    wanted = {"prefers-color-scheme": scheme, "prefers-reduced-motion": "reduce"}
    features = [{"name": name, "value": value} for name, value in wanted.items()]
    page.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})


def looker(page: Page, views: tuple[View, ...], found: dict[str, list[str]]) -> Callable[[str], None]:
    """What is amiss with what is on the page, at each of some sizes; the first is what it goes back to."""

    def look(name: str) -> None:
        for view in views:
            if len(views) > 1:
                show(page, view)
                time.sleep(0.8)
            time.sleep(0.4)  # colours of half-open drawers are not what one reads
            trouble = page.trouble()
            wide = page.driver.execute_script("return document.documentElement.scrollWidth")
            if wide > view[0]:
                trouble.append(f"{wide} pixels wide")
            if trouble:
                found[f"{name} at {view}"] = trouble
        if len(views) > 1:
            show(page, views[0])

    return look


@pytest.mark.parametrize(
    "view", [pytest.param(view, marks=() if view in EVERY_RUN else pytest.mark.long, id=str(view)) for view in ALL]
)
def test_axe_finds_nothing_on_any_screen_and_nothing_is_wider_than_it(yard: Yard, page: Page, view: View) -> None:
    found: dict[str, list[str]] = {}
    look = looker(page, (view,), found)
    try:
        show(page, view)
        for screen in SCREENS:
            page.go(yard.at(screen), THERE)
            look(screen)
    finally:
        page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
    assert not found, "\n".join(f"{name}: {one}" for name, some in found.items() for one in some)
    assert page.errors() == []


@pytest.mark.parametrize("views", [ALL[:1], pytest.param(ALL, marks=pytest.mark.long)], ids=["here", "everywhere"])
def test_axe_finds_nothing_in_dialogs(yard: Yard, page: Page, views: tuple[View, ...]) -> None:
    found: dict[str, list[str]] = {}
    try:
        show(page, views[0])
        _look_at_dialogs(yard, page, looker(page, views, found))
    finally:
        page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
    assert not found, "\n".join(f"{name}: {one}" for name, some in found.items() for one in some)
    assert page.errors() == []


def _look_at_dialogs(yard: Yard, page: Page, look: Callable[[str], None]) -> None:
    page.go(yard.at("board?who=tomas-brandt&place=petrel-9"))
    page.says("By a group instead")
    page.one("[role=grid]").send_keys("n")
    page.says("came out differently")
    look("reason with offers, after an edit")
    page.one("[role=grid]").send_keys("?")
    page.says("read-write")
    look("keys")
    page.keys(Keys.ESCAPE)
    page.go(yard.at("storage"))
    page.button("Help").click()
    page.says("Help: Storage")
    look("help")
    page.one("[aria-label='Find a word']").send_keys("refus")
    page.until(lambda: [word.text for word in page.all(".help-words dt")][:1] == ["Refusal"])
    page.go(yard.at("board"))
    page.button("a refusal wins", ".tools").click()
    page.until(lambda: page.all("input[name=rule]"))
    look("rules")
    page.go(yard.at("board"))
    page.button("Import").click()
    page.one(".ant-drawer textarea").send_keys("who,payroll,attic\nMira Oyelaran,RW,\nZora,RO,-\n")
    page.button("Preview").click()
    page.says("Names that the plan does not have")
    look("import preview")
    for place, button in (
        ("minutes", "Another list style"),
        ("hulls", "Push down"),
        ("training", "Start over"),
        ("petrel-9", "As text"),
    ):
        page.go(yard.at(f"storage?place={place}"))
        page.choose("The list", button)
        page.until(lambda: page.all(".ant-modal button, .ant-btn"))
        look(f"{button} of {place}")
    page.go(yard.at("needs"))
    page.button("Work them out").click()
    page.until(lambda: page.all(".suggested li") and not page.all(".side .ant-btn-loading"), 90)
    look("answers to needs")
    page.press(".side button", "Take it")
    page.says("What to take")
    look("parts of an answer")
    for act, said in (("Promise what is met", "becomes a promise"), ("Simplify the grants", "decide nothing")):
        page.go(yard.at("needs"))
        page.choose("More", act)
        page.says(said)
        look(act)
    page.press(".ant-modal button", "Look")
    page.says("0 cells change", 180)
    look("what is simpler")
    page.go(yard.at("needs"))
    page.until(lambda: page.one("[role=gridcell][aria-label^='Ansel Krug on keel / common:']")).click()
    page.button("Which groups fit Ansel Krug?").click()
    page.says("gets all that they need")
    look("groups that fit")
    page.until(lambda: page.one("[role=gridcell][aria-label^='Ansel Krug on keel / common:']")).click()
    page.chord(Keys.SHIFT, Keys.ARROW_DOWN)
    page.press(".here button", "A group of these 2")
    page.says("It is granted what each of them needs")
    look("a group of several people")
    page.go(yard.at("people"))
    page.button("Add person").click()
    page.one(".ant-modal input")
    look("add person")
    page.go(yard.at("shares"))
    page.button("Add a share").click()
    page.one(".ant-modal input")
    look("add share")
    page.go(yard.at("storage?place=office-2"))
    page.choose("Move, remove", "Remove …")
    page.says("This takes out of the plan")
    look("removal")
    page.go(yard.at("board"))
    page.button("History").click()
    page.button("What it did").click()
    page.says("changed 1 cell of 1 person")
    look("history")
    page.go(yard.at("board"))
    page.button("the administrator").click()
    page.press(".ant-dropdown-menu-item", "Who may")
    page.says("Add an account")
    look("accounts")
    page.go("/plans")
    look("plans")
    empty = yard.server.put(Plan(name="empty"))
    for station in ("board", "people", "storage", "shares", "walk"):
        page.go(f"/p/{empty}/{station}")
        look(f"empty {station}")
    page.go("/sign-in")
    look("sign-in")


def test_an_edit_appears_in_another_browser(yard: Yard) -> None:
    """Without a reload; how soon, `yardgate bench --browser` measures."""
    one, two = yard.page(), yard.page()
    two.go(yard.at("board?who=priya-natarajan&place=toolpaths"))
    two.until(lambda: two.all(".c.active.NA"))
    one.go(yard.at("board?who=apprentices&place=toolpaths"))
    one.until(lambda: one.all(".c.active.NA"))
    one.one("[role=grid]").send_keys(Keys.BACKSPACE)
    two.until(lambda: two.level("Priya Natarajan", "toolpaths").startswith("read-write"))
    two.says("revision 2, the administrator")


def test_of_two_conflicting_edits_the_second_is_told_and_nothing_is_lost(yard: Yard, page: Page) -> None:
    """The second person's tab has not heard of the first one's edit yet, as on a slow line."""
    page.driver.execute_cdp_cmd("Network.enable", {})
    page.driver.execute_cdp_cmd("Network.setBlockedURLs", {"urls": ["*/events"]})
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    Plans(yard.server.store()).commit(yard.plan, 1, [SetGrant("toolpaths", "draughting", Level.RO)], "Bo")
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.says("The plan was changed meanwhile")
    page.says("Bo: Draughting on keel/drawings/toolpaths: read-only")
    assert yard.now().grants["toolpaths"]["apprentices"] == Level.NA
    page.until(lambda: page.level("Mira Oyelaran", "toolpaths").startswith("read-only"))
    page.button("Apply mine now").click()
    page.until(lambda: "apprentices" not in yard.now().grants["toolpaths"])
    assert yard.now().grants["toolpaths"]["draughting"] == Level.RO


@pytest.mark.own_server
def test_when_the_server_is_away_nothing_is_lost(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    yard.server.kill()
    page.says("the server does not answer; trying again")
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.says("Nothing was changed by this.")
    assert "no access" in page.level("Priya Natarajan", "toolpaths")
    yard.server.start()
    page.button("Try again").click()
    page.until(lambda: page.level("Priya Natarajan", "toolpaths").startswith("read-write"), 15)
    page.says("every change is kept at once", 15)
    assert "apprentices" not in yard.now().grants["toolpaths"]


@pytest.mark.own_server
def test_somebody_whose_session_ended_signs_in_and_is_back_at_the_same_cell(yard: Yard, page: Page) -> None:
    accounts = Accounts(yard.server.store())
    boss = accounts.by_name("the administrator")
    assert boss is not None
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    accounts.set_password(boss.id, "a long enough one")  # which ends every session
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.says("Sign in to plan")
    name, password = page.all("form input")
    name.send_keys("the administrator")
    password.send_keys("a long enough one", Keys.ENTER)
    page.until(lambda: page.all(".c.active.NA"))
    assert page.one(".side h2").text == "Apprentices → toolpaths"
    assert yard.now().grants["toolpaths"]["apprentices"] == Level.NA


def test_a_reader_can_look_and_is_told_that_nothing_changes(yard: Yard) -> None:
    page = yard.page("reader")
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    page.says("you may read this plan, not change it")
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.says("This account may only read. Nothing was changed.")
    assert not page.button("Undo").is_enabled()
    assert not [b for b in page.all("button") if "Import" in b.text or "Add person" in b.text]
    page.go(yard.at("storage"))
    assert not [b for b in page.all("button") if "Add" in b.text or "Remove" in b.text]
    assert Plans(yard.server.store()).open(yard.plan).revision == 1


# Scroll a step a frame; after each frame, ask what is drawn at points all over the board. Blank or waiting cells are counted.
SCROLL = """
const [down, right, frames, done] = arguments;
const grid = document.querySelector('[role=grid]');
const box = grid.getBoundingClientRect();
let blanks = 0, looked = 0, frame = 0;
const points = [];
for (let x = box.left + 240; x < box.right - 90; x += 90) for (let y = box.top + 150; y < box.bottom - 40; y += 60) points.push([x, y]);
const step = () => {
  for (const [x, y] of points) {
    const cell = document.elementFromPoint(x, y)?.closest('[role=gridcell]');
    looked++;
    if (!cell || cell.classList.contains('waiting')) blanks++;
  }
  if (++frame > frames) { done([blanks, looked, grid.scrollTop, grid.scrollLeft]); return; }
  grid.scrollTop += down; grid.scrollLeft += right;
  requestAnimationFrame(() => requestAnimationFrame(step));
};
step();
"""


def test_two_thousand_rows_by_three_hundred_places_scroll_and_edit(yard: Yard, page: Page) -> None:
    large = yard.large()
    page.driver.set_script_timeout(300)
    page.go(f"/p/{large}/board?rows=people&who=u7&place=p7")
    page.until(lambda: page.all(".c.active"))
    assert "1,900 rows · 300 places" in page.text()
    time.sleep(2.5)  # the columns ahead are fetched meanwhile
    for down, right in ((260, 0), (0, 180), (-200, 0), (150, -150)):
        blanks, looked, top, left = page.driver.execute_async_script(SCROLL, down, right, 25)
        assert looked > 1000
        assert blanks == 0, (down, right, blanks, looked, top, left)
    assert len(page.all("[role=gridcell]")) < 4000
    page.go(f"/p/{large}/board?view=grants&rows=people&who=u7&place=p7")
    page.until(lambda: page.all(".c.active"))
    times = sorted(edit_times(page.driver, 9))
    print("edit to repaint on 1,900 × 300, ms:", [round(t) for t in times])
    assert times[len(times) // 2] < 5000  # that it repaints; how fast, `yardgate bench --browser` measures
