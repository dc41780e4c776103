"""Ordered lists as a Linux host's SMB server keeps them beside a folder: a security descriptor (MS-DTYP, 2.4.6) in an extended attribute.

Rights and flags are those of the ordered list, bit for bit; who's are SIDs. Accounts of the host go by the SIDs that every such
server gives to Unix accounts, S-1-22-1-uid and S-1-22-2-gid, which need no server to be asked.
"""

import struct
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from yardgate.core.acl import Entry, Ordered
from yardgate.core.acl.nfs4 import FLAGS, GROUP, INHERITED, OWNER
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import Folder
from yardgate.core.model.plan import EVERYONE
from yardgate.formats.reading import FormatError
from yardgate.formats.sid import sid_bytes, sid_text

ATTRIBUTE = "security.NTACL"
KNOWN = {
    EVERYONE: "S-1-1-0",
    OWNER: "S-1-3-0",
    GROUP: "S-1-3-1",
}  # MS-DTYP, 2.4.2.4: EVERYONE, CREATOR_OWNER, CREATOR_GROUP
SPECIAL = {sid: who for who, sid in KNOWN.items()}
UNIX_USER, UNIX_GROUP = "S-1-22-1-", "S-1-22-2-"
UNIX = {UNIX_USER: "passwd", UNIX_GROUP: "group"}
"""How the SIDs of the host's own accounts begin, and the database of getent(1) in which the number after it is looked up."""
ALLOWED, DENIED = 0, 1  # ACE types (MS-DTYP, 2.4.4.1)
INHERITED_ACE = 0x10
SELF_RELATIVE, PROTECTED, PRESENT = 0x8000, 0x1000, 0x0004  # control bits (MS-DTYP, 2.4.6): the list stands alone
UNIX_SID = 16  # bytes
HEAD = 8  # bytes before the descriptor; its offsets count from before them


class Piece(NamedTuple):
    """A part of a descriptor. kind hex: bytes in hexadecimal; passwd or group: whose number there (in four bytes) belongs there."""

    kind: str
    said: str


def pieces(folder: Folder) -> tuple[Piece, ...]:
    """The value of the attribute for a folder with an ordered list: its version, 1, and the descriptor."""
    assert isinstance(folder.listed, Ordered)
    aces = [(entry, _size(entry.who)) for entry in folder.listed.entries]
    length = 8 + sum(8 + size for _, size in aces)
    owner, group = HEAD + 20, HEAD + 20 + UNIX_SID
    head = struct.pack("<HHI", 1, 1, 0x20000)
    head += struct.pack("<BBHIIII", 1, 0, SELF_RELATIVE | PROTECTED | PRESENT, owner, group, 0, group + UNIX_SID)
    found = [Piece("hex", head.hex()), *_sid(folder.owner), *_sid(f"{GROUP_MARK}{folder.group}")]
    found.append(Piece("hex", struct.pack("<BBHHH", 2, 0, length, len(aces), 0).hex()))
    for entry, size in aces:
        flags = entry.flags & FLAGS | (INHERITED_ACE if entry.flags & INHERITED else 0)
        kind = ALLOWED if entry.type == "allow" else DENIED
        found += [Piece("hex", struct.pack("<BBHI", kind, flags, 8 + size, entry.mask).hex()), *_sid(entry.who)]
    return tuple(_joined(found))


def _size(who: str) -> int:
    return len(sid_bytes(KNOWN.get(who, who))) if who in KNOWN or who.startswith("S-1-") else UNIX_SID


def _sid(who: str) -> Iterator[Piece]:
    if who in KNOWN or who.startswith("S-1-"):
        yield Piece("hex", sid_bytes(KNOWN.get(who, who)).hex())
        return
    of, name = UNIX_GROUP if who.startswith(GROUP_MARK) else UNIX_USER, who.removeprefix(GROUP_MARK)
    if name.isdigit():  # a number that is nobody's
        yield Piece("hex", sid_bytes(f"{of}{name}").hex())
        return
    yield Piece("hex", sid_bytes(f"{of}0")[:-4].hex())
    yield Piece(UNIX[of], who.removeprefix(GROUP_MARK))


def _joined(found: Iterable[Piece]) -> Iterator[Piece]:
    run = ""
    for piece in found:
        if piece.kind == "hex":
            run += piece.said
            continue
        yield Piece("hex", run)
        run = ""
        yield piece
    if run:
        yield Piece("hex", run)


class DescriptorList(NamedTuple):
    """Owner, owning group and list of a descriptor, each as `name` calls it."""

    owner: str
    group: str
    listed: Ordered


def sids(value: bytes) -> frozenset[str]:
    """All whom the attribute of a folder names. Raises FormatError."""
    found: set[str] = set()
    read(value, lambda sid: found.add(sid) or sid)  # type: ignore[func-returns-value]
    return frozenset(found)


def read(value: bytes, name: Callable[[str], str]) -> DescriptorList:
    """What the attribute of a folder says. name: SID -> who. Raises FormatError for what is no such value or says more than a list can."""
    try:
        return _read(value, _start(value), name)
    except (struct.error, IndexError):
        raise FormatError("the descriptor is cut off") from None


def _start(value: bytes) -> int:
    """Where the descriptor begins: after a hash of what was there before, which later versions keep (version 4 also when, and of what)."""
    (version,) = struct.unpack_from("<H", value)
    match version:
        case 1:
            return HEAD
        case 2:
            return 28
        case 3:
            return 80
        case 4:
            described = 78 + len(value[78:].partition(b"\0")[0]) + 1
            return -(-described // 4) * 4 + 8 + 64
    raise FormatError(f"version {version} of such an attribute is not known")


def _read(value: bytes, start: int, name: Callable[[str], str]) -> DescriptorList:
    _, _, control, owner, group, _, dacl = struct.unpack_from("<BBHIIII", value, start)
    if not control & SELF_RELATIVE or not dacl or not owner or not group:
        raise FormatError("the descriptor has no owner, group or list")
    _, _, _, number, _ = struct.unpack_from("<BBHHH", value, dacl)
    entries, at = [], dacl + 8
    for _ in range(number):
        kind, flags, size, mask = struct.unpack_from("<BBHI", value, at)
        if kind not in (ALLOWED, DENIED):
            raise FormatError(f"an entry of type {kind} is neither to allow nor to refuse")
        if size < 16:  # MS-DTYP 2.4.4.1: the head, the mask and a SID, which has eight bytes at least
            raise FormatError(f"an entry of {size} bytes is too short to be one")
        sid = _sid_at(value, at + 8)
        kept = flags & FLAGS | (INHERITED if flags & INHERITED_ACE else 0)
        entries.append(Entry("allow" if kind == ALLOWED else "deny", SPECIAL.get(sid) or name(sid), mask, kept))
        at += size
    called = name(_sid_at(value, group))
    return DescriptorList(name(_sid_at(value, owner)), called.removeprefix(GROUP_MARK), Ordered(tuple(entries)))


def _sid_at(value: bytes, at: int) -> str:
    found = sid_text(value[at : at + 8 + 4 * value[at + 1]])
    if found is None:
        raise FormatError("the descriptor names nobody where somebody should stand")
    return found
