"""Who counts as what, packed: one bit set a principal, saying which subjects count as it.

Subjects are the users, then for each group somebody who is in that group alone.
"""

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from itertools import chain
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.model.plan import EVERYONE, LOCAL, Plan

Bits = NDArray[np.uint64]  # shape (..., words): subject s is bit s of the row, least significant first


@dataclass(frozen=True)
class Counting:
    """Who counts as what on one day, packed. Depends on users, groups and target, not on places or grants.

    subjects: ids, `users` users first, then the groups. number: id -> its number among the subjects; everyone comes last.
    bits: uint64 (groups + 1, words), a row a group and one for everyone. active, boss, root: uint64 (words,), who may sign in,
    who is an administrator, who has uid 0. numbered: who has a uid; a group's somebody has.
    """

    subjects: tuple[str, ...]
    users: int
    number: Mapping[str, int]
    bits: Bits
    active: Bits
    boss: Bits
    root: Bits
    numbered: Bits

    @cached_property
    def groups_of(self) -> NDArray[np.intp]:
        """In how many groups each user is, nested ones and the primary one included: (users,)."""
        counted: NDArray[np.intp] = unpack(self.bits[:-1], self.users).sum(axis=0, dtype=np.intp)
        return counted


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
    root: list[int] = []
    unnumbered: list[int] = []
    # One pass: to fetch ten thousand scattered records costs more than to look at them.
    for i, user in enumerate(users):
        if user.primary_group is not None:
            primary.append((number[user.primary_group] - n, i))
        if not user.active(on):
            shut.append(i)
        if user.uid == 0:
            root.append(i)
        if user.uid is None:
            unnumbered.append(i)
    member[tuple(np.array(primary, dtype=np.intp).reshape(-1, 2).T)] = True
    if target.baseline is not None:
        everybody = target.baseline_covers_directory
        covered = True if everybody else [user.origin == LOCAL for user in users] + [True] * len(groups)
        member[number[target.baseline] - n, :size] |= np.asarray(covered)
    member[-1, :size] = True

    bits = _nest(pack(member), outer[~direct], inner[~direct] - n)
    active = np.zeros(member.shape[1], dtype=np.bool_)
    active[:size] = True
    active[shut] = False
    roots = np.zeros_like(active)
    roots[root] = True
    numbered = np.zeros_like(active)
    numbered[:size] = True
    numbered[unnumbered] = False
    boss = bits[number[target.administrators] - n] if target.administrators is not None else np.zeros_like(bits[-1])
    number[EVERYONE] = size
    return Counting(subjects, n, number, bits, pack(active), boss, pack(roots), pack(numbered))


def _nest(bits: Bits, outer: NDArray[np.intp], inner: NDArray[np.intp]) -> Bits:
    """Hand the members of each inner group to its outer one, again and again, until nothing changes."""
    while True:
        wider = bits.copy()
        or_into(wider, outer, bits, inner)
        if np.array_equal(wider, bits):
            return bits
        bits = wider


def pack(flags: NDArray[np.bool_]) -> Bits:
    return np.packbits(flags, axis=-1, bitorder="little").view(np.uint64)


def unpack(bits: Bits, size: int) -> NDArray[np.bool_]:
    """The first `size` subjects of bit sets (..., words): bool (..., size)."""
    return np.unpackbits(bits.view(np.uint8), axis=-1, bitorder="little")[..., :size].astype(np.bool_)


def or_into(into: Bits, slots: NDArray[np.intp], bits: Bits, rows: NDArray[np.intp]) -> None:
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


class Class(NamedTuple):
    """Subjects who count as the same of some whos. names: those whos; users, groups: the subjects."""

    names: frozenset[str]
    users: tuple[str, ...]
    groups: tuple[str, ...]


Named = Mapping[str, int]
"""Who -> the classes of subjects that count as them, one bit a class."""


class Classes:
    """All subjects, sorted by which of the `whos` they count as: as bits, and one by one where somebody asks."""

    def __init__(self, counting: Counting, whos: Sequence[str]) -> None:
        size, users = len(counting.subjects), counting.users
        counts = np.zeros((len(whos), size), dtype=np.bool_)
        for row, who in enumerate(whos):
            number = counting.number[who]
            if number < users:
                counts[row, number] = True
            else:
                counts[row] = unpack(counting.bits[number - users], size)
        self._counting, self._whos = counting, whos
        keys = np.packbits(counts, axis=0).T if whos else np.zeros((size, 1), dtype=np.uint8)
        told_apart = np.ascontiguousarray(keys).view(f"V{keys.shape[1]}").ravel()
        _, firsts, self._which = np.unique(told_apart, return_index=True, return_inverse=True)
        self._order = firsts.argsort()  # the class of the first subject first
        self._counts = counts[:, firsts[self._order]]

    def __len__(self) -> int:
        return len(self._order)

    def __iter__(self) -> Iterator[Class]:
        return iter(self._all)

    @cached_property
    def named(self) -> Named:
        rows = np.packbits(self._counts, axis=1, bitorder="little")
        return {who: int.from_bytes(row.tobytes(), "little") for who, row in zip(self._whos, rows, strict=True)}

    @cached_property
    def _all(self) -> tuple[Class, ...]:
        subjects, users = self._counting.subjects, self._counting.users
        members = self._which.argsort(kind="stable")  # class by class, within one by number
        ends = np.bincount(self._which, minlength=len(self)).cumsum()
        found = []
        for at, one in enumerate(self._order.tolist()):
            numbers = members[ends[one - 1] if one else 0 : ends[one]].tolist()
            names = frozenset(self._whos[row] for row in self._counts[:, at].nonzero()[0].tolist())
            split = bisect_left(numbers, users)
            ids = [subjects[number] for number in numbers]
            found.append(Class(names, tuple(ids[:split]), tuple(ids[split:])))
        return tuple(found)
