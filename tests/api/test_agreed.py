"""Promises, findings and remedies over the API."""

from base64 import b64encode
from pathlib import Path
from typing import Any

import pytest

from tests.api.conftest import Web, get
from yardgate.core.model.plan import Plan
from yardgate.formats import planfile
from yardgate.store import Plans, Store


@pytest.fixture
def yard(tmp_path: Path, quay: Plan) -> Web:
    store = Store(tmp_path / "yardgate.sqlite")
    return Web(store, Plans(store).create(quay, "ann").id)


def finding(found: Any, kind: str) -> Any:
    return next(one for one in found["findings"] if one["kind"] == kind)


def test_how_promises_stand_and_what_is_found(yard: Web) -> None:
    found = get(yard, "/standing")
    broken = {one["words"]: one for one in found["promises"] if one["broken"]}
    assert list(broken) == [
        "Apprentices must be able to write keel/training",
        "Draughting must be able to read keel/drawings/toolpaths",
    ]
    breach = broken["Draughting must be able to read keel/drawings/toolpaths"]["breaches"][0]
    assert (breach["subject"], breach["level"], breach["why"]) == ("priya-natarajan", "NA", "Apprentices: no access.")
    assert found["contradictions"] == []
    assert {one["kind"] for one in found["findings"] if one["severity"] == "serious"} >= {
        "host-wide",
        "less-than-granted",
        "more-than-granted",
        "person-runs-job",
        "root-unsquashed",
    }
    folder = finding(found, "less-than-granted")
    assert folder["about"] == ["training"]
    assert folder["cells"][0]["level"] == "RO"
    assert folder["advice"].startswith("Somebody gets less in a place than is granted to them there")


def test_a_fix_is_previewed_then_kept_then_undone(yard: Web) -> None:
    found = finding(get(yard, "/standing"), "less-than-granted")
    assert found["fixable"] is None, "it is looked for when somebody asks"
    repair = get(yard, "/findings/repair", finding=found["id"])
    fix, effect, client = repair["edits"], repair["effect"], yard.client()
    assert effect == client.post(yard.at("/effect"), json={"revision": 1, "edits": fix}).json()
    assert effect["total"] == 3
    assert effect["mends"] == ["Apprentices must be able to write keel/training"]
    assert effect["breaks"] == []
    assert (effect["free"], effect["more"], effect["less"], effect["hosts"]) == (True, [], [], [])
    assert client.post(yard.at("/edits"), json={"revision": 1, "edits": fix}).status_code == 200
    after = get(yard, "/standing")
    assert found["id"] not in {one["id"] for one in after["findings"]}
    assert client.get(yard.at("/findings/repair"), params={"finding": found["id"]}).status_code == 404
    assert [one["words"] for one in after["promises"] if one["broken"]] == [
        "Draughting must be able to read keel/drawings/toolpaths"
    ]
    assert client.post(yard.at("/undo"), json={"revision": 2}).status_code == 200
    assert found["id"] in {one["id"] for one in get(yard, "/standing")["findings"]}


def test_a_change_by_host_is_told_for_the_hosts(yard: Web) -> None:
    """A host rule made narrower takes the share from 255 hosts, though no person's best changes."""
    found = finding(get(yard, "/standing"), "host-wide")
    assert found["fixable"]
    effect = get(yard, "/findings/repair", finding=found["id"])["effect"]
    assert (effect["total"], effect["free"]) == (0, False)
    told = [(host["share"], host["hosts"], host["before"], host["after"], host["costs"]) for host in effect["hosts"]]
    assert told == [("images", "the rest of 192.0.2.0/24", "RW", "NA", True)]
    assert effect["hosts"][0]["people"] > 0


def test_remedies_do_what_they_say(yard: Web) -> None:
    found = get(yard, "/remedies", who="priya-natarajan", place="toolpaths", low="RO", high="RW")
    assert found[0]["words"] == ["Take Priya Natarajan out of Apprentices"]
    assert found[0]["effect"]["mends"] == ["Draughting must be able to read keel/drawings/toolpaths"]
    shown = {(cell["subject"], cell["place"], cell["after"]) for cell in found[0]["effect"]["cells"]}
    assert ("priya-natarajan", "toolpaths", "RW") in shown
    for query in (
        {"who": "nobody", "place": "toolpaths", "low": "RO", "high": "RW"},
        {"who": "priya-natarajan", "place": "nowhere", "low": "RO", "high": "RW"},
        {"who": "priya-natarajan", "place": "toolpaths", "low": "RW", "high": "NA"},
    ):
        assert yard.client().get(yard.at("/remedies"), params=query).status_code == 404


def test_a_sentence_becomes_a_promise_or_says_what_is_wrong_with_it(yard: Web) -> None:
    client = yard.client()
    read = client.post(yard.at("/promises/read"), json={"text": "guests must not see keel / office/payroll over smb"})
    assert read.json()["words"] == "Guest must not be able to see keel/office/payroll over SMB"
    assert read.json()["broken"] == 0
    for text, said in (
        ("Ledger should read payroll", "this is not a promise"),
        ("Nobody Known must read payroll", "“Nobody Known” is nobody in this plan"),
        ("Ledger must read the attic", "“the attic” is not a place of this plan"),
        ("farid.haddad must read payroll", "may mean several"),
    ):
        refused = client.post(yard.at("/promises/read"), json={"text": text})
        assert refused.status_code == 422
        assert said in refused.json()["detail"]


def test_an_accepted_finding_is_listed_apart_until_its_day(yard: Web) -> None:
    wanted = finding(get(yard, "/standing"), "person-runs-job")["id"]
    accepted = {"id": wanted, "reason": "until the new server is here", "until": "2099-01-01"}
    edits = [{"op": "put-accepted", "accepted": accepted}]
    assert yard.client().post(yard.at("/edits"), json={"revision": 1, "edits": edits}).status_code == 200
    found = finding(get(yard, "/standing"), "person-runs-job")
    assert (found["open"], found["accepted"]["reason"]) == (False, "until the new server is here")
    late = [{"op": "put-accepted", "accepted": {**accepted, "until": "2020-01-01"}}]
    assert yard.client().post(yard.at("/edits"), json={"revision": 2, "edits": late}).status_code == 200
    assert finding(get(yard, "/standing"), "person-runs-job")["open"] is True
    empty = [{"op": "put-accepted", "accepted": {**accepted, "reason": " "}}]
    refused = yard.client().post(yard.at("/edits"), json={"revision": 3, "edits": empty})
    assert "say why" in refused.json()["detail"]


def test_needs_come_in_go_out_and_are_found_where_they_are_not_met(yard: Web) -> None:
    client = yard.client()
    text = b"who,payroll,photos\nMira Oyelaran,change,\nOskar Dahl,must not,read\n"
    done = client.post(yard.at("/import"), json={"revision": 1, "kind": "needs", "content": b64encode(text).decode()})
    assert done.status_code == 200, done.text
    assert client.get(yard.at("/export/needs")).text.count("must not") == 3 + 1  # those of the demo
    found = get(yard, "/standing")["findings"]
    assert {one["kind"] for one in found} >= {"need-unmet", "need-forbidden", "need-exceeded"}


def test_promises_go_out_and_come_in_again_as_csv(yard: Web) -> None:
    text = yard.client().get(yard.at("/export/promises")).content
    assert b"group:Draughting,,must,read,keel/drawings/toolpaths,," in text
    plan = planfile.read(yard.client().get(yard.at("/export/plan")).text)
    assert len(plan.promises) == 6
