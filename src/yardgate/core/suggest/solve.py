"""The cheapest answer to a table: exactly where all whole blocks can be looked at, else the best of likely groups, each as a mixed integer
programme (HiGHS, by SciPy).

Of a small table all whole blocks are given to the programme, which may leave members and grants out of each. Of a larger one, likely groups
as they are; what it takes of them is then given to the first programme again, which leaves out what nobody needs. Of a very large one, groups
are taken one after the other, each time the one that spares the most.

Where a table has a limit above what people may get, the same is done with the price of what they get beyond it, over likely groups: more
people then share a group.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from itertools import combinations
from math import isfinite
from time import monotonic

import numpy as np

from yardgate.core.suggest.candidates import Candidate, Open, likely, one_by_one, whole_blocks
from yardgate.core.suggest.cover import Cover, Excess, Grantee, Merged, Slot, Spot, Table, bits, members

BLOCKS = 600
"""Whole blocks that are all given to the programme, at most."""
LINKS = 6_000
"""Pairs of a member and a grant over all blocks, at most."""
LIKELY = 400
NEAR = 8
"""Sets of people who need about the same that are looked at, where some may get more than they need."""
LARGE = 60_000
"""Grants over all likely groups; of more, groups are taken one after the other."""
SECONDS = 20.0

Found = tuple[list[Grantee], list[tuple[int, Slot]]]
"""Groups, and personal grants."""
TellBetter = Callable[[Cover], bool]
"""Is told of each better answer; says whether to go on."""


def go_on(_: Cover) -> bool:
    return True


def solve(table: Table, seconds: float = SECONDS, tell: TellBetter = go_on) -> Cover:
    """The cheapest answer that is found in the time. Each that is found on the way is told; `bound` and `proven` say how good it is."""
    if table.limit is not None:
        return _beyond(table, seconds, tell)
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


def _beyond(table: Table, seconds: float, tell: TellBetter) -> Cover:
    """The cheapest with what is beyond the need paid for: of the exact answer's groups, those joined in pairs, and people who need about the same."""
    end = monotonic() + seconds
    exact = solve(replace(table, limit=None), seconds / 3, tell)
    merged = Merged(table)
    own = [merged.bits_of(group.members) for group in exact.groups if group.there is None]
    own += [
        one | other for one, other in combinations(own, 2) if any(not (one | other) & ~kind for kind in merged.kinds)
    ]
    near = [*dict.fromkeys((*own, *likely(merged, NEAR)))]
    best = _better(replace(exact, bound=0.0, proven=False), _answer(merged, _taken(merged, near), 0.0, False))
    return _better(best, _as_they_are(merged, near, end - monotonic()))


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
        bound = found.mip_dual_bound if found.mip_dual_bound is not None else found.fun
        return [bool(value > 0.5) for value in found.x], float(bound) if isfinite(bound) else 0.0


class _Covering(_Programme):
    """The programme of a table: each cell is covered by one of some variables, and what goes beyond it is paid for once."""

    def __init__(self, merged: Merged):
        super().__init__()
        self.merged = merged
        self.covering: dict[Spot, list[int]] = {}
        self.beyond: dict[tuple[int, Excess], int] = {}
        self.personal: dict[int, tuple[int, Slot]] = {}
        self.fixed: dict[int, tuple[int, Slot]] = {}
        self.joined: dict[int, tuple[int, int]] = {}
        self.left: dict[int, tuple[int, int]] = {}

    def covers(self, one: int, slot: Slot, given: int) -> None:
        """A variable that gives a class a grant."""
        for cell in self.merged.covered(one, slot):
            self.covering.setdefault(cell, []).append(given)

    def pays(self, one: int, slot: Slot, least: float, terms: list[tuple[int, float]]) -> None:
        """What a grant gives a class beyond the need is, together with these terms, at least that."""
        for step, some in slot.beyond:
            if some >> one & 1:
                if (one, step) not in self.beyond:
                    self.beyond[one, step] = self.variable(self.merged.beyond_price(step, 1 << one))
                self.at_least(least, [(self.beyond[one, step], 1), *terms])

    def gives(self, one: int, slot: Slot, given: int) -> None:
        self.covers(one, slot, given)
        self.pays(one, slot, 0, [(given, -1)])

    def member(self, one: int, slot: Slot, joins: Sequence[int], grant: int) -> None:
        """What a class is given where it is a member, in one of some ways, and the group has the grant."""
        both = self.variable(0, whole=False)
        self.at_least(0, [*((join, 1.0) for join in joins), (both, -1)])
        self.at_least(0, [(grant, 1), (both, -1)])
        self.covers(one, slot, both)
        for join in joins:
            self.pays(one, slot, -1, [(join, -1), (grant, -1)])

    def there(self, *, may_change: bool) -> None:
        """The grants of groups that there are, and who joins them or leaves them where that may be."""
        merged, price = self.merged, self.merged.costs.membership
        for number, some in enumerate(merged.there):
            free = may_change and number in merged.free
            slots = merged.slots if free else merged.granted_to(some) if some else ()
            grants = {}
            for slot in slots:
                kept = merged.spared_by_keeping(number, slot, merged.table.kept)
                grants[self.variable(merged.price(slot) - kept)] = slot
            self.fixed |= {grant: (number, slot) for grant, slot in grants.items()}
            if not free:
                for grant, slot in grants.items():
                    for one in members(some):
                        self.gives(one, slot, grant)
                continue
            for one, weight in enumerate(merged.weights):
                if some >> one & 1:
                    self._may_leave(number, one, self.variable(price * weight), grants)
                else:
                    self._may_join(number, one, self.variable(price * weight), grants)

    def _may_leave(self, number: int, one: int, leaves: int, grants: dict[int, Slot]) -> None:
        self.left[leaves] = number, one
        for grant, slot in grants.items():
            if not slot.fits >> one & 1:
                self.at_least(0, [(leaves, 1), (grant, -1)])
                continue
            both = self.variable(0, whole=False)
            self.at_least(0, [(grant, 1), (both, -1)])
            self.at_least(-1, [(both, -1), (leaves, -1)])
            self.covers(one, slot, both)
            self.pays(one, slot, 0, [(grant, -1), (leaves, 1)])

    def _may_join(self, number: int, one: int, joins: int, grants: dict[int, Slot]) -> None:
        self.joined[joins] = number, one
        for grant, slot in grants.items():
            if not slot.fits >> one & 1:
                self.at_least(-1, [(joins, -1), (grant, -1)])
            elif self.merged.concerns(one, slot):
                self.member(one, slot, (joins,), grant)

    def answer(
        self, groups: Callable[[Sequence[bool]], list[Grantee]], seconds: float, *, proven: bool
    ) -> Cover | None:
        """The cheapest, where each cell is covered. groups: the new groups, of which variables are yes."""
        merged = self.merged
        for slot in merged.slots:
            for one in members(slot.fits):
                if merged.covered(one, slot):
                    kept = merged.spared_by_keeping(merged.classes[one][0], slot, merged.table.kept_personal)
                    variable = self.variable(merged.personal_price(1 << one, slot) - kept)
                    self.personal[variable] = one, slot
                    self.gives(one, slot, variable)
        for cell in merged.cells:
            self.at_least(1, [(variable, 1) for variable in self.covering[cell]])
        solved = self.solve(seconds)
        if solved is None:
            return None
        yes, bound = solved
        kept_grants: dict[int, list[Slot]] = {}
        for variable, (number, slot) in self.fixed.items():
            if yes[variable]:
                kept_grants.setdefault(number, []).append(slot)
        found = groups(yes)
        for number, slots in kept_grants.items():
            now = merged.there[number]
            for moved in (self.joined, self.left):
                now ^= bits([one for variable, (of, one) in moved.items() if of == number and yes[variable]])
            found.append(Grantee(now, slots, number))
        personal = [what for variable, what in self.personal.items() if yes[variable]]
        return merged.answer(found, personal, bound, proven)


def _of_blocks(merged: Merged, blocks: Sequence[int], seconds: float, *, proven: bool) -> Cover | None:
    """The cheapest answer whose new groups lie each within one of the blocks, without the members and grants that are not needed."""
    programme, costs = _Covering(merged), merged.costs
    used: dict[int, int] = {}
    joined: dict[int, tuple[int, int]] = {}
    inside: dict[int, tuple[int, int]] = {}
    granted: dict[int, tuple[int, Slot]] = {}
    for number, block in enumerate(blocks):
        used[number] = here = programme.variable(costs.group)
        joins = {one: programme.variable(costs.membership * merged.weights[one]) for one in members(block)}
        fitting = [there for there, some in merged.nested.items() if not some & ~block]
        takes_in = {there: programme.variable(costs.membership) for there in fitting}
        inside |= {variable: (number, there) for there, variable in takes_in.items()}
        joined |= {join: (number, one) for one, join in joins.items()}
        for part in (*joins.values(), *takes_in.values()):
            programme.at_least(0, [(here, 1), (part, -1)])
        for slot in merged.granted_to(block):
            grant = programme.variable(merged.price(slot))
            granted[grant] = number, slot
            programme.at_least(0, [(here, 1), (grant, -1)])
            for one, join in joins.items():
                if merged.concerns(one, slot):
                    through = [taken for there, taken in takes_in.items() if merged.there[there] >> one & 1]
                    programme.member(one, slot, (join, *through), grant)
    may_change = merged.links_of_free <= LINKS
    programme.there(may_change=may_change)

    def group(number: int, yes: Sequence[bool]) -> Grantee:
        parts = tuple(there for variable, (of, there) in inside.items() if of == number and yes[variable])
        some = bits([one for variable, (of, one) in joined.items() if of == number and yes[variable]])
        for there in parts:
            some |= merged.there[there]
        slots = [slot for variable, (of, slot) in granted.items() if of == number and yes[variable]]
        return Grantee(some, slots, inside=parts)

    def groups(yes: Sequence[bool]) -> list[Grantee]:
        return [group(number, yes) for number, variable in used.items() if yes[variable]]

    return programme.answer(groups, seconds, proven=proven and (may_change or not merged.free))


def _as_they_are(merged: Merged, candidates: Sequence[int], seconds: float) -> Cover | None:
    """The cheapest answer made of some of these groups, each with all its members; then without what is not needed."""
    programme, costs = _Covering(merged), merged.costs
    used: dict[int, int] = {}
    granted: dict[int, tuple[int, Slot]] = {}
    still = Open(merged)
    for some in candidates:
        group = used[some] = programme.variable(costs.group + merged.members_price(some))
        for slot in merged.granted_to(some):
            if merged.loose and not still.spares(slot, some):
                continue
            grant = programme.variable(merged.price(slot))
            granted[grant] = some, slot
            programme.at_least(0, [(group, 1), (grant, -1)])
            for one in members(some):
                programme.gives(one, slot, grant)
    programme.there(may_change=False)

    def groups(yes: Sequence[bool]) -> list[Grantee]:
        return [
            Grantee(
                some,
                [slot for variable, (of, slot) in granted.items() if of == some and yes[variable]],
                inside=merged.inside(some),
            )
            for some, group in used.items()
            if yes[group]
        ]

    begun = monotonic()
    taken: list[int] = []

    def noted(yes: Sequence[bool]) -> list[Grantee]:
        taken.extend(some for some, group in used.items() if yes[group])
        return groups(yes)

    answer = programme.answer(noted, seconds, proven=False)
    if answer is None or _links(merged, taken) > LINKS:
        return answer
    trimmed = _of_blocks(merged, taken, seconds - (monotonic() - begun), proven=False)
    if trimmed is None or trimmed.cost > answer.cost:
        return answer
    return Cover(trimmed.groups, trimmed.personal, trimmed.cost, min(answer.bound, trimmed.cost), False)


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
    groups = []
    for (some, there), slots in taken:
        served = some if there is not None else _served(some, slots)
        groups.append(Grantee(served, slots, there, merged.inside(served) if there is None else ()))
    return groups, personal


def _served(some: int, slots: Sequence[Slot]) -> int:
    """The members who have something by it."""
    served = 0
    for slot in slots:
        for _, enough in slot.serves:
            served |= enough & some
    return served
