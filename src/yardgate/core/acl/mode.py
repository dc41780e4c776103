"""Mode bits: owner, group, others (inode(7)). The same as a POSIX list of three entries, so it is read as one."""

from collections.abc import Set
from dataclasses import dataclass
from typing import Literal

from yardgate.core.acl.posix import PosixEntry, whole
from yardgate.core.acl.rights import STRICT

SETGID, STICKY = 0o2000, 0o1000
MODE = 0o7777


@dataclass(frozen=True, slots=True)
class Mode:
    """A folder's mode, setgid and sticky bit included; None leaves it to what is granted, or to what comes down."""

    __pydantic_config__ = STRICT
    bits: int | None = None
    style: Literal["mode"] = "mode"

    @property
    def whos(self) -> frozenset[str]:
        """It names nobody."""
        return frozenset()

    def without(self, _: Set[str]) -> "Mode":
        return self

    def also(self, _like: str, _new: str) -> "Mode":
        return self


def entries_of(bits: int) -> tuple[PosixEntry, ...]:
    """Mode bits as the POSIX list that says the same."""
    return whole((), bits & 0o777)


def bits_of(entries: tuple[PosixEntry, ...]) -> int:
    """The nine mode bits that show for a POSIX list: the mask, where there is one, stands in the group's place (acl(5))."""
    by_key = {(entry.tag, entry.who): entry.perms for entry in entries}
    group = by_key.get(("mask", ""), by_key["group", ""])
    return by_key["user", ""] << 6 | group << 3 | by_key["other", ""]


def words(bits: int) -> str:
    """A mode as ls(1) shows it, for a folder: rwxrwsr-t."""
    found = [letter if bits >> (8 - at) & 1 else "-" for at, letter in enumerate("rwxrwxrwx")]
    if bits & SETGID:
        found[5] = "s" if bits & 0o010 else "S"
    if bits & STICKY:
        found[8] = "t" if bits & 0o001 else "T"
    return "".join(found)
