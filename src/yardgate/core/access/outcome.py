"""What comes out in the end: the best that everybody, and the guest, gets in every place over the ways in.

Where a plan offers no shares, what grants and storage alone give stands for it.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import NamedTuple, Self

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.resolve import Codes, Matrix, resolve
from yardgate.core.access.nfs_hosts import HostClass, classes, levels
from yardgate.core.access.paths import guest_over, inside, is_on, lets_in, offered, resolve_over
from yardgate.core.access.storage import alike
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Over, Protocol, Wildcards

LevelColumn = Codes
"""The levels of all subjects of one place, and of the guest behind them: uint8 (subjects + 1,), `Level.code`."""
Columns = Mapping[str, LevelColumn]


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


class HostShift(NamedTuple):
    """Hosts that may do something else in a share over NFS, and how many users get something else somewhere in it from there.

    granted: what the rules of the share gave them before, whether or not it was offered.
    """

    share: str
    hosts: str
    granted: Level
    before: Level
    after: Level
    people: int

    @property
    def gives(self) -> bool:
        """Whether they get more than the rules gave them."""
        return self.after > max(self.before, self.granted)

    @property
    def takes(self) -> bool:
        """Whether they get less than the rules gave them."""
        return self.after < min(self.before, self.granted)

    @property
    def costs(self) -> bool:
        return self.gives or self.takes


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
        rows, old = (known.matrix.rows, known.best[None]) if known and not known.matrix.plan.shares else ({}, {})
        best[None] = {
            place: old[place] if row is rows.get(place) else np.append(row, np.uint8(0))
            for place, row in matrix.rows.items()
        }
    return Outcome(matrix, let_in, over, best)


def outcome_of(plan: Plan, before: Outcome) -> Outcome:
    """Of another plan on the same day, worked out from what is known."""
    return outcome(resolve(plan, before.matrix.on, before.matrix), before)


def _let_in(matrix: Matrix, over: Over, known: Outcome | None) -> Codes:
    if known is not None and over in known.let_in:
        plan, then = matrix.plan, known.matrix.plan
        share, storage = plan.shares[over.share], matrix.storage
        told = plan.grants.get(share.place) is then.grants.get(share.place) or share.place in storage
        offered_alike = plan.services is then.services and then.shares[over.share] is share
        if offered_alike and told and storage.get(share.place) is known.matrix.storage.get(share.place):
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
    guest = guest_over(matrix.plan, over, places, matrix.storage)
    fresh = {place: np.append(found[place], np.uint8(guest[place].code)) for place in stale}
    return {p: fresh[p] if p in fresh else _with_guest(old[p], guest[p]) for p in places}


def _with_guest(column: LevelColumn, level: Level) -> LevelColumn:
    return column if column[-1] == level.code else np.append(column[:-1], np.uint8(level.code))


def _reached_alike(matrix: Matrix, then: Matrix, over: Over, place: str) -> bool:
    """Whether users get to a place and its list as they did; over NFS some are seen otherwise, by the lists on the way."""
    if place not in matrix.lists or place not in then.lists:
        return (place in matrix.lists) == (place in then.lists)
    same = matrix.lists[place] is then.lists[place] and matrix.ways[place] is then.ways[place]
    return same and (over.protocol == "smb" or alike(matrix.storage, then.storage, matrix.plan.path(place)))


def _best(
    matrix: Matrix, parts: Sequence[Columns], known: Outcome | None, protocol: Protocol | None
) -> dict[str, LevelColumn]:
    nothing = _nothing(len(matrix.counting.subjects) + 1)
    found: dict[str, LevelColumn] = dict.fromkeys(matrix.plan.places, nothing)
    for columns in parts:
        for place, column in columns.items():
            here = found[place]
            found[place] = column if here is nothing else np.maximum(here, column)
    if known is None:
        return found
    old = known.best[protocol]
    return {place: _as_before(old.get(place), column) for place, column in found.items()}


def _as_before(old: LevelColumn | None, column: LevelColumn) -> LevelColumn:
    """The same values as the same array, so that comparing is quick."""
    return old if old is not None and old is not column and np.array_equal(old, column) else column


@lru_cache(maxsize=8)
def _nothing(size: int) -> LevelColumn:
    found: LevelColumn = np.zeros(size, dtype=np.uint8)
    found.setflags(write=False)
    return found


def people(found: Outcome, place: str) -> LevelColumn:
    """Users and guest of a column, groups left out."""
    column: LevelColumn = found.best[None][place]
    return np.append(column[: found.matrix.counting.users], column[-1])


def over_ways(found: Outcome, other: Outcome, place: str, protocol: Protocol | None = None) -> LevelColumn:
    """What comes out, beside another plan: nothing where that one has shares and this one has none."""
    column: LevelColumn = found.best[protocol][place]
    alone = other.matrix.plan.shares and not found.matrix.plan.shares
    return np.zeros_like(column) if alone else column


def in_both(before: Outcome, after: Outcome) -> tuple[Sequence[str], NDArray[np.intp], NDArray[np.intp]]:
    """The users of both plans, and the guest behind them, with their numbers in a column of the one and of the other."""
    old, new = before.matrix.counting, after.matrix.counting
    if old is new:
        numbers = np.append(np.arange(old.users), len(old.subjects))
        return [*old.subjects[: old.users], GUEST], numbers, numbers
    pairs = [(n, new.number[who]) for n, who in enumerate(old.subjects[: old.users]) if who in after.matrix.plan.users]
    then, now = np.array([*pairs, (len(old.subjects), len(new.subjects))], dtype=np.intp).T
    return [*(old.subjects[n] for n, _ in pairs), GUEST], then, now


def shifts(before: Outcome, after: Outcome, *, gone: bool = False) -> list[Shift]:
    """The cells of users and of the guest that both have and that come out differently, place by place.

    gone: also of places that only the first plan has: nobody gets anything there any more.
    """
    who, then, now = in_both(before, after)
    return [
        Shift(who[n], place, protocol, LEVELS[was], LEVELS[comes])
        for place, protocol, numbers, old, new in _shifted(before, after, then, now, gone=gone)
        for n, was, comes in zip(numbers.tolist(), old.tolist(), new.tolist(), strict=True)
    ]


@dataclass(frozen=True, slots=True)
class Shifted:
    """How many cells come out differently, of how many people in how many places, and the first of them."""

    total: int
    people: int
    places: int
    cells: tuple[Shift, ...]

    @classmethod
    def of(cls, found: Sequence[Shift], most: int) -> Self:
        whos, places = {one.subject for one in found}, {one.place for one in found}
        return cls(len(found), len(whos), len(places), tuple(found[:most]))


def shifted(before: Outcome, after: Outcome, most: int, *, gone: bool = False) -> Shifted:
    """What `shifts` finds, counted, and at most so many of it as cells."""
    who, then, now = in_both(before, after)
    touched = np.zeros(len(who), dtype=np.bool_)
    cells: list[Shift] = []
    places: set[str] = set()
    total = 0
    for place, protocol, numbers, old, new in _shifted(before, after, then, now, gone=gone):
        total += len(numbers)
        touched[numbers] = True
        places.add(place)
        some = slice(0, most - len(cells))
        for n, was, comes in zip(numbers[some].tolist(), old[some].tolist(), new[some].tolist(), strict=True):
            cells.append(Shift(who[n], place, protocol, LEVELS[was], LEVELS[comes]))
    return Shifted(total, int(touched.sum()), len(places), tuple(cells))


def _shifted(
    before: Outcome, after: Outcome, then: NDArray[np.intp], now: NDArray[np.intp], *, gone: bool = False
) -> Iterator[tuple[str, Protocol | None, NDArray[np.intp], Codes, Codes]]:
    """For a place, and over any way or a protocol: the numbers, within `then` and `now`, of whom something else comes out for, and its codes before
    and after. Who is named over any way is not named over a protocol again."""
    nothing = _nothing(len(after.matrix.counting.subjects) + 1)
    for place in before.best[None]:
        if place not in after.best[None] and not gone:
            continue
        seen = np.zeros(len(then), dtype=np.bool_)
        for protocol in (None, "smb", "nfs"):
            was = over_ways(before, after, place, protocol)
            row = over_ways(after, before, place, protocol) if place in after.best[None] else nothing
            if was is row:
                continue
            differ = (was[then] != row[now]) & ~seen
            seen |= differ
            if (numbers := np.flatnonzero(differ)).size:
                yield place, protocol, numbers, was[then[numbers]], row[now[numbers]]


def host_shifts(before: Outcome, after: Outcome) -> list[HostShift]:
    """What changes by host rules, shares that begin or end among it, for each class of hosts that either plan tells apart."""
    found: list[HostShift] = []
    then, now = before.matrix.plan, after.matrix.plan
    wildcards: Wildcards = "both" if "both" in (then.target.wildcards, now.target.wildcards) else "names"
    for share in {**then.shares, **now.shares}:
        there = [plan.shares[share] for plan in (then, now) if share in plan.shares]
        texts = dict.fromkeys(rule.hosts for one in there for rule in one.hosts)
        if all(Over(share, "nfs") not in one.over for one in (before, after)) or _hosts_alike(then, now, share):
            continue
        some = list(classes(tuple(texts), wildcards))
        granted = _by_rules(then, share, some)
        was, gets = (
            _by_rules(one.matrix.plan, share, some) if Over(share, "nfs") in one.over else [Level.NA] * len(some)
            for one in (before, after)
        )
        for host, said, old, new in zip(some, granted, was, gets, strict=True):
            if old != new:
                over = Over(share, "nfs", host.address, host.name)
                found.append(HostShift(share, host.words, said, old, new, _people_from(before, after, over)))
    return list(dict.fromkeys(found))


def _hosts_alike(then: Plan, now: Plan, share: str) -> bool:
    one, other = then.shares.get(share), now.shares.get(share)
    if one is None or other is None or is_on(then, "nfs") != is_on(now, "nfs"):
        return False
    rules = [(plan.target.host_rules, plan.target.wildcards) for plan in (then, now)]
    kept = one.hosts == other.hosts and one.nfs == other.nfs and one.read_only == other.read_only
    return kept and rules[0] == rules[1]


def _by_rules(plan: Plan, share: str, some: Sequence[HostClass]) -> Sequence[Level]:
    """What the rules of a share let one host of each class do; NA where there is no such share."""
    if share not in plan.shares:
        return [Level.NA] * len(some)
    there, target = plan.shares[share], plan.target
    highest = Level.RO if there.read_only else Level.RW
    return [min(highest, level) for level in levels(there.hosts, target.host_rules, target.wildcards, some)]


def _people_from(before: Outcome, after: Outcome, over: Over) -> int:
    """How many of the users of both plans get something else somewhere in the share from one host."""
    sides = [resolve_over(one.matrix, over) if Over(over.share, "nfs") in one.over else {} for one in (before, after)]
    picked = [numbers[:-1] for numbers in in_both(before, after)[1:]]  # without the guest
    differ = np.zeros(len(picked[0]), dtype=np.bool_)
    for place in sides[0] | sides[1]:
        was, gets = (side[place][some] if place in side else 0 for side, some in zip(sides, picked, strict=True))
        differ |= np.not_equal(was, gets)
    return int(differ.sum())
