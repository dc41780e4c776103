"""Everything without a mouse: what the help lists is done with keys alone, and what can be reached has a name and is seen to have the focus."""

from collections.abc import Callable

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from tests.browser.test_screens import SCREENS, THERE
from yardgate.core.model.plan import Plan, same

ROLES = {
    "button", "link", "textbox", "combobox", "checkbox", "radio", "switch", "gridcell", "treeitem", "menuitem", "tab", "searchbox",
    "spinbutton", "slider", "listbox", "dialog", "grid", "tree", "columnheader", "rowheader", "radiogroup",
}  # fmt: skip
NAME = """
const e = document.activeElement;
const by = (e.getAttribute('aria-labelledby') || '').split(' ').map((id) => document.getElementById(id)?.textContent || '').join(' ');
return [e.getAttribute('aria-label'), by.trim(), [...(e.labels || [])].map((l) => l.textContent).join(' '), e.textContent, e.placeholder, e.title]
  .find((one) => one && one.trim()) || '';
"""
SEEN = """
const e = document.activeElement, box = e.closest('.ant-select, .ant-input-affix-wrapper, .ant-picker, .ant-checkbox-wrapper, .ant-radio-wrapper, .ant-segmented-item') || e;
const marks = (one) => { const s = getComputedStyle(one); return s.outlineStyle !== 'none' || s.boxShadow !== 'none'; };
return e === document.body || marks(e) || marks(box) || [...box.querySelectorAll('*')].some(marks);
"""


def tab_to(page: Page, name: str, most: int = 120, *, back: bool = False) -> None:
    """Goes on with the Tab key, or back, until what has the focus is called so."""
    met = []
    for _ in range(most):
        if back:
            page.chord(Keys.SHIFT, Keys.TAB)
        else:
            page.keys(Keys.TAB)
        here = " ".join(page.driver.execute_script(NAME).split())
        if name in here:
            return
        met.append(here[:30])
    raise AssertionError(f"{name} is not reached: {met}")


def focused(page: Page) -> str:
    return " ".join(str(page.driver.execute_script(NAME)).split())


def pick(page: Page, name: str) -> None:
    """Types a name where something is chosen from a list, and takes the first."""
    page.keys(name)
    page.until(lambda: page.all(".ant-select-item-option-active"))
    page.keys(Keys.ENTER)


def undone(yard: Yard, page: Page, before: Plan) -> None:
    """Takes back by key, step by step, what was done since."""

    page.until(lambda: page.button("Undo").is_enabled())
    while not same(now := yard.now(), before):
        page.chord(Keys.CONTROL, "z")
        page.until(lambda now=now: not same(yard.now(), now))  # type: ignore[misc]


def test_all_that_is_read_out_has_a_name_and_cells_say_row_column_and_level(yard: Yard, page: Page) -> None:
    page.driver.execute_cdp_cmd("Accessibility.enable", {})
    nameless = []
    for screen in SCREENS:
        page.go(yard.at(screen), THERE)
        for node in page.driver.execute_cdp_cmd("Accessibility.getFullAXTree", {})["nodes"]:
            role, name = (str(node.get(what, {}).get("value", "")) for what in ("role", "name"))
            if not node.get("ignored") and role in ROLES and not name.strip():
                nameless.append((screen, role))
            if screen == "board" and role == "gridcell":
                who, _, rest = name.partition(" on ")
                place, _, level = rest.partition(": ")
                assert all((who, place, level)), name
    page.driver.execute_cdp_cmd("Accessibility.disable", {})
    assert nameless == []


@pytest.mark.parametrize(
    "screen",
    [
        "begin",
        "needs",
        "people",
        "storage?place=minutes",
        "board",
        "shares?share=share-images",
        "walk",
        "promises",
        "rollout",
    ],
)
def test_whatever_the_tab_key_reaches_is_seen_to_have_the_focus_and_none_holds_it(
    yard: Yard, page: Page, screen: str
) -> None:
    page.go(yard.at(screen), THERE)
    page.driver.execute_script("document.activeElement.blur()")
    unseen, met = [], set()
    for _ in range(250):
        page.keys(Keys.TAB)
        if page.driver.execute_script("return document.activeElement === document.body"):
            break
        met.add(page.driver.execute_script("return document.activeElement.outerHTML.slice(0, 200)"))
        if not page.driver.execute_script(SEEN):
            unseen.append(focused(page)[:60])
    else:
        raise AssertionError(f"no end was reached; {len(met)} things were")
    assert unseen == []
    assert len(met) > 15


def test_what_the_help_says_of_people_and_storage_is_done_with_keys(yard: Yard, page: Page) -> None:
    page.go(yard.at("people"))
    before = yard.now()
    page.until(lambda: page.all(".c.active"))
    page.one("[role=grid]").send_keys(Keys.ARROW_DOWN, Keys.ARROW_RIGHT)
    page.keys(Keys.SPACE)
    page.until(lambda: not same(yard.now(), before))
    undone(yard, page, before)
    page.chord(Keys.SHIFT, Keys.SPACE)
    page.says("1 person chosen")
    page.chord(Keys.CONTROL, "a")
    page.says(f"{len(before.users)} people and {len(before.groups)} groups chosen")
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".tools.selected"))
    page.chord(Keys.SHIFT, Keys.SPACE)
    page.says("1 person chosen")
    tab_to(page, "Note …", back=True)
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal textarea, .ant-modal input"))
    page.until(lambda: "textarea" in str(page.driver.switch_to.active_element.tag_name) or focused(page))
    page.keys("asked by the office")
    tab_to(page, "Keep the note")
    page.keys(Keys.ENTER)
    page.until(lambda: not same(yard.now(), before))
    page.until(lambda: not page.all(".ant-modal-wrap:not([style*='none']) .ant-modal"))
    undone(yard, page, before)

    page.go(yard.at("people"))
    tab_to(page, "Add person")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal input"))
    page.keys("Nora Lind")
    page.keys(Keys.ENTER)
    page.until(lambda: any("nora" in f"{user.name} {user.full_name}".lower() for user in yard.now().users.values()))
    page.until(lambda: not page.all(".ant-modal"))

    page.go(yard.at("storage?place=office-2"))
    page.until(lambda: page.all(".detail button"))
    page.one("[role=tree]").send_keys(Keys.ARROW_DOWN)
    page.says("keel / office / minutes")
    tab_to(page, "Add folder inside")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal input"))
    page.keys("drafts")
    page.keys(Keys.ENTER)
    page.until(lambda: "drafts" in {place.name for place in yard.now().places.values()})
    page.until(lambda: page.driver.execute_script("return document.activeElement !== document.body"))


def test_what_the_help_says_of_the_board_is_done_with_keys(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?who=mira-oyelaran&place=photos"))
    page.go(yard.at("board"))
    page.until(lambda: page.all(".c.active"))
    before = yard.now()
    tab_to(page, "What comes out")
    page.keys(Keys.ARROW_RIGHT)
    with_alt = Keys.ALT
    page.chord(with_alt, "n")
    page.says("Would set no access")
    page.keys(Keys.ESCAPE)
    assert same(yard.now(), before)
    page.keys("n")
    page.until(lambda: not same(yard.now(), before))
    page.keys(Keys.BACKSPACE)
    undone(yard, page, before)
    page.keys(Keys.ENTER)
    page.until(
        lambda: page.driver.execute_script("return document.querySelector('.side').contains(document.activeElement)")
    )
    tab_to(page, "RO")
    page.keys(Keys.ENTER)
    page.until(lambda: not same(yard.now(), before))
    undone(yard, page, before)
    page.chord(Keys.CONTROL, "k")
    page.keys("payroll")
    page.until(lambda: page.all(".ant-select-item-option, [role=option]"))
    page.keys(Keys.ENTER)
    page.until(lambda: "payroll" in page.driver.current_url)
    assert page.errors() == []


def test_drawers_and_dialogs_give_the_focus_back_to_where_it_was(yard: Yard, page: Page) -> None:
    for screen, opener, opened in (
        ("board", "History", ".ant-drawer-open"),
        ("board", "Help", ".ant-drawer-open"),
        ("board", "Import", ".ant-drawer-open"),
        ("shares", "Add a share", ".ant-modal"),
        ("storage?place=minutes", "The list", ".ant-dropdown"),
        ("storage?place=minutes", "Personal folders", ".ant-modal"),
    ):
        page.go(yard.at(screen), THERE)
        page.until(lambda: page.all(".detail button, .tools button"))
        tab_to(page, opener)
        page.keys(Keys.ENTER)
        page.until(lambda opened=opened: page.all(opened))  # type: ignore[misc]
        page.until(
            lambda opened=opened: page.driver.execute_script(  # type: ignore[misc]
                "return document.querySelector(arguments[0]).contains(document.activeElement)", opened
            )
        )
        page.keys(Keys.ESCAPE)
        page.until(lambda opener=opener: opener in focused(page))  # type: ignore[misc]


def test_shares_walks_promises_and_the_rollout_are_worked_with_keys(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares?share=share-images"), THERE)
    before = yard.now()
    page.until(lambda: page.all(".side .ant-checkbox-input"))
    tab_to(page, "read-only, whatever is granted")
    page.keys(Keys.SPACE)
    page.until(lambda: page.all(".ant-modal"))  # hosts would lose something: it is asked first
    tab_to(page, "Change it")
    page.keys(Keys.ENTER)
    page.until(lambda: not same(yard.now(), before))
    page.until(lambda: not page.all(".ant-modal"))
    undone(yard, page, before)

    page.go(yard.at("walk"), THERE)
    tab_to(page, "Try everyone")
    page.keys(Keys.ENTER)
    page.until(lambda: "everyone" in page.driver.current_url)

    page.go(yard.at("promises?show=findings"), THERE)
    tab_to(page, "Accept all")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal textarea"))
    page.until(lambda: page.driver.switch_to.active_element.tag_name == "textarea")
    page.keys("known to the office")
    tab_to(page, "Accept them")
    page.keys(Keys.ENTER)
    page.until(lambda: yard.now().accepted)

    page.go(yard.at("rollout"), THERE)
    page.until(lambda: page.all(".step .sentence"))
    tab_to(page, "share")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".side pre, .side code, .side .mono"))
    assert page.errors() == []


def test_each_key_of_the_list_of_keys(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"))
    page.until(lambda: page.all(".c.active"))
    before = yard.now()
    tab_to(page, "What comes out")
    page.keys("?")
    page.says("move; with Shift, select a block")
    page.keys(Keys.ESCAPE)
    page.until(lambda: not any(one.is_displayed() for one in page.all(".ant-modal")))

    def at() -> str:
        return str(
            page.driver.execute_script("return document.querySelector('.c.active')?.getAttribute('aria-label') ?? ''")
        )

    def moves(press: Callable[[], None]) -> str:
        there = at()
        press()
        page.until(lambda: at() not in ("", there))
        return at()

    page.chord(Keys.CONTROL, Keys.HOME)
    first = at()
    last = moves(lambda: page.chord(Keys.CONTROL, Keys.END))
    assert moves(lambda: page.chord(Keys.CONTROL, Keys.HOME)) == first != last
    for key in (Keys.END, Keys.HOME, Keys.PAGE_DOWN, Keys.PAGE_UP, Keys.ARROW_DOWN, Keys.ARROW_UP, Keys.ARROW_RIGHT):
        moves(lambda key=key: page.keys(key))  # type: ignore[misc]
    page.keys("/")
    page.until(lambda: page.driver.switch_to.active_element.tag_name == "input")
    pick(page, "Tomas Brandt")
    page.until(lambda: "Tomas Brandt" in at())

    for key in "wrn":
        now = yard.now()
        page.keys(key)
        page.until(lambda now=now: not same(yard.now(), now))  # type: ignore[misc]
    undone(yard, page, before)
    ActionChains(page.driver).key_down(Keys.CONTROL).key_down(Keys.SHIFT).send_keys("z").perform()
    ActionChains(page.driver).key_up(Keys.SHIFT).key_up(Keys.CONTROL).perform()
    page.until(lambda: not same(yard.now(), before))
    page.says("redid")
    page.keys(Keys.BACKSPACE)
    page.until(lambda: same(yard.now(), before))
    page.chord(Keys.SHIFT, Keys.ARROW_DOWN, Keys.ARROW_RIGHT)
    page.until(lambda: len(page.all(".c[aria-selected=true]")) == 4)
    page.chord(Keys.CONTROL, "c")
    page.keys(Keys.ARROW_DOWN, Keys.ARROW_DOWN)
    page.keys("r")
    page.until(lambda: not same(yard.now(), before))
    undone(yard, page, before)


def test_the_other_sentences_of_the_help_are_done_with_keys(yard: Yard, page: Page) -> None:
    page.go(yard.at("begin"), THERE)
    page.until(lambda: page.all(".behaviour button"))
    before = yard.now()
    tab_to(page, "Question 2")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".dot-button[aria-current=true][aria-label^='Question 2']"))
    tab_to(page, "A Linux file server", back=True)
    page.keys(Keys.ENTER)
    page.until(lambda: not same(yard.now(), before))
    undone(yard, page, before)

    page.go(yard.at("storage?place=minutes"), THERE)
    page.until(lambda: page.all(".layers button"))
    tab_to(page, "Several")
    page.keys(Keys.ENTER)
    page.says("Only one")
    page.one("[role=tree]").send_keys(Keys.SPACE, Keys.ARROW_DOWN)
    page.until(lambda: "payroll" in page.one("[role=treeitem][aria-current]").text)
    page.chord(Keys.SHIFT, Keys.SPACE)
    page.says("2 places chosen")
    page.go(yard.at("storage?place=minutes"), THERE)
    page.until(lambda: page.all(".layers button"))
    tab_to(page, "Move, remove")
    page.keys(Keys.ENTER)
    page.down_to("Move …")
    page.keys(Keys.ENTER)
    page.until(
        lambda: page.driver.execute_script("return !!document.activeElement.closest('.ant-modal-root')")
    )  # a key pressed sooner goes elsewhere
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".ant-modal"))

    page.go(yard.at("shares"), THERE)
    tab_to(page, "Add a share")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal input"))

    page.go(yard.at("promises"), THERE)
    tab_to(page, "Promise in a sentence")
    page.keys("nobody but Ledger can read payroll")
    page.keys(Keys.ENTER)
    page.until(lambda: len(yard.now().promises) == len(before.promises) + 1)
    page.keys(Keys.TAB)
    undone(yard, page, before)
    page.go(yard.at("promises?show=findings"), THERE)
    page.until(lambda: page.all(".side button"))
    tab_to(page, "Do it")
    page.keys(Keys.ENTER)
    page.until(lambda: not same(yard.now(), before))
    undone(yard, page, before)

    page.go(yard.at("walk"), THERE)
    tab_to(page, "Who walks")
    pick(page, "Priya")
    page.until(lambda: "priya-natarajan" in page.driver.current_url)

    page.go(yard.at("rollout"), THERE)
    page.until(lambda: page.all(".step .sentence"))
    tab_to(page, "Do it: ")
    page.keys(Keys.SPACE)
    page.until(lambda: page.all(".step.left"))
    tab_to(page, "What the host has", back=True)
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal textarea, .ant-modal input, .ant-modal button"))

    page.go(yard.at("directories"), THERE)
    tab_to(page, "Read everything")
    page.keys(Keys.ENTER)
    page.until(lambda: page.all("input[type=password]"))  # it asks for what it does not keep
    page.keys(Keys.ESCAPE)
    page.until(lambda: "Read everything" in focused(page))

    page.go(yard.at("look"), THERE)
    tab_to(page, "Find people")
    page.keys("priya", Keys.TAB)
    tab_to(page, "Priya", most=3)
    page.keys(Keys.ENTER)
    page.until(lambda: "who=priya-natarajan" in page.driver.current_url)

    page.go(yard.at("cards?who=priya-natarajan"), THERE)
    tab_to(page, "Whose card")
    pick(page, "Tomas")
    page.until(lambda: "tomas-brandt" in page.driver.current_url)
    assert page.errors() == []
