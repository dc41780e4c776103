"""POSIX lists: POSIX.1e draft 17 as Linux has it (acl(5)).

A request asks for some of read, write and execute at once. The owner's entry decides for the owner; else a named user's
entry, masked; else, if any group entry matches, one of them must hold all that is asked for, masked; else the others' entry.
"""

from collections.abc import Collection, Iterable, Sequence, Set
from dataclasses import dataclass, replace
from typing import Literal

from yardgate.core.acl.rights import (
    ADDS,
    APART,
    APPEND_DATA,
    DELETE_CHILD,
    EXECUTE,
    LIST_DIRECTORY,
    READ_ACL,
    READ_ATTRIBUTES,
    READ_DATA,
    READ_NAMED_ATTRS,
    STRICT,
    SYNCHRONIZE,
    WRITE_ACL,
    WRITE_ATTRIBUTES,
    WRITE_DATA,
    WRITE_NAMED_ATTRS,
    Rights,
)

R, W, X = 4, 2, 1
RWX = R | W | X

Tag = Literal["user", "group", "mask", "other"]
TAGS: tuple[Tag, ...] = ("user", "group", "mask", "other")
BASE: tuple[tuple[Tag, str], ...] = (("user", ""), ("group", ""), ("other", ""))


@dataclass(frozen=True, slots=True)
class PosixEntry:
    """`tag:who:perms`, as setfacl(1) writes it; who is empty for owner, owning group, mask and others. perms: 0 to 7."""

    __pydantic_config__ = STRICT
    tag: Tag
    who: str
    perms: int


@dataclass(frozen=True, slots=True)
class Posix:
    """A list, and the default list for what is made inside, if there is one. Entries left out come down from above."""

    __pydantic_config__ = STRICT
    access: tuple[PosixEntry, ...] = ()
    default: tuple[PosixEntry, ...] | None = None
    setgid: bool = False
    sticky: bool = False
    style: Literal["posix"] = "posix"

    @property
    def whos(self) -> frozenset[str]:
        """Ids that it names."""
        return frozenset(entry.who for entry in (*self.access, *(self.default or ())) if entry.who)

    def without(self, gone: Set[str]) -> "Posix":
        """The same without the entries of some."""
        kept = None if self.default is None else tuple(entry for entry in self.default if entry.who not in gone)
        return replace(self, access=tuple(entry for entry in self.access if entry.who not in gone), default=kept)

    def also(self, like: str, new: str) -> "Posix":
        """The same with `new` named as `like` is."""

        def named(entries: Sequence[PosixEntry]) -> tuple[PosixEntry, ...]:
            return (*entries, *(replace(entry, who=new) for entry in entries if entry.who == like))

        return replace(self, access=named(self.access), default=None if self.default is None else named(self.default))


def whole(entries: Sequence[PosixEntry], perms: int = 0o700) -> tuple[PosixEntry, ...]:
    """A list made valid and put in order: what it lacks of the three base entries from `perms`, and a mask where it needs one.

    A mask left out lets everything through. (setfacl(1) would take the union of what it covers, which comes to the same,
    except where that is nothing: see `matching`.)
    """
    found = {(entry.tag, entry.who): entry for entry in entries}
    for shift, (tag, who) in zip((6, 3, 0), BASE, strict=True):
        found.setdefault((tag, who), PosixEntry(tag, who, perms >> shift & 7))
    if any(entry.who for entry in found.values()) and ("mask", "") not in found:
        found["mask", ""] = PosixEntry("mask", "", RWX)
    return in_order(found.values())


def in_order(entries: Iterable[PosixEntry]) -> tuple[PosixEntry, ...]:
    """Entries as a list has them: by tag, and of one tag by who."""
    return tuple(sorted(entries, key=lambda entry: (TAGS.index(entry.tag), entry.who)))


def merged(upper: Sequence[PosixEntry], lower: Sequence[PosixEntry]) -> tuple[PosixEntry, ...]:
    """Both lists' entries; where both have one for the same who, the upper one's. A lower mask, made for others, is left out."""
    if not upper:
        return tuple(lower)
    own = {(entry.tag, entry.who) for entry in upper}
    return (*upper, *(e for e in lower if (e.tag, e.who) not in own and e.tag != "mask"))


def mask_of(entries: Iterable[PosixEntry]) -> int:
    """What the mask lets through; everything where there is none."""
    return next((entry.perms for entry in entries if entry.tag == "mask"), RWX)


def matching(
    entries: Sequence[PosixEntry], names: Collection[str], owner: bool, in_group: bool
) -> tuple[PosixEntry, ...]:
    """The entries that decide for somebody, masked; one, or the group entries that match, of which one must hold all asked for.

    `names`: the ids that they go by; `owner`: they own the thing; `in_group`: they are in its owning group. With an empty
    mask, Linux does not look at the list at all but at the mode, where the mask stands for the group, so that those named
    are treated as others (linux/fs/namei.c, acl_permission_check).
    """
    by_key = {(entry.tag, entry.who): entry for entry in entries}
    mask = mask_of(entries)
    if owner:
        return (by_key["user", ""],)
    if not mask:
        return (by_key["mask", ""] if in_group else by_key["other", ""],)
    for entry in entries:
        if entry.tag == "user" and entry.who and entry.who in names:
            return (PosixEntry(entry.tag, entry.who, entry.perms & mask),)
    groups = [e for e in entries if e.tag == "group" and (e.who in names if e.who else in_group)]
    return tuple(PosixEntry(e.tag, e.who, e.perms & mask) for e in groups) or (by_key["other", ""],)


def told(entries: Sequence[PosixEntry], names: Collection[str], owner: bool, in_group: bool) -> int:
    """What the list gives somebody as an SMB server tells it to clients: all that any entry which concerns them allows.

    In that telling nothing is decided by the first entry that matches, and what others get everybody gets.
    """
    mask = mask_of(entries)
    found = 0
    for entry in entries:
        match entry.tag:
            case "user" if not entry.who:
                found |= entry.perms if owner else 0
            case "user" | "group":
                concerned = entry.who in names if entry.who else in_group
                found |= entry.perms & mask if concerned else 0
            case "other":
                found |= entry.perms
    return found


def permits(deciding: Sequence[PosixEntry], request: int) -> bool:
    """Whether one of the deciding entries holds all that is asked for at once."""
    return any(entry.perms & request == request for entry in deciding)


def rights_on_folder(deciding: Sequence[PosixEntry], owner: bool, sticky: bool = False) -> int:
    """The deciding entries as rights on a folder. Adding and deleting need write and execute at once (path_resolution(7)).

    In a sticky folder only the owner of folder or thing deletes; an ordinary file has the folder's owner.
    """
    given = READ_ATTRIBUTES | READ_ACL | SYNCHRONIZE | (WRITE_ACL | WRITE_ATTRIBUTES if owner else 0)
    if permits(deciding, R):
        given |= LIST_DIRECTORY | READ_NAMED_ATTRS
    if permits(deciding, W):
        given |= WRITE_ATTRIBUTES | (0 if sticky and not owner else WRITE_NAMED_ATTRS)
    if permits(deciding, X):
        given |= EXECUTE
    if permits(deciding, W | X):
        given |= ADDS | (0 if sticky and not owner else DELETE_CHILD)
    return given


def rights_on_file(deciding: Sequence[PosixEntry], owner: bool) -> int:
    """The deciding entries as rights on a file. There is no right to delete a file: its folder decides."""
    given = READ_ATTRIBUTES | READ_ACL | SYNCHRONIZE | (WRITE_ACL | WRITE_ATTRIBUTES if owner else 0)
    if permits(deciding, R):
        given |= READ_DATA | READ_NAMED_ATTRS
    if permits(deciding, W):
        given |= WRITE_DATA | APPEND_DATA | WRITE_NAMED_ATTRS | WRITE_ATTRIBUTES
    if permits(deciding, X):
        given |= EXECUTE
    if permits(deciding, R) and permits(deciding, W) and not permits(deciding, R | W):
        given |= APART
    return given


def allowed(
    access: Sequence[PosixEntry],
    file: Sequence[PosixEntry],
    names: Collection[str],
    *,
    owner: bool,
    in_group: bool,
    sticky: bool = False,
) -> Rights:
    """The rights that somebody has on a folder with one list and on an ordinary file in it with another."""
    return Rights(
        rights_on_folder(matching(access, names, owner, in_group), owner, sticky),
        rights_on_file(matching(file, names, owner, in_group), owner),
    )


def created(entries: Sequence[PosixEntry], mode: int) -> tuple[PosixEntry, ...]:
    """The list of a thing made with `mode` in a folder with this default list (acl(5), object creation)."""
    has_mask = any(entry.tag == "mask" for entry in entries)
    limits = {("user", ""): mode >> 6, ("mask" if has_mask else "group", ""): mode >> 3, ("other", ""): mode}
    return tuple(PosixEntry(e.tag, e.who, e.perms & limits.get((e.tag, e.who), RWX) & RWX) for e in entries)


def base(entries: Sequence[PosixEntry]) -> tuple[PosixEntry, ...]:
    """Owner, owning group and others alone: what comes down where there is no default list."""
    return tuple(entry for entry in entries if (entry.tag, entry.who) in BASE)


def file_in(access: Sequence[PosixEntry], default: Sequence[PosixEntry] | None) -> tuple[PosixEntry, ...]:
    """The list of an ordinary file in a folder: its default list, or its base entries, without execute."""
    return created(base(access) if default is None else default, 0o666)
