"""The demo's troubles: each found, explained and repaired, by clicks and by keyboard; promises made, broken and kept."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard

PRESSED = "return document.querySelector('.sentence[aria-pressed=true]')?.innerText ?? ''"


def choose(page: Page, text: str) -> None:
    """Choose the sentence that begins so, and wait until the panel speaks of it."""
    page.until(lambda: next(b for b in page.all(".sentence") if text in b.text).click() or True)
    page.until(lambda: text in page.driver.execute_script(PRESSED))


def gone(page: Page, text: str) -> None:
    page.until(lambda: page.all(".sentences") and not any(text in b.text for b in page.all(".sentence")))


def do_it(page: Page, within: str = ".side") -> None:
    page.until(
        lambda: (
            next(b for b in page.all(f"{within} button") if b.text.startswith("Do it") and b.is_enabled()).click()
            or True
        )
    )


def test_each_trouble_of_the_demo_is_found_and_repaired(yard: Yard, page: Page) -> None:
    page.go(yard.at("promises?show=findings"))
    for found, why, kind in (
        ("get read-only in keel/training, and are granted", "let the list enforce what is granted", "training"),
        ("Guests get no access in keel/common/noticeboard", "keel above it does not let them pass", "noticeboard"),
        ("images gives 192.0.2.0/24 read-write", "Write a line for each host that needs it.", "images"),
        ("Root on any host of 192.0.2", "whoever is root on any machine there", ""),
        ("Leif Arnesen gets read-only in keel/hulls/petrel-9", "let the list enforce what is granted", "petrel-9"),
        ("Viktor Sand is expired", "all of it again on the day when the account is opened", "Viktor Sand"),
    ):
        if not any(found in b.text for b in page.all(".sentence")):
            continue  # what was repaired before took it along
        choose(page, found)
        page.says(why)
        assert kind in page.text()
        if found.startswith("images"):  # other hosts lose the share by it
            page.button("Repairs that cost something").click()
            page.says("the rest of 192.0.2.0/24 on images")
        do_it(page)
        gone(page, found)
    assert yard.now().shares["share-notices"].guests == "NA"
    assert [rule.hosts for rule in yard.now().shares["share-images"].hosts] == ["192.0.2.20"]
    # A refusal that an apprentice draughtsman loses toolpaths to: by what would let her in.
    choose(page, "Apprentices has no access to keel/drawings/toolpaths")
    page.says("nobody thought of what that group is refused")
    page.until(lambda: page.all(".side .breach .link"))[1].click()
    left = page.until(
        lambda: next(li for li in page.all(".remedies > li") if "Take Priya Natarajan out of Apprentices" in li.text)
    )
    left.find_element("tag name", "button").click()
    page.until(lambda: "priya-natarajan" not in yard.now().groups["apprentices"].members)
    # A backup that runs as a person: accepted for a time, with a reason.
    choose(page, "nightly backup signs in as Henrik Vance")
    page.button("Accept …").click()
    page.one(".side textarea").send_keys("a service account comes with the next server")
    page.button("Accept", ".side form").click()
    page.until(lambda: yard.now().accepted)
    page.says("Accepted: a service account comes with the next server")
    # What a push-down would wipe is told, and nothing has to be done about it.
    choose(page, "Pushing down everything from keel/drawings would wipe")
    page.says("Before pushing down")
    page.until(lambda: next(i for i in page.all(".ant-segmented-item") if i.text == "Promises 6").click() or True)
    page.says("all are kept")
    page.driver.refresh()
    page.says("6 promises kept")
    assert page.errors() == []


def test_a_broken_promise_is_repaired_by_keyboard(yard: Yard, page: Page) -> None:
    page.go(yard.at("promises"))
    page.says("2 of 6 broken")
    page.until(lambda: "not for 3 of 4" in page.text())
    second = page.until(lambda: page.all(".sentence"))[1]
    page.driver.execute_script("arguments[0].focus()", second)
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.until(lambda: "Draughting must be able to read" in page.driver.execute_script(PRESSED))
    page.says("Apprentices: no access.")
    first = page.until(lambda: page.all(".remedies button.ant-btn"))[0]
    page.driver.execute_script("arguments[0].focus()", first)
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.says("1 of 6 broken")
    page.button("Undo").click()
    page.says("2 of 6 broken")
    assert page.errors() == []


def test_promises_are_made_in_words_and_from_a_cell_and_show_on_the_board(yard: Yard, page: Page) -> None:
    page.go(yard.at("promises"))
    line = page.one("[aria-label='Promise in a sentence']")
    line.send_keys("Rigging should read payroll", Keys.ENTER)
    page.says("this is not a promise")
    page.fill(line, "Rigging must not be able to write keel/hulls/petrel-9")
    line.send_keys(Keys.ENTER)
    page.says("3 of 7 broken")
    page.fill(page.one("[aria-label='Promise in a sentence']"), "Runa Solheim must write petrel-9")
    page.one("[aria-label='Promise in a sentence']").send_keys(Keys.ENTER)
    page.says("These two cannot both be kept, as both speak of Runa Solheim")
    page.go(yard.at("board?rows=people&who=runa-solheim&place=petrel-9"))
    page.until(lambda: page.all(".c.broken"))
    page.says("Broken here: Rigging must not be able to write keel/hulls/petrel-9")
    page.until(
        lambda: next(b for b in page.all("aside button") if "Promise that this stays so" in b.text).click() or True
    )
    page.until(
        lambda: (
            next(i for i in page.all(".ant-dropdown-menu-item") if "must be able to read this" in i.text).click()
            or True
        )
    )
    page.until(lambda: len(yard.now().promises) == 9)
    assert page.errors() == []
