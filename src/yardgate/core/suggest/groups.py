"""Groups, memberships and grants that give exactly what is needed, as edits of a plan.

In the places of which a need speaks, all grants are made anew; elsewhere nothing is changed. Groups that there are keep their members and are
used where they fit. Where less is needed below than comes down from above, a place has its own list only. What comes out is worked out by the
same resolver as everything else; where storage gives something else than was needed (a list by hand, a folder above that nobody may enter),
that is said, cell by cell.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import NamedTuple

import numpy as np

from yardgate.core.access.batch.resolve import Codes, resolve
from yardgate.core.access.bitsets import count, unpack
from yardgate.core.access.storage import storage_state
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, PutGroup, PutPlace, SetGrant
from yardgate.core.model.names import fresh_id, ids_of
from yardgate.core.model.naming import fold
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Group, Plan
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, Demand, asked, awake
from yardgate.core.suggest.cover import CHANGE, USUAL, Costs, Cover, Flags, PlaceGrant, Table, Taken
from yardgate.core.suggest.solve import SECONDS, TellBetter, go_on, solve


class Miss(NamedTuple):
    """Somebody who would not get what they need in a place."""

    user: str
    place: str
    needed: Level
    gets: Level


class Figures(NamedTuple):
    """new_groups, memberships: to make; grants: to groups, counted; personal: grants to single people."""

    new_groups: int
    memberships: int
    grants: int
    personal: int


@dataclass(frozen=True, slots=True)
class Suggestion:
    """Edits that give what was asked for. after: the plan with them. names: of each group of the answer, its id. misses: where something else
    comes out, all the same. given: what was taken as given when it was looked for, so what a proof of it holds under."""

    asked: Demand
    answer: Cover
    names: tuple[str, ...]
    edits: tuple[Edit, ...]
    after: Plan
    misses: tuple[Miss, ...]
    given: tuple[str, ...]

    @property
    def figures(self) -> Figures:
        new = [group for group in self.answer.groups if group.there is None]
        return Figures(
            len(new),
            sum(len(group.members) for group in new),
            sum(len(group.grants) for group in self.answer.groups),
            len(self.answer.personal),
        )


def suggest(
    plan: Plan,
    needs: Iterable[Need],
    on: date,
    costs: Costs = USUAL,
    seconds: float = SECONDS,
    tell: TellBetter = go_on,
) -> Suggestion:
    """The simplest groups that give people what they need, and nothing else, in the places of which the needs speak."""
    wanted = asked(plan, needs, on)
    found = _suggestion(plan, wanted, frozenset(), on, costs, seconds, tell)
    stopped: frozenset[str] = frozenset()
    while more := _from_outside(plan, found, stopped, on):
        stopped |= more
        found = _suggestion(plan, wanted, stopped, on, costs, seconds, tell)
    return found


def _from_outside(plan: Plan, found: Suggestion, stopped: frozenset[str], on: date) -> frozenset[str]:
    """Places where something else comes out and grants come down from a place of which no need speaks."""
    amiss = {miss.place for miss in found.misses}
    bare, _ = _bare(plan, found.asked, stopped)
    storage = storage_state(bare, count(bare, on)) if amiss else {}
    return frozenset(place for place in amiss if place in storage and storage[place].grants)


def _suggestion(
    plan: Plan, wanted: Demand, stopped: frozenset[str], on: date, costs: Costs, seconds: float, tell: TellBetter
) -> Suggestion:
    bare, stops = _bare(plan, wanted, stopped)
    there = _groups(plan, wanted, on)
    table = Table(
        _still_needed(wanted, _given(bare, wanted, on)) if _adds(plan) else wanted.least,
        wanted.most,
        _counts(bare, wanted, on),
        np.array(list(there.values()), np.bool_).reshape(len(there), len(wanted.people)),
        exact_grants=not _adds(plan),
        costs=costs,
    )
    answer = solve(table, seconds, tell)
    tree = bool(stops) or int(table.counts.sum()) > len(wanted.places)
    given = [
        (tree, "with these places inheriting as they then do"),
        (not _adds(plan), "with each grant right by itself"),
    ]
    groups, names = _named(plan, wanted, answer, tuple(there))
    edits = (*groups, *stops, *_grants(plan, wanted, answer, names))
    after, _ = apply(plan, edits)
    return Suggestion(
        wanted, answer, names, edits, after, misses(after, wanted, on), tuple(words for so, words in given if so)
    )


def misses(plan: Plan, wanted: Demand, on: date) -> tuple[Miss, ...]:
    """Who would get something else than they need, by grants and storage."""
    got = _given(plan, wanted, on)
    return tuple(
        Miss(
            wanted.people[row],
            wanted.places[column],
            LEVEL_OF.get(int(wanted.least[row, column]), Level.NA),
            LEVEL_OF.get(int(got[row, column]), Level.NA),
        )
        for row, column in zip(*np.nonzero((got < wanted.least) | (got > wanted.most)), strict=True)
    )


def _adds(plan: Plan) -> bool:
    """Whether several grants without a refusal come to the widest."""
    return plan.target.precedence == "pooled" and plan.target.combining in ("refusal", "widest")


def _given(plan: Plan, wanted: Demand, on: date) -> Codes:
    """What grants and storage give, as in a table: passing through is nothing."""
    matrix = resolve(awake(plan), on)
    rows = [matrix.counting.number[person] for person in wanted.people]
    columns = [CODE_OF[matrix.rows[place][rows]] for place in wanted.places]
    return np.array(columns, np.uint8).reshape(len(columns), len(rows)).T


def _still_needed(wanted: Demand, given: Codes) -> Codes:
    """What is left to grant, where storage gives something without it (lists by hand, grants further up)."""
    left: Codes = np.where(given >= wanted.least, 0, wanted.least).astype(np.uint8)
    return left


def _bare(plan: Plan, wanted: Demand, also: frozenset[str]) -> tuple[Plan, tuple[Edit, ...]]:
    """The plan without grants in the places asked for, and where nothing may come down any more because less is needed there, or as told."""
    column = {place: number for number, place in enumerate(wanted.places)}
    stopped = {place.id for place in plan.places.values() if place.inheritance_stops}

    def harm(above: str, place: str) -> bool:
        """Whether what somebody needs above is not what they may get here."""
        needed, least, most = (
            wanted.least[:, column[above]],
            wanted.least[:, column[place]],
            wanted.most[:, column[place]],
        )
        return bool(((needed > most) | ((needed < least) & (needed > 0) & (not _adds(plan)))).any())

    stops: list[Edit] = [
        PutPlace(replace(plan.places[place], inheritance_stops=True)) for place in sorted(also - stopped)
    ]
    stopped |= also
    for place in sorted(wanted.places, key=lambda place: len(plan.path(place))):
        here = place
        while here not in stopped and (above := plan.places[here].parent) is not None:
            here = above
            if above in column and harm(above, place):
                stops.append(PutPlace(replace(plan.places[place], inheritance_stops=True)))
                stopped.add(place)
                break
    grants = {place: said for place, said in plan.grants.items() if place not in column}
    return apply(replace(plan, grants=grants), stops)[0], tuple(stops)


def _groups(plan: Plan, wanted: Demand, on: date) -> Mapping[str, Flags]:
    """The groups that there are, with who is in them."""
    counting = count(plan, on)
    rows = [counting.number[person] for person in wanted.people]
    found = {}
    for group in plan.groups.values():
        inside = unpack(counting.bits[counting.number[group.id] - counting.users], counting.users)[rows]
        if inside.any() and not group.gone:
            found[group.id] = inside
    return found


def _counts(bare: Plan, wanted: Demand, on: date) -> Flags:
    """Where a grant on each place counts: looked at with somebody else on each."""
    taken = ids_of(bare)
    probes = {}
    for place in wanted.places:
        probes[place] = fresh_id(f"probe {place}", taken)
        taken.add(probes[place])
    groups = {**bare.groups, **{probe: Group(id=probe, name=probe) for probe in probes.values()}}
    grants = {**bare.grants, **{place: {probe: Level.RO} for place, probe in probes.items()}}
    probed = replace(bare, groups=groups, grants=grants)
    storage = storage_state(probed, count(probed, on))
    number = {place: at for at, place in enumerate(wanted.places)}
    found = np.eye(len(number), dtype=np.bool_)
    for place, at in number.items():
        for grant in storage[place].grants if place in storage else ():
            if grant.said_on in number and grant.who == probes[grant.said_on]:
                found[number[grant.said_on], at] = True
    return found


def _grants(plan: Plan, wanted: Demand, answer: Cover, names: Sequence[str]) -> Iterable[Edit]:
    """The grants in the places asked for, the wider first, in the place of those that there were."""
    said: dict[str, dict[str, Level]] = {place: {} for place in wanted.places}
    whos = [(name, group.grants) for name, group in zip(names, answer.groups, strict=True)]
    whos += [(wanted.people[person], (grant,)) for person, grant in answer.personal]
    for who, grants in whos:
        for grant in grants:
            said[wanted.places[grant.place]][who] = LEVEL_OF[grant.level]
    for place, theirs in said.items():
        before = plan.grants.get(place, {})
        ordered = dict(sorted(theirs.items(), key=lambda item: item[1], reverse=True))
        if ordered == before and (plan.target.combining != "first" or list(ordered) == list(before)):
            continue
        yield from (SetGrant(place, who, None) for who in before if who not in theirs)
        yield from (SetGrant(place, who, level, at=at) for at, (who, level) in enumerate(ordered.items()))


def _named(plan: Plan, wanted: Demand, answer: Cover, there: Sequence[str]) -> tuple[tuple[Edit, ...], tuple[str, ...]]:
    """The new groups, with names of what they are for, and the ids of all groups of the answer."""
    new, edits, names = NewGroups(plan), list[Edit](), list[str]()
    for group in answer.groups:
        if group.there is not None:
            names.append(there[group.there])
            continue
        made = new.group(wanted.people, wanted.places, wanted.least, group)
        edits.append(PutGroup(made))
        names.append(made.id)
    return tuple(edits), tuple(names)


class NewGroups:
    """Groups that a plan does not have yet, each with an id and a name that nothing else has."""

    def __init__(self, plan: Plan):
        self.plan, self.taken = plan, ids_of(plan)
        self.called = {fold(one.name) for some in (plan.groups.values(), plan.users.values()) for one in some}

    def group(self, people: Sequence[str], places: Sequence[str], needed: Codes, group: Taken) -> Group:
        """A group of an answer as one of the plan."""
        name = self._name(places, needed, group)
        found = fresh_id(name, self.taken)
        self.taken.add(found)
        self.called.add(fold(name))
        return Group(id=found, name=name, members=frozenset(people[one] for one in group.members))

    def _name(self, places: Sequence[str], needed: Codes, group: Taken) -> str:
        """What it is for: the place where the fewest others have what it gives, and what that is."""

        def worth(grant: PlaceGrant) -> tuple[int, int]:
            return grant.level, -int((needed[:, grant.place] > 0).sum())

        best = max(group.grants, key=worth)
        place = self.plan.places[places[best.place]].name.lower().replace(" ", "-")
        plain = f"{place}-{'editors' if best.level == CHANGE else 'readers'}"
        name, number = plain, 2
        while fold(name) in self.called:
            name, number = f"{plain}-{number}", number + 1
        return name
