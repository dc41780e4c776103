"""The same outcome with less to look after: grants that decide nothing go, and personal grants that several people share become a group's.

Nothing is taken on trust: each change is kept only where everybody gets just what they got before, in every place, over every way in, by grants
and storage, as a guest and from every class of hosts; so does whoever joins one of the groups that there are, and whose account is shut, once it is
opened again.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from time import monotonic

import numpy as np

from yardgate.core.access.batch.resolve import Codes, resolve
from yardgate.core.access.outcome import Outcome, host_shifts, outcome, outcome_of
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import sentence
from yardgate.core.edits.records import Edit, PutGroup, SetGrant
from yardgate.core.model.plan import Group, Plan
from yardgate.core.policy.findings.case import Case
from yardgate.core.policy.findings.grants import without_effect
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, awake
from yardgate.core.suggest.cover import USUAL, Costs, Table
from yardgate.core.suggest.made import NewGroups
from yardgate.core.suggest.solve import SECONDS, solve


@dataclass(frozen=True, slots=True)
class Simplified:
    """Edits after which everybody gets the same. idle: grants that go because they decide nothing; groups: ids of those made of personal
    grants. whole: whether all was looked at in the time."""

    before: Plan
    after: Plan
    edits: tuple[Edit, ...]
    idle: int
    groups: tuple[str, ...]
    whole: bool

    @property
    def words(self) -> tuple[str, ...]:
        """Each edit in a sentence."""
        found, plan = list[str](), self.before
        for edit in self.edits:
            after, _ = apply(plan, (edit,))
            found.append(sentence(plan, after, edit))
            plan = after
        return tuple(found)


def grants_of(plan: Plan) -> tuple[int, int]:
    """How many grants there are, and how many of them to single people."""
    whos = [who for said in plan.grants.values() for who in said]
    return len(whos), sum(who in plan.users for who in whos)


LookedAt = Callable[[str, str], bool]
"""Whether a grant is looked at, by its place and whose it is."""


def only(plan: Plan, place: str | None = None, group: str | None = None) -> LookedAt:
    """Which grants are looked at: those in a place and below it, and to a group and those in it by name."""
    inside = None if place is None else {one for one in plan.places if place in plan.path(one)}
    whos = None if group is None else {group, *plan.groups[group].members}
    return lambda at, who: (inside is None or at in inside) and (whos is None or who in whos)


def simplify(
    plan: Plan,
    on: date,
    costs: Costs = USUAL,
    seconds: float = SECONDS,
    looked_at: LookedAt | None = None,
) -> Simplified:
    """Fewer grants and personal grants, and the same for everybody. looked_at: of which grants, by place and whose."""
    end = monotonic() + seconds
    looked_at = looked_at or only(plan)
    now = outcome(resolve(awake(plan), on))
    edits: list[Edit] = []
    idle, groups = 0, list[str]()

    def kept(some: tuple[Edit, ...]) -> bool:
        """Whether edits change nothing for anybody; then they are in."""
        nonlocal now
        then = outcome_of(apply(now.matrix.plan, some)[0], now)
        if not comes_to_the_same(now, then):
            return False
        now = then
        edits.extend(some)
        return True

    more = True
    while more:
        more = False
        lines = [
            (place, who) for place, said in now.matrix.plan.grants.items() for who in said if looked_at(place, who)
        ]
        lines.sort(key=lambda line: line[1] not in plan.users)
        for place, who in list(without_effect(Case(now), lines)):
            if monotonic() < end and kept((SetGrant(place, who, None),)):
                idle, more = idle + 1, True
        for some in _shared(now.matrix.plan, costs, end - monotonic(), looked_at):
            if monotonic() < end and kept(some):
                groups, more = groups + [edit.group.id for edit in some if isinstance(edit, PutGroup)], True
        more = more and monotonic() < end
    return Simplified(plan, apply(plan, edits)[0], tuple(edits), idle, tuple(groups), monotonic() <= end)


def comes_to_the_same(before: Outcome, after: Outcome) -> bool:
    """Whether everybody, the guest and whoever is in one of the groups gets the same in each place: by grants and storage, and over each way."""
    old, new = before.matrix.counting, after.matrix.counting
    both = [(number, new.number[who]) for number, who in enumerate(old.subjects) if who in new.number]
    then, now = np.array([*both, (len(old.subjects), len(new.subjects))], np.intp).T
    rows, again = before.matrix.rows, after.matrix.rows
    return (
        all(np.array_equal(row[then[:-1]], again[place][now[:-1]]) for place, row in rows.items())
        and before.over.keys() == after.over.keys()
        and all(
            columns.keys() == after.over[way].keys()
            and all(np.array_equal(column[then], after.over[way][place][now]) for place, column in columns.items())
            for way, columns in before.over.items()
        )
        and not host_shifts(before, after)
    )


def _shared(plan: Plan, costs: Costs, seconds: float, looked_at: LookedAt) -> Iterator[tuple[Edit, ...]]:
    """Groups of people who have the same personal grants, each with the edits that put it in their place, where that is less to look after."""
    people = list(plan.users)
    places = [
        place for place, said in plan.grants.items() if any(who in plan.users and looked_at(place, who) for who in said)
    ]
    row = {person: number for number, person in enumerate(people)}
    granted: Codes = np.zeros((len(people), len(places)), np.uint8)
    for column, place in enumerate(places):
        for who, level in plan.grants[place].items():
            if who in row and looked_at(place, who):
                granted[row[who], column] = CODE_OF[level.code]
    new = NewGroups(plan)
    for group in solve(Table.of(granted, costs=costs), max(0.1, seconds)).groups:
        made = new.group(people, places, granted, group)
        yield (
            PutGroup(made),
            *_instead(plan, made, [(places[grant.place], LEVEL_OF[grant.level]) for grant in group.grants]),
        )


def _instead(plan: Plan, made: Group, grants: list[tuple[str, Level]]) -> Iterator[Edit]:
    """A group's grants in the place of those of its members."""
    for place, level in grants:
        said = plan.grants[place]
        yield SetGrant(place, made.id, level, at=min(at for at, who in enumerate(said) if who in made.members))
        yield from (SetGrant(place, who, None) for who in sorted(made.members & said.keys()) if said[who] == level)
