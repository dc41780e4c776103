"""Larger changes to storage as edits: pushing down, changing style, starting kinds. Each says what it overwrites or loses."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from yardgate.core.access.storage import StorageState
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry, posix
from yardgate.core.acl.mode import SETGID, STICKY, bits_of, entries_of
from yardgate.core.acl.nfs4 import (
    DIRECTORY_INHERIT,
    EVERYTHING_BELOW,
    FILE_INHERIT,
    GROUP,
    INHERIT_ONLY,
    NO_PROPAGATE_INHERIT,
    OWNER,
)
from yardgate.core.acl.rights import APPEND_DATA, CHANGE, DELETE, EXECUTE, PASS, READ, READ_DATA, WRITE_DATA
from yardgate.core.acl.words import Style, rights
from yardgate.core.edits.records import Edit, PutPlace, SetGrant
from yardgate.core.model.plan import EVERYONE, ROOT, Place, Plan


@dataclass(frozen=True, slots=True)
class Overwritten:
    """What a nested place has of its own that would go, in words; or why it is left alone."""

    place: str
    words: tuple[str, ...]
    left: bool


@dataclass(frozen=True, slots=True)
class PushDown:
    edits: tuple[Edit, ...]
    places: tuple[Overwritten, ...]


def push_down(plan: Plan, place: str, *, everything: bool) -> PushDown:
    """Make all that lies below a place just follow it: own entries, owners and grants there go.

    Cut places and all below them are left alone, unless `everything`. Pushing down is what an appliance calls applying a list to
    what is inside; places of another list style are left alone, too.
    """
    edits: list[Edit] = []
    found: list[Overwritten] = []
    style = style_of(plan, place)
    stack = [(child, False) for child in reversed(plan.inside.get(place, ()))]
    while stack:
        child, behind = stack.pop()
        here = plan.places[child]
        foreign = here.acl is not None and here.acl.style != style
        left = behind or foreign or (here.inheritance_stops and not everything)
        own = tuple(_own_words(plan, here))
        if own:
            found.append(Overwritten(here.id, own, left))
        if not left:
            clear = replace(here, acl=None, inheritance_stops=False, owner=None, group=None)
            edits += [PutPlace(clear)] if clear != here else []
            edits += [SetGrant(here.id, who, None) for who in plan.grants.get(here.id, {})]
        stack += [(child, left) for child in reversed(plan.inside.get(here.id, ()))]
    return PushDown(tuple(edits), tuple(found))


def _own_words(plan: Plan, place: Place) -> Iterator[str]:
    if place.inheritance_stops:
        yield "inheritance stops here"
    match place.acl:
        case Ordered(entries) if entries:
            yield f"{len(entries)} {'line' if len(entries) == 1 else 'lines'} by hand"
        case Posix(access, default) if access or default:
            count = len(access) + len(default or ())
            yield f"{count} {'entry' if count == 1 else 'entries'} by hand"
        case Mode(int(bits)):
            yield f"mode {bits:04o}"
        case _:
            pass
    for what, who in (("owner", place.owner), ("owning group", place.group)):
        if who is not None:
            yield f"{what} {plan.named(who)}"
    grants = plan.grants.get(place.id, {})
    if grants:
        yield f"{len(grants)} {'grant' if len(grants) == 1 else 'grants'}"


def style_of(plan: Plan, place: str) -> Style | None:
    """The list style of a place: its own, or that of the nearest place above that has one."""
    for step in reversed(plan.path(place)):
        own = plan.places[step].acl
        if own is not None:
            return own.style
    return None


# --- another style ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Restyle:
    """lost: what the new style cannot say, in words, with the place where it was said."""

    edits: tuple[Edit, ...]
    lost: tuple[tuple[str, str], ...]


def restyle(plan: Plan, place: str, style: Style) -> Restyle:
    """Give a place another list style, and with it all below that have its present one. Entries are said anew as nearly as can be."""
    present = style_of(plan, place)
    edits: list[Edit] = []
    lost: list[tuple[str, str]] = []
    for other in plan.places.values():
        inner = other.id != place and place in plan.path(other.id)
        if other.id != place and not (inner and other.acl is not None and other.acl.style == present):
            continue
        own, unsaid = converted(plan, other.acl, style)
        lost += [(other.id, what) for what in unsaid]
        edits.append(PutPlace(replace(other, acl=own)))
    return Restyle(tuple(edits), tuple(lost))


def converted(plan: Plan, own: OwnList | None, style: Style) -> tuple[OwnList, tuple[str, ...]]:
    """A list in another style, and what of it that style cannot say."""
    empty: dict[Style, OwnList] = {"ordered": Ordered(), "posix": Posix(), "mode": Mode()}
    if own is None or own.style == style:
        return own or empty[style], ()
    match own, style:
        case Ordered(), "posix":
            return _to_posix(plan, own)
        case Ordered(), _:
            between, lost = _to_posix(plan, own)
            mode, more = converted(plan, between, "mode")
            return mode, lost + more
        case Posix(access, default, setgid, sticky), "mode":
            if not access:
                return Mode(), tuple(_lost_default(default))
            named = [entry for entry in access if entry.who]
            base = posix.base(posix.whole(access))
            bits = bits_of(base) | (SETGID if setgid else 0) | (STICKY if sticky else 0)
            lost = tuple(f"{e.tag} {plan.named(e.who)}: mode bits name nobody but owner and group" for e in named)
            return Mode(bits), lost + tuple(_lost_default(default))
        case Posix(access, default), "ordered":
            return _from_posix(access, default), _lost_from_posix(plan, access, own)
        case Mode(None), _:
            return empty[style], ()
        case Mode(int(bits)), "posix":
            return Posix(posix.base(entries_of(bits)), None, bool(bits & SETGID), bool(bits & STICKY)), ()
        case Mode(int(bits)), _:
            between_posix = Posix(posix.base(entries_of(bits)), None, bool(bits & SETGID), bool(bits & STICKY))
            return converted(plan, between_posix, "ordered")
        case _:
            raise AssertionError((own, style))


def _lost_default(default: Sequence[PosixEntry] | None) -> Iterator[str]:
    if default:
        yield "the default list: what is made inside gets the maker's own mode"


def _to_posix(plan: Plan, own: Ordered) -> tuple[Posix, tuple[str, ...]]:
    """Allows become entries, refusals are lost. EVERYONE@ becomes others, who are not owner or group."""
    keys: dict[str, tuple[posix.Tag, str]] = {OWNER: ("user", ""), GROUP: ("group", ""), EVERYONE: ("other", "")}
    access: dict[tuple[posix.Tag, str], int] = {}
    default: dict[tuple[posix.Tag, str], int] = {}
    lost: list[str] = []
    for entry in own.entries:
        who = plan.named(entry.who)
        if entry.type == "deny":
            lost.append(f"refusing {who} {rights(entry.mask)}: a POSIX list cannot refuse what another entry gives")
            continue
        key = keys.get(entry.who) or (("user", entry.who) if entry.who in plan.users else ("group", entry.who))
        perms = _perms(entry.mask)
        exact = PASS | _mask(perms)
        if entry.mask & ~exact:
            lost.append(f"{rights(entry.mask & ~exact)} for {who}: a POSIX list has only read, write and execute")
        if entry.flags & NO_PROPAGATE_INHERIT:
            lost.append(f"one level only for {who}: a default list goes all the way down")
        if bool(entry.flags & FILE_INHERIT) != bool(entry.flags & DIRECTORY_INHERIT):
            lost.append(
                f"only {'files' if entry.flags & FILE_INHERIT else 'folders'} for {who}: a default list is for both"
            )
        if not entry.flags & INHERIT_ONLY:
            access[key] = access.get(key, 0) | perms
        if entry.flags & EVERYTHING_BELOW:
            default[key] = default.get(key, 0) | perms
    made = tuple(PosixEntry(tag, who, perms) for (tag, who), perms in access.items())
    down = tuple(PosixEntry(tag, who, perms) for (tag, who), perms in default.items())
    return Posix(made, down or None), tuple(lost)


def _perms(mask: int) -> int:
    write = WRITE_DATA | APPEND_DATA
    return (
        (posix.R if mask & READ_DATA else 0)
        | (posix.W if mask & write == write else 0)
        | (posix.X if mask & EXECUTE else 0)
    )


def _mask(perms: int) -> int:
    """The rights that permissions amount to where they are said anew in an ordered list."""
    return (
        (READ & ~EXECUTE if perms & posix.R else 0)
        | (CHANGE & ~DELETE if perms & posix.W else 0)
        | (PASS if perms & posix.X else 0)
    )


def _from_posix(access: Sequence[PosixEntry], default: Sequence[PosixEntry] | None) -> Ordered:
    keys = {("user", ""): OWNER, ("group", ""): GROUP, ("other", ""): EVERYONE}
    entries: list[Entry] = []
    down = {(e.tag, e.who): e.perms for e in default or ()}
    here = {(e.tag, e.who): e.perms for e in access}
    for key in [*here, *(key for key in down if key not in here)]:
        if key[0] == "mask":
            continue
        who = keys.get(key) or key[1]
        if here.get(key) == down.get(key) and here.get(key):
            entries.append(Entry("allow", who, _mask(here[key]), EVERYTHING_BELOW))
            continue
        if here.get(key):
            entries.append(Entry("allow", who, _mask(here[key]), 0))
        if down.get(key):
            entries.append(Entry("allow", who, _mask(down[key]), EVERYTHING_BELOW | INHERIT_ONLY))
    return Ordered(tuple(entries))


def _lost_from_posix(plan: Plan, access: Sequence[PosixEntry], own: Posix) -> tuple[str, ...]:
    lost = []
    mask = posix.mask_of(access)
    for entry in access:
        if entry.who and entry.perms & ~mask:
            lost.append(f"the mask on {plan.named(entry.who)}: an ordered list has none")
        if entry.who and entry.tag == "user":
            lost.append(
                f"that {plan.named(entry.who)}'s own entry alone decides: in an ordered list their groups' add to it"
            )
    if own.setgid:
        lost.append("setgid: what is made inside gets the maker's group")
    if own.sticky:
        lost.append("sticky: whoever may delete here may delete everybody's")
    return tuple(lost)


# --- starting kinds ---------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Start:
    """A way to begin with a place, by what it is for. sets: what it sets, in words."""

    id: str
    title: str
    words: str
    sets: tuple[str, ...]
    place: Place


def planned(plan: Plan, storage: StorageState, top: str) -> Iterator[tuple[Style, tuple[PutPlace, ...]]]:
    """Lists of their own, which carry their grants, for the places at and below one that have none planned and are shared and granted, or where a share
    begins: as an ordered and as a POSIX list, that first which the protocols ask for. Nothing, where there is no such place."""
    shares = [share for share in plan.shares.values() if share.smb or share.nfs]
    tops = {share.place for share in shares}
    bare = [place for place in plan.places if top in plan.path(place) and is_bare(storage, place)]
    places = [
        place for place in bare if tops.intersection(plan.path(place)) and (place in tops or plan.grants.get(place))
    ]
    by_nfs = any(share.nfs and share.place in plan.path(place) for place in places for share in shares)
    styles: tuple[Style, ...] = ("posix", "ordered") if by_nfs else ("ordered", "posix")
    for style in styles if places else ():
        yield style, tuple(PutPlace(begun(plan, plan.places[place], style)) for place in places)


def begun(plan: Plan, here: Place, style: Style) -> Place:
    """A place as it begins with a list of a style."""
    kind = {"ordered": "windows", "posix": "mixed", "mode": "linux"}[style]
    return next(start.place for start in starts(plan, here) if start.id == kind)


def is_bare(storage: StorageState, place: str) -> bool:
    """Whether no list is planned for a place, nor for one that it takes over from."""
    return place not in storage or storage[place].list is None


def started(plan: Plan, here: Place, kind: str) -> Place:
    """A place as a starting kind has it; as it is, where there is no such kind."""
    return next((one.place for one in starts(plan, here) if one.id == kind), here)


def starts(plan: Plan, here: Place) -> tuple[Start, ...]:
    """The starting kinds for a place, which the plan need not have yet; those for applications once for each service account, in order of names."""
    clean = replace(here, owner=ROOT, group=None, inheritance_stops=here.kind != "pool", enforced_by="storage")
    services = sorted((user for user in plan.users.values() if user.kind == "service"), key=lambda user: user.name)
    writers = [w for w, said in plan.grants.get(here.id, {}).items() if w in plan.groups and said == "RW"]
    group = writers[0] if len(writers) == 1 else None
    return (
        Start(
            "windows",
            "Windows and macOS clients",
            "Grants become lines of an ordered list, which can refuse and which such clients show as it is.",
            ("ordered list", "owner root", "nothing comes down from above", "grants enforced by the list"),
            replace(clean, acl=Ordered()),
        ),
        Start(
            "mixed",
            "Windows and Linux together",
            "Grants become a POSIX list with a default list, which the kernel itself keeps for every protocol.",
            (
                "POSIX list with default list",
                "setgid, so that new things keep the group",
                "owner root",
                "grants enforced by the list",
            ),
            replace(clean, acl=Posix(setgid=True), group=group),
        ),
        Start(
            "linux",
            "Linux hosts only",
            "Mode bits: one owner, one group, everybody else. The place's one group with read-write becomes the owning group.",
            (
                "mode bits",
                f"owning group {plan.named(group) if group else 'root'}",
                "setgid with it",
                "grants enforced by the mode",
            ),
            replace(clean, acl=Mode(), group=group),
        ),
        *(
            Start(
                f"service-{service.id}",
                f"Data of {service.name}",
                f"{service.name} owns it and keeps its own files; people come in only by grants.",
                (
                    "POSIX list with default list",
                    f"owner {service.name}",
                    "nothing for others",
                    "grants enforced by the list",
                ),
                replace(
                    clean,
                    owner=service.id,
                    acl=Posix(
                        (PosixEntry("user", "", 7), PosixEntry("other", "", 0)),
                        (PosixEntry("user", "", 7), PosixEntry("other", "", 0)),
                    ),
                ),
            )
            for service in services
        ),
    )
