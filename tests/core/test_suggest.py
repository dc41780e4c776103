"""Groups that give just what is needed: as cheap as can be, and by the resolver of everything else."""

from dataclasses import replace
from datetime import date
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.tries import times
from yardgate.core.access.batch.resolve import Codes, resolve
from yardgate.core.access.combining import RULES
from yardgate.core.access.outcome import outcome
from yardgate.core.acl import Ordered, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Join, Leave, PutGroup, PutShare, PutUser, SetGrant
from yardgate.core.model.needs import WISHES, Need
from yardgate.core.model.plan import EVERYONE, Group, Place, Plan, Target, User
from yardgate.core.model.share import Share
from yardgate.core.suggest.answers import answers, roles
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, asked
from yardgate.core.suggest.cover import CHANGE, READ, Costs, PlaceGrant, Table
from yardgate.core.suggest.groups import Miss, Suggestion, Terms, suggest
from yardgate.core.suggest.newcomers import fits, project
from yardgate.core.suggest.solve import solve

ON = date(2026, 3, 2)


# --- the table alone --------------------------------------------------------------------------------------------------


def cheapest(table: Table) -> int:
    """What the cheapest answer costs, by trying all groups."""
    people, places = table.least.shape
    sets = [some for size in range(1, people + 1) for some in combinations(range(people), size)]
    fixed = [tuple(np.flatnonzero(one).tolist()) for one in table.there]
    best = table.costs.personal * int((table.least > 0).sum())
    floor = min(table.costs.grant, table.costs.personal) * int((table.least > 0).any(0).sum())
    for number in range(len(sets) + 1):
        tried = False
        for new in combinations(sets, number):
            price = sum(table.costs.group + table.costs.membership * _memberships(table, some, fixed) for some in new)
            if price + floor >= best:
                continue
            tried = True
            best = min(best, price + sum(_column(table, (*new, *fixed), place) for place in range(places)))
        if not tried and number:
            return best
    return best


def _memberships(table: Table, some: tuple[int, ...], fixed: list[tuple[int, ...]]) -> int:
    """The fewest that make a group of these, with groups that there are in it where that may be."""
    parts = [set(one) for one in fixed if table.nesting and set(one) <= set(some)]
    return min(
        size + len(set(some).difference(*taken))
        for size in range(len(parts) + 1)
        for taken in combinations(parts, size)
    )


def _column(table: Table, groups: tuple[tuple[int, ...], ...], place: int) -> int:
    """What it costs at least to grant what is needed in one place, with some groups."""
    least, most = table.least[:, place], table.most[:, place]
    grants = {}
    for some in groups:
        level = min((int(most[one]) for one in some), default=0)
        served = frozenset(one for one in some if 0 < least[one] <= level)
        if served:
            grants[some] = served
    need = frozenset(np.flatnonzero(least).tolist())
    return min(
        table.costs.grant * len(chosen)
        + table.costs.personal * len(need - frozenset().union(*(grants[one] for one in chosen)))
        for size in range(len(grants) + 1)
        for chosen in combinations(grants, size)
    )


def test_small_tables_come_out_as_cheap_as_by_trying_all() -> None:
    draw = np.random.default_rng(20)
    for _ in range(200):
        people, places = int(draw.integers(1, 5)), int(draw.integers(1, 4))
        least: Codes = draw.choice([0, READ, CHANGE], (people, places), p=[0.4, 0.3, 0.3]).astype(np.uint8)
        most = np.where(draw.random((people, places)) < 0.15, CHANGE, least).astype(np.uint8)
        there = draw.random((int(draw.integers(0, 3)), people)) < 0.6
        costs = Costs(
            int(draw.integers(1, 5)), int(draw.integers(0, 3)), int(draw.integers(1, 3)), int(draw.integers(1, 6))
        )
        table = replace(Table.of(least, most, there, costs), nesting=bool(draw.random() < 0.5))
        answer = solve(table)
        assert table.gives(answer.groups, answer.personal)
        assert answer.cost == table.cost(answer.groups, answer.personal) == cheapest(table)
        assert answer.proven
        assert answer.gap == 0


def planted(draw: np.random.Generator, noise: float) -> tuple[Codes, int, list[frozenset[int]]]:
    """Needs of some groups, and of single people beside them: the table, what those cost, and who is in the groups."""
    costs, need, price, groups = Costs(), np.zeros((24, 16), np.uint8), 0, []
    for _ in range(int(draw.integers(2, 7))):
        who = np.flatnonzero(draw.random(24) < draw.uniform(0.15, 0.4))
        what = np.flatnonzero(draw.random(16) < draw.uniform(0.15, 0.35))
        if len(who) < 3 or len(what) < 2:
            continue
        for place in what:
            need[who, place] = np.maximum(need[who, place], draw.choice([READ, CHANGE]))
        groups.append(frozenset(who.tolist()))
        price += costs.group + costs.membership * len(who) + costs.grant * len(what)
    single = (draw.random(need.shape) < noise) & (need == 0)
    need[single] = draw.choice([READ, CHANGE], int(single.sum()))
    return need, price + costs.personal * int(single.sum()), groups


def test_groups_that_made_the_needs_are_found_again() -> None:
    draw = np.random.default_rng(4)
    found = planted_ones = right = 0
    for number in range(100):
        need, price, groups = planted(draw, noise=number % 6 / 100)
        table = Table.of(need)
        answer = solve(table)
        assert table.gives(answer.groups, answer.personal)
        assert answer.cost <= price
        made = {frozenset(group.members) for group in answer.groups}
        found, planted_ones, right = found + len(made), planted_ones + len(set(groups)), right + len(made & set(groups))
    assert right / planted_ones > 0.8, f"recall {right / planted_ones:.3f}"
    assert right / found > 0.7, f"precision {right / found:.3f}"
    print(f"recall {right / planted_ones:.3f}, precision {right / found:.3f}")


def test_odd_tables() -> None:
    nobody = solve(Table.of(np.zeros((3, 2), np.uint8)))
    assert (nobody.groups, nobody.personal, nobody.cost, nobody.gap) == ((), (), 0, 0)
    assert solve(Table.of(np.zeros((0, 0), np.uint8))).cost == 0
    alone = solve(Table.of(np.array([[READ, CHANGE]], np.uint8)))
    assert alone.personal == ((0, PlaceGrant(0, READ)), (0, PlaceGrant(1, CHANGE)))
    role = solve(Table.of(np.full((1, 5), READ, np.uint8)))
    assert [(group.members, len(group.grants)) for group in role.groups] == [((0,), 5)]
    alike = solve(Table.of(np.full((5000, 3), CHANGE, np.uint8)))
    assert [(len(group.members), len(group.grants)) for group in alike.groups] == [(5000, 3)]


def test_it_can_be_stopped_with_what_it_has() -> None:
    need, _, _ = planted(np.random.default_rng(1), 0.05)
    table = Table.of(need)
    told = []
    answer = solve(table, tell=lambda one: bool(told.append(one)))
    assert told == [answer]
    assert table.gives(answer.groups, answer.personal)
    assert answer.cost >= solve(table).cost


@pytest.mark.parametrize("seconds", [0.0, 0.2])
@pytest.mark.parametrize("beyond", [0, 1.5])
def test_however_little_time_there_is_an_answer(seconds: float, beyond: float) -> None:
    draw = np.random.default_rng(7)
    need: Codes = draw.choice([0, READ, CHANGE], (16, 12), p=[0.6, 0.2, 0.2]).astype(np.uint8)
    table = Table.of(need, costs=Costs(beyond=beyond))
    if beyond:
        table = replace(table, limit=np.full(need.shape, CHANGE, np.uint8))
    answer = solve(table, seconds)
    assert table.gives(answer.groups, answer.personal)
    assert 0 <= answer.gap <= 1


# --- in a plan --------------------------------------------------------------------------------------------------------


@st.composite
def cases(draw: st.DrawFn) -> tuple[Plan, list[Need]]:
    """A plan without lists by hand, and needs in it."""
    users = {f"u{n}": User(id=f"u{n}", name=f"u{n}") for n in range(draw(st.integers(1, 7)))}
    groups: dict[str, Group] = {}
    for n in range(draw(st.integers(0, 4))):
        inside = draw(st.sets(st.sampled_from([*users, *groups]), max_size=4))
        groups[f"g{n}"] = Group(id=f"g{n}", name=f"g{n}", members=frozenset(inside))
    places: dict[str, Place] = {}
    styles = st.sampled_from([None, None, Ordered(()), Posix(())])
    for n in range(draw(st.integers(1, 6))):
        parent = draw(st.sampled_from([None, *places]))
        if parent is None:
            acl = draw(styles)
            enforced = draw(st.sampled_from(["storage", "both"])) if acl else "share"
            places[f"p{n}"] = Place(id=f"p{n}", name=f"p{n}", kind="pool", acl=acl, enforced_by=enforced)
            continue
        planned = any(places[up].acl for up in _path(places, parent))
        acl = draw(styles) if planned and draw(st.booleans()) else None
        stops = draw(st.integers(0, 6)) == 0
        places[f"p{n}"] = Place(
            id=f"p{n}", name=f"p{n}", kind="folder", parent=parent, acl=acl, inheritance_stops=stops
        )
    whos = st.sampled_from([*users, *groups, EVERYONE])
    grants = {
        p: draw(st.dictionaries(whos, st.sampled_from([Level.NA, Level.RO, Level.RW]), max_size=3)) for p in places
    }
    precedence, combining = draw(st.sampled_from(RULES))
    baseline = draw(st.sampled_from([None, *groups]))
    target = Target(precedence=precedence, combining=combining, baseline=baseline)
    needs = [
        Need.of(who, place, wish)
        for place in places
        for who, wish in draw(
            st.dictionaries(st.sampled_from([*users, *groups]), st.sampled_from(WISHES), max_size=8)
        ).items()
    ]
    return Plan(
        target=target, users=users, groups=groups, places=places, grants={p: g for p, g in grants.items() if g}
    ), needs


def _path(places: dict[str, Place], place: str) -> list[str]:
    parent = places[place].parent
    return [place, *(_path(places, parent) if parent else [])]


@settings(max_examples=times(250, 1000))
@given(cases())
def test_everybody_gets_just_what_they_need_by_any_rule(case: tuple[Plan, list[Need]]) -> None:
    plan, needs = case
    found = suggest(plan, needs, ON)
    places = {need.place for need in needs}
    refused = any(
        level == Level.NA for place, said in plan.grants.items() if place not in places for level in said.values()
    )
    if not refused:  # what refuses the way there, in a place of which no need speaks, is left alone, and said
        assert found.misses == ()
        over_all_ways(found)
    again, _ = apply(plan, found.edits)
    assert again.grants == found.after.grants
    kept = {place: said for place, said in plan.grants.items() if place not in places}
    assert {place: said for place, said in again.grants.items() if place not in places} == kept
    assert {group: again.groups[group].members for group in plan.groups} == {
        g.id: g.members for g in plan.groups.values()
    }
    if plan.target.combining != "first":
        assert all(level != Level.NA for place in places for level in again.grants.get(place, {}).values())


def over_all_ways(found: Suggestion) -> None:
    """With each place shared whose pool has lists, everybody gets just what they need there, over the best of all ways in."""
    wanted, plan = found.asked, found.after
    listed = {place for place in plan.places if plan.places[plan.path(place)[0]].acl is not None}
    shares = [PutShare(Share(id=f"s {place}", name=place, place=place, nfs=True)) for place in listed]
    shared = outcome(resolve(apply(plan, shares)[0], ON))
    for row, one in enumerate(wanted.people):
        for column, place in ((column, place) for column, place in enumerate(wanted.places) if place in listed):
            got = CODE_OF[shared.level(one, place).code]
            assert wanted.least[row, column] <= got <= wanted.most[row, column], (one, place)


def office() -> Plan:
    users = {name: User(id=name, name=name) for name in ("ada", "milo", "ruth", "sol", "tess")}
    groups = {"office": Group(id="office", name="office", members=frozenset(["ada", "milo", "ruth"]))}
    pool = Place(id="store", name="store", kind="pool", acl=Ordered(()), enforced_by="storage")
    folders = {n: Place(id=n, name=n, kind="folder", parent="store") for n in ("drawings", "wages")}
    return Plan(users=users, groups=groups, places={"store": pool, **folders})


def need(who: str, place: str, wish: str) -> Need:
    return Need.of(who, place, wish)  # type: ignore[arg-type]


def test_a_group_that_is_there_is_used_and_an_exception_stays_one() -> None:
    needs = [need("office", "drawings", "change"), need("tess", "drawings", "read")]
    found = suggest(office(), needs, ON)
    assert found.after.grants == {"drawings": {"office": Level.RW, "tess": Level.RO}}
    assert (found.figures.new_groups, found.figures.grants, found.figures.personal) == (0, 1, 1)
    assert found.answer.proven


def test_ones_own_need_counts_before_that_of_a_group_and_must_not_is_never_reached() -> None:
    needs = [need("office", "wages", "read"), need("ruth", "wages", "must not"), need("milo", "wages", "change")]
    found = suggest(office(), needs, ON)
    assert found.misses == ()
    assert found.after.grants["wages"] == {"milo": Level.RW, "ada": Level.RO}


def test_needs_of_groups_that_contradict_each_other_are_said() -> None:
    plan = office()
    plan = replace(plan, groups={**plan.groups, "temps": Group(id="temps", name="temps", members=frozenset(["ruth"]))})
    found = asked(plan, [need("office", "wages", "read"), need("temps", "wages", "must not")], ON)
    assert [(one.user, one.place, len(one.needs)) for one in found.conflicts] == [("ruth", "wages", 2)]
    assert found.never[found.people.index("ruth"), 0]


def test_what_storage_does_not_give_is_said() -> None:
    plan, _ = apply(office(), [SetGrant("store", "office", Level.NA)])
    found = suggest(plan, [need("ada", "drawings", "read")], ON)
    assert found.misses == (Miss("ada", "drawings", Level.RO, Level.NA),)


def test_a_small_change_of_needs_is_a_small_change_of_groups() -> None:
    plan = office()
    whos = ("ada", "milo", "sol", "tess")
    needs = [need(who, place, "change") for who in whos for place in ("drawings", "wages")]
    first = suggest(plan, needs, ON)
    assert [len(edit.group.members) for edit in first.edits if isinstance(edit, PutGroup)] == [4]
    grown, _ = apply(first.after, [PutUser(User(id="wim", name="wim"))])
    second = suggest(grown, [*needs, need("wim", "drawings", "read")], ON)
    assert [type(edit) for edit in second.edits] != []
    assert all(isinstance(edit, SetGrant) for edit in second.edits)
    assert {edit.who for edit in second.edits if isinstance(edit, SetGrant) and edit.place == "wages"} == set()


def test_of_equal_answers_the_one_that_keeps_todays_grants() -> None:
    twin = Group(id="workshop", name="workshop", members=office().groups["office"].members)
    plan = replace(office(), groups={"office": office().groups["office"], "workshop": twin})
    for kept in ("office", "workshop"):
        today, _ = apply(plan, [SetGrant("drawings", kept, Level.RW)])
        needs = [need(who, place, "change") for who in twin.members for place in ("drawings", "wages")]
        found = suggest(today, needs, ON)
        assert found.after.grants["drawings"] == {kept: Level.RW}
        assert (found.figures.new_groups, found.figures.grants) == (0, 2)


def test_groups_that_there_are_may_change_members_where_that_changes_nothing_else() -> None:
    whos = ("ada", "milo", "sol")
    needs = [need(who, place, "change") for who in whos for place in ("drawings", "wages")]
    kept = suggest(office(), needs, ON)
    assert kept.after.groups["office"] == office().groups["office"]
    moved = suggest(office(), needs, ON, Terms(may_change=True))
    assert moved.after.groups["office"].members == {"ada", "milo", "sol"}
    assert [type(edit) for edit in moved.edits if not isinstance(edit, SetGrant)] == [Leave, Join]
    assert moved.misses == ()
    assert moved.answer.cost < kept.answer.cost
    elsewhere, _ = apply(office(), [SetGrant("store", "office", Level.RO)])
    assert suggest(elsewhere, needs, ON, Terms(may_change=True)).after.groups["office"].members == {
        "ada",
        "milo",
        "ruth",
    }


def test_a_group_in_a_group_where_that_is_fewer_memberships() -> None:
    staff = tuple(f"u{n}" for n in range(12))
    users = {who: User(id=who, name=who) for who in staff}
    crew = Group(id="crew", name="crew", members=frozenset(staff[:8]))
    plan = replace(office(), users=users, groups={"crew": crew})
    needs = [need(who, place, "change") for who in staff[:10] for place in ("drawings", "wages")]
    needs += [need(who, "store", "read") for who in staff[:8]]
    found = suggest(plan, needs, ON)
    (made,) = (edit.group for edit in found.edits if isinstance(edit, PutGroup))
    assert made.members == {"crew", "u8", "u9"}
    assert found.figures.memberships == 3
    assert found.misses == ()
    assert [(len(role.people), role.acts) for role in roles(found)] == [(8, 1), (2, 1)]


@settings(max_examples=times(40, 500))
@given(cases())
def test_simpler_answers_give_no_less_never_what_must_not_be_and_say_what_is_more(
    case: tuple[Plan, list[Need]],
) -> None:
    plan, needs = case
    places = {need.place for need in needs}
    if any(level == Level.NA for place, said in plan.grants.items() if place not in places for level in said.values()):
        return
    exact, *others = answers(plan, needs, ON, Terms(seconds=2, may_change=True))
    assert exact.kind == "exact"
    last = exact
    for other in others:
        found = other.suggestion
        assert found.misses == ()
        wanted, got = found.asked, resolve(found.after, ON)
        more = {
            (one, place)
            for row, one in enumerate(wanted.people)
            for column, place in enumerate(wanted.places)
            if got.level(one, place) > LEVEL_OF.get(int(wanted.most[row, column]), Level.PT)
        }
        assert more == {(miss.user, miss.place) for miss in found.beyond}
        assert not any(wanted.never[wanted.people.index(one), wanted.places.index(place)] for one, place in more)
        if other.kind == "simpler":
            assert other.cost < last.cost
            assert len(found.beyond) > len(last.suggestion.beyond)
            last = other
        else:
            assert found.beyond == ()


def test_a_simpler_answer_says_who_could_do_what_and_never_what_must_not_be() -> None:
    whos = ("ada", "milo", "sol", "tess")
    needs = [need(who, "drawings", "change") for who in whos] + [need(who, "wages", "change") for who in whos[:3]]
    kinds = [(one.kind, one.suggestion.beyond) for one in answers(office(), needs, ON)]
    assert ("simpler", (Miss("tess", "wages", Level.NA, Level.RW),)) in kinds
    guarded = [*needs, need("tess", "wages", "must not"), need("ruth", "wages", "must not")]
    assert all(not one.suggestion.beyond for one in answers(office(), guarded, ON))


def test_which_groups_a_newcomer_should_join() -> None:
    plan, _ = apply(office(), [SetGrant("drawings", "office", Level.RW)])
    needs = {one.id: one for one in (need("sol", "drawings", "change"), need("tess", "wages", "read"))}
    demand = asked(plan, needs.values(), ON)
    now, *found = fits(plan, demand, "sol", ON)
    assert (now.lacks, now.groups) == (("drawings",), ())
    assert [(fit.groups, fit.lacks, fit.beyond, fit.never) for fit in found] == [(("office",), (), (), ())]
    assert fits(plan, demand, "tess", ON)[1:] == ()
    barred = asked(plan, [need("sol", "drawings", "must not"), need("sol", "wages", "read")], ON)
    assert fits(plan, barred, "sol", ON)[1:] == ()


def test_what_a_group_of_a_project_is_granted() -> None:
    plan, _ = apply(office(), [SetGrant("wages", "milo", Level.RO)])
    needs = [need("ada", "drawings", "change"), need("milo", "drawings", "read")]
    edits = project(plan, asked(plan, needs, ON), ("ada", "milo"), ON)
    assert [edit.group.members for edit in edits if isinstance(edit, PutGroup)] == [{"ada", "milo"}]
    assert [(edit.place, edit.level) for edit in edits if isinstance(edit, SetGrant)] == [("drawings", Level.RO)]
    assert project(plan, asked(plan, needs, ON), ("ada", "sol"), ON) == ()


def test_many_people_in_a_plan_and_no_time() -> None:
    users = {f"u{n}": User(id=f"u{n}", name=f"u{n}") for n in range(5000)}
    plan = replace(office(), users=users, groups={})
    needs = [need(who, "drawings", "change" if number % 3 else "read") for number, who in enumerate(users)]
    found = suggest(plan, needs, ON, Terms(seconds=0.01))
    assert found.misses == ()
    assert (found.figures.new_groups, found.figures.grants, found.figures.personal) == (2, 2, 0)
    nothing = suggest(plan, [], ON)
    assert (nothing.edits, nothing.misses) == ((), ())


@pytest.mark.parametrize("wish", WISHES)
def test_one_wish_alone(wish: str) -> None:
    found = suggest(office(), [need("ada", "wages", wish)], ON)
    assert found.misses == ()
    assert found.asked.count == (wish in ("change", "read"))


def test_what_a_share_above_gives_is_said() -> None:
    plan = office()
    bare = {"store": replace(plan.places["store"], acl=None, enforced_by="share")}
    share = Share(id="all", name="all", place="store")
    plan = replace(plan, places={**plan.places, **bare}, shares={"all": share})
    found = suggest(plan, [need("ada", "store", "change"), need("ada", "wages", "read")], ON)
    assert found.misses == (Miss("ada", "wages", Level.RO, Level.RW),)
