"""Storage as it will stand: for every place its owner, its group, and its list with all that comes down to it.

A place's list is, first to last: its own entries, what is made of the grants that count there (`access.compile`), and what
comes down from the place above. Grants carried by storage come down as lists do: they count in all places below until the
same who is granted something else, or nothing comes down.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from heapq import heappop, heappush
from typing import Literal, NamedTuple

from yardgate.core.access.bitsets import Classes, Counting
from yardgate.core.access.compile import Grant, ListSpec, mode_bits, ordered_list, posix_list
from yardgate.core.access.membership import Tier
from yardgate.core.acl import Mode, Ordered, Posix, nfs4, posix
from yardgate.core.acl.mode import SETGID, STICKY, bits_of, entries_of
from yardgate.core.acl.nfs4 import GROUP, OWNER, Entry
from yardgate.core.acl.posix import PosixEntry
from yardgate.core.acl.rights import (
    EVERYTHING,
    READ_ACL,
    READ_ATTRIBUTES,
    READ_DATA,
    READ_NAMED_ATTRS,
    Level,
    Rights,
    level,
)
from yardgate.core.model.plan import EVERYONE, ROOT, Enforcement, Place, Plan

Maker = Literal["hand", "grant", "pass"]


class EntryLine(NamedTuple):
    """An entry of an ordered list where it counts. said_on: the place whose entry or grant it is. made: from what."""

    entry: Entry
    said_on: str
    made: Maker


class ListPart(NamedTuple):
    """Neighbouring entries of an ordered list that come from the same place and were made of the same."""

    entries: tuple[Entry, ...]
    said_on: str
    made: Maker


@dataclass(frozen=True, slots=True)
class Nfs4State:
    """An ordered list as it stands on a place, inherited entries after those of its own."""

    parts: tuple[ListPart, ...]
    style: Literal["ordered"] = "ordered"

    @property
    def entries(self) -> tuple[Entry, ...]:
        return tuple(entry for part in self.parts for entry in part.entries)

    @property
    def lines(self) -> tuple[EntryLine, ...]:
        return tuple(EntryLine(entry, part.said_on, part.made) for part in self.parts for entry in part.entries)


PosixKey = tuple[posix.Tag, str]


@dataclass(frozen=True, slots=True)
class PosixState:
    """A POSIX list, or mode bits as one, as it stands on a place. file: the list of an ordinary file in it.

    origins, default_origins: where each entry that was not computed comes from, by tag and who.
    """

    access: tuple[PosixEntry, ...]
    default: tuple[PosixEntry, ...] | None
    file: tuple[PosixEntry, ...]
    setgid: bool
    sticky: bool
    style: Literal["posix", "mode"]
    origins: Mapping[PosixKey, tuple[str, Maker]]
    default_origins: Mapping[PosixKey, tuple[str, Maker]]
    personal: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PlaceState:
    """One place as it will stand. list: None where storage is not planned.

    grants: those that count here, in list order, with where they were said. passes: who is let through, this folder only,
    because of a grant deeper down. deeper: whom the folder above has to let through for what lies here and below.
    """

    owner: str
    group: str
    enforced_by: Enforcement
    grants: tuple[Grant, ...]
    passes: tuple[str, ...]
    deeper: tuple[str, ...]
    list: Nfs4State | PosixState | None

    @property
    def by_share(self) -> bool:
        """Whether the share holds people to their grants. Where storage is not planned, only the share can."""
        return self.list is None or self.enforced_by != "storage"


StorageState = Mapping[str, PlaceState]


def alike(storage: StorageState, then: StorageState, places: Iterable[str]) -> bool:
    """Whether some places stand just as they stood: owner, group and list."""
    pairs = ((storage.get(place), then.get(place)) for place in places)
    return all(a is b or (a is not None and b is not None and _same_list(a, b)) for a, b in pairs)


def _same_list(a: PlaceState, b: PlaceState) -> bool:
    return a.owner == b.owner and a.group == b.group and (a.list is b.list or a.list == b.list)


def storage_state(
    plan: Plan, counting: Counting, before: tuple[Plan, StorageState] | None = None, to: str | None = None
) -> StorageState:
    """Every place as it will stand; empty where no place of the plan says a list. to: only those on the way to this place.

    `before`: an earlier plan with the same users, groups and target, and its storage: what did not change is taken over.
    """
    if all(place.acl is None for place in plan.places.values()):
        return {}
    old = before[1] if before is not None else {}
    stale = _stale(plan, before[0]) if before is not None and old else set(plan.places)
    inner = sorted(stale, key=lambda place: (len(plan.path(place)), place))  # each after the one above it
    done = {place: stored for place, stored in old.items() if place not in stale and place in plan.places}
    root_group = next((group.id for group in plan.groups.values() if group.gid == 0), ROOT)
    heads: dict[str, _Head] = {}
    for place in inner:
        heads[place] = _head(plan, plan.places[place], heads, done, root_group)
    deeper: dict[str, tuple[str, ...]] = {}
    asked: dict[str, tuple[str, ...]] = {}
    for place in reversed(inner):
        below = plan.inside.get(place, ())
        asked[place] = _unique(deeper[child] if child in deeper else done[child].deeper for child in below)
        deeper[place] = _unique((_own_whos(plan, place, heads[place]), asked[place]))
    came: dict[str, tuple[ListPart, ...]] = {}
    path = plan.path(to) if to is not None else plan.places
    queue = [(len(plan.path(place)), place) for place in inner if place in path]  # sorted, so a heap: the topmost first
    while queue:
        depth, place = heappop(queue)
        stored = _state(plan, counting, plan.places[place], heads[place], asked[place], deeper[place], done, came)
        was = old.get(place)
        done[place] = was if was is not None and was == stored else stored
        if was is None or done[place] is was or _hands_down_alike(was, stored):
            continue
        for child in plan.inside.get(place, ()):
            if child not in heads and child in path:  # nothing of its own changed, and what comes down to it has
                heads[child] = _head(plan, plan.places[child], heads, done, root_group)
                asked[child] = _unique(done[inner].deeper for inner in plan.inside.get(child, ()))
                deeper[child] = done[child].deeper
                heappush(queue, (depth + 1, child))
    return done if to is None else {place: done[place] for place in path}


def _hands_down_alike(was: PlaceState, now: PlaceState) -> bool:
    """Whether the same comes down from a list: of an ordered one, what a folder inside gets of it; of another, all of it may."""
    if isinstance(was.list, Nfs4State) and isinstance(now.list, Nfs4State):
        return _coming_down(was.list) == _coming_down(now.list)
    return was.list == now.list


def touched(before: Plan, plan: Plan) -> set[str]:
    """Places of a plan whose record or grants are not those of an earlier one."""
    old, granted, now = before.places, before.grants, plan.grants
    found = {place for place, record in plan.places.items() if old.get(place) is not record}
    if granted is not now:
        found |= {p for p in granted.keys() | now.keys() if granted.get(p) is not now.get(p)} & plan.places.keys()
    return found


def _stale(plan: Plan, before: Plan) -> set[str]:
    """Places to lay again: those that changed, all below them (what comes down), and all above them (who passes)."""
    changed, old = touched(before, plan), before.places
    was_in = {old[place].parent for place in changed | (old.keys() - plan.places.keys()) if place in old}
    tops = (place for place in changed | was_in if place is not None and place in plan.places)
    found = {step for place in tops for step in plan.path(place)}
    stack = list(changed)
    while stack:
        place = stack.pop()
        found.add(place)
        stack.extend(plan.inside.get(place, ()))
    return found


# --- one place --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Head:
    """What follows for a place from itself and what lies above, before its list."""

    style: Literal["ordered", "posix", "mode"] | None
    owner: str
    group: str
    enforced_by: Enforcement
    grants: tuple[Grant, ...]

    @property
    def compiles(self) -> bool:
        return self.style is not None and self.enforced_by != "share"


def _head(plan: Plan, place: Place, heads: Mapping[str, _Head], done: StorageState, root_group: str) -> _Head:
    above: _Head | None = heads.get(place.parent or "")
    if above is None and place.parent is not None:
        stored = done[place.parent]
        style = stored.list.style if stored.list is not None else None
        above = _Head(style, stored.owner, stored.group, stored.enforced_by, stored.grants)
    style = place.acl.style if place.acl is not None else above.style if above is not None else None
    carried = place.enforced_by or (above.enforced_by if above is not None else "share")
    from_above = above if place.kind == "folder" else None
    owner = place.owner or (from_above.owner if from_above is not None else ROOT)
    group = place.group or (from_above.group if from_above is not None else ROOT)
    group = root_group if group == ROOT else group
    said = plan.grants.get(place.id, {})
    own = tuple(Grant(who, level, tier_of(plan, who), place.id) for who, level in said.items())
    came: tuple[Grant, ...] = ()
    if (
        above is not None
        and above.compiles
        and style == above.style
        and carried != "share"
        and not place.inheritance_stops
    ):
        came = tuple(grant for grant in above.grants if grant.who not in said)
    return _Head(style, owner, group, carried, own + came)


def tier_of(plan: Plan, who: str) -> Tier:
    """How near a grant to `who` is to whomever it concerns."""
    return "own" if who in plan.users else "all" if who in (EVERYONE, plan.target.baseline) else "group"


def _own_whos(plan: Plan, place: str, head: _Head) -> Iterable[str]:
    """Who must get to this place because of a grant of its own, where getting there is asked for."""
    said = plan.grants.get(place, {}) if head.compiles and plan.target.traverse == "checked" else {}
    return (who for who, level in said.items() if level != Level.NA)


def _unique(whos: Iterable[Iterable[str]]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(who for some in whos for who in some))


def _state(
    plan: Plan,
    counting: Counting,
    place: Place,
    head: _Head,
    asked: tuple[str, ...],
    deeper: tuple[str, ...],
    done: StorageState,
    came: dict[str, tuple[ListPart, ...]],
) -> PlaceState:
    wanted = _wanted(plan, counting, head, asked)
    above = done[place.parent].list if place.parent is not None else None
    arriving = above if above is not None and above.style == head.style and not place.inheritance_stops else None
    standing: Nfs4State | PosixState | None = None
    if head.style == "ordered":
        if isinstance(arriving, Nfs4State) and place.parent is not None and place.parent not in came:
            came[place.parent] = _coming_down(arriving)
        arrived = came[place.parent] if arriving is not None and place.parent is not None else ()
        standing = _ordered(place, wanted, arrived)
    elif head.style is not None:
        make = _posix if head.style == "posix" else _mode
        standing = make(place, head, wanted, arriving if isinstance(arriving, PosixState) else None)
    passes = wanted[0].passes if wanted is not None else ()
    return PlaceState(head.owner, head.group, head.enforced_by, head.grants, passes, deeper, standing)


ToCompile = tuple[ListSpec, Classes]
"""What is to be compiled on a place, and the classes of subjects that it concerns."""


def _wanted(plan: Plan, counting: Counting, head: _Head, asked: tuple[str, ...]) -> ToCompile | None:
    if not head.compiles or not (head.grants or asked):
        return None
    granted = {grant.who for grant in head.grants}
    spec = ListSpec(plan.target, head.grants, tuple(who for who in asked if who not in granted))
    extra = [head.group] if head.group in plan.groups else []
    classes = Classes(counting, list(dict.fromkeys([*spec.whos, *extra])))
    return ListSpec(plan.target, head.grants, _few(spec, classes)), classes


def _few(spec: ListSpec, classes: Classes) -> tuple[str, ...]:
    """As few of those to be let through as say it for all: those of few subjects go first, where others speak for them."""
    if not spec.passes:
        return ()
    through = [c for c, level in zip(classes, spec.levels(classes), strict=True) if level == Level.PT]
    size = {who: sum(len(c.users) + len(c.groups) for c in through if who in c.names) for who in spec.passes}
    kept = [who for who in spec.passes if size[who]]
    for who in sorted(kept, key=lambda who: size[who]):
        others = set(kept) - {who}
        if all(not others.isdisjoint(c.names) for c in through if who in c.names):
            kept.remove(who)
    return tuple(kept)


def _coming_down(above: Nfs4State) -> tuple[ListPart, ...]:
    found = (ListPart(nfs4.folders_of(part.entries), part.said_on, part.made) for part in above.parts)
    return tuple(part for part in found if part.entries)


def _ordered(place: Place, wanted: ToCompile | None, arrived: tuple[ListPart, ...]) -> Nfs4State:
    """Own entries, those made of grants, those that come down. What was made of grants above is made again here."""
    own = place.acl.entries if isinstance(place.acl, Ordered) else ()
    hand = (ListPart(own, place.id, "hand"),) if own else ()
    if wanted is None:
        return Nfs4State(hand + arrived)
    made = tuple(
        ListPart((entry,), place.id if grant is None else grant.said_on, "pass" if grant is None else "grant")
        for entry, grant in ordered_list(*wanted)
    )
    return Nfs4State(hand + made + tuple(part for part in arrived if part.made == "hand"))


def _posix(place: Place, head: _Head, wanted: ToCompile | None, above: PosixState | None) -> PosixState:
    own = place.acl if isinstance(place.acl, Posix) else Posix()
    made = posix_list(*wanted, head.owner, head.group) if wanted is not None else None
    came = default_came = None
    sources: Mapping[PosixKey, tuple[str, Maker]] = {}
    if above is not None:
        came, default_came = posix.base(above.access) if above.default is None else above.default, above.default
        sources = above.origins if above.default is None else above.default_origins
    if made is not None and came is not None:  # what was made of grants above is made again, of those that count here
        came = tuple(e for e in came if sources.get((e.tag, e.who), ("", "grant"))[1] == "hand")
        default_came = default_came and tuple(e for e in default_came if e in came)
    access = posix.whole(posix.merged(own.access, posix.merged(made.access if made else (), came or ())))
    origins = _origins(place.id, own.access, made.access if made else (), sources, came or ())
    default, default_origins = None, {}
    if own.default is not None or made is not None or default_came is not None:
        parts = own.default or (), made.default if made else (), default_came or ()
        default = posix.whole(posix.merged(parts[0], posix.merged(parts[1], parts[2])), bits_of(posix.base(access)))
        default_origins = _origins(place.id, parts[0], parts[1], sources, parts[2])
    return PosixState(
        access,
        default,
        posix.file_in(access, default),
        own.setgid or (above is not None and above.setgid),
        own.sticky,
        "posix",
        origins,
        default_origins,
        made.personal if made else (),
    )


def _origins(
    place: str,
    own: Sequence[PosixEntry],
    made: Sequence[PosixEntry],
    above: Mapping[PosixKey, tuple[str, Maker]],
    came: Sequence[PosixEntry],
) -> dict[PosixKey, tuple[str, Maker]]:
    lower: dict[PosixKey, tuple[str, Maker]] = {
        (e.tag, e.who): above[e.tag, e.who] for e in came if (e.tag, e.who) in above
    }
    return (
        lower
        | {(e.tag, e.who): (place, "grant") for e in made if e.tag != "mask"}
        | {(e.tag, e.who): (place, "hand") for e in own}
    )


def _mode(place: Place, head: _Head, wanted: ToCompile | None, above: PosixState | None) -> PosixState:
    hand = place.acl.bits if isinstance(place.acl, Mode) else None
    made: Maker = "hand"
    said_on = place.id
    if hand is not None:
        bits = hand
    elif wanted is not None:
        bits, made = mode_bits(*wanted, head.owner, head.group), "grant"
    elif above is not None:
        bits = bits_of(above.access) | (SETGID if above.setgid else 0)
        said_on, made = above.origins["user", ""]
    else:
        bits = 0o700
    access = entries_of(bits)
    origins = dict.fromkeys(posix.BASE, (said_on, made))
    file = posix.file_in(access, None)
    return PosixState(access, None, file, bool(bits & SETGID), bool(bits & STICKY), "mode", origins, {})


def granted_on(plan: Plan, storage: StorageState, place: str) -> Mapping[str, Level]:
    """The grants that count on a place, in list order, where they were said left out."""
    stored = storage.get(place)
    return plan.grants.get(place, {}) if stored is None else {grant.who: grant.level for grant in stored.grants}


# --- what somebody gets -----------------------------------------------------------------------------------------------


def names_on(plan: Plan, owner: str, group: str, subject: str, token: Iterable[str]) -> frozenset[str]:
    """All that somebody goes by on a thing of this owner and group: their token, and owner@ and group@ where they are."""
    found = frozenset(token)
    if subject in plan.users and subject == owner:
        found |= {OWNER}
    if group in found:
        found |= {GROUP}
    return found


def rights_on(plan: Plan, stored: PlaceState, subject: str, token: Iterable[str]) -> Rights:
    """What the list of a place gives somebody there. Root passes every check; where storage is not planned, everybody does."""
    user = plan.users.get(subject)
    if stored.list is None or (user is not None and user.uid == 0):
        return EVERYTHING
    names = names_on(plan, stored.owner, stored.group, subject, token)
    if isinstance(stored.list, Nfs4State):
        entries = stored.list.entries
        open_ = READ_ATTRIBUTES if plan.target.attributes_open else 0
        return Rights(nfs4.allowed(entries, names) | open_, nfs4.allowed(nfs4.files_of(entries), names) | open_)
    owner, in_group = OWNER in names, GROUP in names
    return posix.allowed(
        stored.list.access, stored.list.file, names, owner=owner, in_group=in_group, sticky=stored.list.sticky
    )


SHOWS = READ_DATA | READ_NAMED_ATTRS | READ_ATTRIBUTES | READ_ACL
"""All that a list has to give for an SMB server to take something as readable, when it hides what is not."""


def shown_on(plan: Plan, stored: PlaceState, subject: str, token: Iterable[str]) -> tuple[bool, bool]:
    """Whether an SMB server that hides what one cannot read shows somebody a folder, and an ordinary file in it."""
    user = plan.users.get(subject)
    if stored.list is None or (user is not None and user.uid == 0):
        return True, True
    names = names_on(plan, stored.owner, stored.group, subject, token)
    if isinstance(
        stored.list, Nfs4State
    ):  # what opening leaves unasked, this asks: even attributes, where these are open
        lists = stored.list.entries, nfs4.files_of(stored.list.entries)
        folder, file = (nfs4.allowed(entries, names) & SHOWS == SHOWS for entries in lists)
        return folder, file
    concerned = names, OWNER in names, GROUP in names
    return bool(posix.told(stored.list.access, *concerned) & 4), bool(posix.told(stored.list.file, *concerned) & 4)


@dataclass(frozen=True, slots=True)
class Unsaid:
    """A cell that does not come out of a list as its grants say. A group stands for somebody who is in it alone."""

    subject: str
    wanted: Level
    gets: Level


def unsaid(plan: Plan, counting: Counting, stored: PlaceState) -> tuple[Unsaid, ...]:
    """The cells of a place that its list cannot, or because of entries by hand does not, give as granted; users first."""
    if stored.list is None or stored.enforced_by == "share" or not (stored.grants or stored.passes):
        return ()
    spec = ListSpec(plan.target, stored.grants, stored.passes)
    whos = dict.fromkeys((*spec.whos, *named_by(stored.list)))
    by_hand = has_hand(stored.list)
    alone = [who for who in (stored.owner, stored.group) if who in plan.users or who in plan.groups]
    found: dict[str, Unsaid] = {}
    spoken_of = {who for who in spec.whos if who != EVERYONE} | {grant.who for grant in spec.grants}
    asked = plan.target.traverse == "checked"
    concerned = Classes(counting, list(dict.fromkeys((*whos, *alone))))
    for c, wanted in zip(concerned, spec.levels(concerned), strict=True):
        if by_hand and spoken_of.isdisjoint(c.names):
            continue  # what somebody gets by hand alone is no matter of grants
        ordinary = (*(user for user in c.users if plan.users[user].uid != 0), *c.groups)
        some = next(iter(ordinary), None)
        gets = None if some is None else level(rights_on(plan, stored, some, c.names), traverse_checked=asked)
        found |= {subject: Unsaid(subject, wanted, gets) for subject in ordinary if gets is not None and gets != wanted}
        roots = set(c.users) - set(ordinary)
        found |= {subject: Unsaid(subject, wanted, Level.RW) for subject in roots if wanted != Level.RW}
    return tuple(found[subject] for subject in counting.subjects if subject in found)


def has_hand(listed: Nfs4State | PosixState) -> bool:
    """Whether a list has entries that somebody wrote, here or above, beside those made of grants."""
    if isinstance(listed, Nfs4State):
        return any(part.made == "hand" for part in listed.parts)
    return any(made == "hand" for _, made in listed.origins.values())


def named_by(listed: Nfs4State | PosixState) -> Iterable[str]:
    """Ids of all whom a list names, owner and owning group aside."""
    if isinstance(listed, Nfs4State):
        return (entry.who for entry in listed.entries if entry.who not in (OWNER, GROUP))
    return (entry.who for entry in (*listed.access, *listed.file) if entry.who)
