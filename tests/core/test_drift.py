"""What was changed by hand at an appliance, taken into the plan: then the plan comes to just that."""

from dataclasses import replace
from datetime import date

import pytest

from tests.conftest import ON
from yardgate import demo
from yardgate.core.drift import taken_in
from yardgate.core.edit import apply
from yardgate.core.resolve import resolve
from yardgate.core.rollout import drift
from yardgate.core.system import Members, System, compiled, host_names

PLAN = demo.plan()
LEFT = compiled(resolve(PLAN, ON), "/srv").system
NAMED = host_names(PLAN, set(PLAN.directories))


def changed(part: str, name: str, **fields: object) -> System:
    return LEFT.having(part, name, replace(LEFT.part(part)[name], **fields))  # type: ignore[arg-type,type-var]


def members(name: str, *, add: frozenset[str] = frozenset(), take: frozenset[str] = frozenset()) -> System:
    return LEFT.having("members", name, Members(name=name, users=(LEFT.members[name].users | add) - take))


@pytest.mark.parametrize(
    "found",
    [
        changed("accounts", "imke.brouwer", enabled=True),
        changed("accounts", "mira.oyelaran", enabled=False, expires=None),
        changed("accounts", "mira.oyelaran", expires=date(2027, 5, 1)),
        changed("accounts", "oskar.dahl", full_name="O. Dahl"),
        members("Directors", add=frozenset({"gwen.castellan"})),
        members("Apprentices", add=frozenset({"bo.hendrickx"})),
    ],
)
def test_what_is_taken_in_is_what_the_plan_comes_to_then(found: System) -> None:
    (step,) = drift(LEFT, found)
    after, _ = apply(PLAN, taken_in(PLAN, NAMED, step))
    then = compiled(resolve(after, ON), "/srv").system
    assert then.accounts == found.accounts
    name = step.record.name
    assert then.members.get(name) == found.members.get(name)


def test_who_was_taken_out_leaves_where_they_are_a_member_themselves() -> None:
    (step,) = drift(LEFT, members("Apprentices", take=frozenset({"noor.rahman"})))
    after, _ = apply(PLAN, taken_in(PLAN, NAMED, step))
    assert "noor-rahman" not in after.groups["apprentices"].members


@pytest.mark.parametrize(
    "found",
    [
        changed("folders", "/srv/keel", owner="mira.oyelaran"),
        changed("offers", "hulls", hidden=True),
        changed("accounts", "mira.oyelaran", uid=4711),
        members("Yard", take=frozenset({"idris.falk"})),
        members("Yard", add=frozenset({"somebody"})),
    ],
)
def test_what_only_a_person_can_say_is_left_to_them(found: System) -> None:
    (step,) = drift(LEFT, found)
    assert taken_in(PLAN, NAMED, step) == ()
