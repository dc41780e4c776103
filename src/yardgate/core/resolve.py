"""Every user, every place, at once.

Subjects (users, then for each group somebody who is in that group alone) are packed into bits: one bit set a principal,
saying who counts as it. One line of a list then is one OR over all subjects, and places are taken in blocks that fit the
processor's cache. Held equal to `reason` by property tests.
"""

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from itertools import chain
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.plan import EVERYONE, Plan, Target
from yardgate.core.reason import Source
from yardgate.core.rights import LEVELS, Level

Bits = NDArray[np.uint64]  # shape (..., words): subject s is bit s of the row, least significant first
Codes = NDArray[np.uint8]

SOURCES: tuple[Source, ...] = ("nothing", "own", "group", "all", "admin", "account")
OWN, GROUP, ALL = range(3)
NA, RO, RW = range(3)
GRANT_CODE = {Level.NA: NA, Level.RO: RO, Level.RW: RW}
BLOCK = 256  # places worked on together


@dataclass(frozen=True, slots=True)
class Counting:
    """Who counts as what on one day, packed. Depends on users, groups and target, not on places or grants.

    subjects: ids, `users` users first, then the groups. number: id -> its number among the subjects; everyone comes last.
    bits: uint64 (groups + 1, words), a row a group and one for everyone. active, boss: uint64 (words,).
    """

    subjects: tuple[str, ...]
    users: int
    number: Mapping[str, int]
    bits: Bits
    active: Bits
    boss: Bits


@dataclass(frozen=True, slots=True)
class Matrix:
    """The whole effective matrix. rows: place id -> uint8 (subjects,), the `Level.code` of every subject in that place."""

    plan: Plan
    on: date
    counting: Counting
    rows: Mapping[str, Codes]

    def level(self, subject: str, place: str) -> Level:
        return LEVELS[int(self.rows[place][self.counting.number[subject]])]


class Change(NamedTuple):
    """One cell that comes out differently."""

    subject: str
    place: str
    before: Level
    after: Level


class Detail(NamedTuple):
    """What else there is to know of one place, for every subject: where the level comes from (index into SOURCES), and
    whether another clash rule would give another level."""

    source: Codes
    clash: NDArray[np.bool_]


def count(plan: Plan, on: date) -> Counting:
    """Pack who counts as what: direct members first, then subgroups handed upward until nothing changes (a circle is no harm)."""
    users, groups, target = list(plan.users.values()), list(plan.groups.values()), plan.target
    subjects = (*plan.users, *plan.groups)
    number = dict(zip(subjects, range(len(subjects)), strict=True))
    size, n = len(subjects), len(users)
    member = np.zeros((len(groups) + 1, -(-max(size, 1) // 64) * 64), dtype=np.bool_)

    outer = np.repeat(np.arange(len(groups)), [len(group.members) for group in groups])
    inner = np.fromiter(map(number.__getitem__, chain.from_iterable(g.members for g in groups)), np.intp, len(outer))
    direct = inner < n
    member[outer[direct], inner[direct]] = True
    member[range(len(groups)), range(n, size)] = True
    primary: list[tuple[int, int]] = []
    shut: list[int] = []
    # One pass: to fetch ten thousand scattered records costs more than to look at them.
    for i, user in enumerate(users):
        if user.primary_group is not None:
            primary.append((number[user.primary_group] - n, i))
        if not user.active(on):
            shut.append(i)
    member[tuple(np.array(primary, dtype=np.intp).reshape(-1, 2).T)] = True
    if target.baseline is not None:
        everybody = target.baseline_covers_directory
        covered = True if everybody else [user.origin == "local" for user in users] + [True] * len(groups)
        member[number[target.baseline] - n, :size] |= np.asarray(covered)
    member[-1, :size] = True

    bits = _nest(_pack(member), outer[~direct], inner[~direct] - n)
    active = np.zeros(member.shape[1], dtype=np.bool_)
    active[:size] = True
    active[shut] = False
    boss = bits[number[target.administrators] - n] if target.administrators is not None else np.zeros_like(bits[-1])
    number[EVERYONE] = size
    return Counting(subjects, n, number, bits, _pack(active), boss)


def _nest(bits: Bits, outer: NDArray[np.intp], inner: NDArray[np.intp]) -> Bits:
    """Hand the members of each inner group to its outer one, again and again, until nothing changes."""
    while True:
        wider = bits.copy()
        _or_into(wider, outer, bits, inner)
        if np.array_equal(wider, bits):
            return bits
        bits = wider


def _pack(flags: NDArray[np.bool_]) -> Bits:
    return np.packbits(flags, axis=-1, bitorder="little").view(np.uint64)


def _spread() -> NDArray[np.uint64]:
    """For a byte of high bits and a byte of low bits (index high << 8 | low): the eight codes 2·high + low, as one word."""
    byte = np.unpackbits(np.arange(256, dtype=np.uint8)[:, None], axis=1, bitorder="little")
    return np.ascontiguousarray(2 * byte[:, None, :] + byte[None, :, :]).view(np.uint64).reshape(65536)


SPREAD = _spread()


def _codes(high: Bits, low: Bits, out: NDArray[np.uint64]) -> None:
    """Two bit planes (places, words) into eight codes 2·high + low a word: uint64 (places, 8 · words)."""
    index = high.view(np.uint8).astype(np.uint16)
    index <<= 8
    index |= low.view(np.uint8)
    SPREAD.take(index, out=out, mode="clip")


def resolve(plan: Plan, on: date, before: Matrix | None = None) -> Matrix:
    """The level of every subject in every place on one day.

    `before`, the matrix of an earlier plan, saves work: rows whose grants are the very same object are taken over as they
    are, if users, groups, target and day are too.
    """
    same = before is not None and before.on == on and before.plan.users is plan.users
    same = same and before is not None and before.plan.groups is plan.groups and before.plan.target is plan.target
    if before is None or not same:
        counting = count(plan, on)
        return Matrix(plan, on, counting, dict(_rows(plan, counting, list(plan.places))))
    old, new = before.plan.grants, plan.grants
    stale = {place for place, lines in new.items() if old.get(place) is not lines} | (old.keys() - new.keys())
    fresh = [place for place in stale if place in plan.places]
    rows = before.rows
    if plan.places is not before.plan.places:
        rows = {place: before.rows[place] for place in plan.places if place in before.rows}
        fresh = [place for place in plan.places if place not in rows or place in stale]
    return Matrix(plan, on, before.counting, {**rows, **dict(_rows(plan, before.counting, fresh))})


def detail(matrix: Matrix, places: Iterable[str]) -> dict[str, Detail]:
    """Source and clash of every subject in the places named."""
    counting, target = matrix.counting, matrix.plan.target
    size = len(counting.subjects)
    wanted, found = list(places), {}
    for start in range(0, len(wanted), BLOCK):
        block = wanted[start : start + BLOCK]
        lines = _lines(matrix.plan, counting, block)
        said = _gather(counting, lines, len(block), by_tier=True)
        clash, sources = _detail(target, counting, lines, said)
        source = sum(SOURCES.index(name) * _flags(plane, size) for name, plane in sources.items())
        marks = _flags(clash, size).astype(np.bool_)
        found.update({place: Detail(source[i], marks[i]) for i, place in enumerate(block)})  # type: ignore[index]
    return found


def _flags(plane: Bits, size: int) -> Codes:
    return np.unpackbits(plane.view(np.uint8), axis=-1, bitorder="little")[..., :size]


def changes(before: Matrix, after: Matrix) -> list[Change]:
    """The cells that both matrices have and that differ, place by place. Cells that came or went are not among them."""
    old, new = before.counting.subjects, after.counting.subjects
    then, now = np.arange(len(old)), np.arange(len(old))
    if old != new:
        pairs = [
            (i, after.counting.number[subject]) for i, subject in enumerate(old) if subject in after.counting.number
        ]
        then, now = np.array(pairs, dtype=np.intp).reshape(-1, 2).T
    found = []
    for place, row in after.rows.items():
        was = before.rows.get(place)
        if was is None or was is row:
            continue
        different = was[then] != row[now]
        for i, j in zip(then[different].tolist(), now[different].tolist(), strict=True):
            found.append(Change(old[i], place, LEVELS[was[i]], LEVELS[row[j]]))
    return found


# --- lists, packed ----------------------------------------------------------------------------------------------------


class Lines(NamedTuple):
    """All lines of a block of places: arrays of equal length. position: place in its list, 0 first."""

    place: NDArray[np.intp]
    position: NDArray[np.intp]
    tier: NDArray[np.intp]
    level: NDArray[np.intp]
    row: NDArray[np.intp]  # row of Counting.bits, or, in the own tier, the number of the subject


def _rows(plan: Plan, counting: Counting, places: Sequence[str]) -> Iterable[tuple[str, Codes]]:
    """Levels of the places named, as views of one array, so that a row can be replaced without touching the others."""
    result = np.empty((len(places), counting.bits.shape[1] * 8), dtype=np.uint64)
    for start in range(0, len(places), BLOCK):
        block = places[start : start + BLOCK]
        lines = _lines(plan, counting, block)
        if plan.target.within == "first":
            high, low, _ = _first(plan.target, counting, lines, len(block))
        else:
            high, low = _weigh(
                plan.target, _gather(counting, lines, len(block), by_tier=plan.target.tiers == "nearest")
            )
        high |= counting.boss
        low |= counting.boss
        high &= counting.active
        low &= counting.active
        _codes(high, low, result[start : start + len(block)])
    size = len(counting.subjects)
    return zip(places, result.view(np.uint8)[:, :size], strict=True)


def _lines(plan: Plan, counting: Counting, block: Sequence[str]) -> Lines:
    number, nothing = counting.number, dict[str, Level]()
    lists = [plan.grants.get(place, nothing) for place in block]
    length = np.array([len(grants) for grants in lists], dtype=np.intp)
    total = int(length.sum())
    place = np.repeat(np.arange(len(block)), length)
    position = np.arange(total) - np.repeat(np.cumsum(length) - length, length)
    who = np.fromiter(map(number.__getitem__, chain.from_iterable(lists)), np.intp, total)
    said = chain.from_iterable(grants.values() for grants in lists)
    level = np.fromiter(map(GRANT_CODE.__getitem__, said), np.intp, total)
    own, base = who < counting.users, number[plan.target.baseline or EVERYONE]
    tier = np.where(own, OWN, np.where((who == base) | (who == number[EVERYONE]), ALL, GROUP))
    return Lines(place, position, tier, level, np.where(own, who, who - counting.users))


def _or_into(into: Bits, slots: NDArray[np.intp], bits: Bits, rows: NDArray[np.intp]) -> None:
    """into[slots[i]] |= bits[rows[i]] for every i, in rounds: first the first of every slot, then the second, and so on.

    (ufunc.reduceat says the same and is several times slower along the first axis.)
    """
    order = np.argsort(slots, kind="stable")
    sorted_slots, sorted_rows = slots[order], rows[order]
    first = np.ones(len(slots), dtype=np.bool_)
    first[1:] = sorted_slots[1:] != sorted_slots[:-1]
    starts = first.nonzero()[0]
    shorter = np.empty_like(starts)  # the length of each slot's run, negative
    shorter[:-1] = starts[:-1] - starts[1:]
    shorter[-1:] = starts[-1:] - len(slots)
    longest = shorter.argsort(kind="stable")
    starts, shorter = starts[longest], shorter[longest]
    gathered = bits.take(sorted_rows[starts], axis=0)
    turns = -int(shorter.min(initial=0))
    for turn, going in enumerate(shorter.searchsorted(-np.arange(turns)).tolist()):  # slots with more than `turn` lines
        if turn:
            gathered[:going] |= bits.take(sorted_rows[starts[:going] + turn], axis=0)
    into[sorted_slots[starts]] |= gathered


def _gather(counting: Counting, lines: Lines, places: int, *, by_tier: bool) -> Bits:
    """Who is told what: uint64 (tiers, 3 levels, places, words); a bit says that some line of that kind names the subject.

    Three tiers, or all of them taken together as one.
    """
    words = counting.bits.shape[1]
    said = np.zeros((3 if by_tier else 1, 3, places, words), dtype=np.uint64)
    flat = said.reshape(-1, words)
    slot = ((lines.tier if by_tier else 0) * 3 + lines.level) * places + lines.place
    mine = lines.tier == OWN
    np.bitwise_or.at(flat, (slot[mine], lines.row[mine] >> 6), np.uint64(1) << (lines.row[mine] & 63).astype(np.uint64))
    _or_into(flat, slot[~mine], counting.bits, lines.row[~mine])
    return said


def _weigh(target: Target, said: Bits) -> tuple[Bits, Bits]:
    """High and low bit plane (places, words) of the level, before account and administrators. Not for the first line's rule."""
    if target.tiers == "pooled":
        return _within(target, np.bitwise_or.reduce(said))
    own, group, everyone = (_within(target, tier) for tier in said)
    near, middle = np.bitwise_or.reduce(said[OWN]), np.bitwise_or.reduce(said[GROUP])
    return (
        own[0] | ~near & (group[0] | ~middle & everyone[0]),
        own[1] | ~near & (group[1] | ~middle & everyone[1]),
    )


def _within(target: Target, tier: Bits) -> tuple[Bits, Bits]:
    na, ro, rw = tier
    match target.within:
        case "refusal":
            return (ro | rw) & ~na, rw & ~na
        case "widest":
            return ro | rw, rw.copy()
        case _:
            return (ro | rw) & ~na, rw & ~(ro | na)


def _first(target: Target, counting: Counting, lines: Lines, places: int) -> tuple[Bits, Bits, Bits]:
    """High and low plane where the first line that names a subject decides, and (3 tiers, places, words): in which tier it was."""
    words = counting.bits.shape[1]
    nearest = target.tiers == "nearest"
    turn = lines.position + (lines.tier * (lines.position.max(initial=0) + 1) if nearest else 0)
    order = np.argsort(turn, kind="stable")
    place, _, tier, level, row = (column[order] for column in lines)
    mine = np.flatnonzero(tier == OWN)
    hits = counting.bits.take(np.where(tier == OWN, 0, row), axis=0)
    hits[mine] = 0
    hits[mine, row[mine] >> 6] = np.uint64(1) << (row[mine] & 63).astype(np.uint64)
    undecided = np.full((places, words), ~np.uint64(0))
    turns = np.flatnonzero(np.diff(turn[order], prepend=-1, append=-1))
    for start, end in itertools.pairwise(turns):  # at most one line of each place has its turn at a time
        hits[start:end] &= undecided[place[start:end]]
        undecided[place[start:end]] ^= hits[start:end]
    high, low = np.zeros((2, places, words), dtype=np.uint64)
    by_tier = np.zeros((3 * places, words), dtype=np.uint64)
    _or_into(high, place[level != NA], hits, np.flatnonzero(level != NA))
    _or_into(low, place[level == RW], hits, np.flatnonzero(level == RW))
    _or_into(by_tier, tier * places + place, hits, np.arange(len(place)))
    return high, low, by_tier.reshape(3, places, words)


def _detail(target: Target, counting: Counting, lines: Lines, said: Bits) -> tuple[Bits, dict[Source, Bits]]:
    """Planes of the clash mark and of every source; a subject is in at most one source, in none where nothing is said."""
    na, ro, rw = said[OWN] | said[GROUP] | said[ALL]
    if target.within == "first":
        near = _first(target, counting, lines, said.shape[2])[2]
    elif target.tiers == "nearest":
        near = np.bitwise_or.reduce(said, axis=1)
    else:
        high, low = _weigh(target, said)
        outcome = (~high & ~low, high & ~low, low)
        near = np.bitwise_or.reduce([said[:, level] & outcome[level] for level in (NA, RO, RW)])
    ordinary = counting.active & ~counting.boss
    own = near[OWN] & ordinary
    group = near[GROUP] & ordinary & ~own
    everyone = near[ALL] & ordinary & ~own & ~group
    clash = (na & ro | na & rw | ro & rw) & ordinary
    shut = np.broadcast_to(~counting.active, own.shape)
    boss = np.broadcast_to(counting.boss & counting.active, own.shape)
    planes: dict[Source, Bits] = {"own": own, "group": group, "all": everyone, "admin": boss, "account": shut}
    return clash, {name: np.ascontiguousarray(plane) for name, plane in planes.items()}
