"""What the screens are told is what people get: cases in which they were once told something else."""

from typing import Any

import pytest

from tests.api.conftest import Web, get
from tests.core.test_gets import office
from yardgate.store import Plans, Store


@pytest.fixture
def yard(store: Store) -> Web:
    """Everyone writes in the office, over SMB; in it lies personnel, meant for two, and nobody planned a list."""
    return Web(store, Plans(store).create(office(), "ann").id)


def post(yard: Web, path: str, *edits: dict[str, Any], revision: int = 1) -> Any:
    answer = yard.client().post(yard.at(path), json={"revision": revision, "edits": list(edits)})
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_an_open_folder_is_told_as_open_and_the_first_remedy_plans_its_list(yard: Web) -> None:
    column = get(yard, "/board", place="personnel")["columns"]["personnel"]
    assert (column["levels"][:4], column["states"][:4]) == ("WWWW", "=+++")
    told = next(one for one in get(yard, "/standing")["findings"] if one["kind"] == "more-than-granted")
    assert (told["severity"], {cell["subject"] for cell in told["cells"]}) == ("serious", {"bo", "cy", "di"})
    refused = post(yard, "/effect", {"op": "set-grant", "place": "personnel", "who": "cy", "level": "NA"})
    assert refused["total"] == 0, "to refuse it there changes nothing"
    first = get(yard, "/remedies", who="cy", place="personnel", low="NA", high="NA")[0]
    assert first["free"]
    assert any(edit["op"] == "put-place" and edit["place"]["id"] == "personnel" for edit in first["edits"])
    assert {(cell["subject"], cell["after"]) for cell in first["effect"]["cells"]} == {
        ("bo", "RO"),
        ("cy", "NA"),
        ("di", "NA"),
    }


def test_a_promise_is_held_against_what_people_get(yard: Web) -> None:
    said = yard.client().post(
        yard.at("/promises/read"), json={"text": "Cy must not be able to read tank/office/personnel"}
    )
    assert said.status_code == 200, said.text
    assert said.json()["broken"] == 1, "it is open to cy, whatever is granted"


@pytest.mark.parametrize(
    ("edit", "loses"),
    [
        ({"op": "remove-share", "share": "office"}, 8),
        ({"op": "remove-place", "place": "personnel"}, 4),
        ({"op": "remove-place", "place": "office"}, 8),
        ({"op": "put-service", "service": {"id": "smb", "on": False}}, 8),
        (
            {"op": "put-place", "place": {"id": "personnel", "name": "personnel", "kind": "dataset", "parent": "tank"}},
            4,
        ),
    ],
)
def test_what_is_removed_stopped_or_moved_says_who_loses_by_it(yard: Web, edit: dict[str, Any], loses: int) -> None:
    told = post(yard, "/effect", edit)
    assert (told["total"], {cell["after"] for cell in told["cells"]}) == (loses, {"NA"})


def test_a_membership_that_changed_beside_a_name_is_told_when_it_changes_back(web: Web) -> None:
    group = next(one for one in get(web, "")["groups"] if one["id"] == "apprentices")
    kept = {name: value for name, value in group.items() if name not in ("inactive", "unknown")}
    members = [member for member in kept["members"] if member != "priya-natarajan"]
    post(web, "/edits", {"op": "put-group", "group": {**kept, "name": "Learners", "members": members}})
    back = web.client().post(web.at("/back-to"), json={"revision": 2, "to": 1})
    assert back.status_code == 200, back.text
    words = get(web, "/compare", older=2, newer=3)["words"]
    assert any("Priya Natarajan" in line for line in words), words
    assert any("Learners" in line for line in words), words


def test_two_names_that_look_alike_get_ids_of_their_own(web: Web) -> None:
    first = get(web, "/free-id", name="Büro a.b")["id"]
    own = {"style": "mode", "bits": 0o750}
    post(web, "/edits", {"op": "put-pattern", "pattern": {"id": first, "name": "Büro a.b", "acl": own}})
    second = get(web, "/free-id", name="Büro a b")["id"]
    assert second != first
    post(web, "/edits", {"op": "put-pattern", "pattern": {"id": second, "name": "Büro a b", "acl": own}}, revision=2)
    assert {one["name"] for one in get(web, "")["patterns"]} == {"Büro a.b", "Büro a b"}


def test_what_somebody_without_a_primary_group_makes_has_a_group_of_their_own(yard: Web) -> None:
    own = {"style": "mode", "bits": 0o777}
    place = {
        "id": "office",
        "name": "office",
        "kind": "dataset",
        "parent": "tank",
        "acl": own,
        "inheritance_stops": True,
    }
    post(yard, "/edits", {"op": "put-place", "place": {**place, "enforced_by": "storage"}})
    forecast = get(yard, "/storage/forecast", place="office", who="ann")
    assert (forecast["owner"], forecast["group"]) == ("ann", "ann")
