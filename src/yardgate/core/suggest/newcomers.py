"""Which groups somebody should join who needs something; and what a group of some people would be granted."""

from collections.abc import Mapping, Sequence
from datetime import date
from itertools import combinations
from typing import NamedTuple

from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, Join, PutGroup, SetGrant
from yardgate.core.model.plan import LOCAL, Plan
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, Demand, awake
from yardgate.core.suggest.made import NewGroups

TRIED = 12
"""Groups that are tried together with others."""
TOGETHER = 3
"""Groups that are joined at most."""


class Fit(NamedTuple):
    """Groups to join. lacks: places where somebody would still get less than they need; beyond: places where they would get more, or something
    where they need nothing; never: those of them where they must not."""

    groups: tuple[str, ...]
    lacks: tuple[str, ...]
    beyond: tuple[str, ...]
    never: tuple[str, ...]

    @property
    def weight(self) -> tuple[int, int]:
        return len(self.never), 4 * len(self.lacks) + 3 * len(self.beyond) + len(self.groups)

    def spares(self, other: "Fit") -> bool:
        """Whether it is as good with only some of the groups."""
        return (
            {*self.groups} < {*other.groups}
            and {*self.lacks} <= {*other.lacks}
            and {*self.beyond} <= {*other.beyond}
            and {*self.never} <= {*other.never}
        )


def fits(plan: Plan, demand: Demand, person: str, on: date, most: int = 3) -> tuple[Fit, ...]:
    """What somebody could join to get what they need, best first: each is tried. The first without any group says how it is now."""
    plan = awake(plan)
    row = demand.people.index(person)
    column = {place: number for number, place in enumerate(demand.places)}

    def need(place: str) -> tuple[int, int, bool]:
        if place not in column:
            return 0, 0, False
        at = row, column[place]
        return int(demand.least[at]), int(demand.most[at]), bool(demand.never[at])

    def joined(groups: tuple[str, ...]) -> Fit:
        then = plan if not groups else apply(plan, [Join(group, person) for group in groups])[0]
        matrix = resolve(then, on)
        number = matrix.counting.number[person]
        got = {place: int(CODE_OF[codes[number]]) for place, codes in matrix.rows.items()}
        asked = {place: need(place) for place in got}
        return Fit(
            groups,
            tuple(place for place, level in got.items() if level < asked[place][0]),
            tuple(place for place, level in got.items() if level > asked[place][1]),
            tuple(place for place, level in got.items() if asked[place][2] and level),
        )

    now = joined(())
    matrix = resolve(plan, on)
    own = {group.id for group in plan.groups.values() if person in group.members or group.origin != LOCAL or group.gone}
    useful = []
    for group in plan.groups:
        if group in own:
            continue
        number = matrix.counting.number[group]
        got = {place: int(CODE_OF[codes[number]]) for place, codes in matrix.rows.items()}
        helps = sum(got[place] >= need(place)[0] for place in now.lacks)
        harm = sum(level > need(place)[1] for place, level in got.items()) - len(now.beyond)
        if helps:
            useful.append((helps - harm, group))
    tried = [group for _, group in sorted(useful, reverse=True)[:TRIED]]
    found = [joined((group,)) for group in tried]
    best = sorted(found, key=lambda fit: fit.weight)[: TRIED // 2]
    for size in range(2, TOGETHER + 1):
        found += [joined(some) for some in combinations([fit.groups[0] for fit in best], size)]
    better = [fit for fit in found if len(fit.lacks) < len(now.lacks) and not any(one.spares(fit) for one in found)]
    return (now, *sorted(better, key=lambda fit: fit.weight)[:most])


def project(plan: Plan, demand: Demand, people: Sequence[str], on: date) -> tuple[Edit, ...]:
    """A new group of some people, granted what each of them needs, and no more; in places of which no need speaks, what each of them gets over some way in. Where that comes
    down from a place above, it is not granted again."""
    everybody = tuple(plan.users)
    held = _held(plan, demand, everybody, on)
    rows = [everybody.index(one) for one in people]
    shared = {place: min((theirs[row] for row in rows), default=0) for place, theirs in held.items()}
    granted = {}
    for place in plan.places:
        above = plan.places[place].parent
        level = shared.get(place, 0)
        if level and (above is None or shared.get(above, 0) != level or plan.places[place].inheritance_stops):
            granted[place] = level
    if not granted:
        return ()
    named_by = max(granted, key=lambda place: (granted[place], -sum(level > 0 for level in held[place])))
    made = NewGroups(plan).of(frozenset(people), named_by, granted[named_by])
    return PutGroup(made), *(SetGrant(place, made.id, LEVEL_OF[level]) for place, level in granted.items())


def _held(plan: Plan, demand: Demand, people: Sequence[str], on: date) -> Mapping[str, list[int]]:
    """What people need in each place, or get where no need speaks of it, as codes of a table."""
    found = outcome(resolve(awake(plan), on))
    rows = [found.matrix.counting.number[one] for one in people]
    got = {place: CODE_OF[codes[rows]].tolist() for place, codes in found.best[None].items()}
    row = {one: at for at, one in enumerate(demand.people)}
    for column, place in enumerate(demand.places):
        got[place] = [int(demand.least[row[one], column]) if one in row else 0 for one in people]
    return got
