"""Promises: kept and broken cell by cell as the walk and the gates say; contradictions; what outcomes take over from before."""

from dataclasses import replace
from typing import get_args

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import Outcome, outcome, over_ways, shifts
from yardgate.core.access.paths import offered
from yardgate.core.access.storage import alike, storage_state
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutPlace
from yardgate.core.model.agreements import LEAST, Act, Promise
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, GUEST, Group, Place, Plan, User
from yardgate.core.model.share import Protocol, Share
from yardgate.core.policy.compliance import contradictions, keep, standing, why

RW, RO, PT, NA = Level.RW, Level.RO, Level.PT, Level.NA


def sees(plan: Plan, found: Outcome, subject: str, place: str, over: Protocol | None) -> bool:
    """Whether a walk through any share shows somebody a place, or lets them enter it."""
    visits = [
        visit
        for way in offered(plan)
        if over in (None, way.protocol)
        for visit in walk(plan, subject, way, ON, found.matrix.storage)
        if visit.place == place
    ]
    return any(visit.shown or visit.level > NA for visit in visits)


def spoken_of(plan: Plan, promise: Promise) -> set[str]:
    if promise.who == GUEST:
        return {GUEST}
    found = set()
    for user in plan.users.values():
        ways = token(plan, user.id)
        if promise.who in ways and not promise.except_for & ways.keys() and (user.active(ON) or promise.who == user.id):
            found.add(user.id)
    return found | ({GUEST} if promise.who == EVERYONE and not promise.must else set())


@settings(max_examples=times(150, 1000))
@given(plans(shares=True), st.data())
def test_a_promise_is_broken_for_exactly_those_for_whom_it_does_not_hold(plan: Plan, data: st.DataObject) -> None:
    found = outcome(resolve(plan, ON))
    accounts = [*plan.users, *plan.groups]
    for place in plan.places:
        promise = Promise(
            id="p",
            who=data.draw(st.sampled_from([*accounts, EVERYONE, GUEST])),
            except_for=data.draw(st.frozensets(st.sampled_from(accounts), max_size=2)) if accounts else frozenset(),
            must=data.draw(st.booleans()),
            act=data.draw(st.sampled_from(get_args(Act))),
            place=place,
            protocol=data.draw(st.sampled_from([None, "smb", "nfs"])),
        )
        kept = standing(found, [promise])[0]
        meant = spoken_of(plan, promise)
        broken = set()
        for who in meant:
            able = found.level(who, place, promise.protocol) >= LEAST[promise.act]
            if promise.act == "see":
                able = sees(plan, found, who, place, promise.protocol)
            if able != promise.must:
                broken.add(who)
        assert kept.meant == len(meant)
        assert {breach.subject for breach in kept.breaches} == broken, promise
        for breach in kept.breaches:
            reason = why(found, breach.subject, place, promise.protocol)
            assert breach.level == found.level(breach.subject, place, promise.protocol)
            assert reason is None or not found.ways_to(place, promise.protocol) or reason.level == breach.level


@settings(max_examples=times(200, 1500))
@given(plans(shares=True), st.data())
def test_an_outcome_taken_over_from_the_plan_before_is_the_same_as_a_new_one(plan: Plan, data: st.DataObject) -> None:
    before = outcome(resolve(plan, ON))
    edit = data.draw(edits(plan))
    try:
        after_plan, _ = apply(plan, [edit])
    except PlanError:
        return
    matrix = resolve(after_plan, ON, before.matrix)
    kept, anew_kept = keep(outcome(matrix, before), keep(before)), keep(outcome(resolve(after_plan, ON)))
    assert {key: k.breaches for key, k in kept.keepings.items()} == {
        k: v.breaches for k, v in anew_kept.keepings.items()
    }
    after, anew = outcome(matrix, before), outcome(resolve(after_plan, ON))
    for protocol in (None, "smb", "nfs"):
        for place in after_plan.places if plan.shares or protocol is None else ():
            assert after.best[protocol][place].tolist() == anew.best[protocol][place].tolist(), (edit, place)
    moved = {
        (who, place)
        for place in plan.places.keys() & after_plan.places.keys()
        for who in [*(plan.users.keys() & after_plan.users.keys()), GUEST]
        if any(
            over_ways(before, after, place, p)[before.number(who)]
            != over_ways(after, before, place, p)[after.number(who)]
            for p in PROTOCOLS_OR_ANY
        )
    }
    assert {(shift.subject, shift.place) for shift in shifts(before, after)} == moved


PROTOCOLS_OR_ANY: tuple[Protocol | None, ...] = (None, "smb", "nfs")


def office(**promises: Promise) -> Plan:
    users = {who: User(id=who, name=who) for who in ("ann", "bo", "cy")}
    groups = {"crew": Group(id="crew", name="crew", members=frozenset({"ann", "bo"}))}
    places = {
        "keel": Place(id="keel", name="keel", kind="pool"),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel"),
    }
    shares = {"s": Share(id="s", name="hulls", place="hulls", guests=RO)}
    return Plan(
        users=users, groups=groups, places=places, grants={"hulls": {"crew": RO}}, shares=shares, promises=promises
    )


def test_places_stand_alike_where_owner_group_and_list_are_the_same(quay: Plan) -> None:
    before = storage_state(quay, count(quay, ON))
    for place in quay.places.values():
        if before[place.id].list is None:
            continue
        again, _ = apply(quay, [PutPlace(replace(place, note="looked at"))])
        assert alike(before, storage_state(again, count(again, ON)), quay.places)
        owned = replace(place, owner="mira-oyelaran" if before[place.id].owner != "mira-oyelaran" else "root")
        other, _ = apply(quay, [PutPlace(owned)])
        then = storage_state(other, count(other, ON))
        assert not alike(before, then, [place.id])
        assert alike(before, then, quay.path(place.id)[:-1])
        assert not alike(before, {}, [place.id])


def test_everyone_else_takes_in_the_guest_and_follows_the_group() -> None:
    secret = Promise(id="p", who=EVERYONE, except_for=frozenset({"crew"}), must=False, act="read", place="hulls")
    plan = office(p=secret)
    assert check(plan) == ()
    assert [b.subject for b in keep(outcome(resolve(plan, ON))).keepings["p"].breaches] == [GUEST]
    closed = replace(plan, shares={"s": replace(plan.shares["s"], guests=NA)})
    assert keep(outcome(resolve(closed, ON))).broken == ()
    joined = replace(closed, grants={"hulls": {"crew": RO, "cy": RO}})
    assert [b.subject for b in keep(outcome(resolve(joined, ON))).keepings["p"].breaches] == ["cy"]


def test_two_promises_that_cannot_both_be_kept() -> None:
    must = Promise(id="a", who="ann", must=True, act="write", place="hulls")
    never = Promise(id="b", who="crew", must=False, act="read", place="hulls")
    matrix = resolve(office(a=must, b=never), ON)
    assert [(c.one.id, c.other.id, c.subject) for c in contradictions(matrix)] == [("a", "b", "ann")]
    fine = [replace(must, act="read"), replace(never, act="write")]
    assert contradictions(matrix, fine) == ()
    assert contradictions(matrix, [must, replace(never, protocol="nfs")]) == ()
    assert contradictions(matrix, [replace(must, protocol="nfs"), replace(never, protocol="nfs")]) != ()
    assert contradictions(matrix, [must, replace(never, except_for=frozenset({"ann"}))]) == ()


def test_a_promise_needs_somebody_and_a_place_of_the_plan() -> None:
    wrong = Promise(id="p", who="nobody", must=True, act="read", place="nowhere", except_for=frozenset({"none"}))
    assert [trouble.message for trouble in check(office(p=wrong))] == [
        "a promise speaks of “nowhere”, which is not a place of this plan",
        "a promise speaks of “nobody”, who is not a user or group of this plan",
        "a promise leaves out “none”, who is not a user or group of this plan",
    ]
