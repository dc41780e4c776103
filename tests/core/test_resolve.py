"""Two resolvers, one truth."""

import itertools
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.access.batch.resolve import SOURCES, Change, changes, detail, resolve, rights
from yardgate.core.access.bitsets import count
from yardgate.core.access.combining import RULES
from yardgate.core.access.spec.explain import explain
from yardgate.core.access.storage import storage_state
from yardgate.core.acl import Mode, Ordered, Posix
from yardgate.core.acl.rights import EVERYTHING, LEVELS, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutPlace, SetGrant
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Place, Plan, User


def compare_every_cell(plan: Plan) -> int:
    matrix = resolve(plan, ON)
    details = detail(matrix, plan.places)
    masks = rights(matrix, plan.places)
    storage = storage_state(plan, count(plan, ON))
    cells = 0
    for place, (number, subject) in itertools.product(plan.places, enumerate(matrix.counting.subjects)):
        reason = explain(plan, subject, place, ON, storage)
        assert LEVELS[matrix.rows[place][number]] == reason.level, (subject, place)
        assert SOURCES[details[place].source[number]] == reason.source, (subject, place)
        assert bool(details[place].clash[number]) == reason.clash, (subject, place)
        given = masks[place].folder[number], masks[place].file[number]
        assert given == (reason.rights or EVERYTHING), (subject, place)
        cells += 1
    return cells


@settings(max_examples=times(400, 2000))
@given(plans(lists=True))
def test_every_cell_and_right_of_random_plans_with_lists_is_what_the_reference_says(plan: Plan) -> None:
    assert check(plan) == ()
    compare_every_cell(plan)


@settings(max_examples=times(300, 1200))
@given(plans(lists=False))
def test_every_cell_of_random_plans_without_lists_is_what_the_reference_says(plan: Plan) -> None:
    assert check(plan) == ()
    compare_every_cell(plan)


@settings(max_examples=times(30, 300))
@given(plans(lists=True))
def test_more_subjects_than_a_word_of_bits_holds(plan: Plan) -> None:
    others = {f"f{number}": User(id=f"f{number}", name=f"name-f{number}") for number in range(70)}
    compare_every_cell(replace(plan, users={**others, **plan.users}))


@settings(max_examples=times(100, 400))
@given(plans())
def test_every_rule_on_the_same_plan(plan: Plan) -> None:
    for tiers, within in RULES:
        compare_every_cell(replace(plan, target=replace(plan.target, precedence=tiers, combining=within)))


def test_the_demo_plan_cell_by_cell(lantern: Plan) -> None:
    assert compare_every_cell(lantern) == 50 * 22


def test_the_demo_plan_with_its_storage_cell_by_cell_under_every_rule(quay: Plan) -> None:
    for tiers, within in RULES:
        compare_every_cell(replace(quay, target=replace(quay.target, precedence=tiers, combining=within)))


@settings(max_examples=times(300, 1200))
@given(plans(), st.data())
def test_resolving_again_after_an_edit_is_resolving_from_the_start(plan: Plan, data: st.DataObject) -> None:
    try:
        after, _ = apply(plan, [data.draw(edits(plan))])
    except PlanError:
        return
    before = resolve(plan, ON)
    again, whole = resolve(after, ON, before), resolve(after, ON)
    assert again.counting.subjects == whole.counting.subjects
    assert again.rows.keys() == whole.rows.keys()
    assert all(np.array_equal(again.rows[place], whole.rows[place]) for place in whole.rows)
    assert changes(before, again) == changes(before, whole)
    for change in changes(before, again):
        assert (
            before.level(change.subject, change.place)
            == change.before
            != change.after
            == again.level(change.subject, change.place)
        )


@settings(max_examples=times(60, 1000))
@given(plans(lists=True))
def test_resolving_again_after_a_place_was_moved_is_resolving_from_the_start(plan: Plan) -> None:
    before = resolve(plan, ON)
    for place in plan.places.values():
        for parent in plan.places:
            if place.kind == "pool" or parent == place.parent or place.id in plan.path(parent):
                continue
            try:
                after, _ = apply(plan, [PutPlace(replace(place, parent=parent))])
            except PlanError:
                continue
            again, whole = resolve(after, ON, before), resolve(after, ON)
            assert all(np.array_equal(again.rows[p], whole.rows[p]) for p in whole.rows), (place.id, parent)
            assert again.ways.keys() == whole.ways.keys()
            assert all(np.array_equal(again.ways[p], whole.ways[p]) for p in whole.ways), (place.id, parent)


def test_taking_the_only_list_away_and_putting_it_back(lantern: Plan) -> None:
    keel = lantern.places["keel"]
    with_list, _ = apply(lantern, [PutPlace(replace(keel, acl=Mode(0o750)))])
    without, listed = resolve(lantern, ON), resolve(with_list, ON)
    assert changes(without, listed)
    again = resolve(lantern, ON, listed)
    assert not changes(without, again)
    assert not again.lists
    assert not again.ways
    assert not changes(listed, resolve(with_list, ON, again))


def test_an_edit_of_one_place_takes_the_other_rows_over_as_they_are(lantern: Plan) -> None:
    before = resolve(lantern, ON)
    after = resolve(apply(lantern, [SetGrant("toolpaths", "priya-natarajan", Level.RO)])[0], ON, before)
    assert [place for place in after.rows if after.rows[place] is not before.rows[place]] == ["toolpaths"]


def test_changes_name_the_cells_that_an_edit_changes(lantern: Plan) -> None:
    before = resolve(lantern, ON)
    after = resolve(apply(lantern, [SetGrant("toolpaths", "apprentices", None)])[0], ON, before)
    people = [change for change in changes(before, after) if change.subject in lantern.users]
    assert people == [
        Change("priya-natarajan", "toolpaths", Level.NA, Level.RW),
        Change("juno-harker", "toolpaths", Level.NA, Level.RO),
    ]


def test_a_plan_without_anybody_or_anything_resolves() -> None:
    empty = resolve(Plan(), ON)
    assert empty.rows == {}
    assert detail(empty, []) == {}
    assert changes(empty, empty) == []


def test_more_places_and_users_than_one_block_holds() -> None:
    from yardgate.tools.bench import random_plan

    plan = random_plan(users=150, groups=30, places=300, seed=7)
    for tiers, within in RULES:
        other = replace(plan, target=replace(plan.target, precedence=tiers, combining=within))
        matrix = resolve(other, ON)
        for place in list(plan.places)[::37]:
            for user in list(plan.users)[::11]:
                assert matrix.level(user, place) == explain(other, user, place, ON).level


def test_what_lets_somebody_through_above_reaches_those_beside_too() -> None:
    """A grant makes the pool let its owner pass, and what comes down from the pool to another place follows."""
    own = Posix(sticky=True)
    places = {
        "keel": Place(id="keel", name="keel", kind="pool", owner="ann", acl=own, enforced_by="storage"),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel", acl=Ordered(), inheritance_stops=True),
        "masts": Place(id="masts", name="masts", kind="dataset", parent="keel", owner="ann", acl=own),
    }
    before = resolve(Plan(users={"ann": User(id="ann", name="ann")}, places=places), ON)
    after = apply(before.plan, [SetGrant("hulls", "ann", Level.RW)])[0]
    for place in places:
        assert resolve(after, ON, before).level("ann", place) == resolve(after, ON).level("ann", place)
