"""First passwords and open sessions, on the stand-in appliance: who may, what is told, and what is kept nowhere."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tests.api.conftest import Web
from tests.api.test_runs import BEFORE, PLAN, begin, know, until
from tests.standin import stand_in
from yardgate import demo
from yardgate.core.host.contents import Thing
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.steps import Destination
from yardgate.drivers.simulator import SimulatedAppliance
from yardgate.store import Store
from yardgate.store.audit import Audit
from yardgate.store.rollouts import Rollouts

PRIYA, GWEN = (
    OpenSession(name, machine, "2027-01-01T08:00:00+00:00", ("drawings",), files)
    for name, machine, files in (
        ("priya.natarajan", "192.0.2.63", ("/srv/keel/drawings/a.txt",)),
        ("gwen.castellan", "192.0.2.41", ()),
    )
)
WHOSE = {user.name: user.id for user in PLAN.users.values()}


@pytest.fixture
def appliance(tmp_path: Path) -> Iterator[SimulatedAppliance]:
    with stand_in(tmp_path, BEFORE) as found:
        found.state = replace(found.state, given=frozenset(BEFORE.accounts) - {"juno.harker"}, open=(GWEN, PRIYA))
        yield found


@pytest.fixture
def web(store: Store, appliance: SimulatedAppliance) -> Web:
    return Web(store, know(store, appliance))


def test_who_has_no_password_yet_gets_one_that_is_told_once(
    web: Web, store: Store, appliance: SimulatedAppliance
) -> None:
    planner = web.client("planner")
    states = planner.post(web.at("/rollout/passwords/read")).json()
    assert {one["account"] for one in states} == set(BEFORE.accounts)
    assert [one["account"] for one in states if not one["given"]] == ["juno.harker"]
    answer = planner.post(web.at("/rollout/passwords"), json={"users": [WHOSE["juno.harker"]] * 2})
    assert answer.status_code == 201
    (given,) = answer.json()
    assert (given["account"], len(given["password"])) == ("juno.harker", 14)
    assert answer.headers["cache-control"] == "no-store"
    assert appliance.state.given == frozenset(BEFORE.accounts)
    files = [path for path in Path(store.path).parent.rglob("*") if path.is_file()]
    assert files
    assert [path for path in files if given["password"].encode() in path.read_bytes()] == []
    audit = web.client("administrator").get("/api/v1/audit").json()
    assert ("passwords given", "juno.harker") in [(one["what"], one["about"]) for one in audit]


def test_only_an_administrator_replaces_a_password(web: Web) -> None:
    body = {"users": [WHOSE["juno.harker"], WHOSE["gwen.castellan"]]}
    refused = web.client("planner").post(web.at("/rollout/passwords"), json=body)
    assert refused.status_code == 403
    assert refused.json()["title"] == "gwen.castellan has a password already; only an administrator gives another"
    one, other = web.client("administrator").post(web.at("/rollout/passwords"), json=body).json()
    assert one["password"] != other["password"]
    unknown = web.client("administrator").post(web.at("/rollout/passwords"), json={"users": ["root"]})
    assert unknown.status_code == 422
    assert web.client("administrator").post(web.at("/rollout/passwords"), json={"users": []}).status_code == 422


def test_accounts_that_no_rollout_made_keep_their_passwords(web: Web, store: Store) -> None:
    Rollouts(store).manage(web.plan, frozenset(), "ann")
    boss = web.client("administrator")
    assert boss.post(web.at("/rollout/passwords/read")).json() == []
    answer = boss.post(web.at("/rollout/passwords"), json={"users": [WHOSE["gwen.castellan"]]})
    assert answer.status_code == 422
    assert boss.post(web.at("/rollout/sessions/end"), json={"users": [WHOSE["gwen.castellan"]]}).status_code == 422


def test_sessions_are_told_and_ended(web: Web, appliance: SimulatedAppliance) -> None:
    client = web.client("planner")
    found = client.post(web.at("/rollout/sessions/read")).json()
    assert [(one["account"], one["user"], one["stale"]) for one in found] == [
        ("gwen.castellan", WHOSE["gwen.castellan"], False),
        ("priya.natarajan", WHOSE["priya.natarajan"], True),
    ]
    assert found[1]["files"] == ["/srv/keel/drawings/a.txt"]
    ended = client.post(web.at("/rollout/sessions/end"), json={"users": [WHOSE["gwen.castellan"]]}).json()
    assert [one["account"] for one in ended] == ["gwen.castellan"]
    assert appliance.state.open == (PRIYA,)


@pytest.mark.parametrize("asked", [False, True])
def test_a_rollout_ends_the_sessions_that_would_keep_what_they_were_if_it_is_asked_to(
    web: Web, appliance: SimulatedAppliance, asked: bool
) -> None:
    client = web.client()
    begin(client, web, end_sessions=asked)
    run = until(client, web.at("/rollout/runs/1"), "awaiting-confirmation")
    assert appliance.state.open == ((GWEN,) if asked else (GWEN, PRIYA))
    said = "ended the open session of priya.natarajan at 192.0.2.63"
    assert (said in run["notes"]) is asked
    client.post(web.at("/rollout/runs/1/rollback"))
    until(client, web.at("/rollout/runs/1"), "rolled-back")


def test_an_appliance_that_is_not_there_says_so(web: Web, store: Store) -> None:
    Rollouts(store).send_to(web.plan, Destination(kind="stand-in", host="127.0.0.1", port=9))
    for path in ("passwords/read", "sessions/read"):
        answer = web.client("planner").post(web.at(f"/rollout/{path}"))
        assert (answer.status_code, "does not answer" in answer.json()["title"]) == (409, True)


def test_what_the_appliance_says_of_somebody_is_told_in_the_order_in_which_it_fails(web: Web, store: Store) -> None:
    client, shares = web.client("planner"), {share.name: share.id for share in PLAN.shares.values()}

    def cause(user: str, share: str, **more: str) -> tuple[str, str] | None:
        answer = client.post(web.at("/rollout/check"), json={"user": WHOSE[user], "share": shares[share], **more})
        assert answer.status_code == 200, answer.text
        found = answer.json()
        return (
            None
            if found["cause"] is None
            else tuple(found["checks"][found["cause"]][part] for part in ("about", "words"))
        )  # type: ignore[return-value]

    assert cause("mira.oyelaran", "drawings", path="in-progress", password="secret-1") is None
    assert cause("juno.harker", "training") == ("password", "Nobody was given a password for juno.harker yet.")
    assert cause("priya.natarajan", "training") == (
        "groups",
        "On the appliance priya.natarajan is not in Apprentices; the plan says otherwise.",
    )
    about, words = cause("juno.harker", "payroll") or ("", "")
    assert (about, words[:24]) == ("plan", "The plan says no access.")
    assert cause("mira.oyelaran", "drawings", path="gone/away") == (
        "folder",
        "/srv/keel/drawings/gone/away is not there.",
    )
    files = [path for path in Path(store.path).parent.rglob("*") if path.is_file()]
    assert [path for path in files if b"secret-1" in path.read_bytes()] == []
    for wrong in ({"path": "../.."}, {"machine": "nowhere", "protocol": "nfs"}):
        body = {"user": WHOSE["mira.oyelaran"], "share": shares["drawings"], **wrong}
        assert client.post(web.at("/rollout/check"), json=body).status_code == 422
    assert client.post(web.at("/rollout/check"), json={"user": "nobody", "share": "s"}).status_code == 404


def test_what_an_account_owns_there_is_counted(web: Web, appliance: SimulatedAppliance) -> None:
    client, folder = web.client("planner"), BEFORE.folders["/srv/keel/drawings"]
    mine = Thing(name="/srv/keel/drawings/a.txt", folder=False, owner="gwen.castellan", group="", listed=folder.listed)
    appliance.things = {mine.name: mine}
    found = client.post(web.at("/inside/owned"), json={"account": "gwen.castellan"}).json()
    there = {one["folder"]: one["things"] for one in found}
    assert there == {path: int(path == "/srv/keel/drawings") for path in BEFORE.datasets}
    assert client.post(web.at("/inside/owned"), json={"account": "root"}).status_code == 404


def test_what_somebody_who_left_owns_is_handed_over(web: Web, appliance: SimulatedAppliance, store: Store) -> None:
    client, folder = web.client("planner"), BEFORE.folders["/srv/keel/drawings"]
    mine = Thing(name="/srv/keel/drawings/a.txt", folder=False, owner="gwen.castellan", group="", listed=folder.listed)
    appliance.things = {mine.name: mine}

    def hand(account: str, to: str) -> Any:
        return client.post(web.at("/inside/hand-over"), json={"account": account, "to": to})

    assert hand("gwen.castellan", WHOSE["mira.oyelaran"]).status_code == 422, "who is not shut keeps what is theirs"
    assert hand("root", WHOSE["mira.oyelaran"]).status_code == 404
    shut = replace(BEFORE.accounts["gwen.castellan"], enabled=False)
    Rollouts(store).keep(web.plan, "by-hand", "ann", 1, demo.TOP, (), BEFORE.having("accounts", shut.name, shut))
    assert hand("gwen.castellan", "nobody").status_code == 422
    assert hand("gwen.castellan", WHOSE["gwen.castellan"]).status_code == 422
    assert web.client("reader").post(web.at("/inside/hand-over"), json={"account": "a", "to": "b"}).status_code == 403
    assert hand("gwen.castellan", WHOSE["mira.oyelaran"]).json() == {"things": 1, "left": 0}
    assert appliance.things[mine.name].owner == "mira.oyelaran"
    assert any(line.what == "files handed over" for line in Audit(store).past())
