"""Looking into folders of the stand-in appliance, pushing lists down over what lies there, stopping, going on, and putting back."""

import random
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web
from tests.api.test_runs import BEFORE, begin, know, until
from tests.server import Server
from tests.server import until as wait
from tests.standin import stand_in
from tests.tries import times
from yardgate import demo
from yardgate.core.host.contents import alike, apart, made
from yardgate.drivers.simulator import ApplianceFaults, SimulatedAppliance
from yardgate.jobs import push_downs
from yardgate.jobs.push_downs import PushDownJobs
from yardgate.store import Store
from yardgate.store.pushes import Pushes

LYING = demo.lying(BEFORE)
FOLDERS = sorted(BEFORE.folders)


def wanted(name: str) -> str:
    """The planned folder whose list counts for a thing."""
    return max((folder for folder in FOLDERS if name.startswith(f"{folder}/")), key=len)


OTHERWISE = {thing.name for thing in LYING if not alike(thing, made(BEFORE.folders[wanted(thing.name)], thing))}


@pytest.fixture
def appliance(tmp_path: Path) -> Iterator[SimulatedAppliance]:
    with stand_in(tmp_path, BEFORE, things=LYING) as found:
        yield found


@pytest.fixture
def web(store: Store, appliance: SimulatedAppliance) -> Web:
    return Web(store, know(store, appliance))


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(push_downs, "AGAIN", 0.05)
    monkeypatch.setattr(push_downs, "BATCH", 20)


def look(client: TestClient, web: Web, folders: list[str] = FOLDERS) -> Any:
    answer = client.post(web.at("/inside"), json={"folders": folders})
    assert answer.status_code == 202, answer.text
    return until(client, web.at("/inside/1"), "done")


def do(client: TestClient, web: Web, what: str, code: int = 202) -> None:
    assert client.post(web.at("/inside/1/do"), json={"do": what}).status_code == code


def total(told: Any, what: str) -> int:
    return sum(folder[what] for folder in told["folders"])


def test_what_lies_there_is_looked_at_pushed_over_and_put_back(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    assert client.get(web.at("/inside")).json() == {"folders": FOLDERS, "last": None}
    looked = look(client, web)
    assert 20 < len(OTHERWISE) < len(LYING) / 2
    assert (total(looked, "things"), total(looked, "seen")) == (len(LYING), len(LYING))
    assert total(looked, "otherwise") == len(OTHERWISE)
    assert {thing["name"] for folder in looked["folders"] for thing in folder["some"]} == OTHERWISE
    assert all(thing["words"] for folder in looked["folders"] for thing in folder["some"])
    assert appliance.things == {thing.name: thing for thing in LYING}
    do(client, web, "push")
    done = until(client, web.at("/inside/1"), "done", "failed")
    assert (done["does"], total(done, "changed"), total(done, "kept")) == ("push", len(OTHERWISE), 0)
    assert [one.partition(" @GMT-")[0] for one in done["snapshots"]] == sorted(BEFORE.datasets)
    assert all(alike(t, made(BEFORE.folders[wanted(t.name)], t)) for t in appliance.things.values())
    do(client, web, "look")
    again = until(client, web.at("/inside/1"), "done")
    assert (total(again, "otherwise"), again["pushed"]) == (0, sorted({wanted(name) for name in OTHERWISE}))
    assert again["snapshots"] == done["snapshots"]
    do(client, web, "put back")
    back = until(client, web.at("/inside/1"), "done", "failed")
    assert (back["does"], total(back, "changed"), back["pushed"]) == ("put back", len(OTHERWISE), [])
    assert appliance.things == {thing.name: thing for thing in LYING}


def test_only_the_chosen_folder_and_none_that_is_planned_inside_it(web: Web) -> None:
    folder = next(name for name in FOLDERS if apart(BEFORE, name) and name.count("/") > 2)
    client = web.client()
    told = look(client, web, [folder])
    mine = [thing for thing in LYING if wanted(thing.name) == folder]
    assert [(one["folder"], one["things"]) for one in told["folders"]] == [(folder, len(mine))]
    answer = client.post(web.at("/inside"), json={"folders": ["/etc"]})
    assert (answer.status_code, answer.json()["title"]) == (422, "/etc is not a planned folder on the appliance")
    assert client.get(web.at("/inside/7")).status_code == 404
    assert web.client("reader").post(web.at("/inside"), json={"folders": [folder]}).status_code == 403


def test_it_is_stopped_and_goes_on_with_the_rest(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    look(client, web)
    appliance.faults = ApplianceFaults(slow=0, slow_thing=0.1)
    do(client, web, "push")
    wait(lambda: 0 < total(client.get(web.at("/inside/1")).json(), "changed") < len(OTHERWISE) - 10)
    do(client, web, "look", 409)
    assert client.post(web.at("/rollout/apply"), json={"revision": 1}).status_code == 409
    do(client, web, "stop")
    stopped = until(client, web.at("/inside/1"), "stopped")
    first = total(stopped, "changed")
    assert 0 < first < len(OTHERWISE)
    appliance.faults = ApplianceFaults(slow=0, slow_thing=0)
    do(client, web, "push")
    done = until(client, web.at("/inside/1"), "done")
    assert first + total(done, "changed") == len(OTHERWISE)
    do(client, web, "put back")
    until(client, web.at("/inside/1"), "done")
    assert appliance.things == {thing.name: thing for thing in LYING}


def test_what_keeps_its_list_is_counted_and_a_rollout_comes_first(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client()
    stuck = sorted(OTHERWISE)[0].rpartition("/")[2]
    look(client, web)
    appliance.faults = ApplianceFaults(slow=0, slow_thing=0, stuck=stuck)
    do(client, web, "push")
    done = until(client, web.at("/inside/1"), "done")
    assert total(done, "kept") == sum(name.endswith(stuck) for name in OTHERWISE) > 0
    assert total(done, "changed") == len(OTHERWISE) - total(done, "kept")
    begin(client, web)
    do(client, web, "push", 409)
    assert client.post(web.at("/inside"), json={"folders": FOLDERS}).status_code == 409


def test_an_appliance_that_is_lost_is_waited_for_and_a_restart_goes_on(
    web: Web, store: Store, appliance: SimulatedAppliance, tmp_path: Path
) -> None:
    client = web.client()
    look(client, web)
    one = Pushes(store).newest(web.plan)
    assert one is not None
    begun = Pushes(store).go_on(one, "push")
    assert begun is not None
    lost = PushDownJobs(store)
    port = appliance.port
    appliance.shutdown()
    appliance.server_close()
    lost.start(begun)
    wait(lambda: "does not answer" in client.get(web.at("/inside/1")).json()["trouble"])
    lost.stop(web.plan)
    stopped = until(client, web.at("/inside/1"), "stopped")
    assert total(stopped, "changed") == 0
    assert Pushes(store).go_on(one, "push") is not None
    with stand_in(tmp_path, port=port):
        PushDownJobs(store).resume()  # as a start does
        assert total(until(client, web.at("/inside/1"), "done"), "changed") == len(OTHERWISE)


def test_names_that_are_no_text_are_kept(web: Web, store: Store) -> None:
    thing = next(thing for thing in LYING if thing.name in OTHERWISE)
    odd = replace(thing, name=f"{thing.name}\udcff\n")
    pushes = Pushes(store)
    pushes.keep(web.plan, "/srv/keel", [odd])
    pushes.keep(web.plan, "/srv/keel", [replace(odd, group="crew")])
    assert pushes.before(web.plan, "/srv/keel") == [odd]
    assert pushes.pushed(web.plan) == {"/srv/keel"}
    pushes.forget(web.plan, "/srv/keel")
    assert pushes.before(web.plan, "/srv/keel") == []


def test_killed_at_any_moment_it_goes_on_where_it_was_and_what_was_there_comes_back(tmp_path: Path) -> None:
    """kill -9 in the midst of pushing down, and of putting back: the rest is done after the next start, and nothing is lost of what was."""
    rng, in_the_midst = random.Random(15), 0
    with stand_in(tmp_path, BEFORE, things=LYING) as appliance:
        appliance.faults = ApplianceFaults(slow=0, slow_thing=0.02)
        server = Server(tmp_path / "data")
        plan = know(server.store(), appliance)
        at = f"/api/v1/plans/{plan}/inside"
        server.start()
        try:
            client = server.client()
            assert client.post(at, json={"folders": FOLDERS}).status_code == 202
            until(client, f"{at}/1", "done")
            for number in range(times(4, 100)):
                does = ("push", "put back")[number % 2]
                assert client.post(f"{at}/1/do", json={"do": does}).status_code == 202
                time.sleep(rng.uniform(0, 0.4))
                in_the_midst += client.get(f"{at}/1").json()["state"] == "under way"
                server.kill()
                server.start()
                client = server.client()
                until(client, f"{at}/1", "done", seconds=60)
                there = appliance.things
                if does == "push":
                    assert all(alike(t, made(BEFORE.folders[wanted(t.name)], t)) for t in there.values())
                else:
                    assert there == {thing.name: thing for thing in LYING}
        finally:
            server.stop()
    assert in_the_midst > 0
