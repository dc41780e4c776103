"""Walking through shares over the API: as people, as the guest, as whoever claims numbers."""

from datetime import date
from typing import Any

from fastapi.testclient import TestClient

from tests.api.conftest import Web
from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.access.walk import walk
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Over


def asked(client: TestClient, web: Web, **query: Any) -> Any:
    answer = client.get(web.at("/walk"), params=query)
    return answer.json() if answer.status_code == 200 else (answer.status_code, answer.json()["title"])


def test_a_walk_over_the_api_is_the_cores(client: TestClient, web: Web, lantern: Plan) -> None:
    for who in ("priya-natarajan", "guest", "draughting"):
        found = asked(client, web, who=who, protocol="smb")
        for share in found["shares"]:
            told = [(visit["place"], visit["level"], visit["shown"]) for visit in share["visits"]]
            assert told == [
                (visit.place, str(visit.level), visit.shown)
                for visit in walk(lantern, who, Over(share["share"], "smb"), ON)
            ]


def test_numbers_are_claimed_over_nfs_alone_and_from_a_host(client: TestClient, web: Web, lantern: Plan) -> None:
    share = next(share for share in lantern.shares.values() if share.nfs)
    user = next(user for user in lantern.users.values() if user.uid is not None)
    found = asked(client, web, who=str(user.uid), protocol="nfs", host="198.51.100.1", name="nowhere.example")
    assert not any(visit["shown"] for share in found["shares"] for visit in share["visits"])
    assert asked(client, web, who=f"{user.uid}", protocol="smb") == (
        404,
        "This plan has no such person or group any more",
    )
    assert asked(client, web, who="4294967295", protocol="nfs")[0] == 422
    query = {"subject": "54321:54321", "place": share.place, "protocol": "nfs"}
    why = client.get(web.at("/shares/reason"), params=query | {"share": share.id}).json()
    assert why["names"]["uid 54321"] == "uid 54321"
    assert "the client claims the uid 54321" in why["reason"]["gates"][0]["sentence"]


def test_a_card_and_the_report_tell_what_comes_out(client: TestClient, web: Web, lantern: Plan) -> None:
    card = client.get(web.at("/card"), params={"who": "priya-natarajan"}).json()
    drawings = next(reach for reach in card["reaches"] if reach["share"] == "share-drawings")
    assert drawings["stretches"][0] == {"place": "drawings", "level": "RW"}
    assert client.get(web.at("/card"), params={"who": "nobody-at-all"}).status_code == 404
    report = client.get(web.at("/report")).json()
    assert report["people"] == len(report["persons"]) == len(lantern.users)
    toolpaths = next(place for place in report["places"] if place["place"] == "toolpaths")
    assert toolpaths["counts"]["RW"] == len(toolpaths["who"]["RW"])
    assert {"share": "share-drawings", "protocol": "smb"} in toolpaths["ways"]
    answer = client.get(web.at("/export/access"))
    assert answer.headers["content-type"] == "text/csv; charset=utf-8"
    assert answer.text.startswith("place,shares,name,full name,best,over SMB,over NFS")


def test_the_board_as_seen_over_ways_in_is_what_comes_out_there(client: TestClient, web: Web, lantern: Plan) -> None:
    found = outcome(resolve(lantern, date.today()))
    subjects = [*sorted(lantern.users), *sorted(lantern.groups)]
    for protocol in (None, "smb", "nfs"):
        query = {"place": list(lantern.places), **({"over": protocol} if protocol else {})}
        board = client.get(web.at("/board"), params=query).json()
        for place, column in board["columns"].items():
            told = ["NPRW".index(letter) for letter in column["levels"]]
            assert told == [found.level(who, place, protocol).code for who in subjects]  # type: ignore[arg-type]
            reached = found.ways_to(place, protocol)  # type: ignore[arg-type]
            assert (set(column["states"]) == {"u"}) == (not reached)
    query = {"subject": "priya-natarajan", "place": "toolpaths"}
    why = client.get(web.at("/reason"), params=query).json()
    levels = {(way["share"], way["protocol"]): way["level"] for way in why["ways"]}
    assert (
        levels[why["over"]["share"], why["over"]["protocol"]]
        == why["reason"]["level"]
        == max(levels.values(), key=["NA", "PT", "RO", "RW"].index)
    )
    plain = client.get(web.at("/reason"), params={**query, "over": "storage"}).json()
    assert plain["over"] is None
    assert plain["ways"] == why["ways"]
