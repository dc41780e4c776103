"""Lists, packed: what a list gives all subjects at once, one bit plane a need.

A need is one thing that a list is asked for: a right of an ordered list, or a request of a POSIX list. Whatever the style, a
list then is a row of steps, each of which allows or denies some needs to some subjects, and the first step that names a
subject and a need decides. Read from the last step to the first, that is: allow sets bits, deny clears them.
"""

from collections.abc import Sequence
from itertools import chain
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.lists.ordered import FILE_INHERIT, GROUP, INHERIT_ONLY, KEEPS, OWNER
from yardgate.core.lists.posix import PosixEntry, R, W, X, mask_of
from yardgate.core.packed import Bits, Counting, or_into
from yardgate.core.plan import EVERYONE
from yardgate.core.rights import (
    ADD_FILE,
    ADD_SUBDIRECTORY,
    APART,
    APPEND_DATA,
    DELETE,
    DELETE_CHILD,
    EXECUTE,
    FULL,
    LIST_DIRECTORY,
    READ_ACL,
    READ_ATTRIBUTES,
    READ_DATA,
    READ_NAMED_ATTRS,
    SYNCHRONIZE,
    WRITE_ACL,
    WRITE_ATTRIBUTES,
    WRITE_DATA,
    WRITE_NAMED_ATTRS,
)
from yardgate.core.storage import Laid, OrderedLaid, PosixLaid


class Need(NamedTuple):
    """What is asked of a list: a right on the folder or on a file in it, and the POSIX request that amounts to it (0: none does)."""

    on: str
    right: int
    request: int
    deletes: bool = False  # what a sticky folder keeps for the owner


LEVEL_NEEDS = (
    Need("folder", EXECUTE, X),
    Need("folder", LIST_DIRECTORY, R),
    Need("folder", ADD_FILE, W | X),
    Need("folder", ADD_SUBDIRECTORY, W | X),
    Need("folder", DELETE_CHILD, W | X, deletes=True),
    Need("file", READ_DATA, R),
    Need("file", WRITE_DATA, R | W),
    Need("file", APPEND_DATA, R | W),
    Need("file", DELETE, 0),
)
ENTER, LIST, ADD, ADD_FOLDER, CLEAR, READ, WRITE, APPEND, REMOVE = range(len(LEVEL_NEEDS))

EVERY_BIT = [1 << bit for bit in range(FULL.bit_length()) if FULL >> bit & 1]
EVERY_RIGHT = (*(Need("folder", bit, 0) for bit in EVERY_BIT), *(Need("file", bit, 0) for bit in EVERY_BIT))


POSIX_REQUESTS = (
    Need("folder", 0, R),
    Need("folder", 0, W),
    Need("folder", 0, X),
    Need("folder", 0, W | X),
    Need("folder", 0, W | X, deletes=True),
    Need("folder", 0, W, deletes=True),
    Need("file", 0, R),
    Need("file", 0, W),
    Need("file", 0, X),
    Need("file", 0, R | W),
)


class Steps(NamedTuple):
    """The steps of many lists: arrays of equal length, list by list, in reading order. needs: a bit for each need."""

    list: NDArray[np.intp]
    turn: NDArray[np.int32]  # counted from the last step of its list, which has 0
    who: NDArray[np.intp]  # number of a subject, or of everyone
    allow: NDArray[np.bool_]
    needs: NDArray[np.uint32]


def planes(counting: Counting, places: Sequence[Laid], needs: Sequence[Need]) -> Bits:
    """What each list gives: uint64 (needs, places, words). Root, and what an owner always may, are left to the caller."""
    return _decide(counting, _steps(counting, places, needs), len(places), len(needs))


def named(counting: Counting, places: Sequence[Laid]) -> Bits:
    """Whom each list tells something on the folder: uint64 (places, words). A POSIX list's others only where it lets them do anything."""
    found = np.zeros((len(places), counting.bits.shape[1]), dtype=np.uint64)
    for row, laid in zip(found, places, strict=True):
        if isinstance(laid.list, OrderedLaid):
            who, _, here, _ = _ordered_steps(counting, laid)
            numbers = [number for number, mask in zip(who, here, strict=True) if mask]
        elif laid.list is not None:
            owner, users, groups, other = _part(counting, laid, laid.list.access)
            numbers = [number for number, _ in (owner, *users, *groups)]
            numbers += [counting.number[EVERYONE]] if other else []
        else:
            numbers = []
        for number in set(numbers) - {NOBODY}:
            if number < counting.users:
                row[number >> 6] |= np.uint64(1) << np.uint64(number & 63)
            else:
                row |= counting.bits[number - counting.users]
    return found


def rights(
    counting: Counting, laid: Laid | None, *, open_attributes: bool
) -> tuple[NDArray[np.uint32], NDArray[np.uint32]]:
    """The masks on the folder and on a file in it for every subject: two of uint32 (subjects,), root's included."""
    size = len(counting.subjects)
    if laid is None or laid.list is None:
        return np.full(size, FULL, dtype=np.uint32), np.full(size, FULL, dtype=np.uint32)
    ordered = isinstance(laid.list, OrderedLaid)
    needs = EVERY_RIGHT if ordered else POSIX_REQUESTS
    can = planes(counting, [laid], needs)[:, 0]
    flags = np.unpackbits(can.view(np.uint8), axis=-1, bitorder="little")[:, :size].astype(np.uint32)
    owner = np.zeros(size, dtype=np.bool_)
    if (number := _user(counting, laid.owner)) != NOBODY:
        owner[number] = True
    if ordered:
        half = len(EVERY_BIT)
        weight = np.array(EVERY_BIT, dtype=np.uint32)
        folder, file = weight @ flags[:half], weight @ flags[half:]
        for mask in (folder, file):
            mask |= np.where(owner, np.uint32(KEEPS), np.uint32(0))
            mask |= np.uint32(READ_ATTRIBUTES if open_attributes else 0)
    else:
        r, w, x, wx, wx_kept, w_kept, file_r, file_w, file_x, file_rw = flags
        always = np.uint32(READ_ATTRIBUTES | READ_ACL | SYNCHRONIZE) | np.where(
            owner, np.uint32(WRITE_ACL | WRITE_ATTRIBUTES), np.uint32(0)
        )
        folder = always | r * (LIST_DIRECTORY | READ_NAMED_ATTRS) | w * WRITE_ATTRIBUTES | w_kept * WRITE_NAMED_ATTRS
        folder |= x * EXECUTE | wx * (ADD_FILE | ADD_SUBDIRECTORY) | wx_kept * DELETE_CHILD
        file = always | file_r * (READ_DATA | READ_NAMED_ATTRS) | file_x * EXECUTE
        file |= file_w * (WRITE_DATA | APPEND_DATA | WRITE_NAMED_ATTRS | WRITE_ATTRIBUTES)
        file |= (file_r & file_w & (1 - file_rw)) * np.uint32(APART)
    root = np.unpackbits(counting.root.view(np.uint8), bitorder="little")[:size].astype(np.bool_)
    folder[root] = file[root] = FULL
    return folder, file


def _steps(counting: Counting, places: Sequence[Laid], needs: Sequence[Need]) -> Steps:
    made = [
        _ordered_steps(counting, laid) if isinstance(laid.list, OrderedLaid) else _posix_steps(counting, laid, needs)
        for laid in places
    ]
    length = np.array([len(steps[0]) for steps in made], dtype=np.intp)
    total = int(length.sum())
    number = np.repeat(np.arange(len(places)), length)
    turn = (np.repeat(np.cumsum(length), length) - np.arange(total) - 1).astype(np.int32)

    def column(at: int, dtype: type) -> NDArray[np.int64]:
        return np.fromiter(chain.from_iterable(steps[at] for steps in made), dtype, total)

    who, allow, here, file = column(0, np.intp), column(1, np.bool_), column(2, np.uint32), column(3, np.uint32)
    asked = np.zeros(total, dtype=np.uint32)
    posix = np.repeat([not isinstance(laid.list, OrderedLaid) for laid in places], length)
    for at, need in enumerate(needs):
        asked |= ((here if need.on == "folder" else file) & need.right != 0).astype(np.uint32) << np.uint32(at)
    asked[posix] = here[posix]
    known = who >= 0
    return Steps(number[known], turn[known], who[known], allow[known].astype(np.bool_), asked[known])


RawSteps = tuple[Sequence[int], Sequence[bool], Sequence[int], Sequence[int]]
NOBODY = -1


def _ordered_steps(counting: Counting, laid: Laid) -> RawSteps:
    """who, allow, mask on the folder, mask on a file in it, for each entry."""
    assert isinstance(laid.list, OrderedLaid)
    entries = [line.entry for line in laid.list.lines]
    numbers = (
        {
            **counting.number,
            OWNER: _user(counting, laid.owner),
            GROUP: _group(counting, laid.group),
        }
        if any(entry.who in (OWNER, GROUP) for entry in entries)
        else counting.number
    )
    return (
        [numbers[entry.who] for entry in entries],
        [entry.type == "allow" for entry in entries],
        [0 if entry.flags & INHERIT_ONLY else entry.mask for entry in entries],
        [entry.mask if entry.flags & FILE_INHERIT else 0 for entry in entries],
    )


def _user(counting: Counting, owner: str) -> int:
    number = counting.number.get(owner, NOBODY)
    return number if number < counting.users else NOBODY


def _group(counting: Counting, group: str) -> int:
    number = counting.number.get(group, NOBODY)
    return number if number >= counting.users else NOBODY


def _posix_steps(counting: Counting, laid: Laid, needs: Sequence[Need]) -> RawSteps:
    """acl(5), access check algorithm, as steps: the owner; named users; groups that hold all; groups that do not; others."""
    assert isinstance(laid.list, PosixLaid)
    who: list[int] = []
    allow: list[bool] = []
    asked: list[int] = []

    def step(number: int, allows: bool, what: int) -> None:
        if what:
            who.append(number)
            allow.append(allows)
            asked.append(what)

    parts = [_part(counting, laid, entries) for entries in (laid.list.access, laid.list.file)]
    for on, (owner, users, groups, other) in zip(("folder", "file"), parts, strict=True):
        mine = sum(1 << at for at, need in enumerate(needs) if need.on == on)
        kept = sum(1 << at for at, need in enumerate(needs) if need.on == on and need.deletes and laid.list.sticky)

        def held(perms: int, on: str = on) -> int:
            return sum(
                1 << at
                for at, need in enumerate(needs)
                if need.on == on and need.request and perms & need.request == need.request
            )

        everyone = counting.number[EVERYONE]
        for number, perms in (owner, *users):
            step(number, True, held(perms))
            step(number, False, mine & ~held(perms))
            if number == owner[0] and kept:
                step(everyone, False, kept)
        for number, perms in groups:
            step(number, True, held(perms))
        for number, _ in groups:
            step(number, False, mine)
        step(everyone, True, held(other))
    return who, allow, asked, asked


def _part(
    counting: Counting, laid: Laid, entries: Sequence[PosixEntry]
) -> tuple[tuple[int, int], list[tuple[int, int]], list[tuple[int, int]], int]:
    """Owner, named users and groups of a list as numbers with their masked permissions, and what others may."""
    by_key = {(entry.tag, entry.who): entry.perms for entry in entries}
    mask = mask_of(entries)
    if not mask:  # Linux then takes those named for others
        by_key = {key: perms for key, perms in by_key.items() if not key[1]}
    users = [(counting.number[w], perms & mask) for (tag, w), perms in by_key.items() if tag == "user" and w]
    groups = [
        (counting.number[w] if w else _group(counting, laid.group), perms & mask)
        for (tag, w), perms in by_key.items()
        if tag == "group"
    ]
    return (_user(counting, laid.owner), by_key["user", ""]), users, groups, by_key["other", ""]


def _decide(counting: Counting, steps: Steps, places: int, needs: int) -> Bits:
    """All needs of all lists decided. Needs that a list's steps do not tell apart are worked out once."""
    asked = np.array([steps.needs >> np.uint32(need) & np.uint32(1) for need in range(needs)], dtype=np.bool_)
    like = _alike(steps, asked, places)
    first = like == np.arange(needs)[:, None]
    slots = np.cumsum(first.reshape(-1)).reshape(first.shape) - 1
    need, step = (asked & first[:, steps.list]).nonzero()
    decided = _read_upward(
        counting, slots[need, steps.list[step]], steps.who[step], steps.allow[step], int(first.sum())
    )
    found: Bits = decided[slots[like, np.arange(places)]]
    return found


def _alike(steps: Steps, asked: NDArray[np.bool_], places: int) -> NDArray[np.intp]:
    """For each need and list, the first need that the same steps of that list allow and deny: (needs, places)."""
    needs = len(asked)
    like = np.zeros((needs, places), dtype=np.intp)
    if not len(steps.list):
        return like
    word = steps.turn >> 6  # patterns of 64 steps each, as numbers
    starts = np.flatnonzero((np.diff(steps.list, prepend=-1) != 0) | (np.diff(word, prepend=-1) != 0))
    bit = np.uint64(1) << (steps.turn & 63).astype(np.uint64)
    patterns = np.bitwise_or.reduceat(np.where(asked, bit, np.uint64(0)), starts, axis=1)
    of_list = steps.list[starts]
    lists = np.flatnonzero(np.diff(of_list, prepend=-1))
    present = of_list[lists]
    for need in range(1, needs):
        found = np.full(places, need)
        for other in range(need - 1, -1, -1):
            same = np.logical_and.reduceat(patterns[need] == patterns[other], lists)
            found[present[same]] = other
        like[need, present] = found[present]
    return like


def _read_upward(
    counting: Counting,
    slot: NDArray[np.intp],
    who: NDArray[np.intp],
    allow: NDArray[np.bool_],
    slots: int,
) -> Bits:
    """The columns of steps, slot by slot in reading order, read from the last to the first; neighbours of one kind as one run."""
    decided = np.zeros((slots, counting.bits.shape[1]), dtype=np.uint64)
    if not len(slot):
        return decided
    last = np.append(slot[1:] != slot[:-1], True)
    turns = np.append(allow[1:] != allow[:-1], False) & ~last
    after = np.cumsum(turns[::-1])[::-1]  # changes of kind from here to the end of everything
    ends = last.nonzero()[0]
    run = after - np.repeat(after[ends] - turns[ends], np.diff(ends, prepend=-1))
    single = who < counting.users
    for number in range(int(run.max()) + 1):
        chosen = (run == number).nonzero()[0]
        whole, one = chosen[~single[chosen]], chosen[single[chosen]]
        hit, at = np.unique(slot[chosen], return_inverse=True)
        named = np.zeros((len(hit), decided.shape[1]), dtype=np.uint64)
        of_slot = np.empty(len(slot), dtype=np.intp)
        of_slot[chosen] = at.reshape(-1)
        or_into(named, of_slot[whole], counting.bits, who[whole] - counting.users)
        bit = np.uint64(1) << (who[one] & 63).astype(np.uint64)
        np.bitwise_or.at(named, (of_slot[one], who[one] >> 6), bit)
        allows = np.zeros(len(hit), dtype=np.bool_)
        allows[of_slot[chosen]] = allow[chosen]
        decided[hit[allows]] |= named[allows]
        decided[hit[~allows]] &= ~named[~allows]
    return decided
