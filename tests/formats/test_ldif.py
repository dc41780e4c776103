"""LDIF in and out, and entries of each schema as accounts."""

from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yardgate import demo
from yardgate.core.model.directory import AccountRecord, Directory, Ref
from yardgate.core.model.plan import Plan
from yardgate.drivers.directory.accounts import record_of, records
from yardgate.formats import ldif
from yardgate.formats.ldif import LdifEntry
from yardgate.formats.reading import FormatError
from yardgate.formats.sid import sid_bytes, sid_text

TEXT = """version: 1
# a comment
 that goes on
dn: cn=Ann\\, the first,ou=crew,dc=quay
objectClass: person
cn: Ann, the
  first
description:: w5xiZXI=
jpegPhoto;binary:: AAEC
empty:

dn:: Y249w5x0ZSxkYz1xdWF5
CN: x
cn:y\r
"""


def test_folded_lines_base64_comments_and_options_are_read() -> None:
    first, second = ldif.read(TEXT.encode())
    assert first.dn == "cn=Ann\\, the first,ou=crew,dc=quay"
    assert first.attributes == {
        "objectclass": (b"person",),
        "cn": (b"Ann, the first",),
        "description": ("Über".encode(),),
        "jpegphoto;binary": (b"\x00\x01\x02",),
        "empty": (b"",),
    }
    assert (second.dn, second.attributes, second.line) == ("cn=Üte,dc=quay", {"cn": (b"x", b"y")}, 12)


@given(
    st.lists(
        st.tuples(
            st.text(st.characters(codec="utf-8"), min_size=1, max_size=30),
            st.lists(st.binary(max_size=120), min_size=1, max_size=3),
        ),
        max_size=4,
    )
)
def test_what_is_written_is_read_back(entries: list[tuple[str, list[bytes]]]) -> None:
    made = [(f"cn={ldif.escaped(name)},dc=quay", {"cn": values}) for name, values in entries]
    text = ldif.write(made)
    assert all(len(line) <= 76 for line in text.splitlines())
    back = [
        (entry.dn, {name: list(values) for name, values in entry.attributes.items()})
        for entry in ldif.read(text.encode())
    ]
    assert back == made


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("cn: a\n", "line 1, column 1: an entry must begin with dn:"),
        ("version: 2\n", "line 1, column 9: LDIF version 2 is not known"),
        ("dn: dc=a\nno colon\n", "line 2, column 9: there is no colon"),
        ("dn: dc=a\n1 2: b\n", "line 2, column 1: '1 2' is not a name"),
        ("dn: dc=a\nphoto:< file:///etc/shadow\n", "line 2, column 7: the value is kept at a URL"),
        ("dn: dc=a\nchangetype: delete\n", "line 2, column 1: changetype: this is a list of changes"),
        ("dn: dc=a\ncn:: ???\n", "line 2, column 5: the value is not base64"),
        ("dn: dc=a\ndn: dc=b\n", "line 2, column 1: a second dn:"),
        ("dn: Ann\n", "line 1, column 5: 'Ann' is not a part of a distinguished name"),
        ("dn:: /w==\n", "line 1, column 1: byte 0xff is not UTF-8"),
        (" dn: dc=a\n", "line 1, column 1: the line begins with a space"),
        ("dn: dc=a\ncn: a\0b\n", "line 2, column 6: a NUL character"),
    ],
)
def test_bad_ldif_is_refused_with_line_and_column(text: str, message: str) -> None:
    with pytest.raises(FormatError) as caught:
        list(ldif.read(text.encode()))
    assert str(caught.value).startswith(message)


def entry(dn: str, **attributes: str | bytes | list[str]) -> LdifEntry:
    def values(value: str | bytes | list[str]) -> tuple[bytes, ...]:
        return (
            (value,)
            if isinstance(value, bytes)
            else tuple(v.encode() for v in ([value] if isinstance(value, str) else value))
        )

    return LdifEntry(dn, {name.lower(): values(value) for name, value in attributes.items()})


def test_sids_as_bytes_and_as_people_write_them() -> None:
    for text in ("S-1-5-21-1-4294967295-3-1105", "S-1-5-32-545", "S-1-1-0"):
        assert sid_text(sid_bytes(text)) == text
    assert sid_text(b"\x01\x05\x00") is None
    assert sid_text(b"\x01\x02\x00\x00\x00\x00\x00\x05\x01") is None


def test_an_account_of_a_domain() -> None:
    sid = "S-1-5-21-1-2-3-1105"
    found = record_of(
        "ad",
        entry(
            "CN=Ann,DC=quay",
            objectClass=["top", "user"],
            objectSid=sid_bytes(sid),
            sAMAccountName="ann",
            userPrincipalName="ann@quay.example",
            cn="Ann",
            userAccountControl="514",
            accountExpires=str((date(2027, 3, 1) - date(1601, 1, 1)).days * 864_000_000_000 + 432_000_000_000),
            primaryGroupID="513",
            uidNumber="70",
        ),
    )
    assert found == AccountRecord(
        key=sid,
        sid=sid,
        dn="CN=Ann,DC=quay",
        kind="person",
        name="ann",
        full_name="Ann",
        aliases=("ann@quay.example",),
        enabled=False,
        expires=date(2027, 3, 1),
        number=70,
        primary=Ref("sid", "S-1-5-21-1-2-3-513"),
    )
    machine = entry("CN=pc,DC=q", objectClass=["user", "computer"], objectSid=sid_bytes(sid), sAMAccountName="pc$")
    assert record_of("ad", machine) is None
    managed = entry(
        "CN=svc,DC=q",
        objectClass=["user", "computer", "msDS-GroupManagedServiceAccount"],
        objectSid=sid_bytes(sid),
        sAMAccountName="svc$",
        accountExpires="9223372036854775807",
    )
    service = record_of("ad", managed)
    assert service is not None
    assert (service.kind, service.expires) == ("service", None)


def test_a_group_of_a_domain_and_its_strangers() -> None:
    members = ["CN=Ann\\, x,DC=q", "CN=S-1-5-21-9-9-9-7,CN=ForeignSecurityPrincipals,DC=q"]
    base = {
        "objectClass": "group",
        "objectSid": sid_bytes("S-1-5-21-1-2-3-9"),
        "sAMAccountName": "crew",
        "member": members,
    }
    found = record_of("ad", entry("CN=crew,DC=q", **base, groupType="-2147483646"))  # type: ignore[arg-type]
    assert found is not None
    assert found.members == (Ref("dn", "CN=Ann\\, x,DC=q"), Ref("sid", "S-1-5-21-9-9-9-7"))
    assert not found.mail_only
    mail = record_of("ad", entry("CN=crew,DC=q", **base, groupType="2"))  # type: ignore[arg-type]
    assert mail is not None
    assert mail.mail_only


def test_accounts_of_rfc_2307_and_its_successor() -> None:
    ann = entry(
        "uid=ann,ou=p,dc=q",
        objectClass=["inetOrgPerson", "posixAccount"],
        entryUUID="u-1",
        uid=["a.old", "ann"],
        cn="Ann",
        uidNumber="70",
        gidNumber="500",
        shadowExpire="20850",
    )
    found = record_of("rfc2307", ann)
    assert found == AccountRecord(
        key="u-1",
        dn="uid=ann,ou=p,dc=q",
        kind="person",
        name="ann",
        full_name="Ann",
        aliases=("a.old",),
        expires=date(2027, 2, 1),
        number=70,
        primary=Ref("gid", "500"),
    )
    group = entry(
        "cn=crew,ou=g,dc=q",
        objectClass=["posixGroup", "groupOfNames"],
        entryUUID="u-2",
        cn="crew",
        gidNumber="500",
        memberUid="ann",
        member="uid=bo,dc=q",
        uniqueMember="uid=cleo,dc=q#'01'B",
    )
    old, new = record_of("rfc2307", group), record_of("rfc2307bis", group)
    assert old is not None
    assert old.members == (Ref("name", "ann"),)
    assert new is not None
    assert new.members == (Ref("dn", "uid=bo,dc=q"), Ref("dn", "uid=cleo,dc=q"), Ref("name", "ann"))
    locked = record_of(
        "rfc2307",
        entry("uid=b,dc=q", objectClass=["account", "posixAccount"], uid="b", pwdAccountLockedTime="000001010000Z"),
    )
    assert locked is not None
    assert (locked.kind, locked.enabled, locked.key) == ("service", False, "dn:uid=b,dc=q")


def test_only_chosen_branches_come_in() -> None:
    office = replace(demo.DIRECTORY, branches=("OU=Office,DC=lanternquay,DC=example",))
    assert {record.name for record in records(office, demo.entries()).values() if record.kind != "group"} == {
        "lena.moravec",
        "pia.lombardi",
        "saskia.dewit",
        "farid.haddad",
    }


def test_local_accounts_go_out_and_come_in_as_another_directory(quay: Plan) -> None:
    text = ldif.local_accounts(quay)
    there = Directory(id="k", name="K", domain="keelson.example", schema="rfc2307", base="o=keelson")
    found = {record.name: record for record in records(there, ldif.read(text.encode())).values()}
    local = {user.name: user for user in quay.users.values() if user.origin == "local"}
    assert {name: record.number for name, record in found.items() if record.kind != "group"} == {
        name: user.uid for name, user in local.items()
    }
    assert found["cnc-router"].kind == "service"
    yard = {ref.text for ref in found["Yard"].members}
    assert "gwen.castellan" in yard  # through Shopfloor
    assert "signe.aalto" in yard  # through Rigging
