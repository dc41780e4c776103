"""The plan file."""

import json
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings

from tests.hostile import HOSTILE
from tests.plans import plans
from tests.tries import times
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutUser
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import Plan, User, same
from yardgate.formats import planfile
from yardgate.formats.reading import FormatError, decode
from yardgate.formats.versions import FIELDS, PARTS, TRAVERSE

SCHEMA = jsonschema.Draft202012Validator(json.loads(planfile.schema()))
EMPTY = '{"format": "yardgate-plan", "version": 2%s}'


@settings(max_examples=times(500, 2000))
@given(plans())
def test_what_is_written_is_read_back_as_the_identical_plan(plan: Plan) -> None:
    text = planfile.write(plan)
    assert same(planfile.read(text), plan)
    assert planfile.write(planfile.read(text)) == text
    SCHEMA.validate(json.loads(text))


def test_a_plan_file_can_be_written_by_hand() -> None:
    text = (
        EMPTY
        % """, "name": "nas", "users": [{"id": "a", "name": "ann"}], "groups": [{"id": "g", "name": "crew", "members": ["a"]}],
        "places": [{"id": "p", "name": "tank", "kind": "pool"}], "grants": [{"place": "p", "who": "g", "level": "RW"}]"""
    )
    plan = planfile.read(text)
    assert plan.grants == {"p": {"g": "RW"}}
    SCHEMA.validate(json.loads(text))


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "line 1, column 1: not JSON"),
        ("[]", "not a plan file"),
        ('{"format": "other"}', "not a plan file"),
        ('{"format": "yardgate-plan", "version": 3}', "version 3 is not known"),
        (EMPTY % ', "users": [{"id": "a"}]', "users.0.name: Field required"),
        (EMPTY % ', "colour": 1', "colour: Extra inputs"),
        (EMPTY % ', "users": [{"id": "a", "name": "a", "colour": 1}]', "users.0.colour"),
        (EMPTY % ', "grants": [{"place": "p", "who": "g", "level": "PT"}]', "grants.0.level"),
        (EMPTY % ', "name": "a", "name": "b"', "'name' stands twice"),
        ('{"format": "yardgate-plan",\n "version": 2,}', "line 2, column 1"),
        ("[" * 100_000, "nested too deeply|not JSON"),
    ],
)
def test_bad_files_are_refused_with_the_place(text: str, message: str) -> None:
    with pytest.raises(FormatError, match=message):
        planfile.read(text)


@pytest.mark.parametrize(
    ("body", "message"),
    [
        (', "users": [{"id": "a", "name": "a"}, {"id": "a", "name": "b"}]', "stands twice among the users"),
        (', "grants": [{"place": "p", "who": "g", "level": "RW"}]', "not a place of this plan"),
        (', "groups": [{"id": "g", "name": "g", "members": ["x"]}]', "not a user or group of this plan"),
        (
            ', "places": [{"id": "a", "name": "a", "kind": "dataset", "parent": "b"}, {"id": "b", "name": "b", "kind": "dataset", "parent": "a"}]',
            "lies inside itself",
        ),
        (', "target": {"baseline": "x"}', "baseline group"),
        (', "groups": [{"id": "everyone", "name": "x"}]', "built-in"),
    ],
)
def test_plans_that_cannot_stand_are_refused_by_name(body: str, message: str) -> None:
    with pytest.raises(PlanError, match=message):
        planfile.read(EMPTY % body)


@pytest.mark.parametrize("kind", HOSTILE)
def test_hostile_names_are_refused_or_come_back_as_they_were(kind: str) -> None:
    name, whole, refused = HOSTILE[kind], None, ""
    try:
        whole, _ = apply(Plan(), [PutUser(User(id="a", name=name, full_name=name, note=name[:4000]))])
    except PlanError as error:
        refused = str(error)
    assert "\0" not in refused
    assert len(refused) < 600
    assert refused if whole is None else same(planfile.read(planfile.write(whole)), whole)


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"ok\nb\xffd", "line 2, column 2: byte 0xff"),
        (b"a\nbc\0", "line 2, column 3: a NUL"),
        ("x".encode("utf-16"), "line 1, column 1"),
    ],
)
def test_bytes_that_are_no_text_are_refused_with_line_and_column(content: bytes, message: str) -> None:
    with pytest.raises(FormatError, match=message):
        decode(content)


def test_a_byte_order_mark_is_taken_off() -> None:
    assert decode(b"\xef\xbb\xbfhull") == "hull"


def as_version_1(text: str) -> str:
    """A plan file of version 2 as version 1 had it."""
    body = json.loads(text)
    old = {kind: {new: name for name, new in names.items()} for kind, names in FIELDS.items()}
    was = {new: value for value, new in TRAVERSE.items()}

    def back(kind: str, record: dict[str, Any]) -> dict[str, Any]:
        if "personal_folders" in record:
            record = {**record, "personal_folders": back("personal_folders", record["personal_folders"])}
        record = {name: was[value] if "traverse" in name else value for name, value in record.items()}
        return {old[kind].get(name, name): value for name, value in record.items()}

    for part, kind in PARTS.items():
        body[part] = [back(kind, record) for record in body.get(part, [])]
    return json.dumps({**body, "version": 1, "target": back("target", body.get("target", {}))})


@settings(max_examples=times(500, 2000))
@given(plan=plans())
def test_a_plan_file_of_version_1_means_the_same(plan: Plan) -> None:
    assert same(planfile.read(as_version_1(planfile.write(plan))), plan)


def test_names_of_version_2_are_unknown_in_version_1() -> None:
    place = '{"id": "p", "name": "p", "kind": "pool", "own": null, "acl": null}'
    with pytest.raises(FormatError, match="'acl' is not known in version 1"):
        planfile.read(f'{{"format": "yardgate-plan", "version": 1, "places": [{place}]}}')
    with pytest.raises(FormatError, match="traverse"):
        planfile.read('{"format": "yardgate-plan", "version": 1, "target": {"entering": "checked"}}')
