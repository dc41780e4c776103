"""A joined directory: its settings, what it says of its accounts, and how these name each other.

What is read are records: an account each, with the names by which it calls others (a distinguished name, a sign-in name, a
SID, a number). `linked` finds out who is meant. It looks at records alone, never at how they came, so that reading
everything and reading what has changed give the same.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Literal, NamedTuple

from yardgate.core.acl.rights import STRICT

Schema = Literal["ad", "rfc2307", "rfc2307bis"]
Security = Literal["ldaps", "starttls", "plain"]
Numbering = Literal["offset", "directory", "table"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Server:
    """All that decides to whom a directory's password is sent, how, and whose it is: fields as of `Directory`."""

    __pydantic_config__ = STRICT
    domain: str
    controller: str | None
    security: Security
    fingerprint: str | None
    plain_agreed: bool
    reader: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Directory:
    """The settings of a joined directory. id: the `origin` of its accounts. name: its short name, as in NAME\\account.

    domain: its DNS name. controller: host or host:port; None is found by the domain's SRV record (RFC 2782). fingerprint:
    SHA-256 of the one certificate that is accepted, in hexadecimal; None asks for one that the system trusts. plain_agreed:
    that passwords go in plain text was said a second time. reader: the account to read with; empty reads without one.
    base, branches: where accounts are looked for (branches: only there). filter: a further condition (RFC 4515).
    users, groups, services: what comes in. numbering, low, high: how accounts get uid and gid, and in which range.
    next: the lowest number of a kept table that nobody has had.
    """

    __pydantic_config__ = STRICT
    id: str
    name: str
    domain: str
    schema: Schema = "ad"
    controller: str | None = None
    security: Security = "ldaps"
    fingerprint: str | None = None
    plain_agreed: bool = False
    reader: str = ""
    base: str = ""
    branches: tuple[str, ...] = ()
    filter: str = ""
    users: bool = True
    groups: bool = True
    services: bool = True
    numbering: Numbering = "offset"
    low: int = 100_000
    high: int = 999_999
    next: int | None = None

    @property
    def server(self) -> Server:
        return Server(
            domain=self.domain,
            controller=self.controller,
            security=self.security,
            fingerprint=self.fingerprint,
            plain_agreed=self.plain_agreed,
            reader=self.reader,
        )

    @property
    def takes_branches(self) -> tuple[str, ...]:
        return self.branches or (self.base,)


AccountKind = Literal["person", "service", "group"]


class Ref(NamedTuple):
    """How one account names another: by distinguished name, by sign-in name, by SID, or by gid."""

    by: Literal["dn", "name", "sid", "gid"]
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AccountRecord:
    """What a directory says of one account.

    key: objectSid or entryUUID, by which it is followed. sid: where it has one. number: its uidNumber or gidNumber.
    primary: how its primary group is named. members: whom a group names. mail_only: a group that gives nobody anything.
    """

    __pydantic_config__ = STRICT
    key: str
    dn: str
    kind: AccountKind
    name: str
    full_name: str = ""
    aliases: tuple[str, ...] = ()
    enabled: bool = True
    expires: date | None = None
    sid: str | None = None
    number: int | None = None
    primary: Ref | None = None
    members: tuple[Ref, ...] = ()
    mail_only: bool = False


Records = Mapping[str, AccountRecord]


@dataclass(frozen=True, slots=True)
class Copy:
    """All records of a directory at one time (ISO 8601). full: whether all were read anew. marker: where the next reading of
    changes goes on from; None where it cannot."""

    records: Records
    marker: str | None
    at: str
    full: bool = True


class Linked(NamedTuple):
    """An account with those whom it names found: keys. unknown: members whom the directory's accounts do not have."""

    record: AccountRecord
    primary: str | None
    members: frozenset[str]
    unknown: tuple[str, ...]


def linked(directory: Directory, records: Iterable[AccountRecord]) -> Mapping[str, Linked]:
    """Key -> account, for all that comes in. Groups for mail only do not count, nor does what is nested through them."""
    wanted = {"person": directory.users, "service": directory.services, "group": directory.groups}
    counted: list[AccountRecord] = []
    left_out: list[AccountRecord] = []
    for record in records:
        (counted if wanted[record.kind] and not record.mail_only else left_out).append(record)
    at: dict[Ref, str] = {}
    by_key = sorted(counted, key=lambda record: record.key)
    for known in (_known_as, _also_known_as):  # of two with one name, the first by key
        for record in by_key:
            for ref in known(record):
                at.setdefault(ref, record.key)
    aside = {ref for record in left_out for ref in _known_as(record)}
    found = {}
    for record in counted:
        refs = [_comparable(ref) for ref in record.members]
        members = frozenset(at[ref] for ref in refs if ref in at) - {record.key}
        unknown = tuple(
            said.text for said, ref in zip(record.members, refs, strict=True) if ref not in at and ref not in aside
        )
        primary = None if record.primary is None else at.get(_comparable(record.primary))
        found[record.key] = Linked(record, primary, members, unknown)
    return found


def _known_as(record: AccountRecord) -> Iterable[Ref]:
    yield Ref("dn", same_dn(record.dn))
    if record.sid is not None:
        yield Ref("sid", record.sid)
    if record.kind == "group":
        if record.number is not None:
            yield Ref("gid", str(record.number))
    else:
        yield Ref("name", record.name)  # RFC 2307, memberUid: an exact match (caseExactIA5Match)


def _also_known_as(record: AccountRecord) -> Iterable[Ref]:
    return (Ref("name", alias) for alias in record.aliases if record.kind != "group")


def _comparable(ref: Ref) -> Ref:
    return Ref("dn", same_dn(ref.text)) if ref.by == "dn" else ref


def rid_of(sid: str) -> int | None:
    """The relative identifier, the last part of a SID of a domain (MS-DTYP 2.4.2); None for well-known and built-in ones."""
    parts = sid.split("-")
    return int(parts[-1]) if sid.startswith("S-1-5-21-") and len(parts) == 8 else None


# --- distinguished names ----------------------------------------------------------------------------------------------


def dn_parts(dn: str) -> tuple[tuple[str, str], ...]:
    """(type, value) of each part of a distinguished name, the innermost first, escapes taken away (RFC 4514 section 3).

    Parts of several values (joined by +) are kept as one, their values joined in order. Raises ValueError.
    """
    parts: list[tuple[str, str]] = []
    for raw in _split(dn, ",") if dn.strip() else ():
        pairs = []
        for pair in _split(raw, "+"):
            kind, equals, value = pair.partition("=")
            if not equals or not kind.strip():
                raise ValueError(f"{pair.strip()!r} is not a part of a distinguished name; it needs name=value")
            pairs.append((kind.strip().lower(), _unescaped(value)))
        pairs.sort()
        parts.append(("+".join(kind for kind, _ in pairs), "+".join(value for _, value in pairs)))
    return tuple(parts)


def same_dn(dn: str) -> str:
    """A text that is equal for equal distinguished names: caseIgnoreMatch, as all naming attributes in use have."""
    try:
        return "\0".join(f"{kind}={' '.join(value.casefold().split())}" for kind, value in dn_parts(dn))
    except ValueError:
        return dn.casefold()


def within_dn(dn: str, branch: str) -> bool:
    """Whether an entry lies in a branch, or is its top."""
    inner, outer = same_dn(dn).split("\0"), same_dn(branch).split("\0")
    return not branch or inner[-len(outer) :] == outer


def _split(text: str, at: str) -> list[str]:
    """Cut at a character that is not escaped nor within quotes (RFC 2253 section 4 allows those)."""
    if "\\" not in text and '"' not in text:
        return text.split(at)
    found, start, escaped, quoted = [], 0, False, False
    for i, char in enumerate(text):
        if escaped:
            escaped = False
        elif char == "\\":
            escaped = True
        elif char == '"':
            quoted = not quoted
        elif char == at and not quoted:
            found.append(text[start:i])
            start = i + 1
    return [*found, text[start:]]


def _unescaped(value: str) -> str:
    """The value that a distinguished name writes: \\2C, \\, and quotes taken away, spaces around it too."""
    text = value.lstrip(" ")
    while text.endswith(" ") and not text.endswith("\\ "):
        text = text[:-1]
    if len(text) >= 2 and text[0] == text[-1] == '"':
        text = text[1:-1]
    if "\\" not in text:
        return text
    out = bytearray()
    i = 0
    while i < len(text):
        if text[i] == "\\" and i + 1 < len(text):
            pair = text[i + 1 : i + 3]
            if len(pair) == 2 and all(char in "0123456789abcdefABCDEF" for char in pair):
                out.append(int(pair, 16))
                i += 3
                continue
            i += 1
        out += text[i].encode()
        i += 1
    return out.decode("utf-8", "replace")
