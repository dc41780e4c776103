"""Folders of a real server with their owners and lists, taken in as places: only where the policy changes; what just follows is counted."""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache

from yardgate.core.acl import Mode, Ordered, OwnList, Posix, PosixEntry, posix
from yardgate.core.acl.mode import STICKY, bits_of, entries_of
from yardgate.core.acl.nfs4 import GROUP, INHERITED, OWNER, Entry, files_of, folders_of
from yardgate.core.edits.records import PutPlace, SetTarget
from yardgate.core.model.kinds import PLACES
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import ROOT, Place, Plan
from yardgate.formats.host_names import HostNames
from yardgate.formats.listed import ListedFile, ListStyle, OddName, from_find, from_getfacl, from_nfs4, paths, steps
from yardgate.formats.reading import FormatError, Make, Note, Reading, gathered, left_out


def read(
    plan: Plan,
    text: str,
    style: ListStyle,
    at: str | None = None,
    make: Make | None = None,
    *,
    called: str = "",
    only_folders: bool = False,
) -> Reading:
    """The edits that bring a listing into a plan. What cannot be read is left out and noted, and the rest comes in.

    at: the place that the topmost folder of the listing is; None makes a pool of it, called `called` or as the folder is. make: what becomes
    of names that nobody knows; of those of which it says nothing an account or group of the host's own, whoever that is.
    only_folders: everything listed is a folder (getfacl output does not say). Raises FormatError, with line and column, where nothing can be read.
    """
    if at is not None and at not in plan.places:
        raise FormatError(f"the plan has no place {show(at)}")
    domain = _domain(plan, text) if style == "ordered" else ""
    names = HostNames(plan, make or {}, domain)
    wrong: list[FormatError] = []
    readers = {"posix": from_getfacl, "mode": from_find, "ordered": from_nfs4}
    found = list(readers[style](text, names, only_folders, wrong))
    if not found:
        raise wrong[0] if wrong else FormatError("there is no file or folder in it", 1, 1)
    reading = _places(plan, found, _top(style, text, found), at, called, names)
    placed = [edit.place for edit in reading.edits if isinstance(edit, PutPlace)]
    said = gathered((*_said_of(wrong), *names.notes(placed), *_said_of_ordered(text, found, placed), *reading.notes))
    known = (SetTarget(replace(plan.target, nfs_domain=domain)),) if domain and not plan.target.nfs_domain else ()
    return replace(reading, edits=(*known, *reading.edits), notes=said, unknown=tuple(names.unknown))


def _domain(plan: Plan, text: str) -> str:
    """What stands behind the @ of the host's own accounts: as the plan has it, or what most names have that is no directory's."""
    if plan.target.nfs_domain:
        return plan.target.nfs_domain
    directories = {fold(directory.domain) for directory in plan.directories.values()}
    found = Counter(re.findall(r"^[ADUL]:[^:]*:[^:@]+@([^:\s]+):", text, re.MULTILINE))
    theirs = [(count, domain) for domain, count in found.items() if fold(domain) not in directories]
    return max(theirs)[1] if theirs else ""


def _said_of_ordered(text: str, found: Sequence[ListedFile], placed: Sequence[Place]) -> Iterator[Note]:
    """What ordered lists have that a plan has not, and what follows from lists that hand nothing down."""
    if not any(isinstance(one.own, Ordered) for one in found):
        return
    lists = [place for place in placed if isinstance(place.acl, Ordered)]
    strangers = [
        place.id for place in lists if place.owner is None and {OWNER, GROUP} & {e.who for e in entries_in(place)}
    ]
    if strangers:
        yield Note(
            None,
            "such a listing does not say whose a folder is; the plan takes root for these, until an owner is set",
            toward="either",
            about=tuple(strangers),
        )
    yield Note(
        None,
        "such a listing does not say which folders are sticky, where people delete only what is theirs; and a server that keeps POSIX lists beneath (as Linux) does not add up what several groups give",
        toward="less",
        about=tuple(place.id for place in lists),
    )
    audits = [number for number, line in enumerate(text.split("\n"), 1) if re.match(r"\s*[UL]:[^:]*:[^:]+:", line)]
    if audits:
        said = "1 entry only writes a log" if len(audits) == 1 else f"{len(audits)} entries only write a log"
        yield Note(audits[0], f"{said} (U, L), and may nobody anything; left out", lines=len(audits))
    none = [
        one.line
        for one in found
        if one.folder and isinstance(one.own, Ordered) and not any(e.flags for e in one.own.entries)
    ]
    if none:
        folders = "1 folder hands" if len(none) == 1 else f"{len(none)} folders hand"
        yield Note(
            none[0],
            f"{folders} nothing down: who reads what is made there follows from its mode (RFC 8881, 6.4.3), which may be all, and the plan says nobody",
            toward="more",
            about=tuple(place.id for place in lists if not any(entry.flags for entry in entries_in(place))),
            lines=len(none),
        )


def entries_in(place: Place) -> tuple[Entry, ...]:
    return place.acl.entries if isinstance(place.acl, Ordered) else ()


def _said_of(wrong: Sequence[FormatError]) -> Iterator[Note]:
    """What is told of entries that could not be read."""
    odd = [(error.line, error.plain) for error in wrong if isinstance(error, OddName)]
    why = "a plan can have no such names; what lies there keeps its lists, and nothing is said of it"
    for note in left_out(odd, "file or folder", "files and folders", why, most=3):
        yield replace(note, toward="either")
    for error in wrong:
        if not isinstance(error, OddName):
            yield Note(error.line, f"left out: {error.plain}", toward="either")


# --- where the policy changes -----------------------------------------------------------------------------------------


@dataclass(slots=True)
class _Taken:
    """What became of a listing so far: places by path, and what was counted instead."""

    places: dict[tuple[str, ...], Place] = field(default_factory=dict)
    like: int = 0
    files: int = 0
    odd_files: list[int] = field(default_factory=list)


def _top(style: ListStyle, text: str, found: Sequence[ListedFile]) -> tuple[str, ...]:
    """Where the listing begins, also where what is said of that cannot be read."""
    if style != "mode":
        return next(paths(text), found[0].path)
    first = re.match(r"\s*d \d+ \S+ \S+ ([^\n\0]*)", text)
    return steps(first[1]) if first is not None else found[0].path


def _places(
    plan: Plan, listed: Sequence[ListedFile], top: tuple[str, ...], at: str | None, called: str, names: HostNames
) -> Reading:
    name = called or (top[-1] if top else "pool")
    if at is None and any(p.kind == "pool" and fold(p.name) == fold(name) for p in plan.places.values()):
        raise FormatError(
            f"the plan has a pool {show(name)} already; say that the topmost folder is that one", listed[0].line, 9
        )
    found, aside = _once(listed, top)
    folders = {one.path: one for one in found if one.folder or one.path == top}
    follows, file_follows = _once_a_pair(_follows), _once_a_pair(_file_follows)
    changes = {top}
    for path, one in folders.items():
        above = folders.get(path[:-1])
        if above is None or (above.owner, above.group) != (one.owner, one.group) or not follows(above.own, one.own):
            changes.add(path)
    kept = _with_those_above(changes, len(top))
    if len(kept) > PLACES.most:
        raise FormatError(
            f"in {len(kept):,} folders something changes; at most {PLACES.most:,} can be places. List fewer of them at a time",
            1,
            1,
        )
    existing = _existing(plan, at, top)
    taken = _Taken()
    for path in sorted(kept, key=lambda path: (len(path), path)):
        taken.places[path] = _place(plan, path, top, name, folders, changes, taken, existing, names)
    nearest = {one.path: folders.get(one.path[:-1]) for one in found if not one.folder}
    for one in found:
        if one.path in nearest:
            taken.files += 1
            above = nearest[one.path]
            if above is not None and not file_follows(above.own, one.own):
                taken.odd_files.append(one.line)
        elif one.path not in kept:
            taken.like += 1
    notes = [
        *aside,
        Note(
            None, f"{len(kept)} of {len(folders)} folders became places; {taken.like} just follow the one above them."
        ),
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


def _once(listed: Sequence[ListedFile], top: tuple[str, ...]) -> tuple[list[ListedFile], list[Note]]:
    """What is listed below the topmost folder, each once, in folders that came in; and what is said of the rest."""
    found: dict[tuple[str, ...], ListedFile] = {}
    by_name: dict[tuple[str, ...], tuple[str, ...]] = {}
    folded_step = lru_cache(maxsize=100_000)(fold)
    stray, again, twins = (list[tuple[int | None, str]]() for _ in range(3))
    gone: set[tuple[str, ...]] = set()
    for one in listed:
        path = one.path
        folded = tuple(map(folded_step, path))
        if path[: len(top)] != top:
            stray.append((one.line, show("/".join(path))))
        elif path in found:
            again.append((one.line, show("/".join(path))))
        elif by_name.setdefault(folded, path) != path or (gone and not gone.isdisjoint(_up_to(path))):
            gone.add(path)
            if one.folder:
                twins.append((one.line, show("/".join(path))))
        else:
            found[path] = one
    aside = [
        *left_out(stray, "entry", "entries", f"not below {show('/'.join(top))}, where the listing begins"),
        *left_out(again, "entry", "entries", "listed before; the first counts"),
        *left_out(
            twins,
            "folder",
            "folders",
            "another has that name but for its case or accents, as SMB compares names; what lies in it too",
        ),
    ]
    return list(found.values()), [replace(note, toward="either") for note in aside]


def _up_to(path: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    """The folders above one."""
    return (path[:depth] for depth in range(len(path)))


def _with_those_above(some: Iterable[tuple[str, ...]], least: int) -> set[tuple[str, ...]]:
    """Folders and those above them, down from those with so many steps."""
    kept = set[tuple[str, ...]]()
    for path in some:
        while len(path) >= least and path not in kept:
            kept.add(path)
            path = path[:-1]
    return kept


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
    called: str,
    folders: Mapping[tuple[str, ...], ListedFile],
    changes: set[tuple[str, ...]],
    taken: _Taken,
    existing: Mapping[tuple[str, ...], str],
    names: HostNames,
) -> Place:
    known = existing.get((*top, *(fold(step) for step in path[len(top) :])))
    if known is not None:
        base = plan.places[known]
    else:
        name = called if path == top else path[-1]
        new = fresh_id(name, names.taken)
        names.taken.add(new)
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
        owner=base.owner if one.owner is None else None if one.owner == owner else one.owner,
        group=base.group if one.group is None else None if one.group == group else one.group,
        acl=one.own,
        inheritance_stops=base.kind != "pool",
        enforced_by="storage" if path == top and base.enforced_by is None and known is None else base.enforced_by,
    )


def _once_a_pair(compare: Callable[[OwnList, OwnList], bool]) -> Callable[[OwnList, OwnList], bool]:
    """The same for lists that most of a listing has: each two of them are compared once, known by being the same value."""
    known: dict[tuple[int, int], bool] = {}

    def of(above: OwnList, own: OwnList) -> bool:
        pair = id(above), id(own)
        if pair not in known:
            known[pair] = compare(above, own)
        return known[pair]

    return of


def _follows(above: OwnList, own: OwnList) -> bool:
    """Whether a folder's list is what comes down from the one above it, and nothing of its own."""
    match above, own:
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


def _file_follows(above: OwnList, own: OwnList) -> bool:
    match above, own:
        case Posix() as upper, Posix() as own:
            return _same(own.access, posix.file_in(upper.access, upper.default))
        case Mode(bits=int(upper_bits)), Mode(bits=int(bits)):
            return bits == bits_of(posix.file_in(entries_of(upper_bits), None))
        case Ordered(upper_entries), Ordered(entries):
            return entries == tuple(replace(e, flags=0) for e in files_of(upper_entries))
        case _:
            return False
