"""Lists, packed: what a list gives all subjects at once, one bit plane a need.

A need is one thing that a list is asked for: a right of an ordered list, or a request of a POSIX list. Whatever the style, a
list then is a row of steps, each of which allows or denies some needs to some subjects, and the first step that names a
subject and a need decides. Read from the last step to the first, that is: allow sets bits, deny clears them.
"""

from collections.abc import Iterator, Sequence
from itertools import chain
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.bitsets import Bits, Counting, or_into
from yardgate.core.access.storage import Nfs4State, PlaceState, PosixState
from yardgate.core.acl.nfs4 import FILE_INHERIT, GROUP, INHERIT_ONLY, KEEPS, OWNER
from yardgate.core.acl.posix import PosixEntry, R, W, X, mask_of
from yardgate.core.acl.rights import (
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
from yardgate.core.model.plan import EVERYONE


class Required(NamedTuple):
    """What is asked of a list: a right on the folder or on a file in it, and the POSIX request that amounts to it (0: none does)."""

    on: str
    right: int
    request: int
    deletes: bool = False  # what a sticky folder keeps for the owner


LEVEL_NEEDS = (
    Required("folder", EXECUTE, X),
    Required("folder", LIST_DIRECTORY, R),
    Required("folder", ADD_FILE, W | X),
    Required("folder", ADD_SUBDIRECTORY, W | X),
    Required("folder", DELETE_CHILD, W | X, deletes=True),
    Required("file", READ_DATA, R),
    Required("file", WRITE_DATA, R | W),
    Required("file", APPEND_DATA, R | W),
    Required("file", DELETE, 0),
)
ENTER, LIST, ADD, ADD_FOLDER, CLEAR, READ, WRITE, APPEND, REMOVE = range(len(LEVEL_NEEDS))

EVERY_BIT = [1 << bit for bit in range(FULL.bit_length()) if FULL >> bit & 1]
EVERY_RIGHT = (*(Required("folder", bit, 0) for bit in EVERY_BIT), *(Required("file", bit, 0) for bit in EVERY_BIT))


POSIX_REQUESTS = (
    Required("folder", 0, R),
    Required("folder", 0, W),
    Required("folder", 0, X),
    Required("folder", 0, W | X),
    Required("folder", 0, W | X, deletes=True),
    Required("folder", 0, W, deletes=True),
    Required("file", 0, R),
    Required("file", 0, W),
    Required("file", 0, X),
    Required("file", 0, R | W),
)


class Steps(NamedTuple):
    """The steps of many lists: arrays of equal length, list by list, in reading order. needs: a bit for each need."""

    list: NDArray[np.intp]
    turn: NDArray[np.int32]  # counted from the last step of its list, which has 0
    who: NDArray[np.intp]  # number of a subject, or of everyone
    allow: NDArray[np.bool_]
    needs: NDArray[np.uint32]


def planes(counting: Counting, places: Sequence[PlaceState], needs: Sequence[Required]) -> Bits:
    """What each list gives: uint64 (needs, places, words). Root, and what an owner always may, are left to the caller."""
    of_style: tuple[list[int], list[int]] = ([], [])
    for number, stored in enumerate(places):
        of_style[isinstance(stored.list, Nfs4State)].append(number)
    found = np.empty((len(needs), len(places), counting.bits.shape[1]), dtype=np.uint64)
    for steps, numbers in zip((_posix_steps, _ordered_steps), of_style, strict=True):
        if numbers:
            chosen = steps(counting, [places[number] for number in numbers], needs)
            found[:, numbers] = _decide(counting, chosen, len(numbers), len(needs))
    return found


def named(counting: Counting, places: Sequence[PlaceState]) -> Bits:
    """Whom each list tells something on the folder: uint64 (places, words). A POSIX list's others only where it lets them do anything."""
    found = np.zeros((len(places), counting.bits.shape[1]), dtype=np.uint64)
    for row, stored in zip(found, places, strict=True):
        if isinstance(stored.list, Nfs4State):
            numbers = [_number(counting, stored, entry.who) for entry in stored.list.entries if entry.counts_here]
        elif stored.list is not None:
            owner, users, groups, other = _part(counting, stored, stored.list.access)
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
    counting: Counting, stored: PlaceState | None, *, open_attributes: bool
) -> tuple[NDArray[np.uint32], NDArray[np.uint32]]:
    """The masks on the folder and on a file in it for every subject: two of uint32 (subjects,), root's included."""
    size = len(counting.subjects)
    if stored is None or stored.list is None:
        return np.full(size, FULL, dtype=np.uint32), np.full(size, FULL, dtype=np.uint32)
    ordered = isinstance(stored.list, Nfs4State)
    needs = EVERY_RIGHT if ordered else POSIX_REQUESTS
    can = planes(counting, [stored], needs)[:, 0]
    flags = np.unpackbits(can.view(np.uint8), axis=-1, bitorder="little")[:, :size].astype(np.uint32)
    owner = np.zeros(size, dtype=np.bool_)
    if (number := _owner(counting, stored)) != NOBODY:
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


NOBODY, OWNERS, GROUPS = -1, -2, -3


def _ordered_steps(counting: Counting, places: Sequence[PlaceState], needs: Sequence[Required]) -> Steps:
    """Each entry as a step."""
    lists = [stored.list.parts for stored in places if isinstance(stored.list, Nfs4State)]
    length = [sum([len(part.entries) for part in parts]) for parts in lists]
    entries = [entry for parts in lists for part in parts for entry in part.entries]
    total = len(entries)
    numbers = {**counting.number, OWNER: OWNERS, GROUP: GROUPS}
    who = np.fromiter([numbers[entry.who] for entry in entries], np.intp, total)
    allow = np.fromiter([entry.type == "allow" for entry in entries], np.bool_, total)
    mask = np.fromiter([entry.mask for entry in entries], np.uint32, total)
    flags = np.fromiter([entry.flags for entry in entries], np.uint8, total)
    number = np.repeat(np.arange(len(places)), length)
    for special, find in ((OWNERS, _owner), (GROUPS, _group)):
        meant = who == special
        if meant.any():
            who[meant] = np.array([find(counting, stored) for stored in places])[number[meant]]
    masks = {
        "folder": np.where(flags & INHERIT_ONLY, np.uint32(0), mask),
        "file": np.where(flags & FILE_INHERIT, mask, np.uint32(0)),
    }
    asked = np.zeros(total, dtype=np.uint32)
    for at, need in enumerate(needs):
        asked |= (masks[need.on] & np.uint32(need.right) != 0).astype(np.uint32) << np.uint32(at)
    return _known(Steps(number, _turns(length), who, allow, asked))


def _turns(length: Sequence[int]) -> NDArray[np.int32]:
    """For lists of these lengths, one after the other: how many steps of its list come after each."""
    return (np.repeat(np.cumsum(length), length) - np.arange(sum(length)) - 1).astype(np.int32)


def _known(steps: Steps) -> Steps:
    """The steps that name a subject; an owner or a group may be none of the plan's."""
    known = steps.who >= 0
    list_, turn, who, allow, needs = steps
    return steps if known.all() else Steps(list_[known], turn[known], who[known], allow[known], needs[known])


def _number(counting: Counting, stored: PlaceState, who: str) -> int:
    """The number of an entry's who, or NOBODY."""
    special = {OWNER: _owner, GROUP: _group}.get(who)
    return counting.number[who] if special is None else special(counting, stored)


def _owner(counting: Counting, stored: PlaceState) -> int:
    number = counting.number.get(stored.owner, NOBODY)
    return number if number < counting.users else NOBODY


def _group(counting: Counting, stored: PlaceState) -> int:
    number = counting.number.get(stored.group, NOBODY)
    return number if number >= counting.users else NOBODY


RawStep = tuple[int, bool, int]  # who, allow, needs


def _posix_steps(counting: Counting, places: Sequence[PlaceState], needs: Sequence[Required]) -> Steps:
    raw = [list(_posix_list_steps(counting, stored, needs)) for stored in places]
    length = [len(steps) for steps in raw]
    who, allow, asked = zip(*chain.from_iterable(raw), strict=True)
    number = np.repeat(np.arange(len(places)), length)
    return _known(
        Steps(number, _turns(length), np.array(who), np.array(allow, dtype=np.bool_), np.array(asked, dtype=np.uint32))
    )


def _posix_list_steps(counting: Counting, stored: PlaceState, needs: Sequence[Required]) -> Iterator[RawStep]:
    """acl(5), access check algorithm, as steps: the owner; named users; groups that hold all; groups that do not; others."""
    assert isinstance(stored.list, PosixState)
    everyone = counting.number[EVERYONE]
    for on, entries in (("folder", stored.list.access), ("file", stored.list.file)):
        mine = sum(1 << at for at, need in enumerate(needs) if need.on == on)
        kept = sum(1 << at for at, need in enumerate(needs) if need.on == on and need.deletes and stored.list.sticky)
        held = [
            sum(1 << at for at, n in enumerate(needs) if n.on == on and n.request and perms & n.request == n.request)
            for perms in range(8)
        ]
        owner, users, groups, other = _part(counting, stored, entries)
        for who, perms in (owner, *users):
            yield who, True, held[perms]
            yield who, False, mine & ~held[perms]
            if who == owner[0] and kept:
                yield everyone, False, kept
        for who, perms in groups:
            yield who, True, held[perms]
        for who, _ in groups:
            yield who, False, mine
        yield everyone, True, held[other]


def _part(
    counting: Counting, stored: PlaceState, entries: Sequence[PosixEntry]
) -> tuple[tuple[int, int], list[tuple[int, int]], list[tuple[int, int]], int]:
    """Owner, named users and groups of a list as numbers with their masked permissions, and what others may."""
    by_key = {(entry.tag, entry.who): entry.perms for entry in entries}
    mask = mask_of(entries)
    if not mask:  # Linux then takes those named for others
        by_key = {key: perms for key, perms in by_key.items() if not key[1]}
    users = [(counting.number[w], perms & mask) for (tag, w), perms in by_key.items() if tag == "user" and w]
    groups = [
        (counting.number[w] if w else _group(counting, stored), perms & mask)
        for (tag, w), perms in by_key.items()
        if tag == "group"
    ]
    return (_owner(counting, stored), by_key["user", ""]), users, groups, by_key["other", ""]


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
