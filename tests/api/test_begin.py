"""Where to begin and what comes next; acts on many; names as they are typed; the history asked and single steps taken back; who else is here; a simulated appliance."""

import base64
from dataclasses import replace
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web, edit, get, kept, now
from yardgate.core.edits.offices import OFFICES, begin
from yardgate.core.model.plan import Plan, same
from yardgate.formats import planfile
from yardgate.services.presence import Presence
from yardgate.store import Plans, Store
from yardgate.store.rollouts import Rollouts


def more(web: Web, **body: Any) -> Any:
    answer = web.client().post(web.at("/more"), json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_a_cell_says_what_it_hangs_on_that_nobody_knows_of_the_appliance(web: Web) -> None:
    places = [{"op": "put-place", "place": {"id": "bay", "name": "bay", "kind": "pool"}}]
    groups = [
        {"op": "put-group", "group": {"id": name, "name": name, "members": ["pip"]}} for name in ("oars", "sails")
    ]
    users = [{"op": "put-user", "user": {"id": "pip", "name": "pip"}}]
    grants = [
        {"op": "set-grant", "place": "bay", "who": who, "level": level, "at": None}
        for who, level in (("oars", "RW"), ("sails", "NA"))
    ]
    target = {**get(web, "")["target"], "combining": "refusal", "precedence": "pooled", "answered": []}
    kept(web, [{"op": "set-target", "target": target}, *users, *groups, *places, *grants])
    found = get(web, "/reason", subject="pip", place="bay", over="storage")
    assert found["reason"]["level"] == "NA"
    several = [(one["happens"], one["level"]) for one in found["assumed"] if one["question"] == "several"]
    assert ("May change.", "RW") in several
    kept(web, [{"op": "set-target", "target": {**target, "answered": ["several"]}}])
    again = get(web, "/reason", subject="pip", place="bay", over="storage")["assumed"]
    assert not [one for one in again if one["question"] == "several"]
    assert {"subject": "oars", "place": "bay"} in get(web, "/mine")
    assert web.client("reader").get(web.at("/mine")).json() == []


def test_every_stage_is_told_with_what_comes_next(web: Web) -> None:
    found = get(web, "/begin")
    assert [stage["id"] for stage in found["stages"]] == [
        "appliance", "people", "groups", "places", "grants", "shares", "try", "rollout", "keep",
    ]  # fmt: skip
    said = {stage["id"]: stage for stage in found["stages"]}
    assert said["people"]["done"]
    assert said["try"]["todo"][0]["act"] == "off"
    assert said["rollout"]["todo"][0]["act"] == "destination"


def test_an_answer_about_the_appliance_is_kept_and_taken_for_known(web: Web) -> None:
    question = next(one for one in get(web, "/begin")["questions"] if one["id"] == "wildcards")
    assert not question["answered"]
    names = next(choice for choice in question["choices"] if choice["id"] == "names")
    plan = kept(web, [{"op": "set-target", "target": names["target"]}])
    assert plan.target.wildcards == "names"
    assert "wildcards" in plan.target.answered
    linux = get(web, "/begin")["profiles"][0]
    plan = kept(web, [{"op": "set-target", "target": linux["target"]}])
    found = get(web, "/begin")
    assert found["profiles"][0]["taken"]
    assert next(stage for stage in found["stages"] if stage["id"] == "appliance")["done"]
    assert plan.target.baseline == "all-staff", "what is no behaviour stays"


def test_an_empty_plan_begins_as_an_office_and_no_other_does(store: Store) -> None:
    web = Web(store, Plans(store).create(Plan(name="harbour"), "ann").id)
    assert {one["id"] for one in web.client().get("/api/v1/offices").json()} == {office.id for office in OFFICES}
    plan = kept(web, more(web, do="office", office="workshop")["edits"])
    assert (len(plan.users), plan.name) == (11, "harbour")
    client = web.client()
    assert client.post(web.at("/more"), json={"do": "office", "office": "club"}).status_code == 409
    assert client.post(web.at("/more"), json={"do": "office", "office": "moon"}).status_code == 404
    undone = client.post(web.at("/undo"), json={"revision": 2})
    assert undone.status_code == 200, undone.text
    assert same(now(web), Plan(name="harbour")), "one act, one step back"


def test_acts_on_many_are_edits_that_are_kept_as_one(web: Web) -> None:
    names = [{"name": "ada.brook", "full_name": "Ada Brook"}, {"name": "mira.oyelaran"}]
    plan = kept(web, more(web, do="add", kind="person", names=names, groups=["ledger"])["edits"])
    new = {user.name for user in plan.users.values() if user.id in plan.groups["ledger"].members}
    assert {"ada.brook", "mira.oyelaran-2"} <= new, "a name that somebody has is given a number"
    ids = [user.id for user in plan.users.values() if user.uid is None and user.origin == "local"]
    plan = kept(web, more(web, do="number", ids=ids)["edits"])
    assert all(plan.users[one].uid is not None for one in ids)
    plan = kept(web, more(web, do="places", paths=["keel/office/tenders/2027", "slip/boats"], start="mixed")["edits"])
    assert {"keel/office/tenders/2027", "slip/boats"} <= {plan.path_name(place) for place in plan.places}
    pool = next(place for place in plan.places.values() if place.name == "slip")
    assert pool.acl is not None
    assert pool.acl.style == "posix"
    made = more(web, do="copy", like="tomas-brandt", name="rosa.lind", full_name="Rosa Lind", grants=True)
    plan = kept(web, made["edits"])
    assert made["made"] in plan.groups["draughting"].members
    client = web.client()
    for body in ({"do": "copy", "like": "nobody", "name": "x"}, {"do": "share", "ids": ["nowhere"]}):
        assert client.post(web.at("/more"), json=body).status_code == 404


def test_a_name_is_refused_with_one_that_works(web: Web) -> None:
    found = get(web, "/name", kind="account", name="Backup job")
    assert found == {"trouble": "has a space", "better": "backup.job"}
    assert get(web, "/name", kind="account", name="mira.oyelaran", itself="mira-oyelaran")["trouble"] == ""
    assert get(web, "/name", kind="place", name="quotes", parent="office-2")["better"] == "quotes-2"


@pytest.mark.parametrize(
    ("query", "found"),
    [({"text": "TOOLPATHS"}, [2]), ({"by": "a planner"}, [3, 2]), ({"about": "training"}, [3, 1]), ({"text": "%"}, []), ({"about": "training%"}, [])],
)  # fmt: skip
def test_the_history_is_asked(web: Web, client: TestClient, query: dict[str, str], found: list[int]) -> None:
    assert client.post(web.at("/edits"), json=edit(level="RO")).status_code == 200
    assert client.post(web.at("/edits"), json=edit(level="RO", place="training") | {"revision": 2}).status_code == 200
    assert [entry["revision"] for entry in get(web, "/history", **query)] == found


def test_one_step_is_taken_back_and_what_came_after_it_stays(web: Web, client: TestClient) -> None:
    client.post(web.at("/edits"), json=edit(level="RO"))
    client.post(web.at("/edits"), json=edit(level="RO", place="training") | {"revision": 2})
    before = now(web)
    back = client.post(web.at("/take-back"), json={"revision": 3, "step": 2})
    assert back.status_code == 200, back.text
    assert back.json()["words"].startswith("took back 2")
    assert now(web).grants["toolpaths"]["apprentices"] == "NA"
    assert now(web).grants["training"] == before.grants["training"]
    client.post(web.at("/edits"), json=edit(level="NA", place="training") | {"revision": 4})
    overtaken = client.post(web.at("/take-back"), json={"revision": 5, "step": 3})
    assert overtaken.status_code == 422
    assert "was changed since" in overtaken.json()["troubles"][0]["message"]
    assert client.post(web.at("/take-back"), json={"revision": 5, "step": 99}).status_code == 404
    outline = get(web, "")
    assert outline["undo"]["by"] == "a planner", "undo says whose step it takes back"


def test_a_revision_is_compared_with_a_plan_file(web: Web, client: TestClient) -> None:
    file = base64.b64encode(planfile.write(now(web)).encode()).decode()
    client.post(web.at("/edits"), json=edit(level="RO"))
    found = client.post(web.at("/compare-file"), json={"file": file})
    assert found.status_code == 200, found.text
    assert found.json()["words"] == ["Apprentices on keel/drawings/toolpaths: no access"]
    assert client.post(web.at("/compare-file"), json={"file": file, "revision": 1}).json()["total"] == 0


def test_who_else_is_here_is_told_and_forgotten_again(web: Web) -> None:
    planner, boss = web.client(), web.client("administrator")
    say = {"window": "a" * 16, "station": "board"}
    assert planner.put(web.at("/here"), json=say).json() == []
    assert boss.put(web.at("/here"), json={"window": "b" * 16, "station": "people"}).status_code == 200
    clock = [0.0]
    presence = Presence(lambda: clock[0])
    assert presence.here("p", "w1", "ann", "Ann", "board") == ()
    assert [one.station for one in presence.here("p", "w2", "bo", "Bo", "people")] == ["board"]
    presence.here("p", "w3", "ann", "Ann", "shares")
    assert [(one.name, one.station) for one in presence.here("p", "w2", "bo", "Bo", "people")] == [("Ann", "shares")]
    assert presence.here("another", "w2", "bo", "Bo", "people") == ()
    clock[0] = 60.0
    assert presence.here("p", "w2", "bo", "Bo", "people") == (), "who says nothing is gone"


def test_the_report_says_by_what_somebody_gets_in_and_how_it_was(web: Web) -> None:
    found = get(web, "/report")
    payroll = next(one for one in found["places"] if one["place"] == "payroll")
    by = {tuple(one["by"]): one["who"] for one in payroll["through"] if one["level"] == "RW"}
    assert "oskar-dahl" in by[("Ledger",)]
    assert "dorothea-winn" in by[("Ledger", "Directors")]
    assert get(web, "/report", day="2000-01-01")["revision"] == 1, "the first there is"


def test_a_plan_has_a_simulated_appliance_of_its_own_that_is_there_again(store: Store) -> None:
    web = Web(store, Plans(store).create(replace(begin(OFFICES[0]), name="harbour"), "ann").id)
    boss = web.client("administrator")
    asked = {"kind": "stand-in", "host": "127.0.0.1", "port": 0}
    assert boss.put(web.at("/rollout/destination"), json=asked).status_code == 204
    port = Rollouts(web.store).destination(web.plan).port
    assert port > 0
    look = boss.post(web.at("/rollout/look"), json={"revision": 1})
    assert look.status_code == 200, look.text
    assert boss.put(web.at("/rollout/destination"), json=asked).status_code == 204
    assert Rollouts(web.store).destination(web.plan).port == port, "one for each plan"
