"""The fewest groups that give people just what they need, as a covering problem.

Given is a table: what each person must get at least in each place, and what they may get at most. Sought are groups (some people, with one
grant on each of some places), and grants to single people, so that everybody gets at least the one and nowhere more than the other. Each
group, membership, grant and personal grant has a cost; the sum is to be the least.

People who need the same and are in the same groups are one *class*, and places where the same is needed one *column*, with how many they
are; a cheapest answer treats them alike. What can be granted is a *grant*: a column and a level, which *fits* a class where it gives nobody
more than they may get, wherever it counts, and *covers* the cells for which it is enough.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from math import ceil
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.resolve import Codes

Flags = NDArray[np.bool_]
Spot = tuple[int, int]
"""A class and a column."""
READ, CHANGE = 1, 2
"""What can be granted; 0 is nothing."""


class Costs(NamedTuple):
    """What an administrator has to look after, in one measure. personal: a grant to a single person, as an exception; beyond: a step, from
    nothing to read or from read to change, that somebody gets beyond what they may; only where a table has a `limit` above that."""

    group: int = 4
    membership: int = 1
    grant: int = 2
    personal: int = 4
    beyond: float = 0


USUAL = Costs()


class PlaceGrant(NamedTuple):
    place: int
    level: int


Personal = tuple[int, PlaceGrant]
"""A person, and what they are granted by name."""


class Taken(NamedTuple):
    """A group of an answer: people and places by number. there: the number of the group that there is already; inside: the numbers of those that are in
    a new one, with all their people."""

    members: tuple[int, ...]
    grants: tuple[PlaceGrant, ...]
    there: int | None = None
    inside: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Cover:
    """Groups and personal grants that give what is needed. bound: no answer is cheaper than that, where `proven`; else none that is made of the
    groups that were looked at."""

    groups: tuple[Taken, ...]
    personal: tuple[Personal, ...]
    cost: float
    bound: float
    proven: bool

    @property
    def gap(self) -> float:
        """How much cheaper the best can be at most, as a part of the cost."""
        return 0.0 if self.cost == 0 else max(0.0, (self.cost - self.bound) / self.cost)


@dataclass(frozen=True)
class Table:
    """What is needed. least, most: uint8 (people, places), 0, READ or CHANGE; least <= most.

    counts: bool (places, places), whether a grant on the one counts in the other. there: bool (groups, people), who is in the groups that
    there are. exact_grants: each grant that concerns somebody must itself be neither too little nor too much for them, as where not the
    widest of several counts. costs: see there. limit: uint8 (people, places), >= most: what may come out at the cost of `beyond`; None:
    nothing beyond `most`. apart: uint8 (people,): those of different numbers are never in one new group; None: all may be. nesting: whether groups that there are may be in new ones. free: bool (groups,), the groups that there are whose members may change; None: of none. kept, kept_personal:
    grants of today to groups that there are, and to people: of answers that cost the same, the one with the most of them.
    """

    least: Codes
    most: Codes
    counts: Flags
    there: Flags
    exact_grants: bool = False
    costs: Costs = USUAL
    limit: Codes | None = None
    apart: Codes | None = None
    nesting: bool = False
    free: Flags | None = None
    kept: frozenset[Personal] = frozenset()
    kept_personal: frozenset[Personal] = frozenset()

    @classmethod
    def of(cls, least: Codes, most: Codes | None = None, there: Flags | None = None, costs: Costs = USUAL) -> "Table":
        """A table without a tree: what is granted on a place counts there alone."""
        people, places = least.shape
        none = np.zeros((0, people), np.bool_)
        return cls(
            least,
            least if most is None else most,
            np.eye(places, dtype=np.bool_),
            none if there is None else there,
            costs=costs,
        )

    @cached_property
    def limits(self) -> Codes:
        return self.most if self.limit is None else self.limit

    def cost(self, groups: tuple[Taken, ...], personal: tuple[Personal, ...]) -> float:
        beyond = self.costs.beyond * self.steps_beyond(groups, personal) if self.limit is not None else 0
        return (
            self.costs.group * sum(group.there is None for group in groups)
            + self.costs.membership * sum(self.memberships(group) for group in groups)
            + self.costs.grant * sum(len(group.grants) for group in groups)
            + self.costs.personal * len(personal)
            + beyond
        )

    def memberships(self, group: Taken) -> int:
        """How many there are to make, or to take back; a group in a group is one."""
        if group.there is not None:
            return len(self.changed(group))
        nested = {int(one) for number in group.inside for one in np.flatnonzero(self.there[number])}
        return len(group.inside) + len(set(group.members) - nested)

    def changed(self, group: Taken) -> set[int]:
        """Who joins a group or leaves it."""
        before = [] if group.there is None else np.flatnonzero(self.there[group.there]).tolist()
        return set(before) ^ set(group.members)

    def steps_beyond(self, groups: tuple[Taken, ...], personal: tuple[Personal, ...]) -> int:
        """By how many steps people get more than they may, all together."""
        given = self.given(groups, personal)
        return int(np.where(given > self.most, given - self.most, 0).sum())

    def given(self, groups: tuple[Taken, ...], personal: tuple[Personal, ...]) -> Codes:
        """What everybody gets, where the widest counts: uint8 (people, places)."""
        found = np.zeros_like(self.least)
        for members, grants, *_ in (*groups, *(Taken((person,), (grant,)) for person, grant in personal)):
            for place, level in grants:
                at = np.ix_(np.array(members, np.intp), np.flatnonzero(self.counts[place]))
                found[at] = np.maximum(found[at], level)
        return found

    def gives(self, groups: tuple[Taken, ...], personal: tuple[Personal, ...]) -> bool:
        """Whether everybody gets what they must, and nobody what may not come out."""
        found = self.given(groups, personal)
        return bool((found >= self.least).all() and (found <= self.limits).all())


Excess = tuple[int, int]
"""A column and a code: getting that there."""


class Slot(NamedTuple):
    """What can be granted. column: on which; level; fits: the classes to which it may be given, as bits; serves: the classes for which it is
    enough and which need something, as bits, for each column in which it counts; beyond: the classes that get a step beyond what they may
    by it, by column and step."""

    column: int
    level: int
    fits: int
    serves: tuple[tuple[int, int], ...]
    beyond: tuple[tuple[Excess, int], ...] = ()

    @property
    def within(self) -> int:
        """The classes to which it gives nothing beyond what they may."""
        found = self.fits
        for _, some in self.beyond:
            found &= ~some
        return found


class Grantee(NamedTuple):
    """A group: its members as bits of classes, its grants, which that there is it is, and which of those are in it."""

    members: int
    slots: list[Slot]
    there: int | None = None
    inside: tuple[int, ...] = ()


class Merged:
    """A table with equal people and equal places taken together.

    classes: the people of each; columns: the places of each. least, most: uint8 (classes, columns). slots: all that can be granted and is of
    use to somebody.
    """

    def __init__(self, table: Table):
        self.table, self.costs = table, table.costs
        kinds = np.zeros(len(table.least), np.uint8) if table.apart is None else table.apart
        self.classes = _equal(np.hstack([table.least, table.most, table.limits, table.there.T, kinds[:, None]]))
        kind = [int(kinds[some[0]]) for some in self.classes]
        self.kinds = tuple(bits([at for at, one in enumerate(kind) if one == each]) for each in sorted(set(kind)))
        alone = (table.counts.sum(0) == 1) & (table.counts.sum(1) == 1)
        marks = np.where(alone, 0, np.arange(1, len(alone) + 1))[
            :, None
        ]  # a place with others below or above it is like no other
        self.columns = _equal(np.hstack([table.least.T, table.most.T, table.limits.T, marks]))
        first = np.ix_([some[0] for some in self.classes], [some[0] for some in self.columns])
        self.least, self.most, self.limits = table.least[first], table.most[first], table.limits[first]
        places = [some[0] for some in self.columns]
        self.counts = table.counts[np.ix_(places, places)]
        self.there = [bits(np.flatnonzero(one[[some[0] for some in self.classes]])) for one in table.there]
        self.weights = tuple(len(some) for some in self.classes)
        self.alike = all(weight == 1 for weight in self.weights)
        self.loose = table.limit is not None
        self.free = frozenset(np.flatnonzero(table.free).tolist() if table.free is not None else ())
        self.tie = 0.5 / (1 + len(table.kept) + len(table.kept_personal))  # all of them together decide nothing else
        self.slots = tuple(self._slots())

    def _slots(self) -> "list[Slot]":
        found = []
        for column in range(len(self.columns)):
            reached = self.counts[column]
            for level in (READ, CHANGE):
                fits: Flags = np.all(self.limits[:, reached] >= level, axis=1)
                if self.table.exact_grants:
                    fits &= (self.least[:, reached] <= level).all(1)
                enough: Flags = np.logical_and(np.logical_and(self.least > 0, self.least <= level), fits[:, None])
                serves = tuple(
                    (int(q), bits(np.flatnonzero(enough[:, q]))) for q in np.flatnonzero(reached) if enough[:, q].any()
                )
                beyond = [
                    ((int(q), step), bits(np.flatnonzero(fits & (self.most[:, q] < step))))
                    for q in np.flatnonzero(reached)
                    for step in range(READ, level + 1)
                ]
                if serves:
                    more = tuple((step, some) for step, some in beyond if some)
                    found.append(Slot(column, level, bits(np.flatnonzero(fits)), serves, more))
        return found

    @cached_property
    def cells(self) -> tuple[Spot, ...]:
        """Where something is needed."""
        return tuple((int(one), int(column)) for one, column in zip(*np.nonzero(self.least), strict=True))

    def covered(self, one: int, slot: Slot) -> list[Spot]:
        """The cells of a class for which a grant is enough."""
        return [(one, column) for column, served in slot.serves if served >> one & 1]

    def bits_of(self, people: Sequence[int]) -> int:
        """The classes of people, as bits."""
        among = set(people)
        return bits([number for number, some in enumerate(self.classes) if some[0] in among])

    def concerns(self, one: int, slot: Slot) -> bool:
        """Whether a class has something by a grant, needed or beyond."""
        return bool(self.covered(one, slot)) or any(some >> one & 1 for _, some in slot.beyond)

    def granted_to(self, some: int) -> list[Slot]:
        """All that classes (as bits) can be granted together, without what a wider grant does as well."""
        fitting = [slot for slot in self.slots if not some & ~slot.fits]
        if self.table.exact_grants or self.loose:
            return fitting
        widest = {slot.column: slot for slot in fitting}  # READ comes before CHANGE
        return list(widest.values())

    def size(self, some: int) -> int:
        """How many people."""
        return some.bit_count() if self.alike else sum(self.weights[one] for one in members(some))

    @property
    def links_of_free(self) -> int:
        """Pairs of a person who may join or leave and a grant, over all groups whose members may change."""
        return len(self.free) * len(self.classes) * len(self.slots)

    @cached_property
    def nested(self) -> dict[int, int]:
        """The groups that there are that may be in new ones, as bits of classes: of several people, and always the same ones."""
        if not self.table.nesting:
            return {}
        return {
            number: some for number, some in enumerate(self.there) if number not in self.free and self.size(some) > 1
        }

    def inside(self, some: int) -> tuple[int, ...]:
        """Groups that there are that fit into these, one after the other the one that spares the most memberships."""
        left, found = some, list[int]()
        fitting = {number: part for number, part in self.nested.items() if not part & ~some}
        while fitting:
            best = max(fitting, key=lambda number: self.size(left & fitting[number]))
            if self.size(left & fitting[best]) < 2:
                break
            found.append(best)
            left &= ~fitting.pop(best)
        return tuple(found)

    def members_price(self, some: int) -> int:
        """What the memberships of a new group of these cost."""
        left, inside = some, self.inside(some)
        for number in inside:
            left &= ~self.there[number]
        return self.costs.membership * (len(inside) + self.size(left))

    def price(self, slot: Slot) -> int:
        """What it costs to grant it to one group."""
        return self.costs.grant * len(self.columns[slot.column])

    def spared_by_keeping(self, who: int, slot: Slot, kept: frozenset[Personal]) -> float:
        """What is taken off where a grant is as today, so that of equal answers the one that keeps more is the cheapest."""
        return self.tie * sum((who, PlaceGrant(place, slot.level)) in kept for place in self.columns[slot.column])

    def beyond_price(self, step: Excess, some: int) -> float:
        """What it costs that these get that step beyond what they may."""
        return self.costs.beyond * self.size(some) * len(self.columns[step[0]])

    def personal_price(self, some: int, slot: Slot) -> int:
        """What it costs to grant it to each of them by name."""
        return self.costs.personal * self.size(some) * len(self.columns[slot.column])

    def answer(
        self,
        groups: list[Grantee],
        personal: list[tuple[int, Slot]],
        bound: float,
        proven: bool,
    ) -> Cover:
        """An answer for the table itself."""

        def spread(slot: Slot) -> list[PlaceGrant]:
            return [PlaceGrant(place, slot.level) for place in self.columns[slot.column]]

        taken = tuple(
            Taken(
                tuple(sorted(person for one in members(some) for person in self.classes[one])),
                tuple(sorted(grant for slot in slots for grant in spread(slot))),
                there,
                inside,
            )
            for some, slots, there, inside in groups
        )
        single = tuple(
            sorted((person, grant) for one, slot in personal for person in self.classes[one] for grant in spread(slot))
        )
        cost = self.table.cost(taken, single)
        least = bound if self.loose else ceil(bound - 1e-6)  # without what is beyond, costs are whole numbers
        return Cover(taken, single, cost, min(least, cost), proven)


def _equal(rows: NDArray[np.generic]) -> tuple[tuple[int, ...], ...]:
    """The numbers of equal rows together, in the order of the first of each."""
    found: dict[bytes, list[int]] = {}
    for number, row in enumerate(np.ascontiguousarray(rows)):
        found.setdefault(row.tobytes(), []).append(number)
    return tuple(tuple(some) for some in found.values())


def bits(some: "NDArray[np.intp] | list[int]") -> int:
    found = 0
    for one in some:
        found |= 1 << int(one)
    return found


def members(some: int) -> list[int]:
    """The numbers in a set of bits."""
    found = []
    while some:
        lowest = some & -some
        found.append(lowest.bit_length() - 1)
        some ^= lowest
    return found
