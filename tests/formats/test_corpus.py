"""What offices already have: each of many files comes in as it is meant, and says what of it did not; a damaged line takes no other with it."""

from collections.abc import Iterator
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.formats import corpus_texts
from tests.formats.corpus_tables import OFFICE, TABLES, Case
from tests.formats.corpus_texts import GROUPS, LDIFS, PEOPLE, TEXTS
from tests.tries import times
from yardgate.core.acl import Mode, Ordered, Posix
from yardgate.core.acl.words import rwx
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.model.directory import Directory
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Plan
from yardgate.drivers.directory.accounts import records
from yardgate.formats import accounts, importing, ldif
from yardgate.formats.importing import ToImport
from yardgate.formats.notation import flag_letters


@pytest.mark.parametrize("case", TABLES.values(), ids=TABLES)
def test_a_table_comes_in_as_it_is_meant(case: Case) -> None:
    wanted = ToImport(kind="matrix", content=case.content, make=case.make)
    found = importing.read(OFFICE, wanted)
    if case.words:
        assert found.table is not None
        assert found.table.layout is not None
        found = importing.read(OFFICE, replace(wanted, layout=replace(found.table.layout, words=case.words)))
    plan, _ = apply(OFFICE, found.reading.edits)
    assert check(plan) == ()
    comes = {f"{who} {place} {level}" for place, said in plan.grants.items() for who, level in said.items()}
    told = [note.text for note in found.reading.notes]
    assert comes == set(filter(None, case.comes.split("\n"))), (told, found.table and found.table.layout)
    assert {one.name for one in found.reading.unknown} == set(case.unknown)
    for words in case.told:
        assert any(words in text for text in told), (words, told)


HOST, _ = apply(Plan(), accounts.read(Plan(), PEOPLE, GROUPS).edits)


@pytest.mark.parametrize("case", TEXTS.values(), ids=TEXTS)
def test_a_text_comes_in_as_it_is_meant(case: corpus_texts.Case) -> None:
    start = Plan() if case.kind == "accounts" else HOST
    reading = importing.read(start, ToImport(kind=case.kind, content=case.text, second=case.second)).reading
    plan, _ = apply(start, reading.edits)
    assert check(plan) == ()
    stands = set(told_of(plan))
    assert set(case.comes) <= stands, stands
    assert not [line for line in stands if line.startswith(case.not_there or ("\0",))]
    told = [note.text for note in reading.notes]
    for words in case.told:
        assert any(words in text for text in told), (words, told)


@pytest.mark.parametrize("text", LDIFS.values(), ids=LDIFS)
def test_what_a_directory_holds_comes_in(text: str) -> None:
    office = Directory(id="quay", name="QUAY", domain="quay.example", schema="rfc2307", base="dc=quay,dc=example")
    found = records(office, ldif.read(text.encode()))
    plan = Plan(directories={office.id: office})
    plan, _ = apply(plan, sync(plan, office, found.values()).edits)
    assert check(plan) == ()
    assert {(one.name, one.number) for one in found.values()} == {("ida", 3001), ("crew", 3100)}
    assert {user.name for user in plan.users.values()} == {"ida"}
    assert {group.name for group in plan.groups.values()} == {"crew"}


def test_the_corpus_is_large_enough() -> None:
    assert len(TABLES) + len(TEXTS) + len(LDIFS) >= 120


def told_of(plan: Plan) -> Iterator[str]:
    """A plan in lines: accounts, groups, places with their lists."""
    for user in plan.users.values():
        primary = f" in {plan.groups[user.primary_group].name}" if user.primary_group is not None else ""
        number = "" if user.uid is None else f" {user.uid}"
        yield f"user {user.name}{number}{primary}" + (" of the server" if user.of_host else "")
    for group in plan.groups.values():
        if group.of_host:
            yield f"group {group.name} of the server"
        else:
            yield f"group {group.name} {group.gid}: {' '.join(sorted(plan.named(one) if one in plan.groups else plan.users[one].name for one in group.members))}"
    if plan.target.nfs_domain:
        yield f"domain {plan.target.nfs_domain}"

    def called(who: str) -> str:
        account = plan.account(who)
        return account.name if account is not None else who

    for place in plan.places.values():
        owners = " ".join("-" if who is None else called(who) for who in (place.owner, place.group))
        match place.acl:
            case Posix(access):
                said = " ".join(
                    f"{e.tag}:{called(e.who) if e.who else ':'} {rwx(e.perms)}".replace("::", "::") for e in access
                )
            case Mode(bits):
                said = f"{bits:04o}" if bits is not None else ""
            case Ordered(entries):
                said = ", ".join(f"{e.type} {called(e.who)} {flag_letters(e.flags)}".rstrip() for e in entries)
            case _:
                said = ""
        yield f"place {plan.path_name(place.id)} {owners} {said}"


LINES = {
    "accounts": [f"u{n}:x:{2000 + n}:100:U {n}:/:/bin/sh" for n in range(8)],
    "getfacl": [f"# file: srv/d{n}\n# owner: ann\n# group: crew\nuser::rwx\ngroup::{'rw-' if n % 2 else 'r--'}\nother::---\n" for n in range(8)],
    "nfs4": [f"# file: srv/d{n}\nA:fd:ann:rx\nA:fdg:crew:r\n" for n in range(8)],
    "find": [f"d 7{n}0 bo crew srv/d{n}" for n in range(8)],
    "matrix": [f"p{n};RW;RO" for n in range(8)],
}  # fmt: skip
HEADS = {
    "accounts": "",
    "getfacl": "# file: srv\n# owner: bo\n# group: crew\nuser::rwx\ngroup::---\nother::---\n",
    "nfs4": "# file: srv\nA:fd:OWNER@:rwax\n",
    "find": "d 700 ann crew srv",
    "matrix": "who;jobs;wages",
}
DAMAGE = st.text(
    st.characters(codec="utf-8", exclude_characters='\n\r"\0', exclude_categories=["Cs"]), min_size=1, max_size=30
)


@pytest.mark.parametrize("kind", LINES)
@settings(max_examples=times(40, 400), deadline=None)
@given(at=st.integers(0, 7), damage=DAMAGE)
def test_a_damaged_line_leaves_all_others_as_they_were(kind: importing.ImportKind, at: int, damage: str) -> None:
    """One of eight lines, or the last line of one of eight lists, becomes something else."""
    start = HOST if kind not in ("accounts", "matrix") else Plan()
    lines = list(LINES[kind])
    whole = lines[at].rstrip("\n").split("\n")
    lines[at] = "\n".join([*whole[:-1], damage]) + ("\n" if len(whole) > 1 else "")
    make = {f"p{n}": "person" for n in range(8)} | {"jobs": "place", "wages": "place"} if kind == "matrix" else {}

    def read(some: list[str]) -> set[str]:
        text = "\n".join(filter(None, [HEADS[kind], *some])) + "\n"
        wanted = ToImport(kind=kind, content=text.encode(), second=b"users:x:100:\n", make=make)
        plan, _ = apply(start, importing.read(start, wanted).reading.edits)
        assert check(plan) == ()
        grants = {
            f"{plan.named(who)} {plan.path_name(place)} {level}"
            for place, said in plan.grants.items()
            for who, level in said.items()
        }
        return {*told_of(plan), *grants}

    good, found = read(LINES[kind]), read(lines)
    mine = {
        line for line in good if f"d{at} " in line or f"u{at} " in line or f"p{at} " in line or line.endswith(f"p{at}")
    }
    assert good - mine <= found
