"""Small changes to one place's own list, as edits: let somebody through, give them a level by hand, add or take rights."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from yardgate.core.access.compile import PERMS
from yardgate.core.access.membership import token
from yardgate.core.access.storage import Nfs4State, PosixState, StorageState, rights_on
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry, posix
from yardgate.core.acl.mode import SETGID, STICKY, bits_of
from yardgate.core.acl.rights import ADD_FILE, FULL, LIST_DIRECTORY, MASK_OF, PASS, Level
from yardgate.core.edits.records import PutPlace
from yardgate.core.model.plan import EVERYONE, Plan

EntryKey = tuple[posix.Tag, str]


def let_through(plan: Plan, storage: StorageState, place: str, whos: Iterable[str]) -> tuple[PutPlace, ...]:
    """Let some enter a folder who may not, and nothing else: a line for this folder alone. None where storage is not planned."""
    return _changed(plan, place, _with_passes(plan, storage, place, tuple(whos)))


def _with_passes(plan: Plan, storage: StorageState, place: str, whos: Sequence[str]) -> OwnList | None:
    listed, own = storage[place].list, plan.places[place].acl
    if listed is None:
        return None
    if isinstance(listed, Nfs4State):
        entries = tuple(Entry("allow", who, PASS, 0) for who in whos)
        return Ordered(entries + (own.entries if isinstance(own, Ordered) else ()))
    if listed.style == "mode":
        bits = 0
        for who in whos:
            bits |= posix.X << (3 if storage[place].group in token(plan, who) else 0) if who != EVERYONE else posix.X
        return Mode(_bits(listed) | bits)
    given = {_key(plan, who): _held(plan, storage, place, who) | posix.X for who in whos}
    return _merged(own, listed, given)


def _held(plan: Plan, storage: StorageState, place: str, who: str) -> int:
    """What a who may do with a folder now, as permissions: a new entry of their own must not take any of it away."""
    ways = token(plan, who) if who != EVERYONE else {EVERYONE: (EVERYONE,)}
    mask = rights_on(plan, storage[place], who, ways).folder
    return (posix.R if mask & LIST_DIRECTORY else 0) | (posix.W if mask & ADD_FILE else 0)


def _key(plan: Plan, who: str) -> EntryKey:
    if who == EVERYONE:
        return "other", ""
    return ("user", who) if who in plan.users else ("group", who)


def _merged(own: OwnList | None, listed: PosixState, given: dict[EntryKey, int], default: bool = False) -> Posix:
    """A POSIX list of one's own with some entries set in it, and the mask wide enough for them."""
    before = own if isinstance(own, Posix) else Posix()
    wide = 0
    for perms in given.values():
        wide |= perms
    masked = next((e.perms for e in listed.access if e.tag == "mask" and ("mask", "") in listed.origins), None)
    entries = {(e.tag, e.who): e for e in before.access}
    entries |= {key: PosixEntry(*key, perms) for key, perms in given.items()}
    if masked is not None and wide & ~masked:
        entries["mask", ""] = PosixEntry("mask", "", masked | wide)
    down = before.default
    if default:
        lines = {(e.tag, e.who): e for e in before.default or ()}
        down = tuple({**lines, **{key: PosixEntry(*key, perms) for key, perms in given.items()}}.values())
    return replace(before, access=tuple(entries.values()), default=down)


def _bits(listed: PosixState) -> int:
    return bits_of(listed.access) | (SETGID if listed.setgid else 0) | (STICKY if listed.sticky else 0)


def _changed(plan: Plan, place: str, own: OwnList | None) -> tuple[PutPlace, ...]:
    here = plan.places[place]
    return () if own is None or own == here.acl else (PutPlace(replace(here, acl=own)),)


def by_hand(plan: Plan, storage: StorageState, place: str, who: str, level: Level) -> tuple[PutPlace, ...]:
    """Give somebody a level on a place by lines of its list, for it and all that is in it; NA refuses. Nothing where that cannot be said."""
    listed, own = storage[place].list, plan.places[place].acl
    if isinstance(listed, Nfs4State):
        mine = () if not isinstance(own, Ordered) else tuple(entry for entry in own.entries if entry.who != who)
        line = Entry("deny", who, FULL) if level == Level.NA else Entry("allow", who, MASK_OF[level])
        more = (Entry("deny", who, FULL & ~MASK_OF[level]),) if level == Level.RO else ()
        return _changed(plan, place, Ordered((line, *more, *mine)))
    if listed is not None and listed.style == "posix" and not (level == Level.NA and who not in plan.users):
        given = {_key(plan, who): PERMS[level]}
        return _changed(plan, place, _merged(own, listed, given, default=listed.default is not None))
    return ()


def without_lines(plan: Plan, place: str, who: str) -> tuple[PutPlace, ...]:
    """Take all lines of a who out of a place's own list."""
    own = plan.places[place].acl
    return () if own is None else _changed(plan, place, own.without({who}))


# --- rights of lines ---------------------------------------------------------------------------------------------------


def retouched(
    plan: Plan,
    places: Iterable[str],
    mask: Callable[[Entry], int],
    perms: Callable[[posix.Tag, str, int], int],
) -> tuple[PutPlace, ...]:
    """Each line of the places' own lists with the rights that `mask` (ordered) or `perms` gives it; lines without any go."""
    edits: list[PutPlace] = []
    for place in places:
        match plan.places[place].acl:
            case Ordered(entries):
                edits += _changed(plan, place, Ordered(tuple(replace(e, mask=mask(e)) for e in entries if mask(e))))
            case Posix(access, default) as own:
                down = default and _touched(default, perms)
                edits += _changed(plan, place, replace(own, access=_touched(access, perms), default=down))
            case Mode(int(bits)):
                tags: tuple[tuple[posix.Tag, int], ...] = (("user", 6), ("group", 3), ("other", 0))
                new = bits & ~0o777
                for tag, shift in tags:
                    new |= perms(tag, "", bits >> shift & 7) << shift
                edits += _changed(plan, place, Mode(new))
            case _:
                pass
    return tuple(edits)


def _touched(entries: Sequence[PosixEntry], perms: Callable[[posix.Tag, str, int], int]) -> tuple[PosixEntry, ...]:
    return tuple(replace(e, perms=perms(e.tag, e.who, e.perms)) for e in entries)
