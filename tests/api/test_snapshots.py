"""Comparing datasets of the stand-in appliance with their snapshots, going back to one, and undoing that."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web
from tests.api.test_inside import FOLDERS, LYING
from tests.api.test_runs import BEFORE, begin, know, until
from tests.standin import stand_in
from yardgate.drivers.simulator import SimulatedAppliance
from yardgate.jobs import push_downs
from yardgate.jobs.push_downs import PushDownJobs
from yardgate.store import Store
from yardgate.store.pushes import Pushes

DATASET = next(
    name
    for name in BEFORE.datasets
    if any(one.startswith(f"{name}/") for one in BEFORE.datasets) and name.count("/") > 2
)
BELOW = tuple(f"{name}/" for name in BEFORE.datasets if name.startswith(f"{DATASET}/"))
FIRST, OLDER = "@GMT-2026.11.30-09.17.01", "@GMT-2026.11.29-20.17.01"


@pytest.fixture
def appliance(tmp_path: Path) -> Iterator[SimulatedAppliance]:
    with stand_in(tmp_path, BEFORE, things=LYING) as found:
        found.snapshot(DATASET, OLDER)
        found.snapshot(DATASET, FIRST)
        yield found


@pytest.fixture
def web(store: Store, appliance: SimulatedAppliance, monkeypatch: pytest.MonkeyPatch) -> Web:
    monkeypatch.setattr(push_downs, "AGAIN", 0.05)
    return Web(store, know(store, appliance))


def compare(client: TestClient, web: Web, snapshot: str = FIRST) -> Any:
    answer = client.post(web.at("/inside/snapshots"), json={"dataset": DATASET, "snapshot": snapshot})
    assert answer.status_code == 202, answer.text
    return until(client, web.at(f"/inside/{answer.json()['number']}"), "done")


def do(client: TestClient, web: Web, number: int, what: str, code: int = 202) -> None:
    assert client.post(web.at(f"/inside/{number}/do"), json={"do": what}).status_code == code


def spoil(appliance: SimulatedAppliance) -> tuple[int, int, int]:
    """Files that are made, deleted, and given another group, in the dataset, in one below it, and in another: how many of each in it."""
    mine = [t for t in LYING if t.name.startswith(f"{DATASET}/") and not t.name.startswith(BELOW) and not t.folder]
    elsewhere = [t for t in LYING if t not in mine and not t.folder][:3] + [
        t for t in LYING if t.name.startswith(BELOW)
    ][:3]
    there = dict(appliance.things)
    for one in (*mine[:2], elsewhere[0], elsewhere[-1]):
        there[f"{one.name} copy"] = replace(one, name=f"{one.name} copy")
    for one in (*mine[2:5], elsewhere[1], elsewhere[-2]):
        del there[one.name]
    for one in (mine[5], elsewhere[2]):
        there[one.name] = replace(one, group="nogroup")
    appliance.things = there
    appliance.give(())  # and writes it down
    return 2, 3, 1


def test_what_goes_back_is_told_first_then_done_then_undone(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    there = client.get(web.at("/inside/snapshots")).json()
    assert {one["dataset"]: one["snapshots"] for one in there["datasets"]} == {
        **{one: [] for one in BEFORE.datasets},
        DATASET: [FIRST, OLDER],
    }
    assert (there["missing"], there["last"]) == ([], None)
    assert compare(client, web)["since"]["some"] == []
    new, gone, rights = spoil(appliance)
    spoilt = dict(appliance.things)
    told = compare(client, web)
    since = told["since"]
    assert (since["new"], since["gone"], since["rights"], since["changed"], since["left"]) == (new, gone, rights, 0, 0)
    assert sum(since["people"].values()) == new
    assert sorted(one["sort"] for one in since["some"]) == sorted(["new"] * new + ["gone"] * gone + ["rights"] * rights)
    assert appliance.things == spoilt, "telling changes nothing"
    assert client.get(web.at("/inside")).json()["last"] is None, "it is no look into folders"
    number = told["number"]
    do(client, web, number, "push", 422)
    do(client, web, number, "go back")
    back = until(client, web.at(f"/inside/{number}"), "done")
    assert back["since"]["new"] + back["since"]["gone"] + back["since"]["rights"] == new + gone + rights
    inside = {
        name: one
        for name, one in appliance.things.items()
        if name.startswith(f"{DATASET}/") and not name.startswith(BELOW)
    }
    assert inside == {t.name: t for t in LYING if t.name.startswith(f"{DATASET}/") and not t.name.startswith(BELOW)}
    assert {n: t for n, t in appliance.things.items() if n not in inside} == {
        n: t for n, t in spoilt.items() if not n.startswith(f"{DATASET}/") or n.startswith(BELOW)
    }
    (kept,) = back["snapshots"]
    undo = kept.removeprefix(f"{DATASET} ")
    told = compare(client, web, undo)
    assert told["since"]["gone"] == new
    do(client, web, told["number"], "go back")
    until(client, web.at(f"/inside/{told['number']}"), "done")
    assert appliance.things == spoilt
    said = web.client("administrator").get("/api/v1/audit").text
    assert f"the snapshot {FIRST} of {DATASET}" in said


def test_a_dataset_that_is_gone_does_not_hide_the_snapshots_of_others(web: Web, appliance: SimulatedAppliance) -> None:
    running = appliance.state.running
    left = {name: one for name, one in running.datasets.items() if name != BELOW[0].rstrip("/")}
    appliance.state = replace(appliance.state, running=replace(running, datasets=left))
    there = web.client().get(web.at("/inside/snapshots")).json()
    assert there["missing"] == [BELOW[0].rstrip("/")]
    assert {one["dataset"]: one["snapshots"] for one in there["datasets"]} == {
        **{one: [] for one in left},
        DATASET: [FIRST, OLDER],
    }


def test_what_is_not_there_is_refused_and_nothing_else_is_done_meanwhile(
    web: Web, appliance: SimulatedAppliance
) -> None:
    client = web.client()
    for wrong in (
        {"dataset": "/etc", "snapshot": FIRST},
        {"dataset": DATASET, "snapshot": "@GMT-2020.01.01-00.00.00"},
        {"dataset": DATASET, "snapshot": "x" * 41},
    ):
        assert client.post(web.at("/inside/snapshots"), json=wrong).status_code == 422
    number = compare(client, web)["number"]
    appliance.earlier = {}
    do(client, web, number, "go back")
    failed = until(client, web.at(f"/inside/{number}"), "failed")
    assert "has no snapshot" in failed["trouble"]
    looked = client.post(web.at("/inside"), json={"folders": FOLDERS}).json()
    until(client, web.at(f"/inside/{looked['number']}"), "done")
    do(client, web, looked["number"], "go back", 422)
    begin(client, web)
    do(client, web, number, "compare", 409)


def test_broken_off_it_goes_on_and_the_first_snapshot_stays_the_way_back(
    web: Web, store: Store, appliance: SimulatedAppliance, tmp_path: Path
) -> None:
    client = web.client()
    spoil(appliance)
    told = compare(client, web)
    one = Pushes(store).one(web.plan, told["number"])
    assert one is not None
    begun = Pushes(store).go_on(one, "go back")
    Pushes(store).keep_snapshots(begun, [f"{DATASET} {OLDER}"])  # it had begun, and ended before it came further
    port = appliance.port
    appliance.shutdown()
    appliance.server_close()
    with stand_in(tmp_path, port=port) as again:
        PushDownJobs(store).resume()  # as a start does
        done = until(client, web.at(f"/inside/{told['number']}"), "done")
        assert done["snapshots"] == [f"{DATASET} {OLDER}"]
        assert len(again.earlier[DATASET]) == 2, "no other was made"
        assert done["since"]["gone"] == 3
