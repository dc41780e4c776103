"""Needs over the API: how they stand, several answers, what is simpler, which groups fit, a group of a project."""

from typing import Any

import pytest

from tests.api.conftest import Web, get, kept
from yardgate.core.model.plan import Plan
from yardgate.store import Plans, Store

PLAN = [
    *({"op": "put-user", "user": {"id": who, "name": who}} for who in ("ann", "bo", "cy", "di")),
    {"op": "put-group", "group": {"id": "crew", "name": "crew", "members": ["ann", "bo"]}},
    {
        "op": "put-place",
        "place": {
            "id": "bay",
            "name": "bay",
            "kind": "pool",
            "enforced_by": "storage",
            "acl": {"style": "ordered", "entries": []},
        },
    },
    {"op": "put-place", "place": {"id": "hulls", "name": "hulls", "kind": "folder", "parent": "bay"}},
]


@pytest.fixture
def bay(store: Store) -> Web:
    """A plan with nothing in it yet."""
    return Web(store, Plans(store).create(Plan(), "ann").id)


def need(who: str, place: str, wish: str) -> Any:
    return {"op": "put-need", "need": {"id": f"{who} @ {place}", "who": who, "place": place, "wish": wish}}


def asked(web: Web, path: str, **body: Any) -> Any:
    answer = web.client().post(web.at(path), json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_needs_their_answers_and_what_is_left_of_them(bay: Web) -> None:
    needs = [need(who, "hulls", "change") for who in ("ann", "bo", "cy")]
    kept(bay, [*PLAN, *needs, need("di", "hulls", "must not")])
    stand = get(bay, "/needs")
    assert (stand["cells"], {one["is"] for one in stand["missed"]}, stand["conflicts"]) == (3, {"lacks"}, [])

    exact = asked(bay, "/suggest")
    assert (exact["kind"], exact["new_groups"], exact["grants"], exact["personal"]) == ("exact", 0, 1, 1)
    assert [(group["id"], group["there"], group["inside"]) for group in exact["groups"]] == [("crew", True, [])]
    assert {tuple(role["people"]): role["acts"] for role in exact["roles"]} == {("ann", "bo", "cy"): 1}
    moved = asked(bay, "/suggest", may_change=True)
    assert (moved["personal"], [group["joins"] for group in moved["groups"]]) == (0, [["cy"]])
    simpler = asked(bay, "/suggest", kind="simpler", step=4)
    assert all(one["user"] != "di" for one in simpler["beyond"])
    wrong = bay.client().post(bay.at("/suggest"), json={"kind": "simpler", "step": 9})
    assert wrong.status_code == 422, wrong.json()

    fits = get(bay, "/needs/fits/cy")
    assert (fits["now"]["lacks"], fits["fits"]) == (["hulls"], [])
    kept(bay, exact["edits"])
    assert get(bay, "/needs")["missed"] == []
    (fit,) = get(bay, "/needs/fits/di")["fits"] or [None]
    assert fit is None
    assert bay.client().get(bay.at("/needs/fits/nobody")).status_code == 404

    project = asked(bay, "/project", people=["ann", "cy"])
    assert [one["op"] for one in project["edits"]] == ["put-group", "set-grant"]
    assert asked(bay, "/project", people=["ann", "di"])["edits"] == []
    assert bay.client().post(bay.at("/project"), json={"people": ["nobody"]}).status_code == 422


def test_grants_become_fewer_in_a_part_of_the_plan(bay: Web) -> None:
    grants = [
        {"op": "set-grant", "place": "hulls", "who": who, "level": "RW", "at": None} for who in ("crew", "ann", "cy")
    ]
    kept(bay, [*PLAN, *grants])
    whole = asked(bay, "/simplify")
    assert (whole["grants"], whole["grants_left"], whole["personal"], whole["personal_left"]) == (3, 2, 2, 1)
    assert (whole["words"], whole["whole"]) == (["ann on bay/hulls: not set"], True)
    assert asked(bay, "/simplify", group="crew")["grants_left"] == 2
    assert asked(bay, "/simplify", place="hulls")["grants_left"] == 2
    assert bay.client().post(bay.at("/simplify"), json={"place": "nowhere"}).status_code == 422
    assert bay.client().post(bay.at("/simplify"), json={"group": "nobody"}).status_code == 422
    kept(bay, whole["edits"])
    assert asked(bay, "/simplify")["edits"] == []


def test_somebody_like_another_needs_what_that_one_needs(bay: Web) -> None:
    kept(bay, [*PLAN, need("ann", "hulls", "read")])
    kept(bay, asked(bay, "/more", do="copy", like="ann", name="eve", full_name="", grants=False)["edits"])
    outline = get(bay, "")
    assert [(one["who"], one["wish"]) for one in outline["needs"]] == [("ann", "read"), ("eve", "read")]
