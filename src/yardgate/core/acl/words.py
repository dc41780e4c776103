"""Rights, flags and styles in words: the one place that says what people call them, for sentences and for the interface (`tools.schemas`)."""

from typing import Literal

from yardgate.core.acl.nfs4 import (
    DIRECTORY_INHERIT,
    EVERYTHING_BELOW,
    FILE_INHERIT,
    FLAGS,
    INHERIT_ONLY,
    NO_PROPAGATE_INHERIT,
)
from yardgate.core.acl.rights import (
    APPEND_DATA,
    CHANGE,
    DELETE,
    DELETE_CHILD,
    EXECUTE,
    FULL,
    PASS,
    READ,
    READ_ACL,
    READ_ATTRIBUTES,
    READ_DATA,
    READ_NAMED_ATTRS,
    SYNCHRONIZE,
    WRITE,
    WRITE_ACL,
    WRITE_ATTRIBUTES,
    WRITE_DATA,
    WRITE_NAMED_ATTRS,
    WRITE_OWNER,
    letters,
)

Style = Literal["ordered", "posix", "mode"]
STYLES: dict[Style, str] = {"ordered": "ordered list", "posix": "POSIX list", "mode": "mode bits"}

ARTICLES: dict[Style, str] = {"ordered": "an ", "posix": "a ", "mode": ""}

RIGHTS = {
    READ_DATA: "reading files and listing folders",
    WRITE_DATA: "writing and adding files",
    APPEND_DATA: "appending and adding folders",
    EXECUTE: "entering folders and running files",
    DELETE_CHILD: "deleting what is inside",
    DELETE: "deleting the thing itself",
    READ_ATTRIBUTES: "reading attributes",
    WRITE_ATTRIBUTES: "writing attributes",
    READ_NAMED_ATTRS: "reading named attributes",
    WRITE_NAMED_ATTRS: "writing named attributes",
    READ_ACL: "reading the list",
    WRITE_ACL: "changing the list",
    WRITE_OWNER: "changing the owner",
    SYNCHRONIZE: "synchronizing",
}
"""Each right of an access mask, those asked for most first."""

SETS = {FULL: "everything", WRITE: "read-write", READ: "read-only", PASS: "pass through", CHANGE: "changing"}
"""The sets of rights that have a name, the largest first."""

WHERE = {
    EVERYTHING_BELOW: "this and everything below",
    0: "this folder only",
    EVERYTHING_BELOW | INHERIT_ONLY: "everything below",
    FILE_INHERIT: "this folder and files below",
    DIRECTORY_INHERIT: "this folder and folders below",
    FILE_INHERIT | INHERIT_ONLY: "files below",
    DIRECTORY_INHERIT | INHERIT_ONLY: "folders below",
    EVERYTHING_BELOW | NO_PROPAGATE_INHERIT: "this and what lies directly inside",
    EVERYTHING_BELOW | NO_PROPAGATE_INHERIT | INHERIT_ONLY: "what lies directly inside",
}
"""Where an entry counts, by its flags: those that people set, the commonest first."""


def rights(mask: int) -> str:
    """An access mask as people say it: the largest set with a name that is in it, and what is beyond; more than two rights beyond as letters."""
    known = mask if mask in SETS else next((one for one in SETS if one & mask == one != CHANGE), 0)
    beyond = mask & ~known
    single = [words for bit, words in RIGHTS.items() if beyond & bit]
    if len(single) > 2:
        single = [letters(beyond)]
    return " + ".join(filter(None, (SETS.get(known), *single))) or "nothing"


def where(flags: int) -> str:
    """Where an entry with these flags counts."""
    plain = flags & FLAGS
    if plain in WHERE:
        return WHERE[plain]
    parts = (
        "" if plain & INHERIT_ONLY else "this folder",
        "files" if plain & FILE_INHERIT else "",
        "folders" if plain & DIRECTORY_INHERIT else "",
    )
    said = ", ".join(filter(None, parts))
    return f"{said}, one level down" if said and plain & NO_PROPAGATE_INHERIT else said or "nowhere"


def rwx(perms: int) -> str:
    """Permissions of a POSIX entry as setfacl(1) writes them: r-x."""
    return "".join(letter if perms & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))
