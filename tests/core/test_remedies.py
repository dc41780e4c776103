"""Remedies: the first does what is wanted, and what it announces is just what changes."""

import random
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from statistics import median

from hypothesis import given, seed, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.gates import moved
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl import Ordered
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Join, PutGroup, PutShare, SetGrant
from yardgate.core.model.agreements import Promise
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import EVERYONE, GUEST, Place, Plan, User
from yardgate.core.policy.compliance import Compliance, keep
from yardgate.core.policy.remedies import Remedy, Want, remedies

RW, RO, PT, NA = Level.RW, Level.RO, Level.PT, Level.NA


def kept(plan: Plan) -> Compliance:
    return keep(outcome(resolve(plan, ON)))


LEVELS = st.sampled_from([RW, RO, NA])


def holds(plan: Plan, now: Compliance, want: Want, found: Sequence[Remedy]) -> None:
    """The first remedy makes it as wanted, and what it says it changes, breaks and mends is what does, gate by gate."""
    for remedy in found[:1]:
        after, _ = apply(plan, remedy.edits)
        then = kept(after)
        assert want.met(then.outcome.level(want.subject, want.place))
        shifted = {(shift.subject, shift.place) for shift in remedy.effect.shifts}
        assert shifted == moved(plan, after), remedy.words
        broken_before = {keeping.promise.id for keeping in now.broken}
        broken = {keeping.promise.id for keeping in then.broken}
        assert {promise.id for promise in remedy.effect.breaks} == broken - broken_before
        assert len(remedy.words) == len(remedy.edits)
    assert [remedy.cost(want) for remedy in found] == sorted(remedy.cost(want) for remedy in found)


def test_the_first_remedy_does_what_is_wanted_and_changes_what_it_announces() -> None:
    tally, without = Counter[str](), list[float]()

    def wanting(plan: Plan, data: st.DataObject) -> None:
        now = kept(plan)
        for _ in range(4 if plan.users else 0):
            who = data.draw(st.sampled_from([*plan.users, GUEST]))
            place, level = data.draw(st.sampled_from(sorted(plan.places))), data.draw(LEVELS)
            want = Want(who, place, level, level)
            found = remedies(now, want)
            if now.outcome.level(who, place) == level:
                assert found == ()
                continue
            gone = who in plan.users and plan.users[who].gone
            tally["gone" if gone else "wanted"] += 1
            tally["without"] += not found and not gone
            holds(plan, now, want, found)

    # Of one run many plans are often alike, and may be mostly such where nothing can be had: so it is the middle one of nine.
    # Each has a seed of its own: where `CI` is set, Hypothesis draws the same every time it is not told one.
    for number in range(9):
        before = tally.copy()
        seed(number)(settings(max_examples=max(15, times(35, 120)))(given(plans(shares=True), st.data())(wanting)))()
        run = tally - before
        without.append(run["without"] / max(1, run["wanted"]))
    print(dict(tally), without)
    assert tally["wanted"] > times(200, 200)
    assert median(without) < 0.05, "of an account that is gone nothing can be had; of others nearly all"


def test_nearly_all_that_is_wanted_of_the_demo_can_be_had(quay: Plan) -> None:
    now, rng, wanted, without = kept(quay), random.Random(5), 0, 0
    while wanted < times(50, 1000):
        level = rng.choice([RW, RO, NA])
        want = Want(rng.choice([*quay.users, GUEST]), rng.choice(sorted(quay.places)), level, level)
        if want.met(now.outcome.level(want.subject, want.place)):
            continue
        found = remedies(now, want)
        wanted, without = wanted + 1, without + (not found)
        holds(quay, now, want, found)
    print(f"{wanted} wanted, {without} without")
    assert without * 100 <= wanted


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
    for remedy in found:
        after, _ = apply(plan, remedy.edits)
        assert kept(after).keepings["p"].kept, remedy.words


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
        id="never",
        who="apprentices",
        except_for=frozenset({"priya-natarajan"}),
        must=False,
        act="read",
        place="toolpaths",
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


def test_where_several_need_the_same_and_lack_it_a_group_of_them_is_proposed() -> None:
    users = {name: User(id=name, name=name) for name in ("ada", "milo", "ruth")}
    store = Place(id="store", name="store", kind="pool", acl=Ordered(()), enforced_by="storage")
    needs = {one.id: one for one in (Need.of(who, "store", "change") for who in ("ada", "milo"))}
    plan = Plan(users=users, places={"store": store}, needs=needs)
    found = remedies(kept(plan), Want("ada", "store", RW, RW))
    groups = [one for one in found if isinstance(one.edits[0], PutGroup)]
    assert [one.edits[0].group.members for one in groups if isinstance(one.edits[0], PutGroup)] == [{"ada", "milo"}]
    assert groups[0].mended == 1
    assert groups[0].effect.after.outcome.level("milo", "store") == RW
    alone = replace(plan, needs={one: need for one, need in needs.items() if need.who == "ada"})
    assert not any(isinstance(one.edits[0], PutGroup) for one in remedies(kept(alone), Want("ada", "store", RW, RW)))
