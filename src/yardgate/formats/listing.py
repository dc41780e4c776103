"""Folders of a real server with their owners and lists: taken in as places, and written out for setfacl(1) and nfs4_setfacl(1).

Three kinds of listing come in: getfacl(1), nfs4_getfacl(1), and type, mode, owner, group and path as
`find DIR -printf '%y %m %u %g %p\\n'` prints them (or with \\0 for odd names). Only folders where the policy changes become
places; what just follows is counted.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Literal

from yardgate.core.access.bitsets import count
from yardgate.core.access.storage import Nfs4State, PlaceState, PosixState, storage_state
from yardgate.core.acl import Mode, Ordered, OwnList, Posix, PosixEntry, posix
from yardgate.core.acl.mode import STICKY, bits_of, entries_of
from yardgate.core.acl.nfs4 import INHERITED, Entry, files_of, folders_of
from yardgate.core.edits.records import Edit, PutGroup, PutPlace, PutUser
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.plan import LOCAL, ROOT, Group, Place, Plan, User
from yardgate.formats import nfs4_text, posix_text
from yardgate.formats.reading import FormatError, Make, Note, Reading, Unknown

ListStyle = Literal["posix", "mode", "ordered"]


@dataclass(frozen=True, slots=True)
class ListedFile:
    """One file or folder of a listing, names looked up. posix, mode: the whole list; ordered: all entries, arrived ones too."""

    line: int
    path: tuple[str, ...]
    folder: bool
    owner: str | None
    group: str | None
    own: OwnList


def read(
    plan: Plan,
    text: str,
    style: ListStyle,
    at: str | None = None,
    make: Make | None = None,
    *,
    only_folders: bool = False,
) -> Reading:
    """The edits that bring a listing into a plan. Nothing comes in as long as it names somebody unknown.

    at: the place that the topmost folder of the listing is; None makes a pool of it. make: what becomes of unknown names.
    only_folders: everything listed is a folder (getfacl output does not say). Raises FormatError with line and column.
    """
    if at is not None and at not in plan.places:
        raise FormatError(f"the plan has no place {show(at)}")
    names = _Names(plan, make or {})
    readers = {"posix": _from_getfacl, "mode": _from_find, "ordered": _from_nfs4}
    found = list(readers[style](text, names, only_folders))
    if names.unknown:
        return Reading((), (Note(None, "Nothing comes in before everybody it names is known."),), tuple(names.unknown))
    return _places(plan, found, at, names)


# --- who is meant -----------------------------------------------------------------------------------------------------


class _Names:
    """Names and numbers of accounts as a Unix host writes them, exactly or in any case."""

    def __init__(self, plan: Plan, make: Make):
        self.make = make
        self.edits: list[Edit] = []
        self.unknown: list[Unknown] = []
        self.taken = {*plan.users, *plan.groups, *plan.places}
        self.ids: dict[tuple[str, str], str] = {}
        self._missing: set[tuple[str, str]] = set()
        accounts: dict[str, list[User | Group]] = {"user": [*plan.users.values()], "group": [*plan.groups.values()]}
        for kind, records in accounts.items():
            for record in sorted(records, key=lambda record: record.origin != LOCAL):  # a plain name is the host's own
                number = record.uid if isinstance(record, User) else record.gid
                names = (fold(plan.called(record.id)), fold(record.name))
                for name in (*names, *([str(number)] if number is not None else [])):
                    self.ids.setdefault((kind, name), record.id)
            for name in (ROOT, "0"):
                self.ids.setdefault((kind, name), ROOT)

    def id(self, kind: str, name: str, line: int) -> str:
        """The id of a user or group; noted as unknown, and answered with the name, where there is none."""
        key = kind, fold(name)
        if key in self.ids:
            return self.ids[key]
        wanted = self.make.get(name)
        if wanted is None or (wanted == "group") != (kind == "group"):
            if key not in self._missing:
                self._missing.add(key)
                self.unknown.append(Unknown(line, name, "group" if kind == "group" else "who"))
            return name
        new = fresh_id(name, self.taken)
        self.taken.add(new)
        number = int(name) if name.isdecimal() else None
        self.edits.append(
            PutGroup(Group(id=new, name=name, gid=number))
            if kind == "group"
            else PutUser(User(id=new, name=name, uid=number, kind="service" if wanted == "service" else "person"))
        )
        self.ids[key] = new
        return new

    def named(self, kind: str, name: str, line: int, column: int) -> str:
        """As `id`, for an entry of a list, which cannot name root: root passes every list anyway."""
        found = self.id(kind, name, line)
        if found == ROOT:
            raise FormatError(f"an entry for {kind} root; take root in as an account of the plan first", line, column)
        return found


def _path(text: str, line: int) -> tuple[str, ...]:
    steps = tuple(step for step in text.split("/") if step not in ("", "."))
    for step in steps:
        if why := name_trouble(step, separator="/"):
            raise FormatError(f"the name {show(step)} in the path {why}", line, 9)
    return steps


# --- the three kinds of listing ---------------------------------------------------------------------------------------


def _from_getfacl(text: str, names: _Names, only_folders: bool) -> Iterator[ListedFile]:
    found = list(posix_text.blocks(text))
    inner = {_path(block.path, block.line)[:-1] for block in found}
    for block in found:
        path = _path(block.path, block.line)
        owner = None if block.owner is None else names.id("user", block.owner[1], block.owner[0])
        group = None if block.group is None else names.id("group", block.group[1], block.group[0])
        access = _entries(block.access, names)
        runs = any(perms & posix.X for _, _, _, perms in block.access)
        folder = only_folders or path in inner or bool(block.default) or runs or block.flags != "---"
        yield ListedFile(
            block.line,
            path,
            folder,
            owner,
            group,
            Posix(
                access,
                _entries(block.default, names) if block.default else None,
                setgid=block.flags[1] == "s",
                sticky=block.flags[2] == "t",
            ),
        )


def _entries(said: Sequence[tuple[int, posix.Tag, str, int]], names: _Names) -> tuple[PosixEntry, ...]:
    return posix.whole(_said(said, names))


def _from_find(text: str, names: _Names, _only_folders: bool) -> Iterator[ListedFile]:
    records = text.split("\0") if "\0" in text else text.split("\n")
    for number, record in enumerate(records, 1):
        if not record.strip():
            continue
        parts = record.split(" ", 4)
        if len(parts) != 5:
            raise FormatError(f"a record is type, mode, owner, group and path, not {record[:60]!r}", number, 1)
        kind, mode, owner, group, path = parts
        if kind not in tuple("fdlpscbD?"):
            raise FormatError(
                f"{kind[:20]!r} is not a type of file; there are d, f, l and others of find(1)", number, 1
            )
        if not re.fullmatch("[0-7]{1,4}", mode):
            raise FormatError(f"the mode {mode[:20]!r} is not octal", number, len(kind) + 2)
        if kind in "fd":
            yield ListedFile(
                number,
                _path(path, number),
                kind == "d",
                names.id("user", owner, number),
                names.id("group", group, number),
                Mode(int(mode, 8) & (0o7777 if kind == "d" else 0o777)),
            )


def _from_nfs4(text: str, names: _Names, only_folders: bool) -> Iterator[ListedFile]:
    found = list(nfs4_text.blocks(text))
    inner = {_path(block.path, block.line)[:-1] for block in found}
    for block in found:
        path = _path(block.path, block.line)
        entries = _nfs4_entries(block, names)
        folder = only_folders or path in inner or any(e.flags for e in entries) or any(e.mask & 0x40 for e in entries)
        yield ListedFile(block.line, path, folder, None, None, Ordered(entries))


def _nfs4_entries(block: nfs4_text.Nfs4Block, names: _Names) -> tuple[Entry, ...]:
    return tuple(
        Entry(
            "allow" if said.type == "allow" else "deny",
            said.who if said.kind == "special" else names.named(said.kind, said.who, said.line, said.column),
            said.mask,
            said.flags,
        )
        for said in block.entries
    )


# --- where the policy changes -----------------------------------------------------------------------------------------


@dataclass(slots=True)
class _Taken:
    """What became of a listing so far: places by path, and what was counted instead."""

    places: dict[tuple[str, ...], Place] = field(default_factory=dict)
    like: int = 0
    files: int = 0
    odd_files: list[int] = field(default_factory=list)


def _places(plan: Plan, found: Sequence[ListedFile], at: str | None, names: _Names) -> Reading:
    if not found:
        raise FormatError("there is no file or folder in it", 1, 1)
    top = found[0].path
    name = top[-1] if top else "pool"
    if at is None and any(p.kind == "pool" and fold(p.name) == fold(name) for p in plan.places.values()):
        raise FormatError(
            f"the plan has a pool {show(name)} already; say that the topmost folder is that one", found[0].line, 9
        )
    if any(one.path[: len(top)] != top for one in found):
        stray = next(one for one in found if one.path[: len(top)] != top)
        raise FormatError(
            f"{'/'.join(stray.path)} is not below {'/'.join(top)}, where the listing begins", stray.line, 9
        )
    seen: dict[tuple[str, ...], int] = {}
    for one in found:
        if one.path in seen:
            raise FormatError(f"{'/'.join(one.path)} was listed before, in line {seen[one.path]}", one.line, 9)
        seen[one.path] = one.line
    folders = {one.path: one for one in found if one.folder or one.path == top}
    changes = {top} | {
        path for path, one in folders.items() if path != top and not _follows(folders.get(path[:-1]), one)
    }
    kept = {path[:depth] for path in changes for depth in range(len(top), len(path) + 1)}
    existing = _existing(plan, at, top)
    taken = _Taken()
    for path in sorted(kept, key=lambda path: (len(path), path)):
        taken.places[path] = _place(plan, path, top, folders, changes, taken, existing, names)
    nearest = {one.path: folders.get(one.path[:-1]) for one in found if not one.folder}
    for one in found:
        if one.path in nearest:
            taken.files += 1
            if nearest[one.path] is not None and not _file_follows(nearest[one.path], one):  # type: ignore[arg-type]
                taken.odd_files.append(one.line)
        elif one.path not in kept:
            taken.like += 1
    notes = [
        Note(None, f"{len(kept)} of {len(folders)} folders became places; {taken.like} just follow the one above them.")
    ]
    if taken.files:
        notes.append(Note(None, f"{taken.files} files were looked at and are no places."))
    if taken.odd_files:
        notes.append(
            Note(
                taken.odd_files[0],
                f"{len(taken.odd_files)} files have another list than their folder gives them; the first is here.",
            )
        )
    changed = [PutPlace(p) for p in taken.places.values() if plan.places.get(p.id) != p]
    return Reading((*names.edits, *changed), tuple(notes))


def _existing(plan: Plan, at: str | None, top: tuple[str, ...]) -> dict[tuple[str, ...], str]:
    """Path in the listing -> id of the place that the plan has there already."""
    if at is None:
        return {}
    depth = len(plan.path(at))
    return {
        (*top, *(fold(plan.places[step].name) for step in plan.path(place)[depth:])): place
        for place in plan.places
        if plan.path(place)[:depth] == plan.path(at)
    }


def _place(
    plan: Plan,
    path: tuple[str, ...],
    top: tuple[str, ...],
    folders: Mapping[tuple[str, ...], ListedFile],
    changes: set[tuple[str, ...]],
    taken: _Taken,
    existing: Mapping[tuple[str, ...], str],
    names: _Names,
) -> Place:
    known = existing.get((*top, *(fold(step) for step in path[len(top) :])))
    if known is not None:
        base = plan.places[known]
    else:
        new = fresh_id(path[-1] if path else "pool", names.taken)
        names.taken.add(new)
        name = path[-1] if path else "pool"
        parent = taken.places[path[:-1]].id if path != top else None
        base = Place(id=new, name=name, kind="pool" if parent is None else "folder", parent=parent)
    one = folders.get(path)
    if one is None or path not in changes:
        return base
    above = folders.get(path[:-1])
    inherits = above is not None and base.kind == "folder"
    owner, group = (above.owner, above.group) if above is not None and inherits else (ROOT, ROOT)
    return replace(
        base,
        owner=None if one.owner == owner else one.owner,
        group=None if one.group == group else one.group,
        acl=one.own,
        inheritance_stops=base.kind != "pool",
        enforced_by="storage" if path == top and base.enforced_by is None and known is None else base.enforced_by,
    )


def _follows(above: ListedFile | None, one: ListedFile) -> bool:
    """Whether a folder has what comes down from the one above it, and nothing of its own."""
    if above is None or (above.owner, above.group) != (one.owner, one.group):
        return False
    match above.own, one.own:
        case Posix() as upper, Posix() as own:
            came = posix.base(upper.access) if upper.default is None else upper.default
            same = _same(own.access, came) and _same(own.default, upper.default)
            return same and own.setgid == upper.setgid and not own.sticky
        case Mode(bits=int(upper_bits)), Mode(bits=int(bits)):
            return bits == upper_bits & ~STICKY
        case Ordered(upper_entries), Ordered(entries):
            return entries == tuple(replace(e, flags=e.flags & ~INHERITED) for e in folders_of(upper_entries))
        case _:
            return False


def _same(one: tuple[PosixEntry, ...] | None, other: tuple[PosixEntry, ...] | None) -> bool:
    return (one is None and other is None) or (one is not None and other is not None and set(one) == set(other))


def _file_follows(above: ListedFile, one: ListedFile) -> bool:
    match above.own, one.own:
        case Posix() as upper, Posix() as own:
            return _same(own.access, posix.file_in(upper.access, upper.default))
        case Mode(bits=int(upper_bits)), Mode(bits=int(bits)):
            return bits == bits_of(posix.file_in(entries_of(upper_bits), None))
        case Ordered(upper_entries), Ordered(entries):
            return entries == tuple(replace(e, flags=0) for e in files_of(upper_entries))
        case _:
            return False


# --- out --------------------------------------------------------------------------------------------------------------


def write_restore(plan: Plan, at: str, listing: str | None = None, *, only_folders: bool = False) -> str:
    """Owners, flags and lists as `setfacl --restore` reads them, for the places from `at` down; paths begin with its name.

    listing: getfacl output of the real tree; then every file and folder in it gets what the plan has for it, those that just
    follow included. Raises FormatError for a place whose list is ordered or not planned, FormatError for a bad listing.
    """
    storage = storage_state(plan, count(plan, date.min))
    here = {(plan.places[at].name, *path): place for path, place in _below(plan, at)}
    wanted = [(path, True) for path in sorted(here)]
    if listing is not None:
        found = list(_from_getfacl(listing, _Names(plan, {}), only_folders))
        depth = len(found[0].path)
        wanted = [((plan.places[at].name, *one.path[depth:]), one.folder) for one in found]
    written = []
    for path, folder in wanted:
        nearest = next(path[:depth] for depth in range(len(path), 0, -1) if path[:depth] in here)
        stored = storage.get(here[nearest])
        if stored is None or not isinstance(stored.list, PosixState):
            raise FormatError(f"{plan.path_name(here[nearest])} has no POSIX list or mode bits to write for setfacl")
        written.append(_restore_block(plan, stored, stored.list, path, below=len(path) - len(nearest), folder=folder))
    return "\n".join(written)


def _below(plan: Plan, at: str) -> Iterator[tuple[tuple[str, ...], str]]:
    depth = len(plan.path(at))
    for place in plan.places:
        steps = plan.path(place)
        if steps[:depth] == plan.path(at):
            yield tuple(plan.places[step].name for step in steps[depth:]), place


def _restore_block(
    plan: Plan, stored: PlaceState, listed: PosixState, path: tuple[str, ...], *, below: int, folder: bool
) -> str:
    access, default, sticky = listed.access, listed.default, listed.sticky
    if below > (0 if folder else 1):  # it is, or lies in, a folder that just follows
        access, sticky = posix.base(access) if default is None else default, False
    if not folder:
        access = posix.file_in(access, default)
    flags = ("-s" if listed.setgid and folder else "--") + ("t" if sticky and folder else "-")
    lines = [
        f"# file: {posix_text.escape('/'.join(path), chr(10) + chr(13))}",
        f"# owner: {posix_text.escape_name(_account(plan, stored.owner))}",
        f"# group: {posix_text.escape_name(_account(plan, stored.group))}",
        *([f"# flags: {flags}"] if flags != "---" else []),
        *(posix_text.entry_text(e, _account(plan, e.who)) for e in access),
        *(posix_text.entry_text(e, _account(plan, e.who), default=True) for e in (default or ()) if folder),
    ]
    return "\n".join(lines) + "\n"


def _account(plan: Plan, who: str) -> str:
    """The name by which the appliance knows somebody: a directory's accounts as SHORT\\name, which no local one has."""
    return plan.called(who)


def write_nfs4(plan: Plan, at: str) -> str:
    """Ordered lists as specs for `nfs4_setfacl -S`, one block a place, each headed by its path.

    Raises FormatError for a place without an ordered list, and for names that nfs4_acl(5) cannot write.
    """
    storage = storage_state(plan, count(plan, date.min))
    blocks = []
    for steps, place in sorted(_below(plan, at)):
        path = (plan.places[at].name, *steps)
        stored = storage.get(place)
        if stored is None or not isinstance(stored.list, Nfs4State):
            raise FormatError(f"{plan.path_name(place)} has no ordered list to write for nfs4_setfacl")
        lines = [
            nfs4_text.entry_text(entry, _account(plan, entry.who), group=entry.who in plan.groups)
            for entry in stored.list.entries
        ]
        blocks.append("\n".join([f"# file: {'/'.join(path)}", *lines]) + "\n")
    return "\n".join(blocks)


# --- one list ---------------------------------------------------------------------------------------------------------


def list_text(plan: Plan, own: OwnList) -> str:
    """A place's own list as text: nfs4_acl(5) lines, getfacl(1) entries, or an octal mode. Names that nfs4_acl(5) cannot write
    are written as they are."""
    match own:
        case Ordered(entries):
            return "\n".join(
                nfs4_text.entry_text(e, _account(plan, e.who), group=e.who in plan.groups, strict=False)
                for e in entries
            )
        case Posix(access, default):
            lines = [posix_text.entry_text(e, _account(plan, e.who)) for e in access]
            return "\n".join(
                lines + [posix_text.entry_text(e, _account(plan, e.who), default=True) for e in default or ()]
            )
        case Mode(bits):
            return "" if bits is None else f"{bits:04o}"


def list_from_text(plan: Plan, text: str, style: ListStyle) -> tuple[OwnList, tuple[Unknown, ...]]:
    """A list from such text, and who in it is unknown. Raises FormatError with line and column."""
    names = _Names(plan, {})
    match style:
        case "mode":
            if not re.fullmatch(r"\s*[0-7]{1,4}\s*", text):
                raise FormatError(f"a mode is up to four octal digits, not {text.strip()[:20]!r}", 1, 1)
            return Mode(int(text, 8)), ()
        case "posix":
            access, default = posix_text.entries(text)
            own: OwnList = Posix(_said(access, names), _said(default, names) if default else None)
        case "ordered":
            found = next(nfs4_text.blocks(text))
            own = Ordered(_nfs4_entries(found, names))
    return own, tuple(names.unknown)


def _said(said: Sequence[tuple[int, posix.Tag, str, int]], names: _Names) -> tuple[PosixEntry, ...]:
    return tuple(
        PosixEntry(tag, names.named(tag, name, line, 1) if name else "", perms) for line, tag, name, perms in said
    )
