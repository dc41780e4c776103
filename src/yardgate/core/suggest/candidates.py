"""Sets of people that may be worth a group.

A group and what it is granted are a block in the table: each of its members may be given each of its grants. A block that no further member
and no further grant fits into is *whole*; its members are an intersection of the sets of people whom single grants fit. Two groups inside
the same whole block are never better than one, so all whole blocks are all that is to be looked at. There can be too many of them; then
those are looked at that two people, or two grants, have in common.
"""

from collections.abc import Iterable, Iterator, Mapping
from heapq import heapify, heappop, heapreplace
from itertools import combinations, groupby
from random import Random

import numpy as np

from yardgate.core.suggest.cover import Excess, Merged, Slot, bits, members

PAIRS = 20_000
"""Pairs of people of whom is looked at what they have in common; of more, as many are drawn."""


def whole_blocks(merged: Merged, most: int) -> frozenset[int] | None:
    """The members of all whole blocks, as bits; None where there are more than `most`."""
    found = set(merged.kinds)
    for fits in {slot.fits for slot in merged.slots}:
        found |= {some & fits for some in found}
        if len(found) > most:
            return None
    return frozenset(some for some in found if some and merged.granted_to(some))


Candidate = tuple[int, int | None]
"""People as bits, and the number of the group that they are already."""


def likely(merged: Merged, most: int) -> tuple[int, ...]:
    """At most so many sets of people that may be worth a group: what one would take one after the other, each time what spares the
    most of what is not covered yet; then what one would take without these, and so on."""
    nothing = Open(merged)
    rated: dict[Candidate, float] = {
        (some, None): nothing.worth((some, None))[0] for some in _kept_apart(merged, set(_in_common(merged)))
    }
    rated = {offer: spared for offer, spared in rated.items() if spared > 0}
    found: list[int] = []
    while rated and len(found) < most:
        taken = [offer for offer, _ in one_by_one(merged, rated)]
        found += [some for some, _ in taken]
        rated = {offer: spared for offer, spared in rated.items() if offer not in taken}
    return tuple(found[:most])


class Open:
    """The cells that nothing covers yet, column by column, as bits of classes."""

    def __init__(self, merged: Merged):
        self.merged = merged
        self.cells = [bits(np.flatnonzero(column)) for column in (merged.least > 0).T]
        self.beyond: dict[Excess, int] = {}

    def served(self, slot: Slot, some: int) -> int:
        """For whom of these a grant covers something that is open."""
        found = 0
        for column, enough in slot.serves:
            found |= enough & self.cells[column]
        return found & some

    def worth(self, offer: Candidate) -> tuple[float, list[Slot]]:
        """How much cheaper a group is than personal grants, and what it would be granted."""
        (some, there), merged = offer, self.merged
        slots, spared = [], 0.0
        for column in self._columns(some):
            gain, slot = max(((self.spares(slot, some), slot) for slot in column), key=lambda one: one[0])
            if gain > 0:
                slots.append(slot)
                spared += gain
        own = 0 if there is not None else merged.costs.group + merged.members_price(some)
        return spared - own, slots

    def spares(self, slot: Slot, some: int) -> float:
        """How much cheaper a grant to a group of these is than personal ones."""
        merged = self.merged
        return merged.personal_price(self.served(slot, some), slot) - merged.price(slot) - self.more(slot, some)

    def _columns(self, some: int) -> Iterable[list[Slot]]:
        """What they can be granted; where one of several in a column is enough, together."""
        slots = self.merged.granted_to(some)
        if self.merged.table.exact_grants:
            return [[slot] for slot in slots]
        return [list(same) for _, same in groupby(slots, key=lambda slot: slot.column)]

    def more(self, slot: Slot, some: int) -> float:
        """What it costs that some of them get more by a grant than they may."""
        return sum(
            self.merged.beyond_price(step, they & some & ~self.beyond.get(step, 0)) for step, they in slot.beyond
        )

    def cover(self, slot: Slot, some: int) -> None:
        for column, enough in slot.serves:
            self.cells[column] &= ~(enough & some)
        for step, they in slot.beyond:
            self.beyond[step] = self.beyond.get(step, 0) | they & some


def one_by_one(
    merged: Merged, rated: Mapping[Candidate, float], still: Open | None = None
) -> list[tuple[Candidate, list[Slot]]]:
    """Groups taken one after the other, each time the one that spares the most of what is open. rated: what each would spare at first; it can
    only become less."""
    still = still or Open(merged)
    offers = list(rated)
    heap = [(-rated[offer], number) for number, offer in enumerate(offers)]
    heapify(heap)
    taken = []
    while heap and heap[0][0] < 0:
        offer = offers[heap[0][1]]
        spared, slots = still.worth(offer)
        if -spared > heap[0][0]:
            heapreplace(heap, (-spared, heap[0][1]))
            continue
        heappop(heap)
        for slot in slots:
            still.cover(slot, offer[0])
        taken.append((offer, slots))
    return taken


def _kept_apart(merged: Merged, sets: Iterable[int]) -> set[int]:
    return {some & kind for some in sets for kind in merged.kinds if some & kind}


def _in_common(merged: Merged) -> Iterator[int]:
    """Whom single grants fit, whom pairs of them fit, who may have all that two people need both, and who needs the same."""
    fits = sorted({slot.within for slot in merged.slots})
    yield from fits
    if merged.loose:
        yield from _alike(merged)
    if len(fits) ** 2 <= 2 * PAIRS:
        for one, other in combinations(fits, 2):
            yield one & other
            yield one & ~other
            yield other & ~one
    needed = [0] * len(merged.classes)
    for number, slot in enumerate(merged.slots):
        for _, enough in slot.serves:
            for one in members(enough):
                needed[one] |= 1 << number
    full = (1 << len(merged.classes)) - 1
    for mine in {needed[one] & needed[other] for one, other in _pairs(len(needed))} | set(needed):
        if not mine:
            continue
        who = full
        for number in members(mine):
            who &= merged.slots[number].within
        yield who


def _alike(merged: Merged) -> Iterator[int]:
    """People who need about the same: who needs a grant, and each set of a tree of likenesses (average linkage of how many steps lie between
    the needs of two)."""
    yield from {enough for slot in merged.slots for _, enough in slot.serves}
    if len(merged.classes) < 2:
        return
    from scipy.cluster.hierarchy import linkage  # here, as in solve
    from scipy.spatial.distance import pdist

    sets = [1 << one for one in range(len(merged.classes))]
    for one, other, *_ in linkage(pdist(merged.least.astype(np.float64), "cityblock"), "average"):
        sets.append(sets[int(one)] | sets[int(other)])
        yield sets[-1]


def _pairs(size: int) -> Iterable[tuple[int, int]]:
    if size * (size - 1) // 2 <= PAIRS:
        return combinations(range(size), 2)
    draw = Random(size)
    return [(draw.randrange(size), draw.randrange(size)) for _ in range(PAIRS)]
