"""The Rollout station: steps chosen, looked at, taken away and said to be done."""

import re
import tempfile
from dataclasses import replace
from datetime import date
from pathlib import Path

from pydantic import TypeAdapter
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from tests.standin import stand_in
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Posix
from yardgate.core.edits.records import PutPlace
from yardgate.core.host.compiled import compiled
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination, steps
from yardgate.core.model.plan import Plan
from yardgate.store import Plans
from yardgate.store.rollouts import Rollouts


def as_on_a_host(plan: Plan) -> list[PutPlace]:
    """What gives the demo's storage POSIX lists throughout."""
    return [
        PutPlace(replace(place, acl=Posix() if place.acl is not None or place.parent is None else None))
        for place in plan.places.values()
    ]


def test_steps_are_left_for_later_taken_away_and_said_to_be_done(yard: Yard, page: Page) -> None:
    Plans(yard.server.store()).commit(yard.plan, 1, as_on_a_host(yard.now()), "ann")
    page.go(yard.at("rollout"), ".step")
    page.says("1 promise is broken, and would be on the appliance, too.")
    total = len(page.all(".step"))
    page.says(f"{total} steps")
    step = "make the folder /srv/keel/drawings/toolpaths with its owner and list"
    page.until(lambda: next(b for b in page.all(".step .sentence") if b.text.startswith(step)).click() or True)
    page.says("(cd -P /srv/keel/drawings/toolpaths && setfacl --set-file=- .)")
    page.says("Comes after")
    page.until(lambda: page.one(f"[aria-label='Do it: {step}']").click() or True)
    page.says("Not done now: left for later.")
    waiting = [row for row in page.all(".step.left") if "waits" in row.text]
    assert any("share /srv/keel/drawings/toolpaths as machines over NFS" in row.text for row in waiting)
    page.says(f"{total - 1 - len(waiting)} steps of {total}")
    page.button("On paper").click()
    page.says("Runbook, to print")
    page.says("Owners and lists, for setfacl --restore")
    page.keys(Keys.ESCAPE)
    page.button("Mark as done").click()
    page.button("Yes, they were done", ".ant-modal").click()
    page.until(lambda: len(page.all(".step")) == 1 + len(waiting))
    page.says("by the administrator")
    assert "/srv/keel/drawings/toolpaths" not in Rollouts(yard.server.store()).in_force(yard.plan).folders
    page.button("Work through them").click()
    number = 1 + len(waiting)
    for done in range(number):
        page.says(f"{done} of {number} done")
        page.button("Done", ".side").send_keys(Keys.ENTER)
    page.says("From here on the appliance is taken to have all of it.")
    assert page.trouble() == []
    page.button("That was all").click()
    page.says(f"{number} of {number} done by hand")
    page.button("Back to the steps").click()
    page.says("The appliance has what the plan says")
    assert page.trouble() == []
    assert page.errors() == []


def test_ordered_lists_go_there_as_the_smb_server_keeps_them_and_what_is_no_folder_is_said(
    yard: Yard, page: Page
) -> None:
    page.go(yard.at("rollout"), ".step")
    step = "make the folder /srv/keel/drawings/toolpaths with its owner and list"
    page.until(lambda: next(b for b in page.all(".step .sentence") if b.text.startswith(step)).click() or True)
    page.says("setfattr --name=security.NTACL")
    page.says("# deny @Apprentices")
    Rollouts(yard.server.store()).send_to(yard.plan, Destination(top="srv"))
    page.driver.refresh()
    page.says("This host cannot carry out the plan")
    assert page.errors() == []


def test_a_reading_of_the_host_shows_what_was_changed_behind_the_plans_back(yard: Yard, page: Page) -> None:
    store = yard.server.store()
    Plans(store).commit(yard.plan, 1, as_on_a_host(yard.now()), "ann")
    system = compiled(resolve(yard.now(), date.today()), "/srv").system
    Rollouts(store).keep(yard.plan, "by-hand", "ann", 2, "/srv", (), system)
    drifted = system.having(
        "accounts", "imke.brouwer", replace(system.accounts["imke.brouwer"], enabled=True, expires=None)
    )
    page.go(yard.at("rollout"), ".past")
    page.says("The appliance has what the plan says")
    page.button("What the host has").click()
    field = page.one("[aria-label='What rollout read wrote']")
    page.driver.execute_script("arguments[0].focus()", field)
    field.send_keys("{cut off")
    page.button("Compare", ".ant-modal").click()
    page.says("it is not JSON. Was it cut off?")
    page.one("[aria-label='A file that rollout read wrote']").send_keys(str(written(drifted)))
    page.until(lambda: page.button("Compare", ".ant-modal").click() or True)
    page.says("1 thing changed behind the plan’s back")
    page.says("account imke.brouwer:")
    page.button("Take it as what the appliance has", ".ant-modal").click()
    page.until(lambda: len(page.all(".step")) == 1)
    page.says("1 thing changed behind the plan’s back, by the administrator")
    assert page.trouble() == []
    assert page.errors() == []


def written(system: System) -> Path:
    path = Path(tempfile.mkdtemp()) / "now.json"
    path.write_bytes(TypeAdapter(System).dump_json(system))
    return path


def test_first_passwords_open_sessions_and_why_somebody_does_not_get_in(yard: Yard, page: Page, tmp_path: Path) -> None:
    """From People to a slip with a password; a session ended; a cause named, looked up from the board."""
    plan, store = yard.now(), yard.server.store()
    there = demo.rolled_out(plan, date.today())
    priya = OpenSession("priya.natarajan", "192.0.2.63", "2027-01-01T08:00:00+00:00", ("drawings",), ("/srv/keel/a",))
    with stand_in(tmp_path, there) as appliance:
        appliance.state = replace(appliance.state, given=frozenset(there.accounts) - {"juno.harker"}, open=(priya,))
        rollouts = Rollouts(store)
        rollouts.send_to(yard.plan, Destination(kind="stand-in", host="127.0.0.1", port=appliance.port))
        rollouts.keep(yard.plan, "by-hand", "ann", 1, "/srv", (), there)
        rollouts.made(yard.plan, steps(System(), there), "ann")
        page.go(yard.at("people"), ".grid")
        page.until(lambda: page.driver.find_element("link text", "Passwords, sessions …").click() or True)
        page.says("1 of 26 people have none yet")
        page.says("none yet: cannot sign in")
        assert page.trouble() == []
        page.button("Make 1 password").click()
        page.says("Shown this once. They work now.")
        password = page.one(".password").text
        assert re.fullmatch(r"[a-z2-9]{4}(-[a-z2-9]{4}){2}", password)
        assert page.trouble() == []
        assert appliance.state.given == frozenset(there.accounts)
        page.until(
            lambda: page.driver.find_element("xpath", "//*[text()='On cards, with what they reach']").click() or True
        )
        page.says("First sign-in")
        assert page.one(".card-page .password").text == password
        assert page.trouble() == []
        page.button("Close").click()
        page.button("Yes, close").click()
        page.says("0 of 26 people have none yet")
        assert password not in page.text()
        page.until(lambda: page.one("[aria-label='End the session of priya.natarajan']").click() or True)
        page.says("Work that is not saved in 1 open file may be lost.")
        page.button("End it").click()
        page.says("Nobody has a share open.")
        assert appliance.state.open == ()
        page.go(yard.at("board?rows=people&who=priya-natarajan&place=training"), ".c.RW")
        page.until(lambda: page.driver.find_element("partial link text", "Look it up on the appliance").click() or True)
        page.button("Look it up there").click()
        page.says("On the appliance priya.natarajan is not in Apprentices; the plan says otherwise.")
        page.says("the cause")
        assert page.trouble() == []
    page.button("Look it up there").click()
    page.says("does not answer")
