"""The Storage station as a person uses it: lines, inheritance, push-down, styles, patterns, what a new file will be."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from yardgate.core.acl import Entry, Mode, Ordered, Posix, PosixEntry
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import DatasetOptions, GroupQuota, same


def entries(yard: Yard, place: str) -> list[tuple[str, str]]:
    own = yard.now().places[place].acl
    assert isinstance(own, Ordered)
    return [(entry.type, entry.who) for entry in own.entries]


def press(page: Page, css: str) -> None:
    """Click what may be drawn anew just then."""
    page.until(lambda: page.one(css).click() or True)


def test_lines_are_edited_where_they_stand_and_moved_by_keyboard(yard: Yard, page: Page) -> None:
    before = yard.now()
    page.go(yard.at("storage?place=minutes"))
    page.button("Add a line").click()
    page.until(lambda: entries(yard, "minutes") == [("allow", "everyone"), ("allow", "directors")])
    page.until(lambda: len(page.all(".entry-line.edit")) == 2)
    press(page, "[aria-label='Move line 1 down']")
    page.until(lambda: entries(yard, "minutes") == [("allow", "directors"), ("allow", "everyone")])
    page.until(lambda: page.all(".entry-line.edit")[1].text.startswith("⠿\nallow\nEveryone"))
    page.one("[aria-label='Move line 2 up']").send_keys(Keys.ALT, Keys.ARROW_UP)
    page.until(lambda: entries(yard, "minutes") == [("allow", "everyone"), ("allow", "directors")])
    page.until(lambda: page.all(".entry-line.edit")[0].text.startswith("⠿\nallow\nEveryone"))
    press(page, "[aria-label='Remove line 1']")
    page.until(lambda: entries(yard, "minutes") == [("allow", "directors")])
    for _ in range(4):
        state = yard.now()
        page.until(lambda: page.button("Undo").click() or True)
        page.until(lambda state=state: not same(yard.now(), state))
    assert same(yard.now(), before)
    assert page.errors() == []


def test_cutting_keeps_what_arrives_as_its_own(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=toolpaths"))
    page.says("lines stop here")
    page.button("Stop inheritance here").click()
    page.button("Stop, and keep what arrives").click()
    page.until(lambda: yard.now().places["toolpaths"].inheritance_stops)
    assert yard.now().grants["toolpaths"]["directors"] == Level.RO, "the grant that came down is its own now"
    page.says("inheritance stops here")
    page.button("Inherit again").click()
    page.until(lambda: not yard.now().places["toolpaths"].inheritance_stops)
    assert page.errors() == []


def test_pushing_down_shows_what_goes_and_can_be_undone(yard: Yard, page: Page) -> None:
    before = yard.now()
    page.go(yard.at("storage?place=hulls"))
    page.choose("The list", "Push down")
    page.says("This stays as it is")
    page.says("inheritance stops here")
    page.says("come out differently")
    page.button("Push down", ".ant-modal-footer").click()
    page.until(lambda: "curlew-31" not in yard.now().grants)
    assert "warranty" in yard.now().grants
    page.until(lambda: not page.all(".ant-modal-wrap:not([style*=none])"))
    page.button("Undo").click()
    page.until(lambda: same(yard.now(), before))


def test_another_style_says_what_is_lost(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=minutes"))
    page.choose("The list", "Another list style")
    page.says("changing the list for Directors: a POSIX list has only read, write and execute")
    page.button("Change to POSIX list").click()
    page.until(lambda: isinstance(yard.now().places["minutes"].acl, Posix))
    page.says("handed to new things")


def test_a_mode_by_octal_and_by_boxes(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=nightly"))
    octal = page.one("[aria-label='Mode in octal']")
    octal.send_keys(Keys.CONTROL, "a")
    octal.send_keys("2770", Keys.ENTER)
    page.until(lambda: yard.now().places["nightly"].acl == Mode(0o2770))
    page.says("rwxrws---")
    press(page, "[aria-label='Owning group: w']")
    page.until(lambda: yard.now().places["nightly"].acl == Mode(0o2750))


def test_posix_entries_by_boxes(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=petrel-9"))
    page.one("[aria-label='Leif Arnesen, here: write']").click()
    page.until(lambda: yard.now().places["petrel-9"].acl == Posix((PosixEntry("user", "leif-arnesen", 7),)))
    press(page, "[aria-label='Remove the entry of Leif Arnesen']")
    page.until(lambda: yard.now().places["petrel-9"].acl == Posix())


def test_a_list_goes_as_text_from_one_place_to_another_and_is_kept_as_a_pattern(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=toolpaths"))
    page.choose("The list", "As text")
    area = page.one("[aria-label='The list as text']")
    area.send_keys("A:fdg:Directors:rq")
    page.button("Put this list here").click()
    page.says("line 1, column 18: 'q' is not a permission")
    area.send_keys(Keys.BACKSPACE, "xtncy")
    page.button("Put this list here").click()
    page.until(lambda: yard.now().places["toolpaths"].acl == Ordered((Entry("allow", "directors", 0x1200A9),)))
    page.until(lambda: not page.all(".ant-modal-wrap:not([style*=none])"))
    page.choose("The list", "As text")
    page.one("input[placeholder='Name of the pattern']").send_keys("directors look in")
    page.button("Keep", ".ant-modal").click()
    page.until(lambda: [p.name for p in yard.now().patterns.values()] == ["directors look in"])
    page.go(yard.at("storage?place=released"))
    page.choose("The list", "Start over")
    page.press(".kind-card", "directors look in")
    page.says("Nobody gets more or less by it")
    page.button("Apply").click()
    page.until(lambda: yard.now().places["released"].acl == yard.now().places["toolpaths"].acl)
    assert page.errors() == []


def test_gates_stand_one_under_another_and_the_deciding_line_is_named(yard: Yard, page: Page) -> None:
    page.go(yard.at("board?who=priya-natarajan&place=toolpaths"))
    page.until(lambda: [g.text.split("\n")[0] for g in page.all(".gate header")])
    titles = [gate.get_attribute("aria-label") for gate in page.all(".gate")]
    assert titles == ["Account", "Service", "Grants on drawings", "Way there", "List of toolpaths"]
    deciding = page.one(".gate.decides").text
    assert "refuse Apprentices" in deciding
    assert "decided earlier" in deciding


def test_a_folder_each_keeps_step_with_the_group(yard: Yard, page: Page) -> None:
    before = yard.now()
    page.go(yard.at("storage?place=training"))
    page.button("Personal folders").click()
    group = page.one("input[aria-label='For every member of']")
    group.send_keys("Apprentices")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    group.send_keys(Keys.ENTER)
    page.says("added folder keel/training/juno.harker")
    page.until(lambda: page.button("Make the folders", ".ant-modal").click() or True)
    page.says("Every member of Apprentices has a folder in it")
    folders = {place.name for place in yard.now().places.values() if place.folder_of is not None}
    assert folders == {"juno.harker", "leif.arnesen", "noor.rahman", "priya.natarajan"}
    page.until(lambda: page.button("Undo").click() or True)
    page.until(lambda: same(yard.now(), before))
    assert page.errors() == []


def test_a_group_gets_a_quota_and_is_told_where_there_is_less(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=training"))
    page.fill(page.one("[aria-label='Quota']"), "1,500 GiB")
    page.keys(Keys.ENTER)
    page.until(lambda: yard.now().places["training"].quota == 1500 << 30)
    page.fill(page.one("[aria-label='Quota']"), "50 GiB")
    page.keys(Keys.ENTER)
    page.until(lambda: yard.now().places["training"].quota == 50 << 30)
    chooser = page.one("input[aria-label='A quota for a group']")
    chooser.send_keys("Rigging")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    chooser.send_keys(Keys.ENTER)
    page.until(lambda: yard.now().places["training"].group_quotas == (GroupQuota(group="rigging", bytes=100 << 30),))
    page.go(yard.at("promises?show=findings"))
    page.says("Rigging may take more in keel/training than there is: keel/training has 50 GiB.")
    page.go(yard.at("storage?place=training"))
    page.one("[aria-label='Remove the quota of Rigging']").click()
    page.until(lambda: yard.now().places["training"].group_quotas == ())
    assert page.errors() == []


def test_how_a_dataset_keeps_files_is_chosen_with_who_asked_for_it(yard: Yard, page: Page) -> None:
    page.go(yard.at("storage?place=drawings"), ".on-host")
    page.press(".on-host button", "Compression, access times, sync")
    choose(page, "Compression", "zstd")
    page.until(lambda: yard.now().places["drawings"].options == DatasetOptions(compression="zstd"))
    page.fill(page.one("[aria-label='Who asked for that, and what for']"), "Mira: old scans")
    page.keys(Keys.ENTER)
    page.until(
        lambda: yard.now().places["drawings"].options == DatasetOptions(compression="zstd", asked_by="Mira: old scans")
    )
    page.go(yard.at("storage?place=vm-images"), ".on-host")
    choose(page, "When files are safe on disk", "never waited for")
    page.until(lambda: (asked := yard.now().places["vm-images"].options) is not None and asked.sync == "disabled")
    page.says("is lost when the power goes")
    assert page.trouble() == []
    page.button("Undo").click()
    page.until(lambda: (asked := yard.now().places["vm-images"].options) is not None and asked.sync is None)
    assert page.errors() == []


def choose(page: Page, what: str, option: str) -> None:
    page.until(
        lambda: page.one(f"[aria-label='{what}']").send_keys(Keys.ARROW_DOWN) or page.all(".ant-select-item-option")
    )
    page.press(".ant-select-item-option", option)
