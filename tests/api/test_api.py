"""The API as a program would use it."""

import base64
import json
from datetime import date
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web, edit
from tests.hostile import HOSTILE
from yardgate.core.access.paths import explain_over
from yardgate.core.model.plan import Plan, same
from yardgate.core.model.share import Over
from yardgate.formats import planfile
from yardgate.store import Plans, Store


def b64(text: str | bytes) -> str:
    return base64.b64encode(text.encode() if isinstance(text, str) else text).decode()


def test_the_outline_numbers_subjects_by_id(web: Web, client: TestClient, lantern: Plan) -> None:
    outline = client.get(web.at()).json()
    assert [user["id"] for user in outline["users"]] == sorted(lantern.users)
    assert [group["id"] for group in outline["groups"]] == sorted(lantern.groups)
    assert outline["rule"] == "a refusal wins"
    assert outline["undo"] is None
    assert set(outline["inactive"]) == {"imke-brouwer"} | (
        {"viktor-sand"} if not lantern.users["viktor-sand"].active(date.today()) else set()
    )


@pytest.fixture
def web(store: Store, quay: Plan) -> Web:
    """The demo plan with its lists: without them, what is granted inside a share reaches nobody."""
    return Web(store, Plans(store).create(quay, "ann").id)


def test_a_window_is_a_part_of_the_whole_board(web: Web, client: TestClient, lantern: Plan) -> None:
    whole = client.get(web.at("/board"), params={"place": ["toolpaths", "payroll"]}).json()
    assert whole["subjects"] == whole["count"] == 50
    part = client.get(web.at("/board"), params={"place": ["payroll"], "first": 5, "count": 10}).json()
    for key in ("levels", "sources", "granted", "states"):
        assert part["columns"]["payroll"][key] == whole["columns"]["payroll"][key][5:15]
    number = sorted(lantern.users).index("priya-natarajan")
    cell = {key: text[number] for key, text in whole["columns"]["toolpaths"].items()}
    assert cell == {"levels": "N", "sources": "g", "granted": "N", "states": "s"}


def test_an_edit_answers_with_what_it_changed_and_can_be_undone(web: Web, client: TestClient) -> None:
    before = client.get(web.at("/board"), params={"place": "toolpaths"}).json()["columns"]["toolpaths"]
    would = client.post(web.at("/what-if"), json=edit()).json()
    did = client.post(web.at("/edits"), json=edit()).json()
    around = did.pop("around")
    assert {**would, "revision": 2, "undo": did["undo"]} == {**did, "around": None}
    assert around == {
        "stands": client.get(web.at("/stands")).json(),
        "since": client.get(web.at("/rollout/since")).json(),
        "last": client.get(web.at("/history"), params={"most": 1}).json()[0],
    }
    assert did["words"] == "Apprentices on keel/drawings/toolpaths: not set"
    assert sorted((c["subject"], c["before"], c["after"]) for c in did["changed"]["cells"]) == [
        ("juno-harker", "NA", "RO"),
        ("priya-natarajan", "NA", "RW"),
    ]
    assert (
        did["columns"]["toolpaths"]
        == client.get(web.at("/board"), params={"place": "toolpaths"}).json()["columns"]["toolpaths"]
    )
    assert did["undo"]["words"] == did["words"]
    undone = client.post(web.at("/undo"), json={"revision": 2}).json()
    assert undone["columns"]["toolpaths"] == before
    assert undone["words"] == f"undid: {did['words']}"
    assert undone["redo"]["words"] == did["words"]
    redone = client.post(web.at("/redo"), json={"revision": 3}).json()
    assert redone["columns"] == did["columns"]
    assert [entry["kind"] for entry in client.get(web.at("/history")).json()] == ["redo", "undo", "edit", "create"]


def test_a_stale_edit_gets_409_and_what_changed(web: Web, client: TestClient) -> None:
    assert client.post(web.at("/edits"), json=edit()).status_code == 200
    answer = client.post(web.at("/edits"), json=edit("draughting", "RO"))
    assert answer.status_code == 409
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert problem["revision"] == 2
    assert problem["since"][0]["words"] == "Apprentices on keel/drawings/toolpaths: not set"
    assert "a planner" in problem["detail"]


def test_errors_are_problem_details_that_name_the_object(web: Web, client: TestClient) -> None:
    answer = client.post(web.at("/edits"), json=edit("ghost", "RW"))
    assert (answer.status_code, answer.headers["content-type"]) == (422, "application/problem+json")
    assert answer.json()["troubles"] == [
        {
            "object": "ghost",
            "message": "there is no user or group “ghost” in this plan; it may have been removed meanwhile",
        }
    ]
    for path in ("/api/v1/plans/none", "/api/v1/nothing", web.at("/reason?subject=x&place=y")):
        assert client.get(path).status_code == 404
        assert client.get(path).headers["content-type"] == "application/problem+json"


def test_the_reason_is_in_gates_with_names(web: Web, client: TestClient) -> None:
    answer = client.get(web.at("/reason"), params={"subject": "priya-natarajan", "place": "toolpaths"}).json()
    assert answer["reason"]["level"] == "NA"
    assert [gate["kind"] for gate in answer["reason"]["gates"]] == ["account", "service", "share", "way", "list"]
    grants = answer["reason"]["gates"][2]["sentence"]
    assert grants.startswith("Draughting: read-write"), "over a share, its own grants are asked"
    plain = client.get(
        web.at("/reason"), params={"subject": "priya-natarajan", "place": "toolpaths", "over": "storage"}
    ).json()
    assert plain["reason"]["gates"][1]["sentence"].startswith("Apprentices: no access. A refusal wins.")
    assert answer["names"]["apprentices"] == "Apprentices"


def test_rules_clashes_and_group_offers(web: Web, client: TestClient) -> None:
    rules = {(rule["precedence"], rule["combining"]): rule for rule in client.get(web.at("/rules")).json()}
    assert len(rules) == 8
    assert rules["pooled", "refusal"]["taken"]
    assert rules["pooled", "refusal"]["changed"]["total"] == 0
    widest = {cell["subject"] for cell in rules["pooled", "widest"]["changed"]["cells"]}
    assert {"priya-natarajan", "saskia-de-wit"} <= widest
    off = client.get(web.at("/stands")).json()
    assert (off["more"], off["less"]) == (4, 6)
    assert len(off["cells"]) == 10
    assert {"subject": "guest", "place": "noticeboard", "granted": "RO", "gets": "NA"} in off["cells"]
    short = {"subject": "henrik-vance", "place": "backups", "granted": "RO", "gets": "NA"}
    assert short in off["cells"]
    settled = client.get(web.at("/stands"), params={"what": "settled"}).json()
    assert {"subject": "priya-natarajan", "place": "toolpaths", "granted": "NA", "gets": "NA"} in settled["cells"]
    assert settled["settled"] == len(settled["cells"])
    offers = client.get(web.at("/instead"), params={"who": "tomas-brandt", "place": "petrel-9", "level": "RW"}).json()
    assert offers[0]["name"] == "Draughting"


def test_what_a_removal_loses_is_said(web: Web, client: TestClient) -> None:
    body = {"revision": 1, "edits": [{"op": "remove-group", "group": "ledger"}]}
    lost = client.post(web.at("/loss"), json=body).json()
    assert lost[0] == "group Ledger with members Beatriz Almeida, Dorothea Winn, Oskar Dahl, Saskia de Wit"
    assert "Ledger on keel/office/payroll: read-write" in lost
    body = {"revision": 1, "edits": [{"op": "remove-place", "place": "office-2"}]}
    assert client.post(web.at("/loss"), json=body).json()[0] == "dataset keel/office"


def test_versions_compare_and_return(web: Web, client: TestClient) -> None:
    assert client.post(web.at("/versions"), json={"name": "as it was"}).status_code == 201
    assert client.post(web.at("/versions"), json={"name": "as it was"}).status_code == 422
    client.post(web.at("/edits"), json=edit())
    comparison = client.get(web.at("/compare"), params={"older": 1, "newer": 2}).json()
    assert comparison["words"] == ["Apprentices on keel/drawings/toolpaths: not set"]
    assert comparison["effect"]["total"] == 2
    back = client.post(web.at("/back-to"), json={"revision": 2, "to": 1}).json()
    assert (back["revision"], back["words"]) == (3, "returned to revision 1")
    assert client.get(web.at("/versions")).json()[0]["name"] == "as it was"


def test_plans_are_made_copied_renamed_and_archived(client: TestClient, lantern: Plan) -> None:
    made = client.post("/api/v1/plans", json={"name": "second", "file": b64(planfile.write(lantern))}).json()
    assert (made["name"], made["office"], made["people"], made["services"]) == (
        "second",
        "Lantern Quay Boatworks",
        31,
        3,
    )
    copied = client.post(f"/api/v1/plans/{made['id']}/copy", json={"name": "third"}).json()
    rename = {"revision": copied["revision"], "edits": [{"op": "set-title", "name": "fourth", "office": ""}]}
    assert client.post(f"/api/v1/plans/{copied['id']}/edits", json=rename).json()["words"] == "called this plan fourth"
    assert client.put(f"/api/v1/plans/{copied['id']}/archived", json={"archived": True}).status_code == 204
    assert [(plan["name"], plan["archived"]) for plan in client.get("/api/v1/plans").json()] == [
        ("keelson", False),
        ("second", False),
        ("fourth", True),
    ]


def test_an_import_is_shown_then_kept_as_one_step(web: Web, client: TestClient) -> None:
    body = {
        "revision": 1,
        "kind": "matrix",
        "content": b64("who,toolpaths\nPriya Natarajan,RO\nZora,RW\n"),
        "make": {"Zora": "person"},
    }
    preview = client.post(web.at("/import/preview"), json=body).json()
    assert preview["edits"] == 3
    assert preview["words"][0] == "added person Zora"
    assert client.get(web.at()).json()["revision"] == 1
    assert (preview["effect"]["total"], preview["effect"]["free"]) == (0, True)
    other = {**body, "content": b64("who,toolpaths\nPriya Natarajan,RW\nZora,RW\n"), "tag": preview["tag"]}
    stale = client.post(web.at("/import"), json=other)
    assert (stale.status_code, "out of date" in stale.text) == (409, True)
    kept = client.post(web.at("/import"), json={**body, "tag": preview["tag"]}).json()
    assert kept["words"] == "imported a matrix: 3 edits"
    again = client.post(web.at("/import"), json={**body, "revision": 2})
    assert (again.status_code, "nothing in it" in again.json()["detail"]) == (422, True)
    client.post(web.at("/undo"), json={"revision": 2})
    assert "zora" not in {user["id"] for user in client.get(web.at()).json()["users"]}


def test_bad_imports_say_line_and_column(web: Web, client: TestClient) -> None:
    body = {"revision": 1, "kind": "getfacl", "content": b64("# file: slip\nuser::rwx\ngroup::r-q\nother::---\n")}
    for path in ("/import/preview", "/import"):
        problem = client.post(web.at(path), json=body).json()
        assert (problem["status"], problem["line"], problem["column"]) == (422, 3, 8)
    body |= {"kind": "plan", "content": b64(b"who\xff")}
    assert client.post(web.at("/import/preview"), json=body).json()["column"] == 4


def test_a_table_is_told_how_it_was_read_and_read_otherwise(web: Web, client: TestClient) -> None:
    text = "Rights;;\nfolder;person;right\ntoolpaths;Natarajan Priya;x\nattic;Priya Nataraja;RO\n"
    body = {"revision": 1, "kind": "matrix", "content": b64(text)}
    found = client.post(web.at("/import/preview"), json=body).json()
    layout = found["table"]["layout"]
    assert (layout["form"], layout["header"], layout["place"], layout["who"], layout["level"]) == ("list", 2, 0, 1, 2)
    assert [(word["word"], word["means"]) for word in found["table"]["words"]] == [("x", None), ("RO", "RO")]
    assert {name["name"]: name["near"] for name in found["unknown"]} == {
        "attic": [],
        "Priya Nataraja": ["priya.natarajan"],
    }
    assert (found["edits"], [note["missed"] for note in found["notes"]]) == (0, [0, 1])
    said = {
        **body,
        "layout": {**layout, "words": {"X": "RW"}},
        "make": {"attic": "place", "Priya Nataraja": "=priya.natarajan"},
    }
    found = client.post(web.at("/import/preview"), json=said).json()
    assert (found["unknown"], found["edits"]) == ([], 3)
    wrong = client.post(web.at("/import/preview"), json={**body, "layout": {**layout, "header": 99}})
    assert (wrong.status_code, "line 99 is blank" in wrong.text) == (422, True)


def test_exports_are_what_the_formats_write(web: Web, client: TestClient, quay: Plan) -> None:
    answer = client.get(web.at("/export/plan"))
    assert same(planfile.read(answer.text), quay)
    assert answer.headers["content-disposition"] == 'attachment; filename="keelson-r1-plan.json"'
    for what in ("grants", "effective", "people"):
        assert client.get(web.at(f"/export/{what}")).text.startswith(("kind,name", "name,full name"))
    into_nothing = client.post("/api/v1/plans", json={"name": "empty"}).json()["id"]
    body = {"revision": 1, "kind": "plan", "content": b64(answer.text)}
    client.post(
        f"/api/v1/plans/{into_nothing}/import",
        json={**body, "revision": client.get(f"/api/v1/plans/{into_nothing}").json()["revision"]},
    )
    assert same(planfile.read(client.get(f"/api/v1/plans/{into_nothing}/export/plan").text), quay)


@pytest.mark.parametrize("kind", HOSTILE)
def test_hostile_names_are_refused_or_come_back_faithfully(web: Web, client: TestClient, kind: str) -> None:
    name = HOSTILE[kind]
    record = {"id": "new", "name": name, "note": name}
    answer = client.post(
        web.at("/edits"),
        json={
            "revision": 1,
            "edits": [{"op": "put-user", "user": record}, {"op": "put-group", "group": {"id": "g-new", "name": name}}],
        },
    )
    place = client.post(
        web.at("/what-if"),
        json={
            "revision": 1,
            "edits": [{"op": "put-place", "place": {"id": "x", "name": name, "kind": "dataset", "parent": "keel"}}],
        },
    )
    assert place.status_code in (200, 422)
    for path in (f"/reason?subject={kind}&place=x", "/export/effective"):
        assert client.get(web.at(path)).status_code in (200, 404)
    assert client.post("/api/v1/plans", json={"name": name}).status_code in (201, 422)
    if answer.status_code == 422:
        assert answer.json()["troubles"] or answer.json()["detail"]
        return
    assert answer.status_code == 200
    outline = client.get(web.at()).json()
    assert name in {user["name"] for user in outline["users"]}
    assert same(Plans(web.store).replay(web.plan), Plans(web.store).open(web.plan).plan)


@pytest.mark.parametrize(
    "raw",
    [
        b'{"revision": 1, "edits": [{"op": "put-user", "user": {"id": "a", "name": "\\ud800"}}]}',
        b'{"revision": 1e999}',
        b"\xff\xfe",
        b"[" * 50_000,
        b'{"revision": 99999999999999999999, "edits": []}',
    ],
)
def test_bodies_that_are_no_request_are_refused(web: Web, client: TestClient, raw: bytes) -> None:
    for path in ("/edits", "/what-if", "/undo", "/import/preview"):
        answer = client.post(web.at(path), content=raw, headers={"content-type": "application/json"})
        assert 400 <= answer.status_code < 500, (path, answer.text)
        json.loads(answer.text)


def test_too_large_a_body_is_refused(web: Web, client: TestClient) -> None:
    answer = client.post(
        web.at("/edits"), content=b" " * (33 * 1024 * 1024), headers={"content-type": "application/json"}
    )
    assert answer.status_code == 413
    in_pieces = client.post(
        web.at("/edits"), content=(b" " * 1024 * 1024 for _ in range(33)), headers={"content-type": "application/json"}
    )
    assert in_pieces.status_code == 413
    assert in_pieces.headers["content-type"] == "application/problem+json"


def test_shares_say_who_gets_in_and_why_not(web: Web, client: TestClient, quay: Plan) -> None:
    found = client.get(web.at("/shares")).json()
    by_name = {quay.shares[one["share"]].name: one["ways"] for one in found["shares"]}
    assert set(by_name) == {share.name for share in quay.shares.values()}
    assert by_name["images"][0]["protocol"] == "nfs"
    assert sum(by_name["drawings"][0]["counts"].values()) == len(quay.users)
    assert (
        by_name["notices"][0]["guest"]
        == explain_over(quay, "guest", "noticeboard", Over("share-notices", "smb"), date.today()).level
    )
    assert found["unreached"] == []

    def ask(**query: str) -> Any:
        return client.get(
            web.at("/shares/reason"),
            params={"share": "share-machines", "place": "toolpaths", "protocol": "nfs", **query},
        )

    told = ask(subject="tomas-brandt", host="192.0.2.7").json()["reason"]
    assert (told["level"], next(gate["title"] for gate in told["gates"] if gate["decides"])) == (
        "NA",
        "Hosts of machines",
    )
    assert ask(subject="tomas-brandt", host="192.0.2.300").status_code == 422
    assert ask(subject="nobody").status_code == 404
    assert ask(subject="guest", place="minutes").status_code == 404


def test_a_share_that_no_server_takes_is_refused_by_name(web: Web, client: TestClient) -> None:
    share = {
        "id": "s",
        "name": "a[b]",
        "place": "photos",
        "hosts": [{"hosts": "10.0.0.9-10.0.0.1", "level": "RO"}, {"hosts": "*", "level": "PT"}],
    }
    answer = client.post(web.at("/edits"), json={"revision": 1, "edits": [{"op": "put-share", "share": share}]})
    assert answer.status_code == 422
    assert [trouble["message"] for trouble in answer.json()["troubles"]] == [
        "the name of share “a[b]” has [ ], which no server takes in the name of a share",
        "host rule 1 of share “a[b]”: 10.0.0.9-10.0.0.1 is a range; write the network (192.0.2.0/24), or a line for each address",
        "host rule 2 of share “a[b]”: only RW, RO and NA can be given",
    ]
    service = {"op": "put-service", "service": {"id": "ftp", "on": True}}
    assert client.post(web.at("/edits"), json={"revision": 1, "edits": [service]}).status_code == 422
