"""What is told shortly on sheets is all of what comes out, and nothing else."""

from collections.abc import Sequence

from hypothesis import given, settings

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.access.paths import inside
from yardgate.core.access.summary import Stretch, card, everywhere, report
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import GUEST, Plan


def level_of(plan: Plan, stretches: Sequence[Stretch], place: str) -> Level:
    """The level that a stretch tells for a place: its own, or that of the nearest place above."""
    told = {stretch.place: stretch.level for stretch in stretches}
    return next((told[step] for step in reversed(plan.path(place)) if step in told), Level.NA)


@settings(max_examples=times(100, 1000))
@given(plans(shares=True))
def test_stretches_tell_every_level(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    for who in (*plan.users, GUEST):
        number = found.number(who)
        reaches = {reach.over: reach.stretches for reach in card(found, who)}
        for over, columns in found.over.items():
            assert (over in reaches) == any(column[number] for column in columns.values())
            for place in inside(plan, plan.shares[over.share]) if over in reaches else ():
                assert level_of(plan, reaches[over], place).code == columns[place][number]
        whole = everywhere(found, who)
        assert len({stretch.place for stretch in whole}) == len(whole)
        for place in plan.places:
            if found.ways_to(place):
                assert level_of(plan, whole, place) == found.level(who, place)


@settings(max_examples=times(100, 1000))
@given(plans(shares=True))
def test_a_place_that_the_report_leaves_out_is_as_the_one_above(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    told = {access.place: access for access in report(found)}
    for place in plan.places.values():
        if not found.ways_to(place.id):
            assert place.id not in told
            continue
        at = next(step for step in reversed(plan.path(place.id)) if step in told)
        assert told[at].ways == found.ways_to(place.id)
        assert told[at].guest == found.level(GUEST, place.id)
        by_level = {user: level for level, users in told[at].who.items() for user in users}
        for user in plan.users:
            assert by_level.get(user, Level.NA) == found.level(user, place.id)
