"""Taking back a step by itself: as if it had not been made, with what others did since left as it is."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply, exactly
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import Join, PutUser, RemoveUser, SetGrant, SetTarget, SetTitle
from yardgate.core.edits.taking_back import taken_back
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import KINDS
from yardgate.core.model.plan import Plan, same


@settings(max_examples=times(200, 2000))
@given(plans(lists=True, shares=True), st.data())
def test_the_last_step_taken_back_is_the_plan_before(plan: Plan, data: st.DataObject) -> None:
    after = plan
    for _ in range(data.draw(st.integers(1, 3))):
        try:
            after, _ = apply(after, [data.draw(edits(after))])
        except PlanError:
            continue
    assert same(exactly(after, taken_back(plan, after, after))[0], plan)


@settings(max_examples=times(200, 2000))
@given(plans(lists=True, shares=True), st.data())
def test_a_step_taken_back_leaves_what_came_after_or_says_that_it_was_overtaken(
    plan: Plan, data: st.DataObject
) -> None:
    first, second = data.draw(edits(plan)), data.draw(edits(plan))
    try:
        after, _ = apply(plan, [first])
        now, _ = apply(after, [second])
        alone, _ = apply(plan, [second])
        back = taken_back(plan, after, now)
        found, _ = exactly(now, back)
    except PlanError:
        return
    if touched(plan, after) & touched(plan, alone) or difference(after, now) != difference(plan, alone):
        return  # both did something to the same, or the one because of the other, which the examples below are about
    assert orderless(found) == orderless(alone)


def touched(plan: Plan, other: Plan) -> set[str]:
    """Ids of the records, and places of the grants, in which two plans differ."""
    found = {"target"} if plan.target != other.target else set()
    for part in (*(kind.part for kind in KINDS), "grants"):
        one, two = getattr(plan, part), getattr(other, part)
        found |= {key for key in {*one, *two} if one.get(key) != two.get(key)}
    return found


def orderless(plan: Plan) -> Plan:
    return replace(plan, grants={place: dict(sorted(lines.items())) for place, lines in plan.grants.items()})


def test_what_somebody_else_changed_in_the_same_record_stays(quay: Plan) -> None:
    mira = quay.users["mira-oyelaran"]
    after, _ = apply(quay, [PutUser(replace(mira, full_name="Mira O."))])
    now, _ = apply(after, [PutUser(replace(after.users[mira.id], uid=2042))])
    found, _ = apply(now, taken_back(quay, after, now))
    assert found.users[mira.id] == replace(mira, uid=2042)

    joined, _ = apply(quay, [Join("ledger", mira.id)])
    both, _ = apply(joined, [Join("ledger", "bo-hendrickx")])
    found, _ = apply(both, taken_back(quay, joined, both))
    assert found.groups["ledger"].members == quay.groups["ledger"].members | {"bo-hendrickx"}

    renamed, _ = apply(quay, [SetTitle("keel-2", quay.office)])
    moved, _ = apply(renamed, [SetTarget(replace(quay.target, combining="widest"))])
    found, _ = apply(moved, taken_back(quay, renamed, moved))
    assert (found.name, found.target.combining) == (quay.name, "widest")


def test_what_was_changed_again_cannot_be_taken_back_and_is_named(quay: Plan) -> None:
    granted, _ = apply(quay, [SetGrant("quotes", "ledger", Level.RO)])
    again, _ = apply(granted, [SetGrant("quotes", "ledger", Level.NA)])
    with pytest.raises(PlanError, match="the grant to Ledger on keel/office/quotes was changed since"):
        taken_back(quay, granted, again)
    gone, _ = apply(quay, [PutUser(replace(quay.users["bo-hendrickx"], note="new"))])
    without, _ = apply(gone, [RemoveUser("bo-hendrickx")])
    with pytest.raises(PlanError, match="was changed since"):
        taken_back(quay, gone, without)
