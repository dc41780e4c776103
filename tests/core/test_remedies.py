"""Remedies: the first does what is wanted, and what it announces is just what changes."""

from dataclasses import replace
from itertools import count as numbers

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.gates import moved
from tests.plans import plans
from tests.thorough import times
from yardgate.core.agreed import Promise
from yardgate.core.edit import Join, PutShare, SetGrant, apply
from yardgate.core.keeping import Kept, keep
from yardgate.core.outcome import outcome
from yardgate.core.plan import EVERYONE, GUEST, Plan
from yardgate.core.remedies import Want, remedies
from yardgate.core.resolve import resolve
from yardgate.core.rights import Level

RW, RO, PT, NA = Level.RW, Level.RO, Level.PT, Level.NA


def kept(plan: Plan) -> Kept:
    return keep(outcome(resolve(plan, ON)))


TALLY = {"wanted": 0, "without": 0}


@settings(max_examples=times(250, 1000))
@given(plans(shares=True), st.data())
def test_the_first_remedy_does_what_is_wanted_and_changes_what_it_announces(plan: Plan, data: st.DataObject) -> None:
    now = kept(plan)
    for _ in range(4 if plan.users else 0):
        who = data.draw(st.sampled_from([*plan.users, GUEST]))
        place = data.draw(st.sampled_from(sorted(plan.places)))
        level = data.draw(st.sampled_from([RW, RO, NA]))
        want = Want(who, place, level, level)
        if now.outcome.level(who, place) == level:
            assert remedies(now, want) == ()
            continue
        found = remedies(now, want)
        TALLY["wanted"] += 1
        TALLY["without"] += not found
        for remedy in found[:1]:
            after, _ = apply(plan, remedy.edits)
            then = kept(after)
            assert then.outcome.level(who, place) == level
            shifted = {(shift.subject, shift.place) for shift in remedy.effect.shifts}
            assert shifted == moved(plan, after), remedy.words
            broken_before = {keeping.promise.id for keeping in now.broken}
            broken = {keeping.promise.id for keeping in then.broken}
            assert {promise.id for promise in remedy.effect.breaks} == broken - broken_before
            assert len(remedy.words) == len(remedy.edits)
        assert [remedy.cost(want) for remedy in found] == sorted(remedy.cost(want) for remedy in found)


@settings(max_examples=times(60, 500))
@given(plans(shares=True), st.data())
def test_whether_somebody_learns_of_a_place_is_repaired_too(plan: Plan, data: st.DataObject) -> None:
    if not plan.users:
        return
    who, place = data.draw(st.sampled_from([*plan.users, GUEST])), data.draw(st.sampled_from(sorted(plan.places)))
    promise = Promise(id="p", who=who, must=data.draw(st.booleans()), act="see", place=place)
    plan = replace(plan, promises={**plan.promises, "p": promise})
    now = kept(plan)
    want = Want(who, place, NA, RW if promise.must else NA, seen=promise.must)
    found = remedies(now, want)
    if now.keepings["p"].kept:
        assert found == ()
        return
    TALLY["seen"] = TALLY.get("seen", 0) + 1
    TALLY["unseen"] = TALLY.get("unseen", 0) + (not found)
    for remedy in found:
        after, _ = apply(plan, remedy.edits)
        assert kept(after).keepings["p"].kept, remedy.words


@pytest.mark.parametrize("place", ["toolpaths", "minutes", "petrel-9", "training", "noticeboard", "payroll"])
def test_every_cell_of_the_demo_can_be_had_otherwise(quay: Plan, place: str) -> None:
    now = kept(quay)
    for number, who in zip(numbers(), [user for user in quay.users if quay.users[user].active(ON)], strict=False):
        level = (RW, RO, NA)[number % 3]
        if now.outcome.level(who, place) == level or number % 2:
            continue
        found = remedies(now, Want(who, place, level, level))
        assert found, (who, place, level)
        assert found[0].effect.after.outcome.level(who, place) == level


def test_the_least_side_effects_come_first_and_broken_promises_last(quay: Plan) -> None:
    now = kept(quay)
    want = Want("priya-natarajan", "toolpaths", RO, RW)
    found = remedies(now, want)
    assert found[0].effect.breaks == ()
    others = [sum(s.subject != want.subject or s.place != want.place for s in remedy.effect.shifts) for remedy in found]
    assert others == sorted(others)
    gone = next(remedy for remedy in found if remedy.edits == (SetGrant("toolpaths", "apprentices", None),))
    assert {shift.subject for shift in gone.effect.shifts} > {"priya-natarajan"}
    never = Promise(
        id="never", who="apprentices", but=frozenset({"priya-natarajan"}), must=False, act="read", place="toolpaths"
    )
    promised = replace(quay, promises={"never": never})
    again = remedies(kept(promised), want)
    assert gone.edits not in [remedy.edits for remedy in again[:1]]
    dropped = next((remedy for remedy in again if remedy.edits == gone.edits), None)
    assert dropped is None or [promise.id for promise in dropped.effect.breaks] == ["never"]


def test_a_guest_is_let_in_at_the_share_and_in_storage(quay: Plan) -> None:
    found = remedies(kept(quay), Want(GUEST, "noticeboard", RO, RO))
    assert SetGrant("noticeboard", EVERYONE, RO) in found[0].edits
    out = remedies(kept(apply(quay, found[0].edits)[0]), Want(GUEST, "noticeboard", NA, NA))
    assert any(isinstance(edit, PutShare) and edit.share.guests == NA for remedy in out for edit in remedy.edits)


def test_joining_a_group_is_among_what_is_offered(quay: Plan) -> None:
    found = remedies(kept(quay), Want("runa-solheim", "petrel-9", NA, RO))
    assert found
    found = remedies(kept(quay), Want("mira-oyelaran", "curlew-31", RW, RW))
    assert any(isinstance(edit, Join) for remedy in found for edit in remedy.edits)
