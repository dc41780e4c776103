"""The cheapest answer to a table: exactly where all whole blocks can be looked at, else the best of likely groups, each as a mixed integer
programme (HiGHS, by SciPy).

Of a small table all whole blocks are given to the programme, which may leave members and grants out of each. Of a larger one, likely groups
as they are; what it takes of them is then given to the first programme again, which leaves out what nobody needs. Of a very large one, groups
are taken one after the other, each time the one that spares the most.
"""

from collections.abc import Callable, Iterable, Sequence
from time import monotonic

import numpy as np

from yardgate.core.suggest.candidates import Candidate, Open, likely, one_by_one, whole_blocks
from yardgate.core.suggest.cover import Cover, Merged, Slot, Spot, Table, bits, members

BLOCKS = 600
"""Whole blocks that are all given to the programme, at most."""
LINKS = 6_000
"""Pairs of a member and a grant over all blocks, at most."""
LIKELY = 400
LARGE = 60_000
"""Grants over all likely groups; of more, groups are taken one after the other."""
SECONDS = 20.0

Found = tuple[list[tuple[int, list[Slot], int | None]], list[tuple[int, Slot]]]
"""Groups (members as bits, grants, which that there is) and personal grants."""
TellBetter = Callable[[Cover], bool]
"""Is told of each better answer; says whether to go on."""


def go_on(_: Cover) -> bool:
    return True


def solve(table: Table, seconds: float = SECONDS, tell: TellBetter = go_on) -> Cover:
    """The cheapest answer that is found in the time. Each that is found on the way is told; `bound` and `proven` say how good it is."""
    end = monotonic() + seconds
    merged = Merged(table)
    groups = likely(merged, LIKELY)
    best = _answer(merged, _taken(merged, groups), 0.0, False)
    if not tell(best):
        return best
    blocks = whole_blocks(merged, BLOCKS)
    if blocks is not None and _links(merged, blocks) <= LINKS:
        return _better(best, _of_blocks(merged, tuple(blocks), end - monotonic(), proven=True))
    if sum(len(merged.granted_to(some)) for some in groups) <= LARGE:
        best = _better(best, _as_they_are(merged, groups, end - monotonic()))
        if not tell(best):
            return best
    return best


def _better(one: Cover, other: Cover | None) -> Cover:
    """The cheaper one, with the better bound where both are about the same."""
    if other is None:
        return one
    if other.cost <= one.cost:
        return other
    return Cover(one.groups, one.personal, one.cost, min(other.bound, one.cost), other.proven)


def _answer(merged: Merged, found: Found, bound: float, proven: bool) -> Cover:
    return merged.answer(*found, bound, proven)


def _links(merged: Merged, blocks: Iterable[int]) -> int:
    return sum(len(merged.granted_to(some)) * some.bit_count() for some in blocks)


# --- as a programme ---------------------------------------------------------------------------------------------------


class _Programme:
    """Yes-or-no variables with their costs, and sums of some of them that must be at least something."""

    def __init__(self) -> None:
        self.costs: list[float] = []
        self.rows: list[int] = []
        self.columns: list[int] = []
        self.values: list[float] = []
        self.least: list[float] = []
        self.whole: list[int] = []

    def variable(self, cost: float, *, whole: bool = True) -> int:
        self.costs.append(cost)
        self.whole.append(int(whole))
        return len(self.costs) - 1

    def at_least(self, least: float, terms: Iterable[tuple[int, float]]) -> None:
        for column, value in terms:
            self.rows.append(len(self.least))
            self.columns.append(column)
            self.values.append(value)
        self.least.append(least)

    def solve(self, seconds: float) -> tuple[Sequence[bool], float] | None:
        """Which are yes, and below what no answer costs; None where none was found in the time."""
        from scipy.optimize import (  # here, for it takes longer to load than most commands take
            Bounds,
            LinearConstraint,
            milp,
        )
        from scipy.sparse import coo_array

        if not self.costs:
            return [], 0.0
        matrix = coo_array((self.values, (self.rows, self.columns)), (len(self.least), len(self.costs))).tocsr()
        found = milp(
            np.array(self.costs),
            integrality=np.array(self.whole),
            bounds=Bounds(0, 1),
            constraints=[LinearConstraint(matrix, np.array(self.least), np.inf)] if self.least else [],
            options={"time_limit": max(0.1, seconds), "mip_rel_gap": 0.0},
        )
        if found.x is None:
            return None
        bound = found.mip_dual_bound
        return [bool(value > 0.5) for value in found.x], float(bound if bound is not None else found.fun)


def _covers(programme: _Programme, merged: Merged, covering: dict[Spot, list[int]]) -> dict[int, tuple[int, Slot]]:
    """The personal grants as variables, and that each cell is covered by something."""
    personal = {}
    for slot in merged.slots:
        for one in members(slot.fits):
            if cells := merged.covered(one, slot):
                variable = programme.variable(merged.personal_price(1 << one, slot))
                personal[variable] = one, slot
                for cell in cells:
                    covering.setdefault(cell, []).append(variable)
    for cell in merged.cells:
        programme.at_least(1, [(variable, 1) for variable in covering[cell]])
    return personal


def _there(programme: _Programme, merged: Merged, covering: dict[Spot, list[int]]) -> dict[int, tuple[int, Slot]]:
    """The grants of groups that there are, as variables."""
    grants = {}
    for number, some in enumerate(merged.there):
        for slot in merged.granted_to(some) if some else ():
            variable = programme.variable(merged.price(slot))
            grants[variable] = number, slot
            for one in members(some):
                for cell in merged.covered(one, slot):
                    covering.setdefault(cell, []).append(variable)
    return grants


def _of_blocks(merged: Merged, blocks: Sequence[int], seconds: float, *, proven: bool) -> Cover | None:
    """The cheapest answer whose new groups lie each within one of the blocks, without the members and grants that are not needed."""
    programme, costs = _Programme(), merged.costs
    covering: dict[Spot, list[int]] = {}
    used: dict[int, int] = {}
    joined: dict[int, tuple[int, int]] = {}
    granted: dict[int, tuple[int, Slot]] = {}
    for block in blocks:
        group = programme.variable(costs.group)
        used[block] = group
        joins = {}
        for one in members(block):
            joins[one] = programme.variable(costs.membership * merged.weights[one])
            joined[joins[one]] = block, one
            programme.at_least(0, [(group, 1), (joins[one], -1)])
        for slot in merged.granted_to(block):
            grant = programme.variable(merged.price(slot))
            granted[grant] = block, slot
            programme.at_least(0, [(group, 1), (grant, -1)])
            for one, join in joins.items():
                if cells := merged.covered(one, slot):
                    both = programme.variable(0, whole=False)
                    programme.at_least(0, [(join, 1), (both, -1)])
                    programme.at_least(0, [(grant, 1), (both, -1)])
                    for cell in cells:
                        covering.setdefault(cell, []).append(both)
    there = _there(programme, merged, covering)
    personal = _covers(programme, merged, covering)
    solved = programme.solve(seconds)
    if solved is None:
        return None
    yes, bound = solved
    groups: list[tuple[int, list[Slot], int | None]] = []
    for block, group in used.items():
        if yes[group]:
            some = bits([one for variable, (of, one) in joined.items() if of == block and yes[variable]])
            groups.append(
                (some, [slot for variable, (of, slot) in granted.items() if of == block and yes[variable]], None)
            )
    return _answer(merged, (_with_there(merged, groups, there, yes), _chosen(personal, yes)), bound, proven)


def _as_they_are(merged: Merged, candidates: Sequence[int], seconds: float) -> Cover | None:
    """The cheapest answer made of some of these groups, each with all its members; then without what is not needed."""
    programme, costs = _Programme(), merged.costs
    covering: dict[Spot, list[int]] = {}
    used: dict[int, int] = {}
    granted: dict[int, tuple[int, Slot]] = {}
    for some in candidates:
        group = programme.variable(costs.group + costs.membership * merged.size(some))
        used[some] = group
        for slot in merged.granted_to(some):
            grant = programme.variable(merged.price(slot))
            granted[grant] = some, slot
            programme.at_least(0, [(group, 1), (grant, -1)])
            for one in members(some):
                for cell in merged.covered(one, slot):
                    covering.setdefault(cell, []).append(grant)
    there = _there(programme, merged, covering)
    personal = _covers(programme, merged, covering)
    begun = monotonic()
    solved = programme.solve(seconds)
    if solved is None:
        return None
    yes, bound = solved
    taken = [some for some, group in used.items() if yes[group]]
    groups: list[tuple[int, list[Slot], int | None]] = [
        (some, [slot for variable, (of, slot) in granted.items() if of == some and yes[variable]], None)
        for some in taken
    ]
    answer = _answer(merged, (_with_there(merged, groups, there, yes), _chosen(personal, yes)), bound, False)
    left = seconds - (monotonic() - begun)
    if _links(merged, taken) > LINKS:
        return answer
    trimmed = _of_blocks(merged, taken, left, proven=False)
    if trimmed is None or trimmed.cost > answer.cost:
        return answer
    return Cover(trimmed.groups, trimmed.personal, trimmed.cost, min(bound, trimmed.cost), False)


def _with_there(
    merged: Merged,
    groups: list[tuple[int, list[Slot], int | None]],
    there: dict[int, tuple[int, Slot]],
    yes: Sequence[bool],
) -> list[tuple[int, list[Slot], int | None]]:
    kept: dict[int, list[Slot]] = {}
    for variable, (number, slot) in there.items():
        if yes[variable]:
            kept.setdefault(number, []).append(slot)
    return [*groups, *((merged.there[number], slots, number) for number, slots in kept.items())]


def _chosen(personal: dict[int, tuple[int, Slot]], yes: Sequence[bool]) -> list[tuple[int, Slot]]:
    return [what for variable, what in personal.items() if yes[variable]]


# --- one after the other ----------------------------------------------------------------------------------------------


def _taken(merged: Merged, candidates: Sequence[int]) -> Found:
    """Groups taken one after the other, those that there are among them, without members who have nothing by them; the rest is personal."""
    still = Open(merged)
    offers: list[Candidate] = [(some, None) for some in candidates]
    offers += [(some, number) for number, some in enumerate(merged.there) if some]
    taken = one_by_one(merged, {offer: still.worth(offer)[0] for offer in offers}, still)
    personal = []
    for slot in sorted(merged.slots, key=lambda slot: -slot.level):
        for one in members(still.served(slot, slot.fits)):
            personal.append((one, slot))
            still.cover(slot, 1 << one)
    groups = [(some if there is not None else _served(some, slots), slots, there) for (some, there), slots in taken]
    return groups, personal


def _served(some: int, slots: Sequence[Slot]) -> int:
    """The members who have something by it."""
    served = 0
    for slot in slots:
        for _, enough in slot.serves:
            served |= enough & some
    return served
