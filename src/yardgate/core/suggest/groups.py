"""Groups, memberships and grants that give exactly what is needed, as edits of a plan.

In the places of which a need speaks, all grants are made anew; elsewhere nothing is changed. Groups that there are keep their members, unless told
otherwise, and are used where they fit. Where less is needed below than comes down from above, a place has its own list only. What comes out is worked out by the
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
from yardgate.core.access.outcome import outcome
from yardgate.core.access.storage import storage_state
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, Join, Leave, PutGroup, PutPlace, SetGrant
from yardgate.core.model.mentions import mentioned
from yardgate.core.model.names import fresh_id, ids_of
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import LOCAL, Group, Plan
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, Demand, asked, awake
from yardgate.core.suggest.cover import USUAL, Costs, Cover, Flags, Personal, PlaceGrant, Table
from yardgate.core.suggest.made import NewGroups, nested
from yardgate.core.suggest.solve import SECONDS, TellBetter, go_on, solve


class Miss(NamedTuple):
    """Somebody who would not get what they need in a place."""

    user: str
    place: str
    needed: Level
    gets: Level


class Figures(NamedTuple):
    """new_groups, memberships: to make (a group in a group is one); grants: to groups, counted; personal: grants to single people."""

    new_groups: int
    memberships: int
    grants: int
    personal: int


@dataclass(frozen=True, slots=True)
class Suggestion:
    """Edits that give what was asked for. before, after: the plan without and with them. names: of each group of the answer, its id. misses: where something else
    comes out, all the same; beyond: where more comes out than is needed, as was allowed. given: what was taken as given when it was looked
    for, so what a proof of it holds under."""

    asked: Demand
    answer: Cover
    names: tuple[str, ...]
    edits: tuple[Edit, ...]
    before: Plan
    after: Plan
    misses: tuple[Miss, ...]
    beyond: tuple[Miss, ...]
    given: tuple[str, ...]

    @property
    def figures(self) -> Figures:
        new = [edit.group for edit in self.edits if isinstance(edit, PutGroup)]
        moved = sum(isinstance(edit, Join | Leave) for edit in self.edits)
        return Figures(
            len(new),
            sum(len(group.members) for group in new) + moved,
            sum(len(group.grants) for group in self.answer.groups),
            len(self.answer.personal),
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Terms:
    """What an answer may do. beyond: what a step that somebody gets beyond their need costs, never where they must not; None: nothing is given
    beyond. may_change: people may join groups that there are, and leave them, where those count in no other place. seconds: how long to look."""

    costs: Costs = USUAL
    beyond: float | None = None
    may_change: bool = False
    seconds: float = SECONDS


USUALLY = Terms()
MENDED = 20
"""People who get what they need today and would not any more, for whom a grant by name is tried: a list by hand may keep them from what their group
is granted. Where they do not get it today either, the list is what has to be looked at, and that is said."""


def suggest(
    plan: Plan, needs: Iterable[Need], on: date, terms: Terms = USUALLY, tell: TellBetter = go_on
) -> Suggestion:
    """The simplest groups that give people what they need, and nothing else, in the places of which the needs speak."""
    wanted = asked(plan, needs, on)
    found = _suggestion(plan, wanted, frozenset(), on, terms, tell)
    stopped: frozenset[str] = frozenset()
    while more := _from_outside(plan, found, stopped, on):
        stopped |= more
        found = _suggestion(plan, wanted, stopped, on, terms, tell)
    return found


def _from_outside(plan: Plan, found: Suggestion, stopped: frozenset[str], on: date) -> frozenset[str]:
    """Places where something else comes out and grants come down from a place of which no need speaks."""
    amiss = {miss.place for miss in found.misses}
    bare, _ = _bare(plan, found.asked, stopped)
    storage = storage_state(bare, count(bare, on)) if amiss else {}
    return frozenset(place for place in amiss if place in storage and storage[place].grants)


def _suggestion(
    plan: Plan, wanted: Demand, stopped: frozenset[str], on: date, terms: Terms, tell: TellBetter
) -> Suggestion:
    bare, stops = _bare(plan, wanted, stopped)
    there = _groups(plan, wanted, on)
    free = _may_change(plan, wanted) if terms.may_change else frozenset[str]()
    services = np.array([plan.users[one].kind == "service" for one in wanted.people], np.uint8)
    table = Table(
        _still_needed(wanted, _given(bare, wanted, on)) if _adds(plan) else wanted.least,
        wanted.most,
        _counts(bare, wanted, on),
        np.array(list(there.values()), np.bool_).reshape(len(there), len(wanted.people)),
        exact_grants=not _adds(plan),
        costs=terms.costs if terms.beyond is None else terms.costs._replace(beyond=terms.beyond),
        limit=None if terms.beyond is None else wanted.limit,
        apart=services,
        nesting=_adds(plan),
        free=np.array([group in free for group in there], np.bool_),
        kept=_granted(plan, wanted, tuple(there)),
        kept_personal=_granted(plan, wanted, wanted.people),
    )
    answer = solve(table, terms.seconds, tell)
    tree = bool(stops) or int(table.counts.sum()) > len(wanted.places)
    given = [
        (tree, "where inheritance stops"),
        (bool(services.any()), "that services have groups of their own"),
        (not _adds(plan), "that each grant is right by itself"),
    ]
    words = tuple(words for so, words in given if so)
    names, groups = _named(plan, wanted, answer, tuple(there))
    moved = *_moved(table, wanted, answer, tuple(there)), *stops

    def made(groups: Iterable[Group], answer: Cover) -> Suggestion:
        edits = (*map(PutGroup, groups), *moved, *_grants(plan, wanted, answer, names))
        after, _ = apply(plan, edits)
        missed, beyond = misses(after, wanted, on, table.limits)
        return Suggestion(wanted, answer, names, edits, plan, after, missed, beyond, words)

    found = made(groups, answer)
    inside = nested(groups, _parts(table, wanted, answer, names, there)) if _adds(plan) else groups
    if set(inside) != set(groups):
        nesting = made(inside, answer)
        if nesting.misses == found.misses and nesting.beyond == found.beyond:
            found, groups = nesting, inside
    for miss in _lost(plan, found.misses, on)[:MENDED]:
        by_name = made(groups, _with_personal(table, wanted, found.answer, miss))
        if len(by_name.misses) < len(found.misses):
            found = replace(by_name, given=(*words, "the grants by name that a list by hand asks for"))
    return found


def _parts(
    table: Table, wanted: Demand, answer: Cover, names: Sequence[str], there: Mapping[str, Flags]
) -> Mapping[str, Mapping[str, frozenset[str]]]:
    """Which groups that there are the answer puts into each new one, with their people."""

    def people(number: int) -> frozenset[str]:
        return frozenset(wanted.people[int(one)] for one in np.flatnonzero(table.there[number]))

    known = tuple(there)
    return {
        name: {known[number]: people(number) for number in group.inside}
        for name, group in zip(names, answer.groups, strict=True)
        if group.there is None
    }


def _lost(plan: Plan, missed: Sequence[Miss], on: date) -> list[Miss]:
    """Those who get what they need today, and would not any more."""
    less = [miss for miss in missed if miss.gets < miss.needed]
    had = resolve(awake(plan), on) if less else None
    return [miss for miss in less if had is not None and miss.needed <= had.level(miss.user, miss.place)]


def _with_personal(table: Table, wanted: Demand, answer: Cover, miss: Miss) -> Cover:
    """The answer with a grant by name for somebody whom a list by hand keeps from what their group is granted."""
    grant = PlaceGrant(wanted.places.index(miss.place), int(CODE_OF[miss.needed.code]))
    personal = tuple(sorted({*answer.personal, (wanted.people.index(miss.user), grant)}))
    cost = table.cost(answer.groups, personal)
    return replace(answer, personal=personal, cost=cost, bound=answer.bound + cost - answer.cost)


def misses(
    plan: Plan, wanted: Demand, on: date, limits: Codes | None = None
) -> tuple[tuple[Miss, ...], tuple[Miss, ...]]:
    """Who would get something else than they may, over the best way in, where there is one, else by grants and storage; and who gets more than they need, within
    limits above that."""
    got = _given(plan, wanted, on, over_ways=True)
    top = wanted.most if limits is None else limits

    def cells(flags: Flags) -> tuple[Miss, ...]:
        return tuple(
            Miss(
                wanted.people[row],
                wanted.places[column],
                LEVEL_OF.get(int(wanted.least[row, column]), Level.NA),
                LEVEL_OF.get(int(got[row, column]), Level.NA),
            )
            for row, column in zip(*np.nonzero(flags), strict=True)
        )

    amiss = (got < wanted.least) | (got > top)
    return cells(amiss), cells((got > wanted.most) & ~amiss)


def _granted(plan: Plan, wanted: Demand, whos: Sequence[str]) -> frozenset[Personal]:
    """The grants of today to some of the groups or people, by number."""
    number = {who: at for at, who in enumerate(whos)}
    return frozenset(
        (number[who], PlaceGrant(column, int(CODE_OF[level.code])))
        for column, place in enumerate(wanted.places)
        for who, level in plan.grants.get(place, {}).items()
        if who in number
    )


def _may_change(plan: Plan, wanted: Demand) -> frozenset[str]:
    """The groups that there are whose members may change, for it changes nothing else: of people only, in no group, and said nowhere but in
    grants of the places asked for."""
    said = {who for place, grants in plan.grants.items() if place not in wanted.places for who in grants}
    said = said.union(
        (need.who for need in plan.needs.values()),
        *(mentioned(place) for place in plan.places.values()),
        *(pattern.acl.whos for pattern in plan.patterns.values()),
        *({promise.who, *promise.except_for} for promise in plan.promises.values()),
        *(service.allowed or () for service in plan.services.values()),
        (share.administrator or "" for share in plan.shares.values()),
        (user.primary_group or "" for user in plan.users.values()),
        (plan.target.baseline or "", plan.target.administrators or ""),
        *(group.members for group in plan.groups.values()),
    )
    return frozenset(
        group.id
        for group in plan.groups.values()
        if group.origin == LOCAL and group.members <= plan.users.keys() and group.id not in said
    )


def _adds(plan: Plan) -> bool:
    """Whether several grants without a refusal come to the widest."""
    return plan.target.precedence == "pooled" and plan.target.combining in ("refusal", "widest")


def _given(plan: Plan, wanted: Demand, on: date, *, over_ways: bool = False) -> Codes:
    """What grants and storage give, as in a table: passing through is nothing. over_ways: what comes out over shares, in places that some of them offer."""
    matrix = resolve(awake(plan), on)
    rows = [matrix.counting.number[person] for person in wanted.people]
    columns = {place: matrix.rows[place] for place in wanted.places}
    if over_ways and plan.shares:
        found = outcome(matrix)
        columns |= {place: found.best[None][place] for place in wanted.places if found.ways_to(place)}
    codes = [CODE_OF[columns[place][rows]] for place in wanted.places]
    return np.array(codes, np.uint8).reshape(len(codes), len(rows)).T


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


def _named(
    plan: Plan, wanted: Demand, answer: Cover, there: Sequence[str]
) -> tuple[tuple[str, ...], tuple[Group, ...]]:
    """The ids of all groups of the answer; and those that are new, with names of what they are for."""
    new, put, names = NewGroups(plan), list[Group](), list[str]()
    for group in answer.groups:
        if group.there is not None:
            names.append(there[group.there])
            continue
        made = new.group(wanted.people, wanted.places, wanted.least, group)
        put.append(made)
        names.append(made.id)
    return tuple(names), tuple(put)


def _moved(table: Table, wanted: Demand, answer: Cover, there: Sequence[str]) -> Iterable[Edit]:
    """Who joins groups that there are, and leaves them."""
    for group in answer.groups:
        if group.there is not None:
            for person in sorted(table.changed(group)):
                move = Join if person in group.members else Leave
                yield move(there[group.there], wanted.people[person])
