"""An entry of a directory as a record, for each schema.

Active-Directory-compatible: MS-ADTS 2.2.16 (userAccountControl), 2.2.12 (groupType), MS-ADA1 (accountExpires,
primaryGroupID), MS-DTYP 2.4.2.2 (the bytes of a SID). LDAP: RFC 2307 section 4 and its draft successor (2307bis), RFC 4530
(entryUUID).
"""

from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, timedelta
from typing import NamedTuple

from yardgate.core.model.directory import AccountRecord, Directory, Ref, Schema, dn_parts, same_dn, within_dn
from yardgate.formats.ldif import Attributes, LdifEntry
from yardgate.formats.sid import sid_text


class Shape(NamedTuple):
    """What is asked of a directory of one schema. filter: RFC 4515. key: the attribute by which accounts are followed."""

    filter: str
    attributes: tuple[str, ...]
    key: str


_LDAP_ATTRIBUTES = (
    "objectClass",
    "entryUUID",
    "uid",
    "cn",
    "displayName",
    "uidNumber",
    "gidNumber",
    "memberUid",
    "shadowExpire",
    "pwdAccountLockedTime",
    "modifyTimestamp",
)

SHAPES: dict[Schema, Shape] = {
    "ad": Shape(
        "(|(&(objectCategory=person)(objectClass=user))(objectClass=msDS-GroupManagedServiceAccount)"
        "(objectClass=msDS-ManagedServiceAccount)(objectClass=group))",
        (
            "objectClass",
            "objectSid",
            "sAMAccountName",
            "userPrincipalName",
            "displayName",
            "cn",
            "userAccountControl",
            "accountExpires",
            "primaryGroupID",
            "groupType",
            "member",
            "uidNumber",
            "gidNumber",
        ),
        "objectSid",
    ),
    "rfc2307": Shape("(|(objectClass=posixAccount)(objectClass=posixGroup))", _LDAP_ATTRIBUTES, "entryUUID"),
    "rfc2307bis": Shape(
        "(|(objectClass=posixAccount)(objectClass=posixGroup)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)"
        "(objectClass=groupOfMembers))",
        (*_LDAP_ATTRIBUTES, "member", "uniqueMember"),
        "entryUUID",
    ),
}

DISABLED = 0x2  # userAccountControl: ADS_UF_ACCOUNTDISABLE
SECURITY_ENABLED = 0x80000000  # groupType; a group without it is for mail only
NEVER = (0, 0x7FFFFFFFFFFFFFFF)  # accountExpires
GROUP_CLASSES = {"posixgroup", "groupofnames", "groupofuniquenames", "groupofmembers"}


def records(directory: Directory, entries: Iterable[LdifEntry]) -> Mapping[str, AccountRecord]:
    """Key -> record of all entries that are accounts and lie where the directory is read."""
    found = {}
    for entry in entries:
        if any(within_dn(entry.dn, branch) for branch in directory.takes_branches):
            record = record_of(directory.schema, entry)
            if record is not None:
                found[record.key] = record
    return found


def record_of(schema: Schema, entry: LdifEntry) -> AccountRecord | None:
    """The account that an entry is, or None where it is none."""
    classes = {value.decode("ascii", "replace").lower() for value in entry.attributes.get("objectclass", ())}
    return _ad(entry, classes) if schema == "ad" else _ldap(schema, entry, classes)


def key_of(schema: Schema, entry: LdifEntry) -> str | None:
    """What an entry is followed by; None where it has no such thing."""
    if schema == "ad":
        sids = entry.attributes.get("objectsid", ())
        return sid_text(sids[0]) if sids else None
    return _first(entry.attributes, "entryuuid") or "dn:" + same_dn(entry.dn).replace("\0", ",")


# --- Active-Directory-compatible --------------------------------------------------------------------------------------


def _ad(entry: LdifEntry, classes: set[str]) -> AccountRecord | None:
    sid = key_of("ad", entry)
    name = _first(entry.attributes, "samaccountname")
    managed = bool(classes & {"msds-groupmanagedserviceaccount", "msds-managedserviceaccount"})
    if sid is None or name is None:
        return None
    if "group" in classes:
        kind = _number(entry.attributes, "grouptype")
        return AccountRecord(
            key=sid,
            sid=sid,
            dn=entry.dn,
            kind="group",
            name=name,
            number=_number(entry.attributes, "gidnumber"),
            members=tuple(_ad_ref(_decode(value)) for value in entry.attributes.get("member", ())),
            mail_only=kind is not None and not kind & SECURITY_ENABLED,
        )
    if "user" not in classes or ("computer" in classes and not managed):
        return None
    rid = _number(entry.attributes, "primarygroupid")
    principal = _first(entry.attributes, "userprincipalname")
    return AccountRecord(
        key=sid,
        sid=sid,
        dn=entry.dn,
        kind="service" if managed else "person",
        name=name,
        full_name=_first(entry.attributes, "displayname") or _first(entry.attributes, "cn") or "",
        aliases=(principal,) if principal else (),
        enabled=not (_number(entry.attributes, "useraccountcontrol") or 0) & DISABLED,
        expires=_filetime_date(_number(entry.attributes, "accountexpires")),
        number=_number(entry.attributes, "uidnumber"),
        primary=None if rid is None else Ref("sid", f"{sid.rpartition('-')[0]}-{rid}"),
    )


def _ad_ref(dn: str) -> Ref:
    """A member's DN; one that stands for an account of elsewhere carries its SID as name (MS-ADTS 6.1.1.4.10)."""
    try:
        parts = dn_parts(dn)
    except ValueError:
        return Ref("dn", dn)
    stranger = len(parts) > 1 and parts[1] == ("cn", "ForeignSecurityPrincipals") and parts[0][1].startswith("S-1-")
    return Ref("sid", parts[0][1]) if stranger else Ref("dn", dn)


def _filetime_date(ticks: int | None) -> date | None:
    """The day, by this machine's clock, on which an account is shut: accountExpires counts 100 ns from 1601, UTC."""
    if ticks is None or ticks in NEVER or ticks < 0:
        return None
    try:
        return (datetime(1601, 1, 1, tzinfo=UTC) + timedelta(microseconds=ticks // 10)).astimezone().date()
    except OverflowError:
        return None


# --- LDAP -------------------------------------------------------------------------------------------------------------


def _ldap(schema: Schema, entry: LdifEntry, classes: set[str]) -> AccountRecord | None:
    key = key_of(schema, entry)
    assert key is not None
    gid = _number(entry.attributes, "gidnumber")
    if "posixaccount" in classes:
        name = _naming(entry, "uid")
        if name is None:
            return None
        service = "account" in classes and "person" not in classes and "inetorgperson" not in classes
        return AccountRecord(
            key=key,
            dn=entry.dn,
            kind="service" if service else "person",
            name=name,
            full_name=_first(entry.attributes, "displayname") or _first(entry.attributes, "cn") or "",
            aliases=tuple(sorted({_decode(value) for value in entry.attributes.get("uid", ())} - {name})),
            enabled=_first(entry.attributes, "pwdaccountlockedtime")
            != "000001010000Z",  # locked for good (ppolicy draft 5.3.3)
            expires=_days_date(_number(entry.attributes, "shadowexpire")),
            number=_number(entry.attributes, "uidnumber"),
            primary=None if gid is None else Ref("gid", str(gid)),
        )
    taken = GROUP_CLASSES if schema == "rfc2307bis" else {"posixgroup"}
    name = _naming(entry, "cn")
    if not classes & taken or name is None:
        return None
    by_entry = ("member", "uniquemember") if schema == "rfc2307bis" else ()
    members = [Ref("dn", _dn_of(_decode(value))) for what in by_entry for value in entry.attributes.get(what, ())]
    members += [Ref("name", _decode(value)) for value in entry.attributes.get("memberuid", ())]
    return AccountRecord(key=key, dn=entry.dn, kind="group", name=name, number=gid, members=tuple(members))


def _dn_of(value: str) -> str:
    """A uniqueMember may have a bit string after the DN (RFC 4517 3.3.21)."""
    dn, mark, bits = value.rpartition("#'")
    return dn if mark and bits.endswith("'B") and set(bits[:-2]) <= set("01") else value


def _days_date(days: int | None) -> date | None:
    """shadow(5): days since 1970 after which the account is shut; negative for never."""
    try:
        return None if days is None or days < 0 else date(1970, 1, 1) + timedelta(days=days)
    except OverflowError:
        return None


def _naming(entry: LdifEntry, attribute: str) -> str | None:
    """Of several values of a name, the one in the entry's DN; else the first by alphabet."""
    values = sorted(_decode(value) for value in entry.attributes.get(attribute, ()))
    in_dn = {value for kind, value in dn_parts(entry.dn)[:1] if kind == attribute}
    return next((value for value in values if value in in_dn), values[0] if values else None)


def _first(attributes: Attributes, name: str) -> str | None:
    values = attributes.get(name, ())
    return _decode(values[0]) if values else None


def _decode(value: bytes) -> str:
    return value.decode("utf-8", "replace")


def _number(attributes: Attributes, name: str) -> int | None:
    text = _first(attributes, name)
    try:
        return None if text is None else int(text)
    except ValueError:
        return None
