"""LDIF (RFC 2849): what a directory holds, as text. Content records are read; a list of changes is refused."""

import base64
import binascii
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from yardgate.core.model.directory import dn_parts
from yardgate.core.model.plan import LOCAL, Plan
from yardgate.formats.reading import FormatError

Attributes = Mapping[str, tuple[bytes, ...]]
_DESCRIPTION = re.compile(r"[A-Za-z0-9.][A-Za-z0-9.-]*(;[A-Za-z0-9=-]+)*\Z")  # RFC 2849: AttributeDescription


OF_THE_SEARCH = ("ref", "search", "result")
"""How what a searching program says of its search begins: where else to look, and how it ended (RFC 4511 sections 4.5.2 and 4.5.3)."""


class LdifEntry(NamedTuple):
    """One entry. attributes: by name in lower case, options after a semicolon, values as bytes. line: where it begins."""

    dn: str
    attributes: Attributes
    line: int | None = None


def read(content: bytes) -> Iterator[LdifEntry]:
    """The entries of an LDIF file, one after the other. Raises FormatError with line and column."""
    first = True
    for start, lines in _records(content):
        if first and lines[0][1].lower().startswith(b"version:"):
            number, line = lines.pop(0)
            if line[8:].strip() != b"1":
                raise FormatError(
                    f"LDIF version {line[8:].strip().decode('ascii', 'replace')} is not known; this is about version 1",
                    number,
                    9,
                )
        first = False
        if lines and _line(*lines[0])[0] not in OF_THE_SEARCH:
            yield _entry(start, lines)


def _records(content: bytes) -> Iterator[tuple[int, list[tuple[int, bytes]]]]:
    """(line it begins in, its lines unfolded and without comments) of each block between empty lines."""
    block: list[tuple[int, bytes]] = []
    comment = False
    for number, raw in enumerate(content.removeprefix(b"\xef\xbb\xbf").split(b"\n"), 1):
        line = raw.removesuffix(b"\r")
        if b"\0" in line:
            raise FormatError("a NUL character; this does not look like a text file", number, line.index(b"\0") + 1)
        if line.startswith(b" "):  # RFC 2849, note 2: a line that begins with a space goes on with the one before
            if comment:
                continue
            if not block:
                raise FormatError(
                    "the line begins with a space, and there is no line before that it could go on with", number, 1
                )
            block[-1] = (block[-1][0], block[-1][1] + line[1:])
            continue
        comment = line.startswith(b"#")
        if not line and block:
            yield block[0][0], block
            block = []
        elif line and not comment:
            block.append((number, line))
    if block:
        yield block[0][0], block


def _entry(start: int, lines: list[tuple[int, bytes]]) -> LdifEntry:
    name, value = _line(*lines[0])
    if name != "dn":
        raise FormatError(f"an entry must begin with dn:, here it begins with {name}:", start, 1)
    dn = _text(value, lines[0][0])
    try:
        dn_parts(dn)
    except ValueError as error:
        raise FormatError(str(error), start, 5) from None
    found: dict[str, list[bytes]] = {}
    for number, line in lines[1:]:
        name, value = _line(number, line)
        if name in ("changetype", "control"):
            raise FormatError(
                f"{name}: this is a list of changes; what is needed is what the directory holds, as slapcat or ldapsearch write it",
                number,
                1,
            )
        if name == "dn":
            raise FormatError("a second dn: in one entry; an empty line must stand between entries", number, 1)
        found.setdefault(name, []).append(value)
    return LdifEntry(dn, {name: tuple(values) for name, values in found.items()}, start)


def _line(number: int, line: bytes) -> tuple[str, bytes]:
    """Attribute, in lower case, and value of a line."""
    head, colon, rest = line.partition(b":")
    name = head.decode("ascii", "replace")
    if not colon:
        raise FormatError("there is no colon; a line is attribute: value", number, len(name) + 1)
    if not _DESCRIPTION.match(name):
        raise FormatError(f"{name[:40]!r} is not a name of an attribute", number, 1)
    if rest.startswith(b"<"):
        raise FormatError(
            "the value is kept at a URL; values are not fetched from anywhere, write it into the file",
            number,
            len(head) + 2,
        )
    if rest.startswith(b":"):
        try:
            return name.lower(), base64.b64decode(rest[1:].strip(b" "), validate=True)
        except binascii.Error as error:
            raise FormatError(f"the value is not base64: {error}", number, len(head) + 3) from None
    return name.lower(), rest.lstrip(b" ")


def _text(value: bytes, number: int) -> str:
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError as error:
        raise FormatError(f"byte 0x{value[error.start]:02x} is not UTF-8 text", number, error.start + 1) from None


# --- writing ----------------------------------------------------------------------------------------------------------


def write(entries: Iterable[tuple[str, Mapping[str, Iterable[bytes]]]]) -> str:
    """Entries as LDIF, lines folded at 76 characters, values in base64 where RFC 2849 asks for it."""
    out = ["version: 1", ""]
    for dn, attributes in entries:
        out += _folded("dn", dn.encode())
        for name, values in attributes.items():
            for value in values:
                out += _folded(name, value)
        out.append("")
    return "\n".join(out)


def _folded(name: str, value: bytes) -> Iterator[str]:
    safe = all(0 < byte < 128 and byte not in b"\r\n" for byte in value)
    plain = safe and not value.startswith((b" ", b":", b"<")) and not value.endswith(b" ")
    line = f"{name}: {value.decode()}" if plain else f"{name}:: {base64.b64encode(value).decode()}"
    yield line[:76]
    yield from (" " + line[at : at + 75] for at in range(76, len(line), 75))


def escaped(value: str) -> str:
    """A value as it stands in a distinguished name (RFC 4514 section 2.4)."""
    text = "".join(
        "\\" + char if char in '"+,;<>\\=' else f"\\{ord(char):02x}" if char == "\0" else char for char in value
    )
    if text.startswith((" ", "#")):
        text = "\\" + text
    return text[:-1] + "\\ " if text.endswith(" ") and not text.endswith("\\ ") else text


def local_accounts(plan: Plan) -> str:
    """The plan's local people and groups as posixAccount and posixGroup (RFC 2307 section 4), those with a number, below a
    top entry named after the appliance.

    A group's members are its users, those of groups in it included, since memberUid has no other way to say it.
    """
    base = f"o={escaped(plan.name)}"
    users = [user for user in plan.users.values() if user.origin == LOCAL and user.uid is not None]
    groups = [group for group in plan.groups.values() if group.origin == LOCAL and group.gid is not None]
    entries: list[tuple[str, dict[str, list[bytes]]]] = [
        (base, {"objectClass": [b"organization"], "o": [plan.name.encode()]})
    ]
    for unit in ("people", "groups"):
        entries.append((f"ou={unit},{base}", {"objectClass": [b"organizationalUnit"], "ou": [unit.encode()]}))
    for user in sorted(users, key=lambda user: user.name):
        primary = plan.groups[user.primary_group].gid if user.primary_group is not None else None
        shown = user.full_name or user.name
        entries.append(
            (
                f"uid={escaped(user.name)},ou=people,{base}",
                {
                    "objectClass": [b"inetOrgPerson", b"posixAccount"]
                    if user.kind == "person"
                    else [b"account", b"posixAccount"],
                    "uid": [user.name.encode()],
                    "cn": [shown.encode()],
                    **({"sn": [shown.split()[-1].encode()]} if user.kind == "person" else {}),
                    "uidNumber": [str(user.uid).encode()],
                    "gidNumber": [str(user.uid if primary is None else primary).encode()],
                    "homeDirectory": [b"/nonexistent"],
                },
            )
        )
    for group in sorted(groups, key=lambda group: group.name):
        names = sorted(plan.users[who].name for who in _users_in(plan, group.id) if plan.users[who].origin == LOCAL)
        entries.append(
            (
                f"cn={escaped(group.name)},ou=groups,{base}",
                {
                    "objectClass": [b"posixGroup"],
                    "cn": [group.name.encode()],
                    "gidNumber": [str(group.gid).encode()],
                    "memberUid": [name.encode() for name in names],
                },
            )
        )
    return write(entries)


def _users_in(plan: Plan, group: str) -> set[str]:
    found: set[str] = set()
    stack, seen = [group], {group}
    while stack:
        for member in plan.groups[stack.pop()].members:
            if member in plan.users:
                found.add(member)
            elif member not in seen:
                seen.add(member)
                stack.append(member)
    return found
