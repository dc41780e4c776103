"""Whether somebody learns of a place at all: its name stands in a listing shown to them, or they can enter it."""

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch import acl
from yardgate.core.access.batch.resolve import Matrix, way_from
from yardgate.core.access.bitsets import Bits, Classes, unpack
from yardgate.core.access.outcome import Outcome
from yardgate.core.access.paths import members, seen_otherwise, told_apart, way_to
from yardgate.core.access.storage import PlaceState, named_by, shown_on
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Over, Protocol

LISTS = (acl.LEVEL_NEEDS[acl.LIST],)
Visible = NDArray[np.bool_]
"""Whether each subject, and the guest behind them, sees a place: bool (subjects + 1,)."""


def seen(found: Outcome, asked: Iterable[tuple[str, Protocol | None]]) -> dict[tuple[str, Protocol | None], Visible]:
    """Who sees each place over a protocol, or any way in; where the plan offers no shares, whoever can enter it."""
    wanted = dict.fromkeys(asked)
    places = found.matrix.plan.places
    lists = listing(found.matrix, {parent for place, _ in wanted if (parent := places[place].parent) is not None})
    result = {}
    for place, protocol in wanted:
        sees = found.best[protocol][place] >= Level.PT.code
        for over in found.ways_to(place, protocol):
            sees = sees | _over(found, over, place, lists)
        result[place, protocol] = sees
    return result


def _over(found: Outcome, over: Over, place: str, lists: Mapping[str, Bits]) -> Visible:
    matrix = found.matrix
    plan, counting, share = matrix.plan, matrix.counting, matrix.plan.shares[over.share]
    size = len(counting.subjects)
    sees = np.zeros(size + 1, dtype=np.bool_)
    parent = plan.places[place].parent
    let_in = found.let_in[over] > Level.NA.code
    if over.protocol == "nfs":
        let_in = let_in & unpack(way_to(matrix, over), size)
    if over.protocol == "nfs" and share.squash == "all":  # alike for all who get there
        sees[:size] = let_in
        if let_in.any():
            sees[:size] &= _walked(matrix, counting.subjects[int(let_in.argmax())], over, place)
    elif share.place == place or parent is None:
        sees[:size] = let_in
    elif over.protocol == "smb" and share.acts:
        for alike in told_apart(matrix, over, place):
            asking = [number for number in alike if let_in[number]]
            sees[asking] = bool(asking) and _walked(matrix, counting.subjects[asking[0]], over, place)
        if share.administrator is not None:
            sees[:size] |= let_in & members(matrix, share.administrator)
    else:
        sees[:size] = let_in & _not_hidden(matrix, over, place)
        if parent in lists:
            sees[:size] &= unpack(lists[parent] & _gets_to(matrix, over, parent), size)
        if over.protocol == "smb" and share.administrator is not None:
            sees[:size] |= let_in & members(matrix, share.administrator)
    for number in seen_otherwise(matrix) if over.protocol == "nfs" else ():
        sees[number] = _walked(matrix, counting.subjects[number], over, place)
    sees[size] = (over.protocol == "nfs" or share.guests != Level.NA) and _walked(matrix, GUEST, over, place)
    return sees


def listing(matrix: Matrix, places: Iterable[str]) -> dict[str, Bits]:
    """Whom the list of each place lets read the names in it: uint64 (words,); only where storage is planned."""
    stored = [place for place in places if place in matrix.storage and matrix.storage[place].list is not None]
    if not stored:
        return {}
    can = acl.planes(matrix.counting, [matrix.storage[place] for place in stored], LISTS)[0] | matrix.counting.root
    return dict(zip(stored, can, strict=True))


def _gets_to(matrix: Matrix, over: Over, place: str) -> Bits:
    """Whom the folders above a place let pass; over SMB only who may enter it is shown what is in it."""
    free = over.protocol == "nfs" and matrix.plan.target.nfs_traverse == "bypassed"
    way = way_from(matrix, place, matrix.plan.shares[over.share].place if free else None)
    if over.protocol == "smb" and matrix.plan.target.traverse == "checked":
        way = way & matrix.lists[place][0]
    return way


def _not_hidden(matrix: Matrix, over: Over, place: str) -> Visible:
    """To whom a share that hides what one cannot read shows a folder; asked once for all who are named alike there."""
    plan, counting, stored = matrix.plan, matrix.counting, matrix.storage.get(place)
    found = np.ones(len(counting.subjects), dtype=np.bool_)
    if over.protocol == "nfs" or not plan.shares[over.share].hide_unreadable or stored is None or stored.list is None:
        return found
    for one in Classes(counting, _concerned(plan, stored)):
        ordinary = [user for user in one.users if plan.users[user].uid != 0] + list(one.groups)
        if ordinary and not shown_on(plan, stored, ordinary[0], one.names)[0]:
            found[[counting.number[subject] for subject in ordinary]] = False
    return found


def _concerned(plan: Plan, stored: PlaceState) -> list[str]:
    assert stored.list is not None
    owners = (who for who in (stored.owner, stored.group) if plan.account(who) is not None)
    return list(dict.fromkeys((*named_by(stored.list), *owners)))


def _walked(matrix: Matrix, subject: str, over: Over, place: str) -> bool:
    there = walk(matrix.plan, subject, over, matrix.on, matrix.storage, to=place)[-1]
    return there.shown or there.level > Level.NA
