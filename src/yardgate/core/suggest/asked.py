"""From needs to a table: for every person and every place of which a need speaks, the least and the most that they should get."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import NamedTuple

import numpy as np

from yardgate.core.access.batch.resolve import Codes, resolve
from yardgate.core.access.bitsets import Counting, count, unpack
from yardgate.core.access.outcome import outcome
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.needs import Need, Wish
from yardgate.core.model.plan import Plan
from yardgate.core.suggest.cover import CHANGE, READ, Flags

LEVEL_OF: Mapping[int, Level] = {READ: Level.RO, CHANGE: Level.RW}
"""What a code of a table means as a level; 0 is no access."""
CODE_OF: Codes = np.array(
    [0 if level < Level.RO else READ if level == Level.RO else CHANGE for level in LEVELS], np.uint8
)
"""The code of each level, by `Level.code`: to pass through is nothing."""


class Conflict(NamedTuple):
    """Needs that cannot all be met: somebody must not, by one group, what they need by another."""

    user: str
    place: str
    needs: tuple[Need, ...]


@dataclass(frozen=True, slots=True)
class Demand:
    """What is needed. people, places: ids, of all whose account is open or may be opened again, and of the places of which a need speaks. least, most: uint8 (people,
    places), 0, READ or CHANGE. never: bool, who must not. conflicts: where the needs of groups contradict each other; must not counts there.
    """

    people: tuple[str, ...]
    places: tuple[str, ...]
    least: Codes
    most: Codes
    never: Flags
    conflicts: tuple[Conflict, ...]

    @property
    def limit(self) -> Codes:
        """The most that anybody may get at all: change, and nothing where they must not."""
        limit: Codes = np.where(self.never, 0, CHANGE).astype(np.uint8)
        return limit

    @property
    def count(self) -> int:
        """How many cells need something."""
        return int((self.least > 0).sum())


def asked(plan: Plan, needs: Iterable[Need], on: date) -> Demand:
    """What needs ask for. Of a group's needs each member has them, nested ones too; of several the widest counts."""
    counting = count(awake(plan), on)
    open_accounts = unpack(counting.active, counting.users)
    people = tuple(counting.subjects[number] for number in range(counting.users) if open_accounts[number])
    by_place: dict[str, list[Need]] = {}
    for need in needs:
        by_place.setdefault(need.place, []).append(need)
    places = tuple(place for place in plan.places if place in by_place)
    least = np.zeros((len(people), len(places)), np.uint8)
    most, never = least.copy(), np.zeros(least.shape, np.bool_)
    conflicts = []
    row = {person: number for number, person in enumerate(people)}
    for column, place in enumerate(places):
        said = _said(counting, row, by_place[place])
        for person, theirs in said.items():
            own = [need for need in theirs if need.who == person] or theirs
            wishes = {need.wish for need in own}
            if "must not" in wishes and wishes & {"change", "read"}:
                conflicts.append(Conflict(person, place, tuple(own)))
            at = row[person], column
            if "must not" in wishes:
                never[at] = True
            elif wishes == {"any"}:
                most[at] = CHANGE
            else:
                least[at] = most[at] = CHANGE if "change" in wishes else READ
    return Demand(people, places, least, most, never, tuple(conflicts))


def awake(plan: Plan) -> Plan:
    """The plan with all accounts open: who is away, or comes back, needs what they need."""
    users = {
        user.id: user if user.enabled and user.expires is None else replace(user, enabled=True, expires=None)
        for user in plan.users.values()
    }
    return replace(plan, users=users)


def as_today(plan: Plan, on: date) -> tuple[Need, ...]:
    """What everybody gets today over any way in, as needs; of shut accounts what they would get."""
    found = outcome(resolve(awake(plan), on))
    wishes: Mapping[Level, Wish] = {Level.RO: "read", Level.RW: "change"}
    return tuple(
        Need.of(user, place, wishes[level])
        for place in plan.places
        for user in plan.users
        if (level := found.level(user, place)) in wishes
    )


def _said(counting: Counting, people: Mapping[str, int], needs: Sequence[Need]) -> Mapping[str, list[Need]]:
    """Each person's needs in one place, their own and those of their groups."""
    found: dict[str, list[Need]] = {}
    for need in needs:
        number = counting.number[need.who]
        if number < counting.users:
            if need.who in people:
                found.setdefault(need.who, []).append(need)
            continue
        inside = unpack(counting.bits[number - counting.users], counting.users)
        for person in people:
            if inside[counting.number[person]]:
                found.setdefault(person, []).append(need)
    return found
