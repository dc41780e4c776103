"""Ordered lists: NFSv4 ACLs (RFC 7530 and RFC 8881, section 6).

Entries are read top down. For each right, the first entry that names somebody and that right decides; a right that no
entry mentions is refused (RFC 8881, 6.2.1).
"""

from collections.abc import Collection, Sequence, Set
from dataclasses import dataclass, replace
from typing import Literal

from yardgate.core.acl.rights import READ_ACL, STRICT, WRITE_ACL

OWNER = "owner@"
GROUP = "group@"

# RFC 8881, 6.2.1.4.
FILE_INHERIT = 0x1
DIRECTORY_INHERIT = 0x2
NO_PROPAGATE_INHERIT = 0x4
INHERIT_ONLY = 0x8
IDENTIFIER_GROUP = 0x40
INHERITED = 0x80
EVERYTHING_BELOW = FILE_INHERIT | DIRECTORY_INHERIT
FLAGS = EVERYTHING_BELOW | NO_PROPAGATE_INHERIT | INHERIT_ONLY

KEEPS = READ_ACL | WRITE_ACL
"""What the owner may do whatever the list says (RFC 8881, 6.2.1.3.1 leaves it to the server; all that we know do so)."""


@dataclass(frozen=True, slots=True)
class Entry:
    """Allow or deny `mask` to `who`: owner@, group@, everyone, or the id of a user or group. `flags`: where it counts.

    Whether an id is a group's (IDENTIFIER_GROUP) follows from the id, and INHERITED from where an entry comes from, so
    neither stands in a plan.
    """

    __pydantic_config__ = STRICT
    type: Literal["allow", "deny"]
    who: str
    mask: int
    flags: int = EVERYTHING_BELOW

    @property
    def counts_here(self) -> bool:
        return not self.flags & INHERIT_ONLY


@dataclass(frozen=True, slots=True)
class Ordered:
    """A place's own entries, in the order in which they are read."""

    __pydantic_config__ = STRICT
    entries: tuple[Entry, ...] = ()
    style: Literal["ordered"] = "ordered"

    @property
    def whos(self) -> frozenset[str]:
        """Ids that it names, owner@ and group@ among them."""
        return frozenset(entry.who for entry in self.entries)

    def without(self, gone: Set[str]) -> "Ordered":
        """The same without the entries of some."""
        return replace(self, entries=tuple(entry for entry in self.entries if entry.who not in gone))

    def also(self, like: str, new: str) -> "Ordered":
        """The same with `new` wherever `like` stands, right behind."""
        return replace(
            self,
            entries=tuple(
                one
                for entry in self.entries
                for one in ((entry, replace(entry, who=new)) if entry.who == like else (entry,))
            ),
        )


def decided(entries: Sequence[Entry], names: Collection[str]) -> tuple[int, ...]:
    """For each entry, the rights that it decides for somebody who goes by `names` (owner@ and group@ among them if so)."""
    taken = 0
    found = []
    for entry in entries:
        fresh = entry.mask & ~taken if entry.counts_here and entry.who in names else 0
        taken |= fresh
        found.append(fresh)
    return tuple(found)


def allowed(entries: Sequence[Entry], names: Collection[str]) -> int:
    """The rights that a list gives to somebody who goes by `names`."""
    given = 0
    for entry, rights in zip(entries, decided(entries, names), strict=True):
        if entry.type == "allow":
            given |= rights
    return given | (KEEPS if OWNER in names else 0)


def on_file(entry: Entry) -> Entry | None:
    """What an entry of a folder becomes on a file made in it (RFC 8881, 6.2.1.4.1 and 6.4.3), if it comes down to files."""
    return Entry(entry.type, entry.who, entry.mask, INHERITED) if entry.flags & FILE_INHERIT else None


def on_folder(entry: Entry) -> Entry | None:
    """What an entry of a folder becomes on a folder made in it, if it comes down to folders or passes them on its way to files."""
    onward = entry.flags & EVERYTHING_BELOW
    if entry.flags & NO_PROPAGATE_INHERIT:
        flags = 0
        if not onward & DIRECTORY_INHERIT:
            return None
    elif onward & DIRECTORY_INHERIT:
        flags = onward
    elif onward:
        flags = onward | INHERIT_ONLY
    else:
        return None
    return entry if entry.flags == flags | INHERITED else Entry(entry.type, entry.who, entry.mask, flags | INHERITED)


def files_of(entries: Sequence[Entry]) -> tuple[Entry, ...]:
    """The list of a file made in a folder with this list."""
    return tuple(came for entry in entries if (came := on_file(entry)) is not None)


def folders_of(entries: Sequence[Entry]) -> tuple[Entry, ...]:
    """The list of a folder made in a folder with this list."""
    return tuple(came for entry in entries if (came := on_folder(entry)) is not None)


def spelled(entries: Sequence[Entry], owner: str, group: str) -> tuple[Entry, ...]:
    """The same list with owner@ and group@ by name where they count here; what comes down for whoever owns a new thing stays.

    So a security descriptor has it: CREATOR OWNER and CREATOR GROUP (MS-DTYP, 2.4.2.4) are only ever inherited.
    """
    found = []
    for entry in entries:
        if entry.who not in (OWNER, GROUP):
            found.append(entry)
            continue
        if entry.counts_here:
            found.append(Entry(entry.type, owner if entry.who == OWNER else group, entry.mask, entry.flags & INHERITED))
        if entry.flags & EVERYTHING_BELOW:
            found.append(Entry(entry.type, entry.who, entry.mask, entry.flags | INHERIT_ONLY))
    return tuple(found)
