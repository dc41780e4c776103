"""What comes out in the end: the best that everybody, and the guest, gets in every place over the ways in.

Where a plan offers no shares, what grants and storage alone give stands for it.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from yardgate.core.plan import GUEST, Plan
from yardgate.core.resolve import Codes, Matrix, resolve
from yardgate.core.rights import LEVELS, Level
from yardgate.core.share import Over, Protocol
from yardgate.core.storage import alike
from yardgate.core.ways import guest_over, inside, lets_in, offered, resolve_over

Column = Codes
"""The levels of all subjects of one place, and of the guest behind them: uint8 (subjects + 1,), `Level.code`."""
Columns = Mapping[str, Column]


@dataclass(frozen=True)
class Outcome:
    """let_in: what each way in lets through before storage has its say. over: for each way in, its places. best: for each protocol, and for any way in under None, all places of the plan."""

    matrix: Matrix
    let_in: Mapping[Over, Codes]
    over: Mapping[Over, Columns]
    best: Mapping[Protocol | None, Columns]

    def number(self, subject: str) -> int:
        counting = self.matrix.counting
        return len(counting.subjects) if subject == GUEST else counting.number[subject]

    def level(self, subject: str, place: str, protocol: Protocol | None = None) -> Level:
        return LEVELS[int(self.best[protocol][place][self.number(subject)])]

    def ways_to(self, place: str, protocol: Protocol | None = None) -> tuple[Over, ...]:
        """The ways in that reach a place."""
        return tuple(over for over in self._reaching.get(place, ()) if protocol in (None, over.protocol))

    def levels(self, subject: str, place: str) -> Mapping[Over, Level]:
        """What somebody gets over each way in that reaches a place."""
        number = self.number(subject)
        return {over: LEVELS[int(self.over[over][place][number])] for over in self.ways_to(place)}

    @cached_property
    def _reaching(self) -> Mapping[str, Sequence[Over]]:
        found: dict[str, list[Over]] = {}
        for over, columns in self.over.items():
            for place in columns:
                found.setdefault(place, []).append(over)
        return found


class Shift(NamedTuple):
    """A cell of somebody that comes out differently over any way in, or else over one protocol."""

    subject: str
    place: str
    over: Protocol | None
    before: Level
    after: Level


def outcome(matrix: Matrix, before: Outcome | None = None) -> Outcome:
    """`before`, of an earlier plan: columns are taken over where nothing that they came of is another."""
    known = before
    if before is not None and not (
        before.matrix.counting is matrix.counting and before.matrix.plan.target == matrix.plan.target
    ):
        known = None
    let_in = {way: _let_in(matrix, way, known) for way in offered(matrix.plan)}
    over: dict[Over, Columns] = {way: _columns(matrix, way, let_in[way], known) for way in let_in}
    best: dict[Protocol | None, Columns] = {
        protocol: _best(matrix, [over[way] for way in over if way.protocol == protocol], known, protocol)
        for protocol in ("smb", "nfs")
    }
    if matrix.plan.shares:
        best[None] = _best(matrix, [best["smb"], best["nfs"]], known, None)
    else:
        best[None] = {place: np.append(row, np.uint8(0)) for place, row in matrix.rows.items()}
    return Outcome(matrix, let_in, over, best)


def outcome_of(plan: Plan, before: Outcome) -> Outcome:
    """Of another plan on the same day, worked out from what is known."""
    return outcome(resolve(plan, before.matrix.on, before.matrix), before)


def _let_in(matrix: Matrix, over: Over, known: Outcome | None) -> Codes:
    if known is not None and over in known.let_in:
        plan, then = matrix.plan, known.matrix.plan
        share, laying = plan.shares[over.share], matrix.laying
        told = plan.grants.get(share.place) is then.grants.get(share.place) or share.place in laying
        offered_alike = plan.services is then.services and then.shares[over.share] is share
        if offered_alike and told and laying.get(share.place) is known.matrix.laying.get(share.place):
            return known.let_in[over]
    return lets_in(matrix, over)


def _columns(matrix: Matrix, over: Over, let_in: Codes, known: Outcome | None) -> Columns:
    places = inside(matrix.plan, matrix.plan.shares[over.share])
    old = known.over.get(over, {}) if known is not None and known.matrix.plan.services is matrix.plan.services else {}
    offered_alike = old and known is not None and known.matrix.plan.shares[over.share] == matrix.plan.shares[over.share]
    if known is not None and offered_alike and np.array_equal(let_in, known.let_in[over]):
        stale = [p for p in places if p not in old or not _reached_alike(matrix, known.matrix, over, p)]
    else:
        old, stale = {}, list(places)
    found = resolve_over(matrix, over, stale)
    guest = guest_over(matrix.plan, over, places, matrix.laying)
    fresh = {place: np.append(found[place], np.uint8(guest[place].code)) for place in stale}
    return {p: fresh[p] if p in fresh else _with_guest(old[p], guest[p]) for p in places}


def _with_guest(column: Column, level: Level) -> Column:
    return column if column[-1] == level.code else np.append(column[:-1], np.uint8(level.code))


def _reached_alike(matrix: Matrix, then: Matrix, over: Over, place: str) -> bool:
    """Whether users get to a place and its list as they did; over NFS some are seen otherwise, by the lists on the way."""
    if place not in matrix.lists or place not in then.lists:
        return (place in matrix.lists) == (place in then.lists)
    same = matrix.lists[place] is then.lists[place] and matrix.ways[place] is then.ways[place]
    return same and (over.protocol == "smb" or alike(matrix.laying, then.laying, matrix.plan.path(place)))


def _best(
    matrix: Matrix, parts: Sequence[Columns], known: Outcome | None, protocol: Protocol | None
) -> dict[str, Column]:
    nothing = np.zeros(len(matrix.counting.subjects) + 1, dtype=np.uint8)
    found: dict[str, Column] = dict.fromkeys(matrix.plan.places, nothing)
    for columns in parts:
        for place, column in columns.items():
            here = found[place]
            found[place] = column if here is nothing else np.maximum(here, column)
    if known is not None:  # the same values as the same array, so that comparing is quick
        old = known.best[protocol]
        found = {
            place: old[place] if place in old and np.array_equal(old[place], column) else column
            for place, column in found.items()
        }
    return found


def shifts(before: Outcome, after: Outcome) -> list[Shift]:
    """The cells of users and of the guest that both have and that come out differently, place by place."""
    old, new = before.matrix.counting, after.matrix.counting
    pairs = [(n, new.number[who]) for n, who in enumerate(old.subjects[: old.users]) if who in after.matrix.plan.users]
    then, now = np.array([*pairs, (len(old.subjects), len(new.subjects))], dtype=np.intp).T
    who = [*(old.subjects[n] for n, _ in pairs), GUEST]
    found: list[Shift] = []
    for place in after.best[None]:
        if place not in before.best[None]:
            continue
        seen = np.zeros(len(who), dtype=np.bool_)
        for protocol in (None, "smb", "nfs"):
            was, row = before.best[protocol][place], after.best[protocol][place]
            if was is row:
                continue
            differ = (was[then] != row[now]) & ~seen
            seen |= differ
            for n in np.flatnonzero(differ).tolist():
                found.append(Shift(who[n], place, protocol, LEVELS[was[then[n]]], LEVELS[row[now[n]]]))
    return found
