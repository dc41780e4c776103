"""Whether somebody learns of a place at all: its name stands in a listing shown to them, or they can enter it."""

import numpy as np
from numpy.typing import NDArray

from yardgate.core.lists import planes
from yardgate.core.outcome import Outcome
from yardgate.core.packed import classes
from yardgate.core.plan import GUEST, Plan
from yardgate.core.resolve import Matrix
from yardgate.core.rights import Level
from yardgate.core.share import Over, Protocol
from yardgate.core.storage import Laid, named_by, shown_on
from yardgate.core.walk import walk
from yardgate.core.ways import lets_in, members, seen_otherwise

Seen = NDArray[np.bool_]
"""Whether each subject, and the guest behind them, sees a place: bool (subjects + 1,)."""


def seen(found: Outcome, place: str, protocol: Protocol | None = None) -> Seen:
    """Who sees a place over the ways in; where the plan offers no shares, whoever can enter it."""
    sees = found.best[protocol][place] >= Level.PT.code
    for over in found.ways_to(place, protocol):
        sees = sees | _over(found.matrix, over, place)
    return sees


def _over(matrix: Matrix, over: Over, place: str) -> Seen:
    plan, counting, share = matrix.plan, matrix.counting, matrix.plan.shares[over.share]
    size = len(counting.subjects)
    sees = np.zeros(size + 1, dtype=np.bool_)
    parent = plan.places[place].parent
    if over.protocol == "nfs" and share.squash == "all":
        sees[:] = _walked(matrix, GUEST, over, place)
        return sees
    let_in = lets_in(matrix, over) > Level.NA.code
    if share.place == place or parent is None:
        sees[:size] = let_in
    else:
        sees[:size] = let_in & _listing(matrix, parent) & _not_hidden(matrix, over, place)
        if over.protocol == "smb" and share.administrator is not None:
            sees[:size] |= let_in & members(matrix, share.administrator)
    for number in seen_otherwise(matrix) if over.protocol == "nfs" else ():
        sees[number] = _walked(matrix, counting.subjects[number], over, place)
    sees[size] = (over.protocol == "nfs" or share.guests != Level.NA) and _walked(matrix, GUEST, over, place)
    return sees


def _listing(matrix: Matrix, place: str) -> Seen:
    """Who may list a place and gets there, by storage."""
    size = len(matrix.counting.subjects)
    if place not in matrix.laying or matrix.laying[place].list is None:
        return np.ones(size, dtype=np.bool_)
    can = planes.planes(matrix.counting, [matrix.laying[place]], planes.LEVEL_NEEDS)[:, 0]
    listed = (can[planes.LIST] | matrix.counting.root) & matrix.ways[place]
    if matrix.plan.target.entering == "asked":
        listed = listed & matrix.lists[place][0]
    return np.unpackbits(listed.view(np.uint8), bitorder="little")[:size].astype(np.bool_)


def _not_hidden(matrix: Matrix, over: Over, place: str) -> Seen:
    """To whom a share that hides what one cannot read shows a folder; asked once for all who are named alike there."""
    plan, counting, laid = matrix.plan, matrix.counting, matrix.laying.get(place)
    found = np.ones(len(counting.subjects), dtype=np.bool_)
    if over.protocol == "nfs" or not plan.shares[over.share].hide_unreadable or laid is None or laid.list is None:
        return found
    for one in classes(counting, _concerned(plan, laid)):
        ordinary = [user for user in one.users if plan.users[user].uid != 0] + list(one.groups)
        if ordinary and not shown_on(plan, laid, ordinary[0], one.names)[0]:
            found[[counting.number[subject] for subject in ordinary]] = False
    return found


def _concerned(plan: Plan, laid: Laid) -> list[str]:
    assert laid.list is not None
    owners = (who for who in (laid.owner, laid.group) if plan.account(who) is not None)
    return list(dict.fromkeys((*named_by(laid.list), *owners)))


def _walked(matrix: Matrix, subject: str, over: Over, place: str) -> bool:
    visits = walk(matrix.plan, subject, over, matrix.on, matrix.laying)
    return any(visit.place == place and (visit.shown or visit.level > Level.NA) for visit in visits)
