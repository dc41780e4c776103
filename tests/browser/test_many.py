"""Several at once, finding and comparing, by keyboard: what is done daily."""

from datetime import date

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.plan import same
from yardgate.store import Plans


def tick(page: Page, name: str) -> None:
    page.one(f"[aria-label='Choose {name}']").click()


def test_an_act_on_several_people_is_one_step_with_its_preview_first(yard: Yard, page: Page) -> None:
    before = yard.now()
    page.go(yard.at("people"))
    tick(page, "Bo Hendrickx")
    page.until(lambda: page.all(".tools.selected"))
    page.driver.execute_script(
        "document.querySelector(`[aria-label='Choose Dorothea Winn']`).dispatchEvent(new MouseEvent('click', { bubbles: true, shiftKey: true }))"
    )
    page.says("4 people chosen")  # and those between: Caleb, Dana
    page.button("Groups …").click()
    page.press(".ant-modal .ant-checkbox-wrapper", "Apprentices (0 of 4)")
    page.says("would get")
    page.button("Change groups").click()
    page.until(lambda: len(yard.now().groups["apprentices"].members) == len(before.groups["apprentices"].members) + 4)
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))
    assert page.errors() == []


def test_rows_are_chosen_by_keyboard_disabled_and_let_go(yard: Yard, page: Page) -> None:
    page.go(yard.at("people?show=service"))
    page.until(lambda: len(page.all(".rowhead .tick")) == 3)
    page.one("[role=grid]").send_keys(Keys.CONTROL, "a")
    page.says("3 services chosen")
    page.button("Disable …").click()
    page.says("They cannot sign in any more")
    page.button("Disable", ".ant-modal").click()
    page.until(lambda: not any(user.enabled for user in yard.now().users.values() if user.kind == "service"))
    page.until(lambda: not page.all(".ant-modal"))
    page.one("[role=grid]").send_keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".tools.selected"))


def test_several_places_are_granted_and_shared_at_once(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage"))
    page.button("Several").click()
    for place in ("curlew-31", "petrel-9", "warranty"):
        page.one(f"#place-{place}").click()
    page.says("3 places chosen")
    page.button("Share each …").click()
    page.says("as curlew-31, petrel-9, warranty")
    page.button("Share 3 places").click()
    page.until(lambda: {"curlew-31", "petrel-9"} <= {share.name for share in yard.now().shares.values()})
    page.until(lambda: not page.all(".ant-modal"))
    page.button("Grant …").click()
    page.one(".ant-modal input[role=combobox]").send_keys("Ledger")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    page.keys(Keys.ENTER)
    page.button("Grant", ".ant-modal .ant-modal-footer").click()
    page.until(
        lambda: all(yard.now().grants[one].get("ledger") == Level.RW for one in ("curlew-31", "petrel-9", "warranty"))
    )
    words = [entry.words for entry in Plans(yard.server.store()).history(yard.plan, most=2)]
    assert "Ledger" in words[0]
    assert page.errors() == []


def test_the_board_is_filtered_by_address_and_a_view_is_kept(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?only=juno-harker,leif-arnesen&cells=differ"))
    page.says("2 of 34 rows · 2 of 20 places")
    page.button("Show all").click()
    page.says("66 rows · 20 places")
    page.button("Filter").click()
    page.one("input[aria-label='Only rows with']").send_keys("priya")
    page.one("input[aria-label='Only places with']").send_keys("tool")
    page.says("4 of 66 rows · 1 of 20 places")
    page.button("Views").click()
    page.press("[role=menuitem]", "Keep this view")
    page.one("input[aria-label='Name of the view']").send_keys("tools", Keys.ENTER)
    page.go(yard.at("board"))
    page.button("Filter").click()
    page.button("Views").click()
    page.press("[role=menuitem]", "tools", exactly=True)
    page.says("4 of 66 rows · 1 of 20 places")
    assert page.errors() == []


def test_everything_is_found_and_done_from_the_keyboard_and_focus_comes_back(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares"))
    page.one("body").send_keys(Keys.TAB)
    assert page.driver.switch_to.active_element.text == "Skip to the station"
    page.chord(Keys.CONTROL, "k")
    page.keys("add a person")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    page.keys(Keys.ENTER)
    page.until(lambda: page.all(".ant-modal input"))
    page.keys(Keys.ESCAPE)
    page.until(lambda: not page.all(".ant-modal"))
    page.go(yard.at("storage?place=payroll"))
    page.button("Move, remove").send_keys(Keys.ENTER)
    page.down_to("Move …")
    page.keys(Keys.ENTER)
    page.until(
        lambda: page.driver.execute_script("return !!document.activeElement.closest('.ant-modal-root')")
    )  # a key pressed sooner goes elsewhere
    page.keys(Keys.ESCAPE)
    page.until(lambda: page.driver.switch_to.active_element.text == "Move, remove ▾")
    assert page.errors() == []


def test_what_another_changed_is_told_and_undo_says_whose_it_is(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"))
    page.until(lambda: page.all(".c.RW"))
    page.cell("Apprentices", "training").click()
    page.keys("r")
    page.until(lambda: yard.now().grants["training"]["apprentices"] == Level.RO)
    store = Plans(yard.server.store())
    opened = store.open(yard.plan)
    store.commit(yard.plan, opened.revision, [SetGrant("quotes", "apprentices", Level.RO)], "Ada")
    page.says("Just now, by Ada: Apprentices on keel/office/quotes: read-only")
    page.button("Undo").click()
    page.says("The last change is by Ada")
    page.button("Take back my own").click()
    page.until(lambda: yard.now().grants["training"]["apprentices"] == Level.RW)
    assert yard.now().grants["quotes"]["apprentices"] == Level.RO, "hers stays"
    page.go(yard.at("people?who=apprentices&history=training"))
    page.says("took back")
    assert "quotes" not in page.one(".ant-drawer").text
    assert page.errors() == []


def test_cards_for_several_are_printed_in_one_and_the_report_is_signed(yard: Yard, page: Page) -> None:
    page.go(yard.at("cards?who=priya-natarajan,night-backup"))
    page.until(lambda: len(page.all(".card-page .reach")) > 5)
    assert len(page.all(".card-page")) == 2
    text = page.text()
    assert r"\\keelson\drawings" in text
    assert "/etc/fstab" in text, "for the service"
    assert "Closed to you" not in text
    page.go(yard.at("report"))
    page.button("It was signed").click()
    page.says("Kept: the next report says what changed")
    store = Plans(yard.server.store())
    assert any(name.startswith(f"access report {date.today()}"[:18]) for name, *_ in store.versions(yard.plan))


def test_findings_of_one_kind_are_mended_or_accepted_together(yard: Yard, page: Page) -> None:
    page.go(yard.at("promises?show=findings"))
    page.one("input[aria-label='Only findings with']").send_keys("no access")
    page.until(lambda: page.all(".alike-head"))
    page.fill(page.one("input[aria-label='Only findings with']"), Keys.BACKSPACE)
    head = page.until(lambda: next(one for one in page.all(".alike-head") if "Accept all" in one.text))
    kind = head.find_element("css selector", "h3").text.split("\n")[0]
    head.find_element("xpath", ".//button[contains(., 'Accept all')]").click()
    page.one(".ant-modal textarea").send_keys("the office knows")
    page.button("Accept them").click()
    page.until(lambda: len(yard.now().accepted) > 1)
    assert {one.reason for one in yard.now().accepted.values()} == {"the office knows"}, kind
    page.until(lambda: not page.all(".ant-modal"))
    before = yard.now()
    page.press(".alike-head button", "Do all of this kind")
    page.press(".ant-modal-footer button", "Do all ")
    page.until(lambda: not same(yard.now(), before))
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))
    assert page.errors() == []


def test_personal_folders_are_made_in_one_act_with_a_way_there_and_are_one_column(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=training"))
    page.button("Personal folders", ".detail").click()
    page.fill(page.one("[aria-label='For every member of']"), "Apprentices" + Keys.ENTER)
    page.says("One share of training")
    page.says("added folder keel/training/juno.harker")
    page.button("Make the folders", ".ant-modal").click()
    page.until(lambda: any(place.folder_of for place in yard.now().places.values()))
    made = [place for place in yard.now().places.values() if place.folder_of]
    each = yard.now().places["training"].personal_folders
    assert each is not None
    assert (len(made), each.one_share, each.services) == (4, True, False)
    assert yard.now().places["training"].enforced_by in ("storage", None)
    page.says("has a folder in it. One share leads everybody to theirs")
    page.go(yard.at("board"))
    page.until(lambda: any("+4 own" in head.text for head in page.all(".head.tall")))
    page.press("[aria-label='Unfold training']")
    page.until(lambda: any("juno.harker" in head.text for head in page.all(".head.tall")))
    assert page.errors() == []


def test_people_are_sorted_by_a_place_and_dragged_from_one_group_to_another(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?rows=people&sort=payroll"))
    ranks = {"read-write": 0, "read-only": 1, "pass through": 2, "no access": 3, "nothing is granted": 3}

    def order() -> list[int]:
        cells = page.driver.execute_script(
            "return [...document.querySelectorAll('[role=gridcell]')].map((c) => c.getAttribute('aria-label')).filter((t) => t.includes(' on payroll: '))"
        )
        return [ranks[next(word for word in ranks if word in one.partition(": ")[2])] for one in cells]

    page.one("[role=grid]").send_keys(Keys.END)
    page.until(lambda: len(order()) > 8 and order() == sorted(order()) and len(set(order())) > 1)
    page.go(yard.at("board"))
    page.until(lambda: page.all(".rowname[draggable]"))
    page.driver.execute_script(
        """const data = new DataTransfer(), heads = [...document.querySelectorAll('.rowname')];
        const [from, to] = ['Juno Harker', 'Draughting'].map((name) => heads.find((one) => one.textContent.includes(name)));
        const send = (where, kind) => where.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: data }));
        send(from, 'dragstart'); send(to, 'dragover'); send(to, 'drop');"""
    )
    page.says("and no longer in Apprentices")
    page.says("changes")
    page.button("Move", ".ant-modal").click()
    page.until(lambda: "juno-harker" in yard.now().groups["draughting"].members)
    assert "juno-harker" not in yard.now().groups["apprentices"].members
    assert page.errors() == []


def test_the_tour_leads_through_the_demo_and_can_be_left(yard: Yard, page: Page) -> None:
    page.go(yard.at("begin"))
    page.press("a", "A tour of this demo")
    for step in range(1, 8):
        page.says(f"Tour, {step} of 8")
        page.button("Next", ".tour").click()
    page.says("Tour, 8 of 8")
    page.button("Back", ".tour").click()
    page.says("Tour, 7 of 8")
    page.button("Leave", ".tour").click()
    page.until(lambda: not page.all(".tour"))
    assert page.errors() == []
