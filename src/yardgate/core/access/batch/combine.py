"""Grants, packed: what the grants of many places say to all subjects at once. Held equal to `clash` by way of `reason`."""

import itertools
from collections.abc import Mapping, Sequence
from itertools import chain
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.bitsets import Bits, Counting, or_into
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import EVERYONE, Target

OWN, GROUP, ALL = range(3)
NA, RO, RW = range(3)
GRANT_CODE = {Level.NA: NA, Level.RO: RO, Level.RW: RW}

Lists = Sequence[Mapping[str, Level]]
"""For each place, the grants that count there, in list order."""


def weigh(target: Target, counting: Counting, lists: Lists) -> tuple[Bits, Bits]:
    """High and low bit plane (places, words) of the level that the grants give by the clash rule, administrators aside."""
    lines = _lines(target, counting, lists)
    if target.combining == "first":
        high, low, _ = _first(target, counting, lines, len(lists))
        return high, low
    return _weigh(target, _gather(counting, lines, len(lists), by_tier=target.precedence == "nearest"))


def weigh_told(target: Target, counting: Counting, lists: Lists) -> tuple[Bits, Bits, Bits]:
    """The planes of `weigh`, and who is told anything."""
    lines = _lines(target, counting, lists)
    said = _gather(counting, lines, len(lists), by_tier=target.precedence == "nearest")
    first = target.combining == "first"
    high, low = _first(target, counting, lines, len(lists))[:2] if first else _weigh(target, said)
    return high, low, np.bitwise_or.reduce(said, axis=(0, 1))


class Parts(NamedTuple):
    """Planes (places, words) of what part the grants took. near: in which tier those were that decided."""

    disagree: Bits
    concerned: Bits
    near: Mapping[Literal["own", "group", "all"], Bits]


def parts(target: Target, counting: Counting, lists: Lists) -> Parts:
    """Who is told different things, who is told anything, and how near the deciding grants are."""
    lines = _lines(target, counting, lists)
    said = _gather(counting, lines, len(lists), by_tier=True)
    na, ro, rw = said[OWN] | said[GROUP] | said[ALL]
    if target.combining == "first":
        near = _first(target, counting, lines, len(lists))[2]
    elif target.precedence == "nearest":
        near = np.bitwise_or.reduce(said, axis=1)
    else:
        high, low = _weigh(target, said)
        outcome = (~high & ~low, high & ~low, low)
        near = np.bitwise_or.reduce([said[:, level] & outcome[level] for level in (NA, RO, RW)])
    own = near[OWN]
    group = near[GROUP] & ~own
    return Parts(
        na & ro | na & rw | ro & rw, na | ro | rw, {"own": own, "group": group, "all": near[ALL] & ~own & ~group}
    )


class PackedGrants(NamedTuple):
    """All lines of a block of places: arrays of equal length. position: place in its list, 0 first."""

    place: NDArray[np.intp]
    position: NDArray[np.intp]
    tier: NDArray[np.intp]
    level: NDArray[np.intp]
    row: NDArray[np.intp]  # row of Counting.bits, or, in the own tier, the number of the subject


def _lines(target: Target, counting: Counting, lists: Lists) -> PackedGrants:
    number = counting.number
    length = np.array([len(grants) for grants in lists], dtype=np.intp)
    total = int(length.sum())
    place = np.repeat(np.arange(len(lists)), length)
    position = np.arange(total) - np.repeat(np.cumsum(length) - length, length)
    who = np.fromiter(map(number.__getitem__, chain.from_iterable(lists)), np.intp, total)
    said = chain.from_iterable(grants.values() for grants in lists)
    level = np.fromiter(map(GRANT_CODE.__getitem__, said), np.intp, total)
    own, base = who < counting.users, number[target.baseline or EVERYONE]
    tier = np.where(own, OWN, np.where((who == base) | (who == number[EVERYONE]), ALL, GROUP))
    return PackedGrants(place, position, tier, level, np.where(own, who, who - counting.users))


def _gather(counting: Counting, lines: PackedGrants, places: int, *, by_tier: bool) -> Bits:
    """Who is told what: uint64 (tiers, 3 levels, places, words); a bit says that some line of that kind names the subject.

    Three tiers, or all of them taken together as one.
    """
    words = counting.bits.shape[1]
    said = np.zeros((3 if by_tier else 1, 3, places, words), dtype=np.uint64)
    flat = said.reshape(-1, words)
    slot = ((lines.tier if by_tier else 0) * 3 + lines.level) * places + lines.place
    mine = lines.tier == OWN
    np.bitwise_or.at(flat, (slot[mine], lines.row[mine] >> 6), np.uint64(1) << (lines.row[mine] & 63).astype(np.uint64))
    or_into(flat, slot[~mine], counting.bits, lines.row[~mine])
    return said


def _weigh(target: Target, said: Bits) -> tuple[Bits, Bits]:
    """High and low bit plane (places, words) of the level, before account and administrators. Not for the first line's rule."""
    if target.precedence == "pooled":
        return _within(target, np.bitwise_or.reduce(said))
    own, group, everyone = (_within(target, tier) for tier in said)
    near, middle = np.bitwise_or.reduce(said[OWN]), np.bitwise_or.reduce(said[GROUP])
    return (
        own[0] | ~near & (group[0] | ~middle & everyone[0]),
        own[1] | ~near & (group[1] | ~middle & everyone[1]),
    )


def _within(target: Target, tier: Bits) -> tuple[Bits, Bits]:
    na, ro, rw = tier
    match target.combining:
        case "refusal":
            return (ro | rw) & ~na, rw & ~na
        case "widest":
            return ro | rw, rw.copy()
        case _:
            return (ro | rw) & ~na, rw & ~(ro | na)


def _first(target: Target, counting: Counting, lines: PackedGrants, places: int) -> tuple[Bits, Bits, Bits]:
    """High and low plane where the first line that names a subject decides, and (3 tiers, places, words): in which tier it was."""
    words = counting.bits.shape[1]
    nearest = target.precedence == "nearest"
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
    or_into(high, place[level != NA], hits, np.flatnonzero(level != NA))
    or_into(low, place[level == RW], hits, np.flatnonzero(level == RW))
    or_into(by_tier, tier * places + place, hits, np.arange(len(place)))
    return high, low, by_tier.reshape(3, places, words)
