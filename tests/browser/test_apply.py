"""Putting the demo's plan on appliances from the browser: on the stand-in, and on a real Linux file server over SSH."""

from collections import Counter
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from re import search

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Browsers, Page, Yard
from tests.real.disks import disks
from tests.real.host import door, host
from tests.real.test_host import SNAPSHOT, shell, visit
from tests.server import Server
from tests.standin import stand_in
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.paths import offered
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import RemoveUser
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination, steps
from yardgate.core.model.plan import GUEST, Plan
from yardgate.drivers.simulator import ApplianceFaults, SimulatedAppliance
from yardgate.store import Plans
from yardgate.store.rollouts import Rollouts


@pytest.fixture
def appliance(yard: Yard, tmp_path: Path) -> Iterator[SimulatedAppliance]:
    """The demo's appliance, as the last rollout left it and somebody changed it."""
    before = demo.rolled_out(yard.now(), date.today())
    with stand_in(tmp_path, demo.by_hand(before), things=demo.lying(before)) as found:
        rollouts = Rollouts(yard.server.store())
        rollouts.send_to(yard.plan, Destination(kind="stand-in", host="127.0.0.1", port=found.port))
        rollouts.keep(yard.plan, "by-hand", "H. Vance", 1, demo.TOP, (), before)
        rollouts.made(yard.plan, steps(System(), before), "H. Vance")
        yield found


@pytest.mark.usefixtures("appliance")
def test_drift_is_found_put_right_tried_and_kept(yard: Yard, page: Page) -> None:
    page.go(yard.at("rollout"), ".step")
    page.button("Roll out").click()
    page.button("Start", ".ant-modal").click()
    page.says("The appliance has changed since it was last read")
    page.button("Cancel", ".ant-modal").click()
    page.button("Read what it has").click()
    page.says("2 things changed behind the plan’s back")
    page.says("account imke.brouwer: enable it")
    page.until(lambda: any("account imke.brouwer: disable it" in row.text for row in page.all(".step")))
    page.button("Add it to the plan").click()
    page.says("in the plan now")
    page.until(lambda: not any("account imke.brouwer" in row.text for row in page.all(".step")))
    page.button("Undo").click()
    page.until(lambda: any("account imke.brouwer: disable it" in row.text for row in page.all(".step")))
    page.button("Roll out").click()
    page.says("must sign in again for it to count for them")
    page.says("changes not on the appliance yet")
    page.button("Start", ".ant-modal").click()
    page.says("Confirm within")
    page.says("147 visits of people to shares, 27 of them over NFS, all as planned.")
    assert page.trouble() == []
    page.button("Confirm", ".verdict").click()
    page.one(".verdict.good")
    page.until(lambda: "not on the appliance yet" not in page.one(".strip").text)
    page.button("Back to the steps").click()
    page.says("The appliance has what the plan says")
    page.until(lambda: page.one(".past button.plain").click() or True)
    page.one("[aria-label='Compare with']").click()
    page.until(lambda: next(o for o in page.all(".ant-select-item-option") if o.text == "rollout 2").click() or True)
    page.says("account imke.brouwer: enable it")
    page.until(lambda: page.one(".past a").click() or True)
    page.one(".verdict.good")
    assert page.errors() == []


def test_what_is_left_over_is_deleted_when_its_name_is_typed(
    yard: Yard, page: Page, appliance: SimulatedAppliance
) -> None:
    Plans(yard.server.store()).commit(yard.plan, 1, [RemoveUser("edda-lindqvist")], "ann")
    page.go(yard.at("rollout"), ".step")
    page.button("Read what it has").click()
    page.says("2 things changed behind the plan’s back")
    page.button("Delete …").click()
    page.says("Type its name, edda.lindqvist,")
    field = page.one(".ant-modal input")
    field.send_keys("edda")
    assert not page.button("Delete edda.lindqvist", ".ant-modal").is_enabled()
    assert page.trouble() == []
    field.send_keys(".lindqvist")
    page.button("Delete edda.lindqvist", ".ant-modal").click()
    page.says("Confirm within")
    page.button("Confirm", ".verdict").click()
    page.one(".verdict.good")
    assert "edda.lindqvist" not in appliance.state.saved.accounts
    assert page.errors() == []


def test_what_fails_is_put_back_and_said(yard: Yard, page: Page, appliance: SimulatedAppliance) -> None:
    page.go(yard.at("rollout"), ".step")
    page.button("Read what it has").click()
    page.says("behind the plan’s back")
    appliance.faults = ApplianceFaults(fail=3, slow=0)
    appliance.steps = 0
    before = appliance.state.saved
    page.button("Roll out").click()
    page.button("Start", ".ant-modal").click()
    page.says("is as it was before")
    page.says("no space left on device")
    assert len(page.all(".stop.back")) == 3
    assert appliance.state.saved == before
    assert page.trouble() == []
    assert page.errors() == []


def test_lists_are_pushed_down_by_keyboard_stopped_gone_on_with_and_put_back(
    yard: Yard, page: Page, appliance: SimulatedAppliance
) -> None:
    appliance.faults = ApplianceFaults(slow=0, slow_thing=0.5)
    had = dict(appliance.things)
    page.go(yard.at("rollout"), ".step")
    page.button("Look into the folders").send_keys(Keys.ENTER)
    page.button("Look into all").send_keys(Keys.ENTER)
    page.says("48 things different")
    page.says("list (owning group r-- to ---")
    page.button("Push down …").send_keys(Keys.ENTER)
    page.says("What each had is kept here")
    page.button("Push down", ".ant-modal").send_keys(Keys.ENTER)
    page.until(lambda: search(r"[1-9]\d* changed and read back so far", page.one(".verdict").text))
    page.button("Stop", ".verdict").send_keys(Keys.ENTER)
    page.says("Stopped at", 180)
    appliance.faults = ApplianceFaults(slow=0, slow_thing=0)
    assert appliance.things != had
    page.button("Go on", ".verdict").send_keys(Keys.ENTER)
    page.says("Pushed down over")
    assert page.trouble() == []
    page.button("Put back", ".verdict").send_keys(Keys.ENTER)
    page.says("Put back: 48")
    assert appliance.things == had
    assert page.errors() == []


def test_a_dataset_goes_back_to_a_snapshot_and_that_is_undone(
    yard: Yard, page: Page, appliance: SimulatedAppliance
) -> None:
    dataset, had = "/srv/keel/drawings", dict(appliance.things)
    appliance.snapshot(dataset, "@GMT-2026.11.30-09.17.01")
    lost = [name for name in had if name.startswith(f"{dataset}/in-progress/2026/")]
    appliance.things = {name: thing for name, thing in had.items() if name not in lost}
    page.go(yard.at("rollout"), ".step")
    page.button("Go back to a snapshot").send_keys(Keys.ENTER)
    page.says("Without snapshots: /srv/ballast")
    page.one(".moment").send_keys(Keys.ENTER)
    page.says(f"{len(lost)} things would go back")
    page.says(f"{len(lost)} deleted since: then there again")
    assert page.trouble() == []
    page.button("Go back …", ".verdict").send_keys(Keys.ENTER)
    page.says("Shares, accounts and groups stay as they are")
    page.button("Go back", ".ant-modal").send_keys(Keys.ENTER)
    page.says("It is what it was")
    assert appliance.things == had
    assert page.trouble() == []
    page.until(lambda: len(page.all(".moment")) == 2)
    page.button("Undo …", ".verdict").send_keys(Keys.ENTER)
    page.says(f"{len(lost)} made since: then gone")
    assert page.errors() == []


def goes_over_ssh(page: Page, port: int) -> None:
    """Say that the plan goes to a host over SSH, whose key is compared."""
    page.button("to files to carry out by hand").click()
    page.until(lambda: next(r for r in page.all(".ant-radio-wrapper") if "over SSH" in r.text).click() or True)
    page.fill(page.one("input[placeholder^=keelson]"), "127.0.0.1")
    page.fill(page.one(".fields input[role=spinbutton]"), str(port))
    page.button("Ask the host for its key").click()
    page.says("Compare one with what")
    page.button("It is the same").click()
    page.button("Send it there from now on").click()
    page.says("What 127.0.0.1 has is not known yet")


def puts_it_there(page: Page) -> None:
    """Look what the host has, and put the plan there, until it waits to be kept."""
    page.button("Read what it has").click()
    page.says("Now it is known what the appliance has")
    page.button("Roll out").click()
    page.button("Start", ".ant-modal").click()
    page.says("Confirm within", 600)


def new_office(page: Page, plan: str, now: Callable[[], Plan]) -> None:
    """By clicks and keys alone: three people; an office that everyone writes in, with a place in it for two; homes that all may look into."""
    for number, name in enumerate(("Ann Lee", "Bo Finn", "Cy Dahl"), 1):
        page.go(f"/p/{plan}/people", ".empty, [role=grid]")
        page.button("Add person").click()
        page.one(".ant-modal input").send_keys(name, Keys.ENTER)
        page.until(lambda n=number: len(now().users) == n)  # type: ignore[misc]
    page.go(f"/p/{plan}/storage", ".empty")
    page.button("Add pool").click()
    page.says("Windows and macOS clients")
    page.one(".ant-modal input").send_keys("tank", Keys.ENTER)
    page.until(lambda: "tank" in now().places)
    for parent, kind, name, alone in (
        ("tank", "dataset", "office", False),
        ("office", "dataset", "personnel", True),
        ("tank", "dataset", "homes", False),
        ("homes", "folder", "ann", True),
        ("homes", "folder", "bo", True),
    ):
        page.go(f"/p/{plan}/storage?place={parent}", "[role=tree]")
        page.button(f"Add {kind} inside").click()
        page.says("At first nobody gets in.")
        if alone:
            page.one(".ant-modal .ant-checkbox-wrapper").click()
        page.one(".ant-modal input[type=text]").send_keys(name, Keys.ENTER)
        page.until(lambda n=name: n in now().places)  # type: ignore[misc]
    for who, place, key in (
        ("everyone", "office", "w"),
        ("ann-lee", "personnel", "w"),
        ("bo-finn", "personnel", "r"),
        ("everyone", "homes", "r"),
        ("ann-lee", "ann", "w"),
        ("bo-finn", "bo", "w"),
    ):
        page.go(f"/p/{plan}/board?who={who}&place={place}", ".c.active")
        page.one("[role=grid]").send_keys(key)
        page.until(lambda p=place, w=who: w in now().grants.get(p, {}))  # type: ignore[misc]
    for place, name in (("office", "office"), ("homes", "home-folders")):
        page.go(f"/p/{plan}/shares", ".shares, .empty")
        page.button("Add a share").click()
        field = page.one("[aria-label='Place to offer']")
        field.send_keys(place)
        page.until(lambda: page.all(".ant-select-item-option-active"))
        field.send_keys(Keys.ENTER)
        page.fill(page.one(".ant-modal input[maxlength='80']"), name)
        page.button("Share it").click()
        page.until(lambda p=place: any(share.place == p for share in now().shares.values()))  # type: ignore[misc]


def test_a_new_office_made_by_clicks_comes_out_on_a_real_host_as_the_board_says(
    tmp_path: Path, browsers: Browsers
) -> None:
    with host() as keelson, door(keelson, tmp_path) as way, Server(tmp_path / "data") as server:
        yard = Yard(server, browsers)
        page = yard.page()
        page.go("/plans")
        page.button("New plan").click()
        page.one(".ant-modal input").send_keys("slipway", Keys.ENTER)
        page.says("Three ways to begin")
        plan = page.driver.current_url.split("/p/")[1].split("/")[0]
        store = Plans(yard.server.store())
        new_office(page, plan, lambda: store.open(plan).plan)
        page.go(f"/p/{plan}/rollout", "h2, .step, .empty")
        goes_over_ssh(page, way.port)
        puts_it_there(page)
        page.button("Confirm", ".verdict").click()
        page.until(lambda: page.all(".verdict.good"), 30)
        made = store.open(plan).plan
        matrix = resolve(made, date.today())
        sign_in = lambda p, who: {"name": "" if who == GUEST else p.users[who].name if who in p.users else who}  # noqa: E731
        counts: Counter[str] = Counter()
        assert visit(keelson, matrix, counts, sign_in=sign_in) == []
        assert counts["answers"] > 60
        page.go(f"/p/{plan}/board", ".c")
        levels = {Level.RW: "read-write", Level.RO: "read-only", Level.NA: "no access", Level.PT: "pass through"}
        for who, user in made.users.items():
            for place in ("office", "personnel", "homes", "ann", "bo"):
                best = max(
                    next(v.level for v in walk(made, who, over, date.today(), to=place) if v.place == place)
                    for over in offered(made)
                    if made.shares[over.share].place in made.path(place)
                )
                told = page.level(user.full_name, place)
                assert told.startswith(levels[best]) or (best == Level.NA and told == "nothing is granted"), told
        assert page.level("Cy Dahl", "personnel") == page.level("Cy Dahl", "ann") == "nothing is granted"
        assert page.errors() == []
        yard.close()


def test_the_demo_goes_to_a_real_file_server_and_what_is_changed_there_by_hand_is_found(
    tmp_path: Path, browsers: Browsers
) -> None:
    with (
        host() as keelson,
        disks(keelson, "/srv/keel", "/srv/ballast"),
        door(keelson, tmp_path) as way,
    ):  # the server finds the agent
        before = shell(keelson, SNAPSHOT)
        with Server(tmp_path / "data") as server:
            yard = Yard(server, browsers)
            page = yard.page()
            page.go(yard.at("rollout"), ".step")
            goes_over_ssh(page, way.port)
            puts_it_there(page)
            page.says("122 visits of people to shares, 2 of them over NFS, all as planned.")
            page.button("Confirm", ".verdict").click()
            page.until(lambda: page.all(".verdict.good"), 30)
            assert shell(keelson, "find /srv -name 'yardgate-trial*'; ls /run | grep yardgate || true") == ""
            shell(
                keelson,
                "cd /srv/keel; for d in hulls office/payroll; do cp /etc/hostname $d/brought; chmod 644 $d/brought; done",
            )
            page.one(".verdict a").click()
            page.button("Look into all").click()
            page.says("2 things different", 30)
            page.button("Push down …").click()
            page.button("Push down", ".ant-modal").click()
            page.says("Pushed down over 2", 30)
            page.button("Look again").click()
            page.says("Everything as inherited", 30)
            page.button("Back to the steps").click()
            page.one(".past button.plain")
            shell(
                keelson,
                "gpasswd --add gwen.castellan Directors; setfattr --remove=security.NTACL /srv/keel/office/payroll",
            )
            page.button("Read what it has").click()
            page.says("2 things changed behind the plan’s back")
            page.says("members of Directors: add gwen.castellan")
            page.says("folder /srv/keel/office/payroll: a POSIX list in place of an ordered list")
            page.button("Roll out").click()
            page.button("Start", ".ant-modal").click()
            page.says("Verifying", 180)
            page.button("Stop and roll back", ".verdict").click()
            page.says("is as it was before", 180)
            assert "gwen.castellan" in shell(keelson, "getent group Directors"), "also what was changed by hand"
            assert page.errors() == []
            yard.close()
        assert shell(keelson, SNAPSHOT) != before
