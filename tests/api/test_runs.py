"""Rollouts carried out on the stand-in appliance: kept, put back, broken off; whatever fails, nothing is left between."""

import random
import time
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web
from tests.server import Server
from tests.server import until as wait_for
from tests.standin import stand_in
from tests.tries import times
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination, steps
from yardgate.drivers.simulator import ApplianceFaults, SimulatedAppliance
from yardgate.jobs import rollouts as rollout_jobs
from yardgate.store import Plans, Store
from yardgate.store.rollouts import Rollouts

PLAN = demo.plan()
WANTED = compiled(resolve(PLAN, date.today()), demo.TOP).system
BEFORE = demo.rolled_out(PLAN, date.today())
STEPS = len(steps(BEFORE, WANTED))


def know(store: Store, appliance: SimulatedAppliance) -> str:
    """The demo's plan in a store, of which the appliance has the last rollout."""
    plan = Plans(store).create(PLAN, "ann").id
    rollouts = Rollouts(store)
    rollouts.send_to(plan, Destination(kind="stand-in", host="127.0.0.1", port=appliance.port))
    rollouts.keep(plan, "by-hand", "ann", 1, demo.TOP, (), BEFORE)
    rollouts.made(plan, steps(System(), BEFORE), "ann")
    return plan


@pytest.fixture
def appliance(tmp_path: Path) -> Iterator[SimulatedAppliance]:
    with stand_in(tmp_path, BEFORE) as found:
        yield found


@pytest.fixture
def web(store: Store, appliance: SimulatedAppliance) -> Web:
    return Web(store, know(store, appliance))


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rollout_jobs, "AGAIN", 0.05)


def begin(client: TestClient, web: Web, **more: Any) -> Any:
    answer = client.post(web.at("/rollout/apply"), json={"revision": 1, **more})
    assert answer.status_code == 202, answer.text
    return answer.json()


def until(client: Any, path: str, *states: str, seconds: float = 30) -> Any:
    end = time.monotonic() + seconds
    while True:
        run = client.get(path).json()
        if run["state"] in states:
            return run
        assert time.monotonic() < end, run
        time.sleep(0.02)


def test_what_is_done_is_tried_and_kept(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    begun = begin(client, web)
    assert begun["total"] == STEPS
    run = until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
    assert {step["state"] for step in run["steps"]} == {"done"}
    assert (run["tried"], run["to_try"], run["over_nfs"]) == (147, 147, 27)
    assert run["differs"] == []
    assert any(said.startswith("/srv/keel/common @GMT-") for said in run["snapshots"])
    assert {one["promise"] for one in run["promises"]} >= {"promise-draughting-must-be-able-to-read-"}
    assert 280 <= run["left"] <= 300
    assert run["again"] == ["beatriz.almeida", "priya.natarajan"]
    assert client.post(web.at("/rollout/apply"), json={"revision": 1}).status_code in (409, 422)
    assert client.post(web.at("/rollout/runs/1/confirm")).status_code == 204
    until(client, web.at("/rollout/runs/1"), "committed")
    assert appliance.state.saved == appliance.state.running == WANTED
    assert appliance.state.held is None
    after = client.get(web.at("/rollout")).json()
    assert (after["total"], after["under_way"]) == (0, None)
    assert [(one["kind"], one["run"]) for one in after["history"]] == [("applied", 1), ("by-hand", None)]
    assert client.post(web.at("/rollout/runs/1/confirm")).status_code == 409
    between = client.get(web.at("/rollout/compare"), params={"before": 1, "then": 2}).json()
    assert between["total"] == STEPS
    assert "members of Apprentices: add priya.natarajan" in between["words"]
    assert client.get(web.at("/rollout/compare"), params={"before": 1, "then": 9}).status_code == 404
    assert client.get(web.at("/rollout/since")).json() == {
        "revision": 1,
        "changed": {"total": 0, "people": 0, "places": 0, "cells": []},
    }


def test_what_nobody_keeps_is_put_back(
    web: Web, appliance: SimulatedAppliance, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rollout_jobs, "EARLY", 9.5)
    client = web.client()
    begin(client, web, seconds=10)
    run = until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert run["trouble"] == "nobody confirmed it in time"
    assert {step["state"] for step in run["steps"]} == {"back"}
    assert appliance.state.saved == BEFORE
    assert client.get(web.at("/rollout")).json()["total"] == STEPS


def test_broken_off_between_the_end_of_the_watch_and_its_record_it_is_put_back(
    web: Web, appliance: SimulatedAppliance, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All is back, the appliance was told to watch no longer, and then this side was killed before it wrote that down."""

    def killed(*_: Any) -> None:
        raise SystemExit

    client = web.client()
    number = begin(client, web)["number"]
    path = web.at(f"/rollout/runs/{number}")
    until(client, path, "awaiting-confirmation")
    ending = rollout_jobs.Worker._end
    monkeypatch.setattr(rollout_jobs.Worker, "_end", killed)
    client.post(web.at(f"/rollout/runs/{number}/rollback"))
    wait_for(lambda: appliance.state.held is None, 20)
    monkeypatch.setattr(rollout_jobs.Worker, "_end", ending)
    again = web.client()
    run = until(again, path, "rolled-back", "partly-rolled-back")
    assert (run["state"], run["trouble"]) == ("rolled-back", "it was not confirmed")
    assert appliance.state.saved == BEFORE


def test_it_is_stopped_in_the_middle_and_put_back(web: Web, appliance: SimulatedAppliance) -> None:
    appliance.faults = ApplianceFaults(slow=1)
    client = web.client()
    begin(client, web)
    until(client, web.at("/rollout/runs/1"), "applying")
    assert client.post(web.at("/rollout/runs/1/confirm")).status_code == 409
    assert client.post(web.at("/rollout/runs/1/rollback")).status_code == 204
    appliance.faults = ApplianceFaults(slow=0)
    run = until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert run["done"] < STEPS
    assert "a planner wants everything rolled back" in run["notes"]
    assert appliance.state.saved == BEFORE


@pytest.mark.parametrize("number", range(1, STEPS + 1))
@pytest.mark.parametrize("fault", ["fail", "garble"])
def test_a_step_that_fails_or_reads_back_otherwise_puts_everything_back(
    web: Web, appliance: SimulatedAppliance, fault: str, number: int
) -> None:
    appliance.faults = ApplianceFaults(slow=0, **{fault: number})
    client = web.client()
    begin(client, web)
    run = until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert run["done"] == number - 1
    assert run["steps"][number - 1]["state"] == "back"
    otherwise = "it reads back differently from what was set; what is still missing: "
    if run["steps"][number - 1]["words"].startswith("make the group"):
        otherwise = "is not there when it is read back"
    assert ("no space left on device" if fault == "fail" else otherwise) in run["trouble"]
    assert appliance.state.saved == appliance.state.running == BEFORE


@pytest.mark.parametrize("number", range(1, STEPS + 1))
def test_a_connection_that_is_cut_is_taken_up_again(web: Web, appliance: SimulatedAppliance, number: int) -> None:
    appliance.faults = ApplianceFaults(slow=0, cut=number)
    client = web.client()
    begin(client, web)
    run = until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
    assert any("does not answer" in note for note in run["notes"])
    assert "the stand-in appliance is reached again" in run["notes"]
    assert appliance.state.saved == WANTED
    client.post(web.at("/rollout/runs/1/rollback"))
    until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert appliance.state.saved == BEFORE


def test_an_appliance_that_stays_away_puts_back_by_itself_and_that_is_found_out(tmp_path: Path, store: Store) -> None:
    with stand_in(tmp_path, BEFORE, slow=0.05) as appliance:
        web, port = Web(store, know(store, appliance)), appliance.port
        client = web.client()
        begin(client, web, seconds=10)
        until(client, web.at("/rollout/runs/1"), "applying")
        state = appliance.state
    run = client.get(web.at("/rollout/runs/1")).json()
    assert run["ended"] is None
    assert state.held == BEFORE
    again = SimulatedAppliance(tmp_path / "appliance.json", port)  # it was off for longer than it waits
    with again.turn:
        again.state.until = time.time()
    end = time.monotonic() + 10
    while again.state.held is not None:
        assert time.monotonic() < end
        time.sleep(0.02)
    import threading

    threading.Thread(target=again.serve_forever, daemon=True).start()
    try:
        run = until(client, web.at("/rollout/runs/1"), "rolled-back")
    finally:
        again.shutdown()
        again.server_close()
    assert "the stand-in appliance rolled everything back by itself" in run["notes"]
    assert again.state.saved == BEFORE


def test_an_appliance_that_is_lost_at_one_step_again_and_again_is_left_to_its_own_watch(
    web: Web, appliance: SimulatedAppliance
) -> None:
    appliance.faults = ApplianceFaults(slow=0, lost=3)
    client = web.client()
    begin(client, web)
    run = until(client, web.at("/rollout/runs/1"), "host-rolling-back")
    assert run["done"] == 2
    assert "5 times at the same step" in run["trouble"]
    with appliance.turn:
        wound = appliance.state.until
        appliance.state.until = time.time()
    run = until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert wound <= time.time() + 300, "nothing winds it up any more"
    assert appliance.state.saved == BEFORE


def test_an_administrator_ends_a_run_that_does_not_end_and_it_says_what_stands(
    web: Web, appliance: SimulatedAppliance
) -> None:
    appliance.faults = ApplianceFaults(slow=0, lost=3)
    client, boss, at = web.client(), web.client("administrator"), web.at("/rollout/runs/1")
    begin(client, web)
    until(client, at, "host-rolling-back")
    assert client.post(f"{at}/abandon").status_code == 403
    boss = TestClient(client.app, base_url="http://127.0.0.1", cookies=boss.cookies)
    assert boss.post(f"{at}/abandon").status_code == 204
    run = client.get(at).json()
    assert run["state"] == "abandoned"
    assert "ended by a administrator while the appliance was to roll it back: 2 of" in run["trouble"]
    assert "not known; if it still watches, it rolls everything back by itself within 300 s" in run["trouble"]
    assert [step["state"] for step in run["steps"][:3]] == ["done", "done", "to do"]
    assert boss.post(f"{at}/abandon").status_code == 409
    after = client.get(web.at("/rollout")).json()
    assert (after["under_way"], after["history"][0]["kind"]) == (None, "abandoned")
    with appliance.turn:
        appliance.state.until = time.time()
    end = time.monotonic() + 5
    while appliance.state.held is not None:
        assert time.monotonic() < end
        time.sleep(0.02)
    assert appliance.state.saved == BEFORE
    assert client.get(at).json()["state"] == "abandoned"


def test_what_was_changed_behind_the_back_is_looked_at_first(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    appliance.state.saved = demo.by_hand(BEFORE)
    refused = client.post(web.at("/rollout/apply"), json={"revision": 1})
    assert refused.status_code == 409
    assert "Read it again" in refused.json()["title"]
    told = client.post(web.at("/rollout/look"), json={"revision": 1}).json()
    assert (told["first"], told["total"]) == (False, 2)
    assert told["words"] == [
        "account imke.brouwer: enable it",
        "folder /srv/keel/training: list (everybody else --- to rwx)",
    ]
    assert [[edit["op"] for edit in edits] for edits in told["edits"]] == [["put-user"], ["put-place"]]
    again = client.post(web.at("/rollout/look"), json={"revision": 1}).json()
    assert (again["total"], again["kept"]) == (0, None)
    assert begin(client, web)["total"] == STEPS + 2
    until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
    client.post(web.at("/rollout/runs/1/rollback"))
    until(client, web.at("/rollout/runs/1"), "rolled-back")
    assert appliance.state.saved == demo.by_hand(BEFORE), "also what was changed by hand"


def test_what_is_left_over_is_deleted_only_by_its_name(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    plans = Plans(web.store)
    kept = client.post(
        web.at("/edits"), json={"revision": 1, "edits": [{"op": "remove-user", "user": "edda-lindqvist"}]}
    )
    assert kept.status_code == 200, kept.text
    assert plans.open(web.plan).revision == 2
    found = client.get(web.at("/rollout")).json()
    step = next(one for one in found["leftovers"] if one["id"] == "accounts:edda.lindqvist>")
    assert step["destroys"]
    left = [one["id"] for one in found["steps"]]
    body = {"revision": 2, "left": left}
    for typed in ("edda", "", "Edda.Lindqvist"):
        refused = client.post(web.at("/rollout/apply"), json={**body, "delete": {step["id"]: typed}})
        assert refused.status_code == 422
        assert "edda.lindqvist" in refused.json()["title"]
    nothing = client.post(web.at("/rollout/apply"), json={**body, "delete": {"folders:/srv/keel>": "keel"}})
    assert nothing.status_code == 422, "it is in the plan"
    begun = client.post(web.at("/rollout/apply"), json={**body, "delete": {step["id"]: "edda.lindqvist"}})
    assert begun.status_code == 202
    assert begun.json()["total"] == 1
    run = until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
    assert run["destroys"]
    assert "edda.lindqvist" not in appliance.state.saved.accounts
    client.post(web.at("/rollout/runs/1/confirm"))
    until(client, web.at("/rollout/runs/1"), "committed")
    assert not any(one["id"] == step["id"] for one in client.get(web.at("/rollout")).json()["leftovers"])


def test_who_may_say_where_it_goes_and_what_is_no_place(web: Web) -> None:
    planner, boss = web.client(), web.client("administrator")
    here = web.at("/rollout/destination")
    assert planner.put(here, json={"kind": "here"}).status_code == 403
    refused = boss.put(here, json={"kind": "here"})
    assert (refused.status_code, "--this-host" in refused.json()["title"]) == (422, True)
    assert web.client("reader").post(web.at("/rollout/apply"), json={"revision": 1}).status_code == 403
    for host in ("-oProxyCommand=x", "a b", "", "ho;st", "$(id)"):
        assert boss.put(here, json={"kind": "ssh", "host": host, "key": "ssh-ed25519 AAAA"}).status_code == 422
    for key in ("", "ssh-ed25519", "ssh-ed25519 AAAA\nevil ssh-rsa AAAA", "ssh-ed25519 AA AA"):
        assert boss.put(here, json={"kind": "ssh", "host": "keelson", "key": key}).status_code == 422
    assert (
        boss.put(here, json={"kind": "ssh", "host": "keelson", "user": "-l", "key": "ssh-ed25519 AAAA"}).status_code
        == 422
    )
    assert boss.put(here, json={"kind": "ssh", "host": "keelson", "key": "ssh-ed25519 AAAA"}).status_code == 204
    assert boss.get(here).json()["host"] == "keelson"
    assert boss.put(here, json={"kind": "papers", "joined": ["nowhere"]}).status_code == 422
    assert boss.put(here, json={"kind": "stand-in", "joined": ["lanternquay"]}).status_code == 422
    assert "the host is not joined to it" in str(boss.get(web.at("/rollout")).json()["left_out"])
    assert boss.put(here, json={"kind": "papers", "joined": ["lanternquay"]}).status_code == 204
    assert boss.get(here).json()["joined"] == ["lanternquay"]
    assert "the host is not joined to it" not in str(boss.get(web.at("/rollout")).json()["left_out"])
    assert "@LANTERNQUAY\\contract staff" in boss.get(web.at("/rollout/take-away/smb")).text
    assert boss.put(here, json={"kind": "papers"}).status_code == 204
    assert planner.post(web.at("/rollout/look"), json={"revision": 1}).status_code == 409
    assert planner.get(web.at("/rollout/runs/9")).status_code == 404


def test_killed_at_any_moment_it_goes_on_or_the_appliance_puts_back(tmp_path: Path) -> None:
    """Yard Gate ends with kill -9 in the midst of it. Started again, it goes on; left off, the appliance puts back by itself."""
    rng, ended = random.Random(6), {"awaiting-confirmation": 0, "rolled-back": 0, "alone": 0}
    with stand_in(tmp_path, BEFORE, slow=0.03) as appliance:
        server = Server(tmp_path / "data")
        plan = know(server.store(), appliance)
        at = f"/api/v1/plans/{plan}/rollout"
        server.start()
        try:
            for number in range(1, times(4, 100) + 1):
                client = server.client()
                put = {"revision": 1, "seconds": 60}
                assert client.post(f"{at}/apply", json=put).status_code == 202
                time.sleep(rng.uniform(0, 0.9))
                server.kill()
                alone = number % 4 == 0
                if alone:
                    with appliance.turn:
                        appliance.state.until = min(appliance.state.until, time.time())
                    end = time.monotonic() + 5
                    while appliance.state.held is not None:
                        assert time.monotonic() < end
                        time.sleep(0.02)
                    assert appliance.state.saved == BEFORE
                    ended["alone"] += 1
                server.start()
                client = server.client()
                run = until(client, f"{at}/runs/{number}", "awaiting-confirmation", "rolled-back")
                ended[run["state"]] += 1
                if run["state"] == "awaiting-confirmation":
                    assert appliance.state.saved == WANTED
                    client.post(f"{at}/runs/{number}/rollback")
                    until(client, f"{at}/runs/{number}", "rolled-back")
                assert appliance.state.saved == appliance.state.running == BEFORE
                assert appliance.state.held is None
        finally:
            server.stop()
    print(ended)
    assert min(ended.values()) > 0


def test_a_first_rollout_looks_first_and_makes_everything(store: Store, tmp_path: Path) -> None:
    with stand_in(tmp_path) as empty:
        plan = Plans(store).create(PLAN, "ann").id
        Rollouts(store).send_to(plan, Destination(kind="stand-in", host="127.0.0.1", port=empty.port))
        web = Web(store, plan)
        client = web.client()
        assert not client.get(web.at("/rollout")).json()["known"]
        assert client.post(web.at("/rollout/apply"), json={"revision": 1}).status_code == 409
        assert client.post(web.at("/rollout/look"), json={"revision": 1}).json()["first"]
        begin(client, web)
        run = until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
        assert run["total"] == len(steps(System(), WANTED))
        assert run["differs"] == []
        client.post(web.at("/rollout/runs/1/confirm"))
        until(client, web.at("/rollout/runs/1"), "committed")
        assert steps(empty.state.running, WANTED) == ()


def test_a_runbook_is_worked_through_step_by_step(store: Store) -> None:
    plan = Plans(store).create(PLAN, "ann").id
    Rollouts(store).keep(plan, "by-hand", "ann", 1, demo.TOP, (), BEFORE.having("groups", "Apprentices", None))
    web = Web(store, plan)
    client = web.client()
    assert web.client("reader").post(web.at("/rollout/by-hand"), json={"revision": 1}).status_code == 403
    begun = client.post(web.at("/rollout/by-hand"), json={"revision": 1})
    assert (begun.status_code, begun.json()["state"]) == (202, "by-hand")
    assert client.post(web.at("/rollout/by-hand"), json={"revision": 1}).status_code == 409
    said = [step["words"] for step in begun.json()["steps"]]
    made, joined = (
        next(n for n, words in enumerate(said) if part in words) for part in ("make the group Appr", "members of Appr")
    )
    at = web.at("/rollout/runs/1")
    shown = client.get(f"{at}/steps/{made}").json()
    assert any("groupadd" in line for line in shown["commands"])
    assert client.get(f"{at}/steps/{len(said)}").status_code == 404

    def mark(step: int, done: bool = True) -> Any:
        return client.put(f"{at}/steps/{step}/done", json={"done": done})

    early = mark(joined)
    assert (early.status_code, early.json()["title"]) == (409, "“make the group Apprentices” comes first")
    assert mark(made).status_code == mark(joined).status_code == 204
    assert mark(made, done=False).status_code == 409
    assert mark(joined, done=False).status_code == mark(joined).status_code == 204
    assert mark(len(said)).status_code == 409
    run = web.client().get(at).json()  # also after a restart
    assert (run["state"], run["done"], run["steps"][joined]["by"]) == ("by-hand", 2, "a planner")
    assert run["steps"][joined]["at"] >= run["at"]
    assert client.post(f"{at}/confirm").status_code == 204
    ended = client.get(at).json()
    assert (ended["state"], ended["again"]) == ("committed", ["priya.natarajan"])
    after = client.get(web.at("/rollout")).json()
    assert [one["kind"] for one in after["history"]] == ["by-hand", "by-hand"]
    assert after["history"][0]["steps"] == [said[made], said[joined]]
    assert sorted(step["words"] for step in after["steps"]) == sorted(set(said) - {said[made], said[joined]})
    assert mark(made).status_code == 409
