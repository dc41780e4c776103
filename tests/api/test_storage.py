"""Storage over the API: what stands on a place, and larger changes as edits to look at first."""

import base64
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web
from yardgate.core.model.plan import Plan, same
from yardgate.store import Plans, Store


@pytest.fixture
def yard(tmp_path: Path, quay: Plan) -> Web:
    store = Store(tmp_path / "yardgate.sqlite")
    return Web(store, Plans(store).create(quay, "ann").id)


def get(client: TestClient, yard: Web, path: str, **query: Any) -> Any:
    answer = client.get(yard.at(path), params=query)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_a_place_is_shown_layer_by_layer_with_what_stops_on_the_way(yard: Web) -> None:
    found = get(yard.client(), yard, "/storage", place="toolpaths")
    assert [layer["place"] for layer in found["layers"]] == ["keel", "drawings", "toolpaths"]
    stops = {line["who"]: line["stops"] for line in found["layers"][1]["lines"]}
    assert stops["directors"] is None
    assert stops["draughting"] == "granted again on toolpaths"
    assert stops["rigging"] == "this folder only: it lets people through"
    assert [line["who"] for line in found["reading"]][:2] == ["apprentices", "draughting"]
    cut = get(yard.client(), yard, "/storage", place="minutes")
    assert {line["stops"] for line in cut["layers"][1]["lines"] if line["made"] != "pass"} == {
        "inheritance stops at minutes"
    }
    assert cut["text"] == "A:fdg:Directors:rwaDdxtTnNcCy"
    foreign = get(yard.client(), yard, "/storage", place="nightly")
    assert {(u["subject"], u["wanted"], u["gets"]) for u in foreign["unsaid"]} >= {("viktor-sand", "RW", "NA")}


def test_the_outline_says_what_came_down_and_an_edit_says_it_anew(yard: Web) -> None:
    client = yard.client()
    standing = get(client, yard, "")["standing"]
    assert standing["released"]["came"] == []
    assert [line["who"] for line in standing["toolpaths"]["came"]] == ["directors"]
    edits = [{"op": "set-grant", "place": "drawings", "who": "ledger", "level": "RO"}]
    answer = client.post(yard.at("/edits"), json={"revision": 1, "edits": edits}).json()
    assert not answer["whole"]
    assert "ledger" in [line["who"] for line in answer["standing"]["toolpaths"]["came"]]
    assert set(answer["columns"]) >= {"drawings", "toolpaths", "released"}
    assert answer["standing"]["in-progress"]["came"] == [], "it is cut; only the way to it is another"


def test_push_down_and_style_come_as_edits_that_can_be_kept_and_undone(yard: Web, quay: Plan) -> None:
    client = yard.client()
    push = get(client, yard, "/storage/push-down", place="hulls", everything=True)
    assert {lost["place"] for lost in push["lost"]} == {"curlew-31", "petrel-9", "warranty"}
    kept = client.post(yard.at("/edits"), json={"revision": 1, "edits": push["edits"]})
    assert kept.status_code == 200
    assert client.post(yard.at("/undo"), json={"revision": 2}).status_code == 200
    assert same(Plans(yard.store).open(yard.plan).plan, quay)
    style = get(client, yard, "/storage/style", place="minutes", to="posix")
    assert style["lost"] == [
        {
            "place": "minutes",
            "words": [
                "deleting the thing itself + changing the list for Directors: a POSIX list has only read, write and execute"
            ],
            "left": False,
        }
    ]
    assert client.post(yard.at("/edits"), json={"revision": 3, "edits": style["edits"]}).status_code == 200
    assert get(client, yard, "")["standing"]["minutes"]["style"] == "posix"


def test_starting_kinds_forecast_and_patterns(yard: Web) -> None:
    client = yard.client()
    kinds = get(client, yard, "/storage/kinds", place="training")
    assert {kind["id"] for kind in kinds} >= {"windows", "mixed", "linux", "service-scan-station"}
    forecast = get(client, yard, "/storage/forecast", place="curlew-31", who="gwen-castellan")
    assert (forecast["owner"], forecast["group"]) == ("gwen-castellan", "yard")
    assert "idris-falk" in forecast["change"]
    assert "noor-rahman" in forecast["nothing"]
    own = {"style": "mode", "bits": 0o2750}
    edits = [{"op": "put-pattern", "pattern": {"id": "p", "name": "team folder", "acl": own}}]
    assert client.post(yard.at("/edits"), json={"revision": 1, "edits": edits}).status_code == 200
    assert get(client, yard, "")["patterns"] == [{"id": "p", "name": "team folder", "acl": own, "note": ""}]


def test_text_comes_in_as_a_list_or_is_refused_with_line_and_column(yard: Web) -> None:
    client = yard.client()
    text = "D:g:Apprentices:rwa\nA:fdg:Draughting:rwaDxtTnNcy"
    found = client.post(yard.at("/storage/text"), json={"style": "ordered", "text": text}).json()
    assert [entry["who"] for entry in found["acl"]["entries"]] == ["apprentices", "draughting"]
    bad = client.post(yard.at("/storage/text"), json={"style": "ordered", "text": text + "\nA::Nobody:rz"})
    assert bad.status_code == 422
    assert (bad.json()["line"], bad.json()["column"]) == (3, 12)
    unknown = client.post(yard.at("/storage/text"), json={"style": "posix", "text": "user:nobody:rwx"})
    assert "nobody" in unknown.json()["detail"]


def test_listings_come_in_and_lists_go_out(yard: Web) -> None:
    client = yard.client()
    text = "# file: slip\n# owner: root\n# group: Yard\nuser::rwx\ngroup::r-x\nother::---\n"
    body = {"revision": 1, "kind": "getfacl", "content": base64.b64encode(text.encode()).decode()}
    assert client.post(yard.at("/import"), json=body).status_code == 200
    slip = next(place["id"] for place in get(client, yard, "")["places"] if place["name"] == "slip")
    out = client.get(yard.at("/export/setfacl"), params={"at": slip})
    assert out.text == text
    assert client.get(yard.at("/export/setfacl")).status_code == 404
    assert client.get(yard.at("/export/nfs4"), params={"at": slip}).status_code == 422
    spaced = client.get(yard.at("/export/nfs4"), params={"at": "common"})
    assert "A:fdg:3011:rwaDdxtTnNcy" in spaced.text, "the name All staff has a space: its number stands for it"


@pytest.mark.parametrize(
    "path",
    [
        "/storage?place=nowhere",
        "/storage/push-down?place=nowhere",
        "/storage/style?place=nowhere&to=mode",
        "/storage/kinds?place=nowhere",
        "/storage/forecast?place=toolpaths&who=nobody",
    ],
)
def test_what_is_not_there_is_said_to_be_not_there(yard: Web, path: str) -> None:
    assert yard.client().get(yard.at(path)).status_code == 404


@pytest.mark.parametrize("place", ["style", "forecast", "kinds", "push-down", "text", "a/b", "..", "a?b=c", "%2e"])
def test_whatever_a_place_is_called_its_list_is_shown(yard: Web, place: str) -> None:
    new = {"id": place, "name": "new", "kind": "folder", "parent": "toolpaths"}
    body = {"revision": 1, "edits": [{"op": "put-place", "place": new}]}
    client = yard.client("planner")
    assert client.post(yard.at("/edits"), json=body).status_code == 200
    assert [layer["place"] for layer in get(client, yard, "/storage", place=place)["layers"]][-1] == place
    assert get(client, yard, "/board", place=place)["columns"][place]["states"]
