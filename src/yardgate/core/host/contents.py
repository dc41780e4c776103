"""What lies in planned folders already: files and folders that keep the lists they were made with, until the folder's list is pushed down.

Pushed down, a thing gets what it would have if its owner made it there now. Whose it is stays. So pushing is a difference like any
other: what is so already is left alone, going on after a stop is pushing again, and putting back sets what was there before.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

from yardgate.core.acl import Entry, Ordered, Posix, posix
from yardgate.core.acl.nfs4 import INHERITED, files_of, folders_of, spelled
from yardgate.core.acl.rights import STRICT
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import ADMIN, OPEN, Folder, System
from yardgate.core.host.step_words import list_words

SERVERS_OWN = (".recycle", ".snapshot", ".snapshots", ".zfs", "lost+found")
"""What an SMB server or a file system keeps at the top of a share or a dataset: deleted files, earlier versions, what a repair found."""
RUNS, PLAIN = 0o777, 0o666  # the modes with which a program, or a folder, and any other file is made


class Owned(NamedTuple):
    """What somebody owns below a folder: how many files and folders, and how much they take up, in bytes."""

    folder: str
    things: int
    size: int


class Handed(NamedTuple):
    """How much of what somebody owned is somebody else's now, and how much was left: links, and files with a second name."""

    things: int
    left: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    """A file or folder that the plan does not speak of. name: its path. The lists name accounts as a planned `Folder` does; beneath: what
    the file system has where an ordered list is kept beside it. linked: whether it is a file that has a second name, perhaps elsewhere."""

    __pydantic_config__ = STRICT
    name: str
    folder: bool = False
    owner: str = ADMIN
    group: str = ADMIN
    listed: Posix | Ordered
    beneath: Posix | None = None
    linked: bool = False

    @property
    def mode(self) -> Posix:
        """The list that the file system itself has."""
        return self.listed if isinstance(self.listed, Posix) else self.beneath or OPEN

    @property
    def executes(self) -> int:
        """The execute bits of its mode, 0 to 0o111."""
        group = "mask" if any(entry.tag == "mask" for entry in self.mode.access) else "group"
        shifts = {"user": 6, group: 3, "other": 0}
        return sum((e.perms & posix.X) << shifts[e.tag] for e in self.mode.access if not e.who and e.tag in shifts)


class Correction(NamedTuple):
    """A thing as it is, and as it shall be."""

    was: Thing
    then: Thing


def words(push: Correction) -> str:
    """What a push changes of a thing, in a few words."""
    was, then = push
    said = [f"group {then.group}"] if was.group != then.group else []
    if was.listed != then.listed:
        said.append(list_words(was.listed, then.listed))
    return ", ".join(said or ["opened beneath its list"])


def apart(system: System, folder: str) -> tuple[str, ...]:
    """What in a planned folder goes by lists of its own, with all that lies in it: planned folders, and what the server keeps there itself,
    such as what each person deleted, which others may not read."""
    planned = (name for name in system.folders if name.startswith(f"{folder}/"))
    return tuple(sorted({*planned, *(f"{folder}/{name}" for name in SERVERS_OWN)}))


def pushes(folder: Folder, things: Iterable[Thing]) -> Iterator[Correction]:
    """What pushing a folder's list down over things in it changes. What has a second name is left alone: it may belong elsewhere."""
    known: dict[tuple[int, Thing], Thing | None] = {}  # most things of a folder are alike but for their names
    for thing in things:
        if thing.linked:
            continue
        kind = thing.name.count("/"), replace(thing, name="")
        if kind not in known:
            then = made(folder, thing)
            known[kind] = None if alike(thing, then) else then
        if (found := known[kind]) is not None:
            yield Correction(thing, replace(found, name=thing.name))


def made(folder: Folder, thing: Thing) -> Thing:
    """A thing as it would be if its owner made it now, in the folder or further down in it."""
    if isinstance(folder.listed, Posix):
        mode = RUNS if thing.folder or thing.executes else PLAIN
        return replace(thing, group=folder.group, listed=_posix(folder.listed, thing.folder, mode), beneath=None)
    entries = folder.listed.entries
    for _ in range(thing.name.count("/") - folder.name.count("/") - 1):
        entries = folders_of(entries)
    entries = folders_of(entries) if thing.folder else files_of(entries)
    listed = Ordered(spelled(entries, thing.owner, f"{GROUP_MARK}{folder.group}"))
    beneath = Posix(posix.created(OPEN.access, RUNS if thing.folder else PLAIN | thing.executes))
    return replace(thing, group=folder.group, listed=listed, beneath=beneath)


def _posix(own: Posix, is_folder: bool, mode: int) -> Posix:
    down = posix.in_order(posix.base(own.access) if own.default is None else own.default)
    return Posix(posix.created(down, mode), own.default if is_folder else None, setgid=own.setgid and is_folder)


def alike(thing: Thing, then: Thing) -> bool:
    """Whether a thing is as it shall be already. Which entries of an ordered list came from above makes no difference to anybody,
    nor does it that more lies open beneath one."""
    if thing.group != then.group:
        return False
    if isinstance(thing.listed, Ordered) and isinstance(then.listed, Ordered):
        wide = {(e.tag, e.who): e.perms for e in thing.mode.access}
        return _bare(thing.listed) == _bare(then.listed) and all(
            e.perms & ~wide.get((e.tag, e.who), 0) == 0 for e in then.mode.access
        )
    return thing.listed == then.listed


def _bare(listed: Ordered) -> tuple[Entry, ...]:
    return tuple(replace(entry, flags=entry.flags & ~INHERITED) for entry in listed.entries)
