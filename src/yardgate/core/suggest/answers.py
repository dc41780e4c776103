"""Several good answers to the same needs, side by side: the exact one, exact ones that weigh otherwise, and simpler ones that give a little
beyond the need; and what each asks of whoever is taken on next."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import date
from typing import Literal, NamedTuple

import numpy as np

from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Plan
from yardgate.core.suggest.asked import Demand
from yardgate.core.suggest.cover import USUAL
from yardgate.core.suggest.groups import USUALLY, Suggestion, Terms, suggest
from yardgate.core.suggest.solve import TellBetter, go_on

ProposalKind = Literal["exact", "fewer groups", "fewer exceptions", "simpler"]
"""fewer groups, fewer exceptions: exact too, where a group, or a grant to a single person, weighs three or four times as much. simpler: gives
some people more than they need, never what they must not have."""
BEYOND = (3.0, 2.0, 1.5, 1.0, 0.7)
"""What a step beyond need costs in simpler answers, one after the other; a grant costs 2."""


class Alike(NamedTuple):
    """People who need the same, and how many acts one more of them would be: groups to join, and grants by name."""

    people: tuple[str, ...]
    acts: int


@dataclass(frozen=True, slots=True)
class Proposal:
    kind: ProposalKind
    suggestion: Suggestion
    roles: tuple[Alike, ...]

    @property
    def cost(self) -> int:
        """What there is to look after, in the usual measure."""
        new, memberships, grants, personal = self.suggestion.figures
        return USUAL.group * new + USUAL.membership * memberships + USUAL.grant * grants + USUAL.personal * personal


def answer(
    plan: Plan,
    needs: Iterable[Need],
    on: date,
    kind: ProposalKind = "exact",
    step: int = 0,
    terms: Terms = USUALLY,
    tell: TellBetter = go_on,
) -> Proposal:
    """One answer of a kind. step: of simpler ones, which price of BEYOND; the further, the simpler."""
    costs = terms.costs
    match kind:
        case "fewer groups":
            terms = replace(terms, costs=costs._replace(group=3 * costs.group))
        case "fewer exceptions":
            terms = replace(terms, costs=costs._replace(personal=4 * costs.personal))
        case "simpler":
            terms = replace(terms, beyond=BEYOND[step])
    found = suggest(plan, needs, on, terms, tell)
    return Proposal(kind, found, tuple(roles(found)))


def answers(
    plan: Plan, needs: Iterable[Need], on: date, terms: Terms = USUALLY, tell: TellBetter = go_on
) -> Iterator[Proposal]:
    """The exact answer, then those others that are better in what they are for; half of the time is for the first."""
    needs = tuple(needs)
    less = replace(terms, seconds=terms.seconds / (2 * (2 + len(BEYOND))))
    exact = last = answer(plan, needs, on, "exact", 0, replace(terms, seconds=terms.seconds / 2), tell)
    yield exact
    kinds: list[tuple[ProposalKind, int]] = [("fewer groups", 0), ("fewer exceptions", 0)]
    kinds += [("simpler", step) for step in range(len(BEYOND))]
    for kind, step in kinds:
        other = answer(plan, needs, on, kind, step, less)
        if better(other, exact, last):
            yield other
            last = other if kind == "simpler" else last


def better(other: Proposal, exact: Proposal, last: Proposal) -> bool:
    """Whether another answer is worth a look. last: the one before it on the way from exact to simple."""
    mine, theirs = other.suggestion.figures, exact.suggestion.figures
    match other.kind:
        case "fewer groups":
            return mine.new_groups < theirs.new_groups
        case "fewer exceptions":
            return mine.personal < theirs.personal
        case "simpler":
            beyond = len(other.suggestion.beyond)
            enough = 2 * beyond <= other.suggestion.asked.count  # more than half as much again is nobody's need
            return other.cost < last.cost and beyond > len(last.suggestion.beyond) and enough
    return True


def roles(found: Suggestion) -> Iterator[Alike]:
    """The kinds of people by what they need, those who need something, the most people first."""
    alike = sorted(_alike(found.asked), key=len, reverse=True)
    for rows in alike:
        people = tuple(found.asked.people[row] for row in rows)
        yield Alike(people, min(_acts(found, row) for row in rows))


def _alike(demand: Demand) -> list[list[int]]:
    some: dict[bytes, list[int]] = {}
    for row in np.flatnonzero(demand.least.any(1)):
        key = np.hstack([demand.least[row], demand.most[row], demand.never[row]]).tobytes()
        some.setdefault(key, []).append(int(row))
    return list(some.values())


def _acts(found: Suggestion, row: int) -> int:
    """The groups of the answer that somebody is in, with those inside them instead where they are in those; and their own grants."""
    person, groups = found.asked.people[row], found.after.groups
    join: set[str] = set()
    for name, group in zip(found.names, found.answer.groups, strict=True):
        if row in group.members:
            inner = next(
                (one for one in groups[name].members if one in groups and _holds(found.after, one, person)), name
            )
            join.add(inner)
    return len(join) + sum(one == row for one, _ in found.answer.personal)


def _holds(plan: Plan, group: str, person: str) -> bool:
    members = plan.groups[group].members
    return person in members or any(one in plan.groups and _holds(plan, one, person) for one in members)
