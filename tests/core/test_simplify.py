"""The same for everybody, with less to look after."""

from dataclasses import replace

from hypothesis import given, settings

from tests.conftest import ON
from tests.gates import moved
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutGroup, SetGrant
from yardgate.core.model.plan import Plan
from yardgate.core.policy.simplify import comes_to_the_same, grants_of, simplify
from yardgate.core.suggest.asked import awake


@settings(max_examples=times(60, 500))
@given(plans(shares=True))
def test_everybody_gets_the_same_over_every_way(plan: Plan) -> None:
    found = simplify(plan, ON)
    assert moved(plan, found.after) == set()
    before, after = resolve(plan, ON), resolve(found.after, ON)
    for group in plan.groups:  # whoever joins a group gets by it what they would get today
        assert all(before.level(group, place) == after.level(group, place) for place in plan.places)
    (all_before, single_before), (all_after, single_after) = grants_of(plan), grants_of(found.after)
    assert all_after <= all_before
    assert single_after <= single_before
    assert moved(awake(plan), awake(found.after)) == set()  # of shut accounts, too, once they are opened
    again, _ = apply(plan, found.edits)
    assert again.grants == found.after.grants


def test_the_demo_has_grants_that_decide_nothing_and_says_nothing_else(quay: Plan) -> None:
    found = simplify(quay, ON)
    assert moved(quay, found.after) == set()
    assert found.whole
    assert found.idle > 0
    assert grants_of(found.after)[0] < grants_of(quay)[0]
    assert simplify(found.after, ON).idle == 0


def test_personal_grants_that_several_share_become_a_groups(quay: Plan) -> None:
    whos, places = ("mira-oyelaran", "oskar-dahl", "noor-rahman"), ("quotes", "photos", "curlew-31")
    bare = replace(quay, grants={place: said for place, said in quay.grants.items() if place not in places})
    plan, _ = apply(bare, [SetGrant(place, who, Level.RW) for place in places for who in whos])
    found = simplify(plan, ON)
    made = [edit.group for edit in found.edits if isinstance(edit, PutGroup)]
    assert frozenset(whos) in [group.members for group in made]
    assert comes_to_the_same(outcome(resolve(plan, ON)), outcome(resolve(found.after, ON)))


def test_nothing_to_simplify() -> None:
    found = simplify(Plan(), ON)
    assert (found.edits, found.idle, found.groups, found.whole) == ((), 0, (), True)
