"""A real LDAP server with RFC 2307 data and with that of its successor."""

import base64
import random
import re
import resource
import time
from collections.abc import Iterator
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.real.slapd import PASSWORD, SUFFIX, Slapd, slapd
from yardgate.core.access.membership import token
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.model.directory import Copy, Schema
from yardgate.core.model.plan import Plan
from yardgate.drivers.directory.ldap import DirectoryError, Progress, check, connect, read_all, read_changes
from yardgate.formats import ldif

USERS, GROUPS = 40, 12


def content(schema: Schema, users: int = USERS, groups: int = GROUPS, seed: int = 1) -> str:
    """People, groups and, where groups name entries, groups in groups; names with what needs escapes."""
    rng = random.Random(seed)
    entries: list[tuple[str, dict[str, list[bytes]]]] = [(SUFFIX, {"objectClass": [b"domain"], "dc": [b"quay"]})]
    for unit in ("people", "groups"):
        entries.append((f"ou={unit},{SUFFIX}", {"objectClass": [b"organizationalUnit"], "ou": [unit.encode()]}))
    people = []
    for number in range(users):
        name = f"p{number}" + ("", ",x", " y", "\\z", "ö", '"q')[number % 6]
        dn = f"uid={ldif.escaped(name)},ou=people,{SUFFIX}"
        people.append((dn, f"p{number}"))
        # RFC 2307 has uid as IA5 only where memberUid names it; here the plain name is a second value
        values = {
            "uid": [name.encode(), f"p{number}".encode()] if name != f"p{number}" else [name.encode()],
            "cn": [f"Person {number}".encode()],
        }
        entries.append(
            (
                dn,
                {
                    "objectClass": [b"account", b"posixAccount"],
                    **values,
                    "uidNumber": [str(20_000 + number).encode()],
                    "gidNumber": [str(30_000 + number % groups).encode()],
                    "homeDirectory": [b"/"],
                },
            )
        )
    made: list[str] = []
    for number in range(groups):
        dn = f"cn=g{number},ou=groups,{SUFFIX}"
        chosen = rng.sample(people, rng.randint(1, min(8, users)))
        common = {"cn": [f"g{number}".encode()], "gidNumber": [str(30_000 + number).encode()]}
        if schema == "rfc2307":
            entries.append(
                (dn, {"objectClass": [b"posixGroup"], **common, "memberUid": [name.encode() for _, name in chosen]})
            )
        else:
            inner = rng.sample(made, min(2, len(made)))
            entries.append(
                (
                    dn,
                    {
                        "objectClass": [b"groupOfNames", b"posixGroup"],
                        **common,
                        "member": [d.encode() for d in (*(d for d, _ in chosen), *inner)],
                    },
                )
            )
        made.append(dn)
    return ldif.write(entries).removeprefix("version: 1\n\n")


@pytest.fixture(scope="module", params=["rfc2307", "rfc2307bis"])
def server(request: pytest.FixtureRequest) -> Iterator[Slapd]:
    with slapd(request.param, content(request.param)) as started:
        yield started


def whole(server: Slapd) -> Copy:
    with connect(server.directory, PASSWORD) as reader:
        return read_all(reader, Progress())


def in_step(plan: Plan, server: Slapd, copy: Copy) -> Plan:
    found = sync(plan, server.directory, copy.records.values())
    assert found.left_out == ()
    return apply(plan, found.edits)[0]


def test_numbers_and_members_are_those_of_the_server(server: Slapd) -> None:
    steps = [step.step for step in check(server.directory, PASSWORD)]
    assert steps == ["controller", "port", "tls", "sign-in", "clock", "base", "read", "paging"]
    plan = in_step(Plan(), server, whole(server))
    told = server.search("(objectClass=posixAccount)", "uidNumber")
    numbers = {int(found) for found in re.findall(r"uidNumber: (\d+)", told)}
    assert {user.uid for user in plan.users.values()} == numbers
    assert len(numbers) == USERS
    groups = re.findall(r"gidNumber: (\d+)", server.search("(objectClass=posixGroup)", "gidNumber"))
    assert sorted(group.gid or 0 for group in plan.groups.values()) == sorted(map(int, groups))
    for user in plan.users.values():
        assert user.primary_group is not None
        assert plan.groups[user.primary_group].gid == 30_000 + ((user.uid or 0) - 20_000) % GROUPS
    assert not any(group.unknown for group in plan.groups.values())
    attribute = "memberUid" if server.directory.schema == "rfc2307" else "member"
    copy = whole(server)
    for user in plan.users.values():  # in just the groups that the server finds for them
        asked = f"(&(objectClass=posixGroup)({attribute}={as_member(server, copy, user.key)}))"
        found = {int(gid) for gid in re.findall(r"gidNumber: (\d+)", server.search(asked, "gidNumber"))}
        assert {group.gid for group in plan.groups.values() if user.id in group.members} == found, user.name


def as_member(server: Slapd, copy: Copy, key: str | None) -> str:
    """What a filter asks for to find a user as a member (RFC 4515): the plain name, or the entry's name."""
    record = copy.records[key or ""]
    plain = next((name for name in (record.name, *record.aliases) if re.fullmatch(r"p\d+", name)), "")
    text = plain if server.directory.schema == "rfc2307" else record.dn
    return "".join(f"\\{byte:02x}" if chr(byte) in "\\*()\0" or byte > 127 else chr(byte) for byte in text.encode())


def test_changes_give_what_reading_everything_gives(server: Slapd) -> None:
    rng = random.Random(9)
    copy = whole(server)
    plan = in_step(Plan(), server, copy)
    bis = server.directory.schema == "rfc2307bis"
    for number in range(20):
        record = rng.choice([r for r in copy.records.values() if r.kind != "group"])
        group = rng.choice([r for r in copy.records.values() if r.kind == "group"])
        match rng.choice(["add", "delete", "rename", "join", "number"]):
            case "add":
                name = f"new{number}"
                change = f"dn: uid={name},ou=people,{SUFFIX}\nchangetype: add\nobjectClass: account\nobjectClass: posixAccount\nuid: {name}\ncn: New {number}\nuidNumber: {25_000 + number}\ngidNumber: 30000\nhomeDirectory: /\n"
            case "delete":
                change = f"dn: {record.dn}\nchangetype: delete\n"
            case "rename":
                change = f"dn: {record.dn}\nchangetype: modrdn\nnewrdn: uid=renamed{number}\ndeleteoldrdn: 0\n"
            case "join":
                member = f"member: {record.dn}" if bis else f"memberUid: stray{number}"
                change = (
                    f"dn: {group.dn}\nchangetype: modify\nadd: {member.partition(':')[0]}\n{member}\n"
                    if record.dn not in {ref.text for ref in group.members}
                    else ""
                )
            case _:
                change = f"dn: {group.dn}\nchangetype: modify\nreplace: gidNumber\ngidNumber: {35_000 + number}\n"
        if not change:
            continue
        server.change(change)
        with connect(server.directory, PASSWORD) as reader:
            changed, again = read_changes(reader, copy, Progress()), read_all(reader, Progress())
        assert not changed.full
        assert changed.records == again.records, change
        assert in_step(plan, server, changed) == in_step(plan, server, again)
        plan, copy = in_step(plan, server, changed), changed


HOSTILE = st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=20).filter(
    lambda name: name.strip() == name and not name.isspace()
)


@settings(max_examples=25)
@given(
    st.one_of(
        HOSTILE,
        st.sampled_from(["*", ")(uid=*", "a*)(|(cn=*", "\\2a", "x,ou=people", "#hash", "a=b+c=d", "ü\\", '";<>']),
    )
)
def test_no_name_becomes_a_filter_or_another_name(server: Slapd, name: str) -> None:
    """An entry of any name is found by that name and no other: the name is data, to slapd as to us."""
    dn = f"cn={ldif.escaped(name)},ou=groups,{SUFFIX}"
    encoded = base64.b64encode(dn.encode()).decode()
    cn = base64.b64encode(name.encode()).decode()
    classes = (
        "objectClass: groupOfNames\nobjectClass: posixGroup\nmember: cn=x\n"
        if server.directory.schema == "rfc2307bis"
        else "objectClass: posixGroup\n"
    )
    server.change(f"dn:: {encoded}\nchangetype: add\n{classes}cn:: {cn}\ngidNumber: 39999\n")
    try:
        with connect(server.directory, PASSWORD) as reader:
            found = reader.one(dn, ["cn", "gidNumber"])
            assert found is not None
            assert found.attributes["gidnumber"] == (b"39999",)
            copy = read_all(reader, Progress())
        named = [record for record in copy.records.values() if record.number == 39_999]
        assert [record.name for record in named] == [name]
    finally:
        server.change(f"dn:: {encoded}\nchangetype: delete\n")


def test_a_size_limit_is_told() -> None:
    with slapd("rfc2307", content("rfc2307"), limit="5") as server:
        anybody = replace(server.directory, reader="")
        with connect(anybody, None) as reader, pytest.raises(DirectoryError) as caught:
            read_all(reader, Progress())
        assert caught.value.step == "paging"
        assert "choose branches" in caught.value.words


@pytest.mark.long
def test_twenty_thousand_users_and_two_thousand_groups() -> None:
    with slapd("rfc2307bis", content("rfc2307bis", 20_000, 2_000)) as server:
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        start = time.perf_counter()
        progress = Progress()
        with connect(server.directory, PASSWORD) as reader:
            copy = read_all(reader, progress)
        read = time.perf_counter() - start
        plan = in_step(Plan(), server, copy)
        synced = time.perf_counter() - start - read
        with connect(server.directory, PASSWORD) as reader:
            again = read_changes(reader, copy, Progress())
        whole_again = time.perf_counter() - start - read - synced
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"22,000 accounts: read in {read:.1f} s, put into a plan in {synced:.1f} s, changes in {whole_again:.1f} s; {memory:.0f} MiB (before {before:.0f})"
        )
        assert (len(plan.users), len(plan.groups)) == (20_000, 2_000)
        assert again.records == copy.records
        assert len(token(plan, next(iter(plan.users)))) > 2
        assert read < 60
        assert memory < 600
