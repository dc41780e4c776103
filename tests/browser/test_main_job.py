"""The main job, by mouse and by keyboard, as a person does it."""

import csv
import io
from datetime import date
from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Browsers, Page, Yard
from tests.browser.drawn import drawn, watched
from tests.server import Server
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import same
from yardgate.store import Plans
from yardgate.store.accounts import Accounts


def test_a_hosts_accounts_and_a_matrix_become_a_board_that_answers_why(yard: Yard, page: Page, tmp_path: Path) -> None:
    page.go("/plans")
    page.button("New plan").click()
    page.one(".ant-modal input").send_keys("host", Keys.ENTER)
    page.says("Three ways to begin")
    plan_id = page.driver.current_url.split("/p/")[1].split("/")[0]

    page.button("Import").click()
    page.press(".ant-segmented-item-label", "Accounts", exactly=True)
    page.until(lambda: len(page.all("input[type=file]")) == 2)
    files = page.all("input[type=file]")
    files[0].send_keys("/etc/passwd")
    files[1].send_keys("/etc/group")
    page.fill(page.one("input[aria-label='Lowest number']"), "0")
    page.fill(page.one("input[aria-label='Highest number']"), "4294967294")
    page.button("Preview").click()
    page.says("It would make")
    page.button("Import", ".ant-drawer").click()
    people = sorted(line.split(":")[0] for line in Path("/etc/passwd").read_text().splitlines() if line)
    page.says(f"People {len(people)}")

    chosen = people[:12]
    spelled = ["RW", "read only", "NA", "-", "r", "w", "no access", ""]
    matrix = tmp_path / "matrix.csv"
    with matrix.open("w", newline="") as file:
        writer = csv.writer(file, delimiter=";")
        writer.writerow(["who", *(f"tank/data-{n}" for n in range(8))])
        writer.writerows(
            [f"user:{name}", *(spelled[(row + col) % 8] for col in range(8))] for row, name in enumerate(chosen)
        )
    page.button("Import").click()
    page.one("input[type=file]").send_keys(str(matrix))
    page.button("Preview").click()
    page.button("Make them places").click()
    page.says("added pool tank")
    page.button("Import", ".ant-drawer").click()
    page.says("Storage 9")

    # A group that refuses what a person is granted: the clash, and why.
    page.go(f"/p/{plan_id}/people?who={chosen[0]}")
    page.one("button[aria-label='Add something else']").click()
    page.press("[role=menuitem]", "Add group", exactly=True)
    page.one(".ant-modal input").send_keys("crew", Keys.ENTER)
    page.until(
        lambda: "crew" in {group.name for group in Plans(yard.server.store()).open(plan_id).plan.groups.values()}
    )
    store = Plans(yard.server.store())
    crew = next(group.id for group in store.open(plan_id).plan.groups.values() if group.name == "crew")
    user = next(user for user in store.open(plan_id).plan.users.values() if user.name == chosen[0])
    page.go(f"/p/{plan_id}/people?who={user.id}")
    select = page.one("input[aria-label='Member of']")
    select.send_keys("crew", Keys.ENTER)
    page.until(lambda: user.id in store.open(plan_id).plan.groups[crew].members)
    page.go(f"/p/{plan_id}/board?who={crew}&place=data-0")
    page.until(lambda: page.all(".c.active"))
    page.one("[role=grid]").send_keys("n")
    shown = user.full_name or user.name
    page.until(lambda: page.level(shown, "data-0").startswith("no access"))
    page.go(f"/p/{plan_id}/board?who={user.id}&place=data-0")
    page.says("crew: no access. A refusal wins.")
    page.says("settled by the rule")

    # One edit, made and undone.
    before = store.open(plan_id).plan
    page.one("[role=grid]").send_keys("r")
    page.until(lambda: store.open(plan_id).plan.grants["data-0"][user.id] == Level.RO)
    page.one("[role=grid]").send_keys(Keys.CONTROL, "z")
    page.until(lambda: same(store.open(plan_id).plan, before))

    # What is taken away is what is shown.
    text = page.driver.execute_async_script(
        "fetch(arguments[0]).then((r) => r.text()).then(arguments[1])", f"/api/v1/plans/{plan_id}/export/effective"
    )
    found = resolve(before, date.today())
    ids = {one.name: one.id for one in before.users.values()}
    cells = {before.path_name(place): place for place in before.places}
    rows = list(csv.DictReader(io.StringIO(text)))
    assert len(rows) == len(people)
    assert all(row[path] == found.level(ids[row["name"]], place) for row in rows for path, place in cells.items())
    assert page.errors() == []


def test_by_keyboard_alone(yard: Yard, page: Page) -> None:
    """Find a person, set a block of cells, read why, undo."""
    page.go(yard.at("board"))
    page.until(lambda: page.all(".c.RW"))
    before = yard.now()
    page.keys("/")
    page.keys("Priya")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    page.keys(Keys.ENTER)
    page.until(lambda: "who=priya-natarajan" in page.driver.current_url)
    page.until(lambda: page.driver.switch_to.active_element.get_attribute("role") == "grid")
    page.keys(Keys.HOME, *[Keys.ARROW_RIGHT] * 3)
    page.chord(Keys.SHIFT, Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ARROW_DOWN)
    assert len(page.all("[role=gridcell][aria-selected=true]")) == 6
    page.says("6 cells are selected")
    page.keys("r")
    page.until(lambda: yard.now().grants["common"].get("priya-natarajan") == Level.RO)
    after = yard.now()
    assert all(after.grants[place]["priya-natarajan"] == Level.RO for place in ("common", "noticeboard", "photos"))
    assert all(after.grants[place]["contract-staff"] == Level.RO for place in ("common", "noticeboard", "photos"))
    page.until(lambda: page.level("Priya Natarajan", "noticeboard").startswith("read-only, own grant"))
    page.keys(Keys.ARROW_UP, Keys.ENTER)
    page.until(lambda: page.driver.switch_to.active_element.tag_name == "h2")
    page.says("A personal grant: read-only.")
    page.until(lambda: "Priya Natarajan" in page.one(".gate.decides").text)
    page.keys(Keys.ENTER)
    assert yard.now().grants["common"]["priya-natarajan"] == Level.RO, "reading why sets nothing"
    page.chord(Keys.CONTROL, "z")  # from where one is
    page.until(lambda: same(yard.now(), before))
    page.until(lambda: page.level("Priya Natarajan", "noticeboard").startswith("read-only, from the grant to all"))
    assert page.errors() == []


def test_painting_and_blocks_by_mouse_and_clipboard(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?view=grants"))
    page.until(lambda: page.all(".c.RW"))
    before = yard.now()
    next(e for e in page.all(".ant-segmented-item-label") if e.text == "RO").click()
    start, end = page.cell("Apprentices", "backups"), page.cell("Leif Arnesen", "nightly")
    ActionChains(page.driver).move_to_element(start).click_and_hold().move_to_element(end).release().perform()
    page.until(lambda: yard.now().grants["nightly"].get("leif-arnesen") == Level.RO)
    assert set(yard.now().grants["backups"]) == {
        "henrik-vance",
        "apprentices",
        "juno-harker",
        "leif-arnesen",
    }
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))
    next(e for e in page.all(".ant-segmented-item-label") if e.text == "select").click()

    paste = "const data = new DataTransfer(); data.setData('text/plain', arguments[0]); document.querySelector('[role=grid]').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));"
    page.cell("Juno Harker", "backups").click()
    page.driver.execute_script(paste, "RW\tread only\r\nno access\t\r\n")
    page.until(lambda: yard.now().grants["backups"].get("leif-arnesen") == Level.NA)
    assert yard.now().grants["backups"]["juno-harker"] == Level.RW
    assert yard.now().grants["nightly"]["juno-harker"] == Level.RO
    assert "leif-arnesen" not in yard.now().grants["nightly"]
    page.driver.execute_script(paste, "perhaps")
    page.says("Row 1, column 1 of what was copied says “perhaps”")

    page.cell("Juno Harker", "backups").click()
    page.chord(Keys.SHIFT, Keys.ARROW_RIGHT, Keys.ARROW_DOWN)
    copied = page.driver.execute_script(
        "const data = new DataTransfer(); document.querySelector('[role=grid]').dispatchEvent(new ClipboardEvent('copy', { clipboardData: data, bubbles: true, cancelable: true })); return data.getData('text/plain');"
    )
    assert copied == "RW\tRO\nNA\t"
    assert page.errors() == []


def test_an_edit_brings_along_what_all_screens_show_and_an_arrow_key_asks_for_the_reason_alone(
    yard: Yard, page: Page
) -> None:
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.one(".side .gate")
    page.says("2 broken")

    def asked() -> list[str]:
        """What the page asked the server for since it was cleared, in turn."""
        found = page.driver.execute_script(
            "return performance.getEntriesByType('resource').filter((one) => one.initiatorType === 'fetch').map((one) => one.name)"
        )
        return [url.partition(f"/plans/{yard.plan}/")[2].partition("?")[0] for url in found]

    page.cell("Apprentices", "toolpaths").click()
    page.driver.execute_script("performance.clearResourceTimings()")
    page.keys("r")
    page.until(lambda: sorted(asked()) == ["edits", "reason", "standing"])
    page.says("Apprentices on keel/drawings/toolpaths: read-only")
    page.keys(Keys.ARROW_UP)
    page.until(lambda: len(asked()) > 3)
    assert sorted(asked()) == ["edits", "reason", "reason", "standing"]
    assert page.errors() == []


def test_only_rows_that_say_something_else_are_drawn_anew(yard: Yard, page: Page) -> None:
    watched(page.driver)
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.one(".side .gate")
    page.says("2 broken")
    rows = len(page.all("[role=row]"))
    page.cell("Apprentices", "toolpaths").click()
    page.driver.execute_async_script("requestIdleCallback(arguments[0], { timeout: 2000 })")
    drawn(page.driver)
    page.keys(Keys.ARROW_UP)
    page.until(lambda: drawn(page.driver)["row"] == 2)
    page.keys(Keys.ARROW_DOWN)
    page.until(lambda: "active" in str(page.cell("Apprentices", "toolpaths").get_attribute("class")))
    page.one(".side .gate")
    drawn(page.driver)
    page.keys("r")
    page.says("Apprentices on keel/drawings/toolpaths: read-only")
    page.says("1 broken")
    found = drawn(page.driver)
    assert 0 < found["row"] <= found["gridcell"] < rows
    assert page.errors() == []


def test_what_an_edit_would_change_is_shown_before_it_is_made(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    revision = Plans(yard.server.store()).open(yard.plan).revision
    nothing = page.until(lambda: page.all(".sets button")[3])
    ActionChains(page.driver).move_to_element(nothing).perform()
    page.says("Would clear the grant: 2 cells of 2 people would come out differently")
    outlined = {cell.get_attribute("aria-label").partition(":")[0] for cell in page.all(".c.would")}
    assert outlined == {"Juno Harker on toolpaths", "Priya Natarajan on toolpaths"}
    assert Plans(yard.server.store()).open(yard.plan).revision == revision
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.says("2 cells of 2 people came out differently")
    page.until(lambda: "Would set" not in page.text())
    page.until(lambda: page.level("Priya Natarajan", "toolpaths").startswith("read-write"))
    page.button("came out differently").click()
    page.says("toolpaths NA → RO Juno Harker NA → RW Priya Natarajan")


def test_the_rule_is_chosen_after_seeing_whom_it_concerns(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?who=priya-natarajan&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    page.button("a refusal wins", ".tools").click()
    page.until(lambda: page.all("input[name=rule]"))[1].click()
    page.says("payroll NA → RW Saskia de Wit")
    page.button("Apply").click()
    page.until(lambda: page.level("Priya Natarajan", "toolpaths").startswith("read-write"))
    assert yard.now().target.combining == "widest"
    page.says("when several grants apply: the widest wins")


def test_memberships_are_edited_from_both_sides(yard: Yard, page: Page) -> None:
    page.go(yard.at("people?who=mira-oyelaran"))
    page.says("Mira Oyelaran")
    page.until(lambda: page.all("[role=gridcell][aria-label='Mira Oyelaran in Ledger: not a member']"))
    page.one("[role=gridcell][aria-label='Mira Oyelaran in Ledger: not a member']").click()
    page.until(lambda: "mira-oyelaran" in yard.now().groups["ledger"].members)
    page.until(lambda: page.all("[role=gridcell][aria-label='Mira Oyelaran in Ledger: member']"))
    page.one("[role=grid]").send_keys(" ")
    page.until(lambda: "mira-oyelaran" not in yard.now().groups["ledger"].members)
    page.until(lambda: page.all("[role=gridcell][aria-label='Mira Oyelaran in Ledger: not a member']"))
    page.one("[role=grid]").send_keys(" ")
    page.until(lambda: "mira-oyelaran" in yard.now().groups["ledger"].members)
    page.until(lambda: page.all("[role=gridcell][aria-label='Mira Oyelaran in Office: through another group']"))
    page.press("button.slant", "Ledger", exactly=True)
    page.until(lambda: page.one(".side h2").text == "Ledger")
    page.until(
        lambda: next(e for e in page.all(".side .ant-select-selection-item") if "Oskar Dahl" in e.text)
    ).find_element("css selector", ".ant-select-selection-item-remove").click()
    page.until(lambda: "oskar-dahl" not in yard.now().groups["ledger"].members)
    page.button("Undo").click()
    page.until(lambda: "oskar-dahl" in yard.now().groups["ledger"].members)


def test_the_tree_is_added_to_renamed_and_removed_with_what_is_lost(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=office-2"))
    page.button("Add folder inside").click()
    page.one(".ant-modal input").send_keys("tenders", Keys.ENTER)
    page.until(lambda: "tenders" in yard.now().places)
    page.until(lambda: page.one(".detail h2").text == "tenders")
    name = page.one(".detail .field input")
    page.fill(name, "bids")
    name.send_keys(Keys.ENTER)
    page.until(lambda: yard.now().places["tenders"].name == "bids")
    page.go(yard.at("storage?place=office-2"))
    before = yard.now()
    page.choose("Move, remove", "Remove …")
    page.says("dataset keel/office/payroll")
    page.says("Ledger on keel/office/payroll: read-write")
    remove = page.button("Remove", ".ant-modal-footer")
    assert not remove.is_enabled()
    page.one(".ant-modal input").send_keys("office")
    page.until(lambda: remove.is_enabled())
    remove.click()
    page.until(lambda: "payroll" not in yard.now().places)
    page.until(lambda: "keel" in page.one(".detail h2").text)
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))


def test_history_names_compares_and_returns(yard: Yard, page: Page) -> None:
    before = yard.now()
    page.go(yard.at("board?who=apprentices&place=toolpaths"))
    page.until(lambda: page.all(".c.active.NA"))
    page.button("History").click()
    page.one("input[aria-label='Name of the version']").send_keys("before", Keys.ENTER)
    page.says("Named versions")
    page.keys(Keys.ESCAPE)
    page.until(lambda: not [e for e in page.all(".ant-drawer-mask") if e.is_displayed()])
    page.one("[role=grid]").send_keys(Keys.BACKSPACE)
    page.until(lambda: "apprentices" not in yard.now().grants["toolpaths"])
    page.button("History").click()
    page.button("Compare with now").click()
    page.says("Apprentices on keel/drawings/toolpaths: not set")
    page.button("Return", ".ant-drawer").click()
    page.button("Return to it").click()
    page.until(lambda: same(yard.now(), before))


def test_the_first_start_makes_one_administrator(tmp_path: Path, browsers: Browsers) -> None:
    server = Server(tmp_path / "new")
    store = server.store()
    link = Accounts(store).link(None)
    with server:
        page = Page(server, browsers)
        page.go(f"/sign-in?link={link}")
        page.says("Nobody can sign in yet. Choose name and password")
        name, password, again = page.all("form input")
        name.send_keys("Ann")
        password.send_keys("a long enough one")
        again.send_keys("another one", Keys.ENTER)
        page.says("The two passwords differ.")
        page.fill(again, "a long enough one")
        again.send_keys(Keys.ENTER)
        page.says("No plan yet")
        page.go("/sign-in")
        page.driver.delete_all_cookies()
        page.go("/plans")
        page.says("Sign in to plan")
        name, password = page.all("form input")
        name.send_keys("ann")
        password.send_keys("not the password", Keys.ENTER)
        page.says("Name and password do not match")
        page.fill(password, "a long enough one")
        password.send_keys(Keys.ENTER)
        page.says("No plan yet")
        page.close()
