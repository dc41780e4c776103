"""What somebody reaches, and who reaches a place, told shortly: only where a level differs from the one above.

Sheets to print are made of it: a card for a person, and a report for the office.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from yardgate.core.access.outcome import Outcome, people
from yardgate.core.access.paths import members
from yardgate.core.access.storage import granted_on
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import GUEST
from yardgate.core.model.share import Over


class Stretch(NamedTuple):
    """A place from which on down, up to the next stretch, a level holds."""

    place: str
    level: Level


class PathSummary(NamedTuple):
    """What somebody gets over one way in; the first stretch begins at the share's place."""

    over: Over
    stretches: tuple[Stretch, ...]


class Access(NamedTuple):
    """Who gets what in a place, over any way in. who: the users by level, the highest first, then by name; without NA."""

    place: str
    ways: tuple[Over, ...]
    who: dict[Level, tuple[str, ...]]
    guest: Level


def card(found: Outcome, subject: str) -> tuple[PathSummary, ...]:
    """Each way in over which a user, a group's member or the guest gets anything, by share and protocol."""
    plan, number = found.matrix.plan, found.number(subject)
    ways = sorted(found.over, key=lambda over: (fold(plan.shares[over.share].name), over.protocol != "smb"))
    reached = (
        PathSummary(
            over, tuple(_stretches(found, {place: int(column[number]) for place, column in found.over[over].items()}))
        )
        for over in ways
    )
    return tuple(one for one in reached if any(stretch.level > Level.NA for stretch in one.stretches))


def everywhere(found: Outcome, subject: str) -> tuple[Stretch, ...]:
    """The best that somebody gets over any way in, in all places that any way in reaches."""
    number, best = found.number(subject), found.best[None]
    places = [place for place in _ordered(found) if found.ways_to(place)]
    return tuple(_stretches(found, {place: int(best[place][number]) for place in places}))


def report(found: Outcome) -> tuple[Access, ...]:
    """Every place that a way in reaches and where somebody gets something else than in the place above, depth first and by name."""
    plan, counting, best = found.matrix.plan, found.matrix.counting, found.best[None]
    names = sorted(plan.users, key=lambda user: fold(plan.users[user].full_name or plan.users[user].name))
    order = np.array([counting.number[user] for user in names], dtype=np.intp)
    told: list[Access] = []
    for place in _ordered(found):
        ways = found.ways_to(place)
        if not ways or _as_above(found, place):
            continue
        levels = best[place][order]
        who = {
            level: tuple(names[i] for i in np.flatnonzero(levels == level.code))
            for level in (Level.RW, Level.RO, Level.PT)
        }
        told.append(Access(place, ways, who, found.level(GUEST, place)))
    return tuple(told)


class Through(NamedTuple):
    """Some who get the same level in a place by the same: grants to themselves or to groups, ids in list order. by: nothing where a list by hand, a
    share or being administrator gives it."""

    level: Level
    by: tuple[str, ...]
    who: tuple[str, ...]


def through(found: Outcome, access: Access) -> tuple[Through, ...]:
    """By what those who get something in a place get it: the grants there, or that come down, which say just this level and concern them."""
    matrix = found.matrix
    granted = granted_on(matrix.plan, matrix.storage, access.place)
    counts = {who: members(matrix, who) for who in granted}
    told = []
    for level, whos in access.who.items():
        alike: dict[tuple[str, ...], list[str]] = {}
        for user in whos:
            number = matrix.counting.number[user]
            by = tuple(who for who, said in granted.items() if said == level and counts[who][number])
            alike.setdefault(by, []).append(user)
        told += [Through(level, by, tuple(some)) for by, some in alike.items()]
    return tuple(told)


def _as_above(found: Outcome, place: str) -> bool:
    parent = found.matrix.plan.places[place].parent
    if parent is None or found.ways_to(parent) != found.ways_to(place):
        return False
    return bool(np.array_equal(people(found, place), people(found, parent)))


def _stretches(found: Outcome, levels: dict[str, int]) -> Sequence[Stretch]:
    places = found.matrix.plan.places
    return [
        Stretch(place, LEVELS[code]) for place, code in levels.items() if code != levels.get(places[place].parent or "")
    ]


def _ordered(found: Outcome) -> Sequence[str]:
    """All places, depth first and by name."""
    plan = found.matrix.plan
    tops = [place.id for place in plan.places.values() if place.parent is None]
    stack = sorted(tops, key=lambda place: fold(plan.places[place].name), reverse=True)
    ordered: list[str] = []
    while stack:
        here = stack.pop()
        ordered.append(here)
        stack += sorted(plan.inside.get(here, ()), key=lambda place: fold(plan.places[place].name), reverse=True)
    return ordered
