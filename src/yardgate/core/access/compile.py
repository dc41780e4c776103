"""From grants to lists: entries for each list style that give every account what the clash rule gives.

What people count as, as far as one place's grants go, falls into a few classes (`bitsets.Classes`). Expected levels and the outcome of a list are compared class by class, so a list is proven right for every account
while it is made. A list never gives an account more than the rule does; where a style cannot say what the rule says, the
cells that come out lower are reported.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from operator import or_
from typing import NamedTuple

from yardgate.core.access.bitsets import Classes, Named
from yardgate.core.access.combining import NEARNESS, TieredGrant, decide
from yardgate.core.access.membership import Tier
from yardgate.core.acl import nfs4, posix
from yardgate.core.acl.mode import SETGID, bits_of
from yardgate.core.acl.nfs4 import Entry
from yardgate.core.acl.posix import PosixEntry, R, W, X
from yardgate.core.acl.rights import (
    ADD_FILE,
    ADD_SUBDIRECTORY,
    APPEND_DATA,
    CHANGE,
    DELETE,
    DELETE_CHILD,
    EXECUTE,
    FULL,
    LIST_DIRECTORY,
    MASK_OF,
    PASS,
    READ_DATA,
    WRITE_DATA,
    Level,
    level,
)
from yardgate.core.model.plan import EVERYONE, Target

PERMS = {Level.NA: 0, Level.PT: X, Level.RO: R | X, Level.RW: R | W | X}


class Grant(NamedTuple):
    """A grant that counts on a place: for whom, what, how near to them, and the place where it was said."""

    who: str
    level: Level
    tier: Tier
    said_on: str


@dataclass(frozen=True, slots=True)
class ListSpec:
    """What a list shall say. grants: in list order. passes: whom to let through, because of a grant deeper down."""

    target: Target
    grants: tuple[Grant, ...]
    passes: tuple[str, ...] = ()

    @property
    def whos(self) -> tuple[str, ...]:
        """Everybody whom it names, everyone always among them."""
        boss = [self.target.administrators] if self.grants and self.target.administrators is not None else []
        named = [EVERYONE, *boss, *(grant.who for grant in self.grants), *self.passes]
        return tuple(dict.fromkeys(named))

    def expected(self, names: Collection[str]) -> Level:
        """The level that somebody gets who counts as `names`."""
        if self.grants and self.target.administrators in names:
            return Level.RW
        parts = [TieredGrant(grant.tier, grant.level) for grant in self.grants if grant.who in names]
        if not parts and any(who in names for who in self.passes):
            return Level.PT
        return decide(self.target, parts)[0]

    def planes(self, named: Named) -> dict[Level, int]:
        """Level above NA -> the classes that get it, as bits: `expected` for all of them at once."""
        pooled = self.target.precedence == "pooled"
        tiers = [self.grants] if pooled else [[g for g in self.grants if g.tier == tier] for tier in NEARNESS]
        ro = rw = told = 0
        for grants in tiers:
            nearer = told
            reads, writes, some = _added(self.target, grants, named)
            ro, rw, told = ro | reads & ~nearer, rw | writes & ~nearer, told | some
        through = reduce(or_, (named.get(who, 0) for who in self.passes), 0) & ~told
        boss = named.get(self.target.administrators or "", 0) if self.grants else 0
        return {Level.PT: through & ~boss, Level.RO: ro & ~boss, Level.RW: rw | boss}

    def levels(self, classes: Classes) -> tuple[Level, ...]:
        """The level of each class."""
        planes = self.planes(classes.named)
        at = range(len(classes))
        return tuple(next((level for level, plane in planes.items() if plane >> one & 1), Level.NA) for one in at)


def _added(target: Target, grants: Sequence[Grant], named: Named) -> tuple[int, int, int]:
    """Which classes grants that count together let read, let write, and tell anything at all, as bits."""
    na = ro = rw = 0
    for grant in grants:
        theirs = named.get(grant.who, 0)
        if target.combining == "first":
            theirs &= ~(na | ro | rw)
        match grant.level:
            case Level.NA:
                na |= theirs
            case Level.RO:
                ro |= theirs
            case _:
                rw |= theirs
    told = na | ro | rw
    match target.combining:
        case "refusal":
            ro, rw = ro & ~rw & ~na, rw & ~na
        case "widest":
            ro &= ~rw
        case "narrowest":
            ro, rw = ro & ~na, rw & ~ro & ~na
        case "first":
            pass  # nobody is told twice
    return ro, rw, told


# --- ordered lists ----------------------------------------------------------------------------------------------------


class CompiledEntry(NamedTuple):
    """An entry of a compiled list, and the grant that it says; None for those who are let pass."""

    entry: Entry
    grant: Grant | None


def ordered_list(spec: ListSpec, classes: Classes) -> tuple[CompiledEntry, ...]:
    """Entries that give every class its expected level. Every rule can be said; refusals that change nothing are left out."""
    lines = list(_ordered_lines(spec))
    named = classes.named
    wanted = spec.planes(named)
    for at in range(len(lines) - 1, -1, -1):
        if lines[at].entry.type == "deny":
            without = lines[:at] + lines[at + 1 :]
            if not _held_back(lines, at, named) or _outcomes([made.entry for made in without], named) == wanted:
                lines = without
    return tuple(lines)


def _held_back(lines: Sequence[CompiledEntry], at: int, named: Named) -> bool:
    """Whether a later entry allows anybody what one refuses: else it may as well not be there, since what nothing allows is refused."""
    refused, theirs = lines[at].entry.mask, named.get(lines[at].entry.who, 0)
    later = (made.entry for made in lines[at + 1 :])
    return any(e.type == "allow" and e.mask & refused and named.get(e.who, 0) & theirs for e in later)


def _outcomes(entries: Sequence[Entry], named: Named) -> dict[Level, int]:
    """Level above NA -> the classes that come out with it, as bits: `rights.level` for all of them at once."""
    folder = _given(entries, named)
    file = _given(nfs4.files_of(entries), named)
    enters = folder(EXECUTE)
    reads = enters & folder(LIST_DIRECTORY) & file(READ_DATA)
    deletes = file(DELETE) | folder(DELETE_CHILD)
    changes = reads & folder(ADD_FILE) & folder(ADD_SUBDIRECTORY) & deletes & file(WRITE_DATA) & file(APPEND_DATA)
    return {Level.PT: enters & ~reads, Level.RO: reads & ~changes, Level.RW: changes}


def _given(entries: Sequence[Entry], named: Named) -> Callable[[int], int]:
    """Which classes a list gives a right, as bits: of each, the first entry decides that names it and has that right."""

    def given(right: int) -> int:
        allowed = decided = 0
        for entry in entries:
            if entry.mask & right and entry.counts_here:
                fresh = named.get(entry.who, 0) & ~decided
                decided |= fresh
                if entry.type == "allow":
                    allowed |= fresh
        return allowed

    return given


def _ordered_lines(spec: ListSpec) -> Iterator[CompiledEntry]:
    boss = spec.target.administrators
    if spec.grants and boss is not None:
        yield CompiledEntry(
            Entry("allow", boss, MASK_OF[Level.RW]), Grant(boss, Level.RW, "group", spec.grants[0].said_on)
        )
    if spec.target.precedence == "pooled":
        yield from _tier_lines(spec.target, spec.grants)
    else:
        for tier in ("own", "group", "all"):
            yield from _tier_lines(spec.target, [grant for grant in spec.grants if grant.tier == tier])
    for who in spec.passes:
        yield CompiledEntry(Entry("allow", who, PASS, flags=0), None)


def _tier_lines(target: Target, grants: Sequence[Grant]) -> Iterator[CompiledEntry]:
    """The entries of grants that count together, ending with what keeps later entries from adding to them."""

    def lines(wanted: Level, make: Callable[[Grant], Entry]) -> Iterable[CompiledEntry]:
        return (CompiledEntry(make(grant), grant) for grant in grants if grant.level == wanted)

    rw, ro = lines(Level.RW, _allow), lines(Level.RO, _allow)
    no_change, refusals = lines(Level.RO, _no_change), lines(Level.NA, _refuse)
    match target.combining:
        case "refusal":
            yield from (*refusals, *rw, *ro, *no_change)
        case "widest":
            yield from (*rw, *ro, *no_change, *refusals)
        case "narrowest":
            yield from (*refusals, *no_change, *rw, *ro)
        case "first":
            for grant in grants:
                if grant.level == Level.NA:
                    yield CompiledEntry(_refuse(grant), grant)
                    continue
                yield CompiledEntry(_allow(grant), grant)
                if grant.level == Level.RO:
                    yield CompiledEntry(_no_change(grant), grant)


def _allow(grant: Grant) -> Entry:
    return Entry("allow", grant.who, MASK_OF[grant.level])


def _no_change(grant: Grant) -> Entry:
    return Entry("deny", grant.who, CHANGE)


def _refuse(grant: Grant) -> Entry:
    return Entry("deny", grant.who, FULL)


# --- POSIX lists ------------------------------------------------------------------------------------------------------


class PosixMade(NamedTuple):
    """A compiled POSIX list. personal: users who needed an entry of their own because their groups' cannot say it."""

    access: tuple[PosixEntry, ...]
    default: tuple[PosixEntry, ...]
    personal: tuple[str, ...]


def posix_list(spec: ListSpec, classes: Classes, owner: str, group: str) -> PosixMade:
    """A list that gives every account its expected level, in a place of this owner and owning group.

    What a group's entry cannot say, a named user's entry does. Entries for those let pass do not go into the default list.
    """
    groups = _alone(classes)
    given: dict[tuple[posix.Tag, str], Level] = {}
    own = [c for c in classes if owner in c.users]
    given["user", ""] = spec.expected(own[0].names) if own else Level.RW
    for who in spec.whos:
        if who in groups:
            given["group", who] = spec.expected(groups[who])
        elif who != EVERYONE and who != owner:
            given["user", who] = next(spec.expected(c.names) for c in classes if who in c.users)
    given["group", ""] = given.pop(("group", group), spec.expected(groups[group]) if group in groups else Level.NA)
    given["other", ""] = spec.expected((EVERYONE,))
    access, default = _access(given), _default(given)
    file = posix.file_in(access, default)
    personal: dict[str, Level] = {}
    for c, wanted in zip(classes, spec.levels(classes), strict=True):
        unnamed = [user for user in c.users if user != owner and ("user", user) not in given]
        if unnamed and wanted != level(posix.allowed(access, file, c.names, owner=False, in_group=group in c.names)):
            personal |= dict.fromkeys(unnamed, wanted)
    given.update({("user", user): wanted for user, wanted in personal.items()})
    return PosixMade(_access(given), _default(given), tuple(personal))


def _alone(classes: Classes) -> Mapping[str, frozenset[str]]:
    """Group id -> what somebody counts as who is in that group alone."""
    return {group: c.names for c in classes for group in c.groups}


def _access(given: Mapping[tuple[posix.Tag, str], Level]) -> tuple[PosixEntry, ...]:
    return posix.whole([PosixEntry(tag, who, PERMS[said]) for (tag, who), said in given.items()])


def _default(given: Mapping[tuple[posix.Tag, str], Level]) -> tuple[PosixEntry, ...]:
    kept = {
        key: Level.NA if said == Level.PT else said for key, said in given.items() if said != Level.PT or not key[1]
    }
    return _access(kept)


# --- mode bits --------------------------------------------------------------------------------------------------------


def mode_bits(spec: ListSpec, classes: Classes, owner: str, group: str) -> int:
    """The mode that gives as many as possible their level and nobody more: each class of bits gets the lowest that it needs.

    setgid goes with a group that may do anything, so that what is made inside keeps the group.
    """
    groups = _alone(classes)
    levels = tuple(zip(classes, spec.levels(classes), strict=True))
    own = [level for c, level in levels if owner in c.users]
    inside = [level for c, level in levels if group in c.names and set(c.users) - {owner}]
    outside = [level for c, level in levels if group not in c.names and set(c.users) - {owner}]
    in_group = min(inside, default=spec.expected(groups[group]) if group in groups else Level.NA)
    others = min(outside, default=spec.expected((EVERYONE,)))
    bits = bits_of(
        (
            PosixEntry("user", "", PERMS[own[0] if own else Level.RW]),
            PosixEntry("group", "", PERMS[in_group]),
            PosixEntry("other", "", PERMS[others]),
        )
    )
    return bits | (SETGID if in_group > Level.PT else 0)
