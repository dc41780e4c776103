"""Trying everyone: all people, all places, all ways in at once, and what in that is surprising."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from yardgate.core.access.bitsets import unpack
from yardgate.core.access.comparison import Comparison
from yardgate.core.access.outcome import Outcome
from yardgate.core.acl.rights import LEVELS, Level


class Surprise(NamedTuple):
    """A cell, and two levels that differ in it: what is granted, and what somebody gets; or over SMB, and over NFS."""

    subject: str
    place: str
    one: Level
    other: Level


@dataclass(frozen=True, slots=True)
class Everyone:
    """tried: how many cells were looked at. more, less: users, and the guest, who get more, or less, than is granted (`gets`). nowhere:
    users whose account is open and who may read nothing anywhere. differ: users who get something else over SMB than over NFS,
    where both lead. unwritten, open_to_all: places that nobody, and everybody, can write.
    """

    tried: int
    more: tuple[Surprise, ...]
    less: tuple[Surprise, ...]
    nowhere: tuple[str, ...]
    differ: tuple[Surprise, ...]
    unwritten: tuple[str, ...]
    open_to_all: tuple[str, ...]


def everyone(beside: Comparison) -> Everyone:
    found = beside.outcome
    matrix, counting = found.matrix, found.matrix.counting
    plan, users = matrix.plan, counting.users
    active = unpack(counting.active, users)
    reached = [place for place in plan.places if not plan.shares or found.ways_to(place)]
    columns = {place: found.best[None][place][:users] for place in reached}
    most = np.max(list(columns.values()), axis=0, initial=0) if columns else np.zeros(users, dtype=np.uint8)
    ends = [place for place in reached if plan.places[place].kind != "pool"]
    return Everyone(
        len(reached) * (users + 1),
        tuple(Surprise(*off) for off in beside.off("more")),
        tuple(Surprise(*off) for off in beside.off("less")),
        tuple(counting.subjects[n] for n in np.flatnonzero((most < Level.RO.code) & active).tolist()),
        tuple(_differ(found, reached, users)),
        tuple(place for place in ends if not (columns[place] == Level.RW.code).any()),
        tuple(place for place in ends if users and (columns[place][active] == Level.RW.code).all() and active.any()),
    )


def _differ(found: Outcome, reached: list[str], users: int) -> Iterator[Surprise]:
    for place in reached:
        if len({way.protocol for way in found.ways_to(place)}) > 1:
            smb, nfs = (found.best[protocol][place][:users] for protocol in ("smb", "nfs"))
            for n in np.flatnonzero(smb != nfs).tolist():
                yield Surprise(found.matrix.counting.subjects[n], place, LEVELS[smb[n]], LEVELS[nfs[n]])
