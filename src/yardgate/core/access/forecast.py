"""What a file or folder will be that somebody makes in a place: owner, group, list or mode, and who can then do what with it.

On POSIX lists and mode bits as the Linux kernel does it (acl(5), object creation; inode(7), setgid); on ordered lists as
RFC 8881, 6.4.3, has it.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from yardgate.core.access.storage import Nfs4State, PlaceState, names_on
from yardgate.core.acl import nfs4, posix
from yardgate.core.acl.mode import entries_of
from yardgate.core.acl.nfs4 import GROUP, OWNER, Entry
from yardgate.core.acl.posix import PosixEntry
from yardgate.core.acl.rights import READ_ATTRIBUTES
from yardgate.core.model.plan import Plan

ItemKind = Literal["file", "folder"]


@dataclass(frozen=True, slots=True)
class NewItem:
    """A new thing. group: a group of the plan, root, or the maker's id: a group of their own, of the same name. list: entries of an ordered list, or of a POSIX list (mode bits as one); default: a new folder's default list."""

    kind: ItemKind
    owner: str
    group: str
    entries: tuple[Entry, ...]
    access: tuple[PosixEntry, ...]
    default: tuple[PosixEntry, ...] | None
    setgid: bool


def make(plan: Plan, stored: PlaceState, maker: str, kind: ItemKind, mode: int, umask: int = 0o022) -> NewItem:
    """What `maker` gets who makes a thing in a place asking for `mode`. umask counts only where there is no default list.

    The group is the folder's where that is setgid, else the maker's primary group; where they have none, the one of their own
    that the host makes with the account (useradd(8), USERGROUPS_ENAB).
    Raises ValueError where storage is not planned.
    """
    if stored.list is None:
        raise ValueError("storage is not planned here")
    primary = plan.users[maker].primary_group or maker
    if isinstance(stored.list, Nfs4State):
        entries = stored.list.entries
        down = nfs4.files_of(entries) if kind == "file" else nfs4.folders_of(entries)
        return NewItem(kind, maker, primary, down, (), None, setgid=False)
    group = stored.group if stored.list.setgid else primary
    default = stored.list.default
    access = entries_of(mode & ~umask) if default is None else posix.created(default, mode)
    setgid = stored.list.setgid and kind == "folder"
    return NewItem(kind, maker, group, (), access, default if kind == "folder" else None, setgid)


def rights_to(plan: Plan, made: NewItem, subject: str, token: Mapping[str, tuple[str, ...]]) -> int:
    """What somebody may do with a new thing itself, as an access mask; ways and shares aside."""
    names = names_on(plan, made.owner, made.group, subject, token)
    if not made.access:
        return nfs4.allowed(made.entries, names) | (READ_ATTRIBUTES if plan.target.attributes_open else 0)
    owner = OWNER in names
    deciding = posix.matching(made.access, names, owner, GROUP in names)
    on = posix.rights_on_file if made.kind == "file" else posix.rights_on_folder
    return on(deciding, owner)
