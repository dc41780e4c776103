"""Trying everyone: all people, all places, all ways in at once, and what in that is surprising."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from yardgate.core.outcome import Outcome
from yardgate.core.packed import unpack
from yardgate.core.resolve import Codes, to_codes
from yardgate.core.rights import LEVELS, Level
from yardgate.core.storage import granted_on
from yardgate.core.weighing import weigh


class Surprise(NamedTuple):
    """A cell, and two levels that differ in it: what one would think, and what comes out; or over SMB, and over NFS."""

    subject: str
    place: str
    one: Level
    other: Level


@dataclass(frozen=True, slots=True)
class Everyone:
    """tried: how many cells were looked at. more: users who get more than the widest of all that is granted to them and their
    groups. nowhere: users whose account is open and who may read nothing anywhere. differ: users who get something else over
    SMB than over NFS, where both lead. unwritten, open_to_all: places that nobody, and everybody, can write.
    """

    tried: int
    more: tuple[Surprise, ...]
    nowhere: tuple[str, ...]
    differ: tuple[Surprise, ...]
    unwritten: tuple[str, ...]
    open_to_all: tuple[str, ...]


def everyone(found: Outcome) -> Everyone:
    matrix, counting = found.matrix, found.matrix.counting
    plan, users = matrix.plan, counting.users
    active = unpack(counting.active, users)
    reached = [place for place in plan.places if not plan.shares or found.ways_to(place)]
    columns = {place: found.best[None][place][:users] for place in reached}
    most = np.max(list(columns.values()), axis=0, initial=0) if columns else np.zeros(users, dtype=np.uint8)
    ends = [place for place in reached if plan.places[place].kind != "pool"]
    return Everyone(
        len(reached) * (users + 1),
        tuple(_more(found, columns)),
        tuple(counting.subjects[n] for n in np.flatnonzero((most < Level.RO.code) & active).tolist()),
        tuple(_differ(found, reached, users)),
        tuple(place for place in ends if not (columns[place] == Level.RW.code).any()),
        tuple(place for place in ends if users and (columns[place][active] == Level.RW.code).all() and active.any()),
    )


def _more(found: Outcome, columns: dict[str, Codes]) -> Iterator[Surprise]:
    matrix = found.matrix
    widest = replace(matrix.plan.target, tiers="pooled", within="widest")
    high, low = weigh(widest, matrix.counting, [granted_on(matrix.plan, matrix.laying, place) for place in columns])
    for number, (place, column) in enumerate(columns.items()):
        boss = matrix.counting.boss
        said = to_codes(high[number] | boss, low[number] | boss, len(column))
        yield from _surprises(found, place, said, column, column > np.maximum(said, Level.PT.code))


def _differ(found: Outcome, reached: list[str], users: int) -> Iterator[Surprise]:
    for place in reached:
        if len({way.protocol for way in found.ways_to(place)}) > 1:
            smb, nfs = (found.best[protocol][place][:users] for protocol in ("smb", "nfs"))
            yield from _surprises(found, place, smb, nfs, smb != nfs)


def _surprises(found: Outcome, place: str, one: Codes, other: Codes, where: np.ndarray) -> Iterator[Surprise]:
    subjects = found.matrix.counting.subjects
    for n in np.flatnonzero(where).tolist():
        yield Surprise(subjects[n], place, LEVELS[one[n]], LEVELS[other[n]])
