"""Rights, and the levels that they amount to.

Rights are the bits of the NFSv4 access mask (RFC 8881, 6.2.1.3.1), one word everywhere: in a plan, in a list of any style,
in a result. A level is what people call a set of rights on a folder and on an ordinary file in it.
"""

from enum import StrEnum
from typing import NamedTuple

READ_DATA = LIST_DIRECTORY = 0x1
WRITE_DATA = ADD_FILE = 0x2
APPEND_DATA = ADD_SUBDIRECTORY = 0x4
READ_NAMED_ATTRS = 0x8
WRITE_NAMED_ATTRS = 0x10
EXECUTE = 0x20
DELETE_CHILD = 0x40
READ_ATTRIBUTES = 0x80
WRITE_ATTRIBUTES = 0x100
DELETE = 0x1_0000
READ_ACL = 0x2_0000
WRITE_ACL = 0x4_0000
WRITE_OWNER = 0x8_0000
SYNCHRONIZE = 0x10_0000

STRICT = {"extra": "forbid"}  # for whoever reads the plan's classes from outside: an unknown field is an error

# What the levels are written as in a list.
PASS = EXECUTE | READ_ATTRIBUTES | SYNCHRONIZE
READ = PASS | READ_DATA | READ_NAMED_ATTRS | READ_ACL
CHANGE = WRITE_DATA | APPEND_DATA | WRITE_NAMED_ATTRS | WRITE_ATTRIBUTES | DELETE_CHILD | DELETE
WRITE = READ | CHANGE
FULL = WRITE | WRITE_ACL | WRITE_OWNER

APART = 0x8000_0000
"""Not a right: marks that reading and writing a file are both allowed, but not in one opening, as a POSIX list may say
(acl(5), access check algorithm: one group entry must hold all that is asked for)."""

LETTERS = {
    "r": READ_DATA,
    "w": WRITE_DATA,
    "a": APPEND_DATA,
    "D": DELETE_CHILD,
    "d": DELETE,
    "x": EXECUTE,
    "t": READ_ATTRIBUTES,
    "T": WRITE_ATTRIBUTES,
    "n": READ_NAMED_ATTRS,
    "N": WRITE_NAMED_ATTRS,
    "c": READ_ACL,
    "C": WRITE_ACL,
    "o": WRITE_OWNER,
    "y": SYNCHRONIZE,
}
"""The letters of nfs4_acl(5), in the order in which they are written."""


class Level(StrEnum):
    """NA (may not enter) < PT (may pass through) < RO (may read) < RW (may read and change).

    The letters happen to sort in that order, so comparing levels as text compares what they allow; a test holds it.
    """

    NA = "NA"
    PT = "PT"
    RO = "RO"
    RW = "RW"

    __hash__ = str.__hash__  # an enum's own is slow, and lists of grants are looked up by the ten thousand

    @property
    def code(self) -> int:
        """0 to 3, the value that stands for this level in a matrix of uint8."""
        return LEVELS.index(self)

    @property
    def words(self) -> str:
        return WORDS[self]


LEVELS = (Level.NA, Level.PT, Level.RO, Level.RW)
GRANTABLE = (Level.NA, Level.RO, Level.RW)
WORDS = {Level.NA: "no access", Level.PT: "pass through", Level.RO: "read-only", Level.RW: "read-write"}
MASK_OF = {Level.NA: 0, Level.PT: PASS, Level.RO: READ, Level.RW: WRITE}


class Rights(NamedTuple):
    """What somebody may do with a folder, and with an ordinary file in it: two access masks, perhaps with APART."""

    folder: int
    file: int


NOTHING = Rights(0, 0)
EVERYTHING = Rights(FULL, FULL)

ADDS = ADD_FILE | ADD_SUBDIRECTORY
EDITS = READ_DATA | WRITE_DATA | APPEND_DATA


def may_delete(rights: Rights) -> bool:
    """Whether an ordinary file here can be deleted: by a right on it or by one on its folder (RFC 8881, 6.2.1.3.2)."""
    return bool(rights.file & DELETE or rights.folder & DELETE_CHILD)


def level(rights: Rights, *, traverse_checked: bool = True) -> Level:
    """The level that rights amount to. `traverse_checked`: whether entering a folder needs EXECUTE on it."""
    folder, file = rights
    enters = bool(folder & EXECUTE) or not traverse_checked
    if not (enters and folder & LIST_DIRECTORY and file & READ_DATA):
        return Level.PT if folder & EXECUTE else Level.NA
    changes = folder & ADDS == ADDS and may_delete(rights) and file & EDITS == EDITS and not file & APART
    return Level.RW if changes else Level.RO


def odd(rights: Rights, *, traverse_checked: bool = True) -> bool:
    """Whether rights are not one of the usual sets: more than their level says, but not enough for the next."""
    folder, file = rights
    changing = folder & ADDS or may_delete(rights) or file & (WRITE_DATA | APPEND_DATA)
    match level(rights, traverse_checked=traverse_checked):
        case Level.RW:
            return False
        case Level.RO:
            return bool(changing)
        case Level.PT:
            return bool(changing or file & READ_DATA)
        case Level.NA:
            return bool(changing or file & READ_DATA or folder & LIST_DIRECTORY)


def keeper(rights: Rights) -> bool:
    """Whether somebody may change the list or the owner of the folder, and so help themselves to everything else."""
    return bool(rights.folder & (WRITE_ACL | WRITE_OWNER))


def letters(mask: int) -> str:
    """An access mask as nfs4_acl(5) writes it."""
    return "".join(letter for letter, bit in LETTERS.items() if mask & bit)
