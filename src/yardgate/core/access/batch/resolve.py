"""Every user, every place, at once.

Subjects (users, then for each group somebody who is in that group alone) are packed into bits, and so are grants
(`combine`) and lists (`acl`); here they pass the gates. Places are taken in blocks that fit the processor's
cache. Held equal to `explain` by property tests.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch import acl
from yardgate.core.access.batch.combine import parts, weigh
from yardgate.core.access.bitsets import Bits, Counting, count
from yardgate.core.access.combining import LevelSource
from yardgate.core.access.storage import Nfs4State, PlaceState, StorageState, granted_on, storage_state, touched
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import Plan

Codes = NDArray[np.uint8]
T = TypeVar("T")

SOURCES: tuple[LevelSource, ...] = ("nothing", "own", "group", "all", "admin", "account", "way", "list")
BLOCK = 256  # places worked on together


@dataclass(frozen=True, slots=True)
class Matrix:
    """The whole effective matrix. rows: place id -> uint8 (subjects,), the `Level.code` of every subject in that place.

    storage: how storage stands. lists: place id -> uint64 (3, words), who may enter, and the level by the list alone, high
    and low bit. ways: place id -> uint64 (words,), whom all places above let through. Both only for places that have one.
    """

    plan: Plan
    on: date
    counting: Counting
    rows: Mapping[str, Codes]
    storage: StorageState
    lists: Mapping[str, Bits]
    ways: Mapping[str, Bits]

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
    whether grants disagree or a level is not the one granted."""

    source: Codes
    clash: NDArray[np.bool_]


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

    `before`, the matrix of an earlier plan, saves work where users, groups, target and day are the very same: then only
    places are looked at whose grants or list, or the way to them, came out differently.
    """
    if before is None or not _same_people(before, plan, on):
        counting = count(plan, on)
        before = Matrix(plan, on, counting, {}, {}, {}, {})
        storage = storage_state(plan, counting)
    else:
        counting = before.counting
        storage = storage_state(plan, counting, (before.plan, before.storage))
    old, new = before.plan.grants, plan.grants
    stale = {place for place, lines in new.items() if old.get(place) is not lines} | (old.keys() - new.keys())
    rows = _of_places(before.rows, plan.places)
    stale |= plan.places.keys() - rows.keys()
    lists, ways = before.lists, before.ways
    if storage or before.storage:
        renewed = [place for place, stored in storage.items() if before.storage.get(place) is not stored]
        lists = {**_of_places(lists, storage), **_lists(plan, counting, storage, renewed)}
        ways, rerouted = _ways(plan, counting, before, storage, lists, renewed)
        stale = {*stale, *renewed, *rerouted, *(before.storage.keys() - storage.keys())}
    fresh = (
        [place for place in plan.places if place in stale] if len(stale) > 1 else [p for p in stale if p in plan.places]
    )
    matrix = Matrix(plan, on, counting, rows, storage, lists, ways)
    return Matrix(plan, on, counting, {**rows, **dict(_rows(matrix, fresh))}, storage, lists, ways)


def _of_places(found: Mapping[str, T], places: Mapping[str, object]) -> Mapping[str, T]:
    """What was found earlier, of the places that there still are."""
    if found.keys() <= places.keys():
        return found
    return {place: value for place, value in found.items() if place in places}


def _same_people(before: Matrix, plan: Plan, on: date) -> bool:
    then = before.plan
    same = then.users is plan.users and then.groups is plan.groups and then.target is plan.target
    return same and before.on == on


def _lists(plan: Plan, counting: Counting, storage: StorageState, places: Sequence[str]) -> dict[str, Bits]:
    """Who may enter, and the level by the list alone, high and low bit: uint64 (3, words) for each place."""
    found: dict[str, Bits] = {}
    everybody = np.full(counting.bits.shape[1], ~np.uint64(0))
    same: dict[object, str] = {}
    wanted = []
    for place in places:
        listed = storage[place].list
        if listed is None:
            found[place] = np.array([everybody, everybody, everybody])
        elif same.setdefault(_key(storage[place]), place) == place:
            wanted.append(place)
    for start in range(0, len(wanted), BLOCK):
        block = wanted[start : start + BLOCK]
        can = acl.planes(counting, [storage[place] for place in block], acl.LEVEL_NEEDS)
        enter = can[acl.ENTER] | counting.root
        ro = can[acl.LIST] & can[acl.READ] | counting.root
        if plan.target.traverse == "checked":
            ro &= enter
        rw = ro & can[acl.ADD] & can[acl.ADD_FOLDER] & (can[acl.CLEAR] | can[acl.REMOVE])
        rw &= can[acl.WRITE] & can[acl.APPEND]
        rw |= counting.root
        low = enter & ~ro | rw
        found.update(zip(block, np.stack([enter, ro, low], axis=1), strict=True))
    return {place: found[place] if place in found else found[same[_key(storage[place])]] for place in places}


def _key(stored: PlaceState) -> object:
    """Equal for places whose lists are surely the same."""
    assert stored.list is not None
    if isinstance(stored.list, Nfs4State):
        return stored.owner, stored.group, tuple(map(id, stored.list.parts))
    return stored.owner, stored.group, stored.list.sticky, stored.list.access, stored.list.file


def _ways(
    plan: Plan,
    counting: Counting,
    before: Matrix,
    storage: StorageState,
    lists: Mapping[str, Bits],
    renewed: Iterable[str],
) -> tuple[Mapping[str, Bits], set[str]]:
    """Whom the places above let through, for each place that has a list; and the places where that may differ from before."""
    ways = dict(_of_places(before.ways, storage))
    moved = storage.keys() - ways.keys()
    moved |= {
        p for p in touched(before.plan, plan) & ways.keys() if before.plan.places[p].parent != plan.places[p].parent
    }
    doors = {p for p in renewed if p in ways and not np.array_equal(before.lists[p][0], lists[p][0])}
    if not moved and not doors:
        return ways, set()
    everybody = np.full(counting.bits.shape[1], ~np.uint64(0))
    rerouted: set[str] = set()
    stack = sorted(
        moved.union(*(plan.inside.get(door, ()) for door in doors)), key=lambda place: -len(plan.path(place))
    )
    while stack:  # the topmost first, so that what lies below is done after what lies above
        here = stack.pop()
        if here in rerouted:
            continue
        parent = plan.places[here].parent
        way = everybody
        if parent is not None and plan.target.traverse == "checked":
            way = ways[parent] & lists[parent][0]
        ways[here] = way
        rerouted.add(here)
        stack += plan.inside.get(here, ())
    return ways, rerouted


def _rows(matrix: Matrix, places: Sequence[str]) -> Iterable[tuple[str, Codes]]:
    """Levels of the places named, as views of one array, so that a row can be replaced without touching the others."""
    counting = matrix.counting
    result = np.empty((len(places), counting.bits.shape[1] * 8), dtype=np.uint64)
    for start in range(0, len(places), BLOCK):
        block = places[start : start + BLOCK]
        high, low = _through_gates(matrix, block, *_granted(matrix, block))
        high &= counting.active
        low &= counting.active
        _codes(high, low, result[start : start + len(block)])
    size = len(counting.subjects)
    return zip(places, result.view(np.uint8)[:, :size], strict=True)


def _granted(matrix: Matrix, block: Sequence[str]) -> tuple[Bits, Bits]:
    """High and low plane of what the grants that count on each place say, administrators included."""
    high, low = weigh(
        matrix.plan.target, matrix.counting, [granted_on(matrix.plan, matrix.storage, place) for place in block]
    )
    boss = _bosses(matrix, block)
    high |= boss
    low |= boss
    return high, low


def _bosses(matrix: Matrix, block: Sequence[str]) -> Bits:
    """Administrators, on the places where grants hold for them."""
    boss = matrix.counting.boss
    if not matrix.storage:
        return boss
    holds = [(stored := matrix.storage[place]).by_share or bool(stored.grants) for place in block]
    return np.where(np.array(holds)[:, None], boss, np.uint64(0))


def _through_gates(matrix: Matrix, block: Sequence[str], high: Bits, low: Bits) -> tuple[Bits, Bits]:
    """What is granted, through share, way and list: the lowest of them."""
    if not matrix.storage:
        return high, low
    open_ = np.array([not matrix.storage[place].by_share for place in block])
    way = np.array([matrix.ways[place] for place in block])
    by_list = np.array([matrix.lists[place] for place in block])
    list_high, list_low = by_list[:, 1] & way, by_list[:, 2] & way
    high[open_], low[open_] = ~np.uint64(0), ~np.uint64(0)
    return lowest(high, low, list_high, list_low)


def lowest(high: Bits, low: Bits, other_high: Bits, other_low: Bits) -> tuple[Bits, Bits]:
    """The lower of two levels, each as two planes (2·high + low), bit by bit."""
    tied = ~(high ^ other_high)
    return high & other_high, low & other_low & tied | (low & other_high | other_low & high) & ~tied


def by_way_and_list(matrix: Matrix, place: str, start: str | None = None) -> tuple[Bits, Bits]:
    """High and low plane of what way, from the pool or from `start`, and list of a place let through; everything where storage
    is not planned."""
    if place not in matrix.storage:
        everybody = np.full(matrix.counting.bits.shape[1], ~np.uint64(0))
        return everybody, everybody
    _, high, low = matrix.lists[place]
    way = way_from(matrix, place, start)
    return high & way, low & way


def way_from(matrix: Matrix, place: str, start: str | None) -> Bits:
    """Whom all folders from `start`, or the pool, down to a place let pass: uint64 (words,)."""
    if start is None or matrix.plan.target.traverse == "bypassed":
        return matrix.ways[place]
    path = matrix.plan.path(place)
    doors = [matrix.lists[step][0] for step in path[path.index(start) : -1]]
    passed: Bits = np.bitwise_and.reduce([np.full_like(matrix.ways[place], ~np.uint64(0)), *doors])
    return passed


def to_codes(high: Bits, low: Bits, size: int) -> Codes:
    """The level codes of one place's `size` subjects, from two planes (words,)."""
    out = np.empty((1, 8 * len(high)), dtype=np.uint64)
    _codes(high[None], low[None], out)
    return out.view(np.uint8)[0, :size]


def detail(matrix: Matrix, places: Iterable[str]) -> dict[str, Detail]:
    """Source and clash of every subject in the places named."""
    size = len(matrix.counting.subjects)
    wanted, found = list(places), {}
    for start in range(0, len(wanted), BLOCK):
        block = wanted[start : start + BLOCK]
        clash, sources = _detail(matrix, block)
        source = sum(SOURCES.index(name) * _flags(plane, size) for name, plane in sources.items())
        marks = _flags(clash, size).astype(np.bool_)
        found.update({place: Detail(source[i], marks[i]) for i, place in enumerate(block)})  # type: ignore[index]
    return found


def _detail(matrix: Matrix, block: Sequence[str]) -> tuple[Bits, dict[LevelSource, Bits]]:
    """Planes of the clash mark and of every source; a subject is in at most one source, in none where nothing is said."""
    counting, plan, storage = matrix.counting, matrix.plan, matrix.storage
    lists = [granted_on(plan, storage, place) for place in block]
    disagree, concerned, near = parts(plan.target, counting, lists)
    boss = np.broadcast_to(_bosses(matrix, block), concerned.shape)
    concerned = concerned | boss
    granted = _granted(matrix, block)
    high, low = _through_gates(matrix, block, granted[0].copy(), granted[1].copy())
    as_granted = ~(high ^ granted[0]) & ~(low ^ granted[1])
    by_share = np.array([place not in storage or storage[place].by_share for place in block])[:, None]
    by_grants = as_granted & np.where(by_share, ~np.uint64(0), concerned)
    blocked, named = np.zeros_like(high), np.zeros_like(high)
    if storage:
        blocked = ~np.array([matrix.ways[place] for place in block])
        named = acl.named(counting, [storage[place] for place in block])
    else:
        by_grants = np.full_like(high, ~np.uint64(0))
    rest = ~by_grants & counting.active
    nothing = rest & ~concerned & ~high & ~low & ~named & ~counting.root
    way = rest & blocked & ~nothing
    ordinary = counting.active & by_grants & ~boss
    found: dict[LevelSource, Bits] = {name: plane & ordinary for name, plane in near.items()}
    found["admin"] = boss & counting.active & by_grants
    found["account"] = np.broadcast_to(~counting.active, high.shape)
    found["way"] = way
    found["list"] = rest & ~way & ~nothing
    clash = (disagree & ~boss | concerned & ~as_granted) & counting.active
    return clash, {name: np.ascontiguousarray(plane) for name, plane in found.items()}


class Granted(NamedTuple):
    """Every right of every subject in one place by its list alone: uint32 (subjects,), masks on the folder and on a file in it."""

    folder: NDArray[np.uint32]
    file: NDArray[np.uint32]


def rights(matrix: Matrix, places: Iterable[str]) -> dict[str, Granted]:
    """The access masks that the lists of the places named give to every subject (`storage.rights_on` for all at once)."""
    found = {}
    for place in places:
        stored = matrix.storage.get(place)
        found[place] = Granted(*acl.rights(matrix.counting, stored, open_attributes=matrix.plan.target.attributes_open))
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
