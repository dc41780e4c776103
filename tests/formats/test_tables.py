"""Matrices, people and account files, as people really write them."""

import csv
import io
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.hostile import FAITHFUL, HOSTILE
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutPlace, PutUser, SetGrant
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import LOCAL, Place, Plan, User
from yardgate.formats import accounts, matrix, people, table
from yardgate.formats.reading import FormatError, Make, Reading


def read_all(plan: Plan, text: str, make: Make | None = None, clear: bool = False) -> Plan:
    return apply(plan, matrix.read(plan, text, make, clear).edits)[0]


# --- tables ---


@settings(max_examples=times(300, 1200))
@given(
    st.lists(
        st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\0")), min_size=1, max_size=4),
        min_size=1,
        max_size=4,
    )
)
def test_cells_come_back_as_they_were_and_none_is_a_formula(rows: list[list[str]]) -> None:
    text = table.write([["head"] * 4, *rows])
    back = [row for _, row in table.rows(text)][1:]
    assert back == [[cell.strip() for cell in row] for row in rows if any(cell.strip() for cell in row)]
    for row in csv.reader(io.StringIO(text, newline="")):
        assert not any(cell.startswith(("=", "+", "-", "@", "\t", "\r")) for cell in row)


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
@pytest.mark.parametrize("end", ["\n", "\r\n"])
def test_delimiters_line_ends_and_quoted_line_breaks(delimiter: str, end: str) -> None:
    text = end.join(
        [
            delimiter.join(["name", "note"]),
            "",
            delimiter.join(["ann", f'"one{end}two, ""three"";"']),
            delimiter.join(["bob", "x"]),
        ]
    )
    assert list(table.rows(text)) == [(1, ["name", "note"]), (3, ["ann", f'one{end}two, "three";']), (5, ["bob", "x"])]


def test_a_broken_quote_is_refused_with_its_line() -> None:
    with pytest.raises(FormatError, match=r"line 2"):
        list(table.rows('name,note\nann,"open'))


# --- matrices ---


@settings(max_examples=times(200, 800))
@given(plans())
def test_grants_written_and_read_back_are_the_same(plan: Plan) -> None:
    bare = replace(plan, grants={})
    back = read_all(bare, matrix.write_grants(plan))
    assert {place: dict(lines) for place, lines in back.grants.items()} == plan.grants


@settings(max_examples=times(50, 200))
@given(plans())
def test_what_comes_out_is_written_cell_by_cell(plan: Plan) -> None:
    found = resolve(plan, ON)
    rows = list(csv.reader(io.StringIO(matrix.write_effective(found), newline="")))
    paths = {plan.path_name(place): place for place in plan.places}
    names = {plan.called(user): user for user in plan.users}
    assert len(rows) == len(plan.users) + 1
    for row in rows[1:]:
        assert row[3:] == [found.level(names[row[1]], paths[path]) for path in rows[0][3:]]


def test_usual_spellings_are_understood(lantern: Plan) -> None:
    text = "who;payroll;quotes;minutes;toolpaths;photos\nMira Oyelaran;read only;r;Read-Write;-;\nShopfloor;No Access;w;RO;—;deny\n"
    after = read_all(lantern, text)
    assert after.grants["payroll"]["mira-oyelaran"] == Level.RO
    assert after.grants["minutes"]["mira-oyelaran"] == Level.RW
    assert after.grants["payroll"]["shopfloor"] == Level.NA
    assert after.grants["photos"]["shopfloor"] == Level.NA
    assert after.grants["toolpaths"] == lantern.grants["toolpaths"]
    assert "in 2 cells" in matrix.read(lantern, text).notes[0].text


def test_blanks_leave_or_take_away_as_asked(lantern: Plan) -> None:
    text = "who,toolpaths\nApprentices,\n"
    assert read_all(lantern, text).grants == lantern.grants
    assert "apprentices" not in read_all(lantern, text, clear=True).grants["toolpaths"]


def test_unknown_names_are_listed_with_their_line_and_made_where_asked(lantern: Plan) -> None:
    text = "who,toolpaths,keel/moulds/plugs,attic\nZora Quist,RW,RO,\nWelders,RO,,NA\nMira Oyelaran,,RW,\n"
    reading = matrix.read(lantern, text)
    assert [(name.line, name.name, name.of) for name in reading.unknown] == [
        (1, "keel/moulds/plugs", "place"), (1, "attic", "place"), (2, "Zora Quist", "who"), (3, "Welders", "who")
    ]  # fmt: skip
    assert reading.edits == ()
    made = read_all(
        lantern, text, {"keel/moulds/plugs": "place", "attic": "place", "Zora Quist": "person", "Welders": "group"}
    )
    assert made.grants["toolpaths"]["zora-quist"] == Level.RW
    assert made.grants["plugs"] == {"zora-quist": Level.RO, "mira-oyelaran": Level.RW}
    assert made.path_name("plugs") == "keel/moulds/plugs"
    assert [made.places[step].kind for step in made.path("plugs")] == ["pool", "dataset", "folder"]
    assert made.path_name("attic") == "ballast/attic"
    assert made.groups["welders"].name == "Welders"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "line 1, column 1: there is nothing in it"),
        ("who\nann\n", "at least one place"),
    ],
)
def test_what_is_no_table_of_places_is_refused(lantern: Plan, text: str, message: str) -> None:
    with pytest.raises(FormatError, match=message):
        matrix.read(lantern, text)


def missed(reading: Reading) -> list[str]:
    return [f"{note.where}: {note.text}" for note in reading.notes if note.missed]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("who,payroll\nMira Oyelaran,maybe\n", "line 2: “maybe” is not a level"),
        ("who,payroll\nMira Oyelaran,none\n", "write NA for a refusal"),
        (
            "who,payroll\nMira Oyelaran,RW\nmira.oyelaran,RO\n",
            "line 3: “mira.oyelaran” has another row in line 2 that says otherwise",
        ),
        (
            "who,payroll,keel/office/payroll\nMira Oyelaran,RW,RW\n",
            "line 1: place “keel/office/payroll” is named twice",
        ),
        ("who,payroll\nMira Oyelaran,RW,RO\n", "line 2: 3 cells where the first line has 2"),
        ("who,payroll\n,RW\n", "line 2: the row has no name"),
        ("who,,payroll\nMira Oyelaran,RW,RO\n", "line 1: column 2 has no place"),
    ],
)
def test_what_cannot_be_read_is_noted_and_the_rest_comes_in(lantern: Plan, text: str, message: str) -> None:
    said = missed(matrix.read(lantern, text))
    assert len(said) == 1
    assert message in said[0]
    both = matrix.read(
        lantern, f"{text}Tomas Brandt,{'RW,' * text.partition(chr(10))[0].count(',')}\n".replace(",\n", "\n")
    )
    assert any(isinstance(edit, SetGrant) and edit.who == "tomas-brandt" for edit in both.edits)


def test_a_name_that_may_mean_several_is_refused_until_it_says_which(lantern: Plan) -> None:
    plan, _ = apply(
        lantern,
        [
            PutUser(User(id="ledger-2", name="Ledger")),
            PutPlace(Place(id="x", name="payroll", kind="folder", parent="hulls")),
        ],
    )
    assert "user:Ledger or group:Ledger" in missed(matrix.read(plan, "who,quotes\nLedger,RW\n"))[0]
    assert "write the path" in missed(matrix.read(plan, "who,payroll,quotes\nMira Oyelaran,RW,RO\n"))[0]
    edits = matrix.read(plan, "who,keel/hulls/payroll\nuser:Ledger,RW\ngroup:Ledger,RO\n").edits
    assert edits == (SetGrant("x", "ledger-2", Level.RW), SetGrant("x", "ledger", Level.RO))


@pytest.mark.parametrize("kind", HOSTILE)
def test_hostile_names_in_a_matrix(kind: str) -> None:
    plan = Plan(places={"p": Place(id="p", name="tank", kind="pool")})
    text = table.write([["who", "tank"], [HOSTILE[kind], "RW"]])
    try:
        reading = matrix.read(plan, text, {HOSTILE[kind].strip(): "person"})
        after, _ = apply(plan, reading.edits)
    except (FormatError, PlanError):
        assert kind not in FAITHFUL
        return
    if kind in FAITHFUL:
        assert [HOSTILE[kind] in (user.name, user.full_name) for user in after.users.values()] == [True]
        again = matrix.read(after, matrix.write_grants(after))
        assert again.edits == ()
        assert again.unknown == ()


# --- people ---


def test_people_with_groups_come_in(lantern: Plan) -> None:
    text = "name;full name;uid;groups;enabled;expires;kind\nzora.quist;Zora Quist;1500;Draughting|Welders;yes;2027-06-30;\nmira.oyelaran;;1100;Ledger;no;;\npress-brake;;;;;;service\n"
    reading = people.read(lantern, text)
    assert [(name.line, name.name) for name in reading.unknown] == [(2, "Welders")]
    after, _ = apply(lantern, people.read(lantern, text, {"Welders": "group"}).edits)
    zora = next(user for user in after.users.values() if user.name == "zora.quist")
    assert (zora.full_name, zora.uid, str(zora.expires)) == ("Zora Quist", 1500, "2027-06-30")
    assert {group.name for group in after.groups.values() if zora.id in group.members} == {"Draughting", "Welders"}
    mira = after.users["mira-oyelaran"]
    assert (mira.full_name, mira.uid, mira.enabled) == ("Mira Oyelaran", 1100, False)
    assert mira.id in after.groups["ledger"].members
    assert mira.id in after.groups["draughting"].members
    assert after.users["press-brake"].kind == "service"


def test_groups_and_memberships_come_in(lantern: Plan) -> None:
    after, _ = apply(
        lantern, people.read(lantern, "group,gid,members\nWelders,4000,Mira Oyelaran;Rigging\nYard,,Welders\n").edits
    )
    welders = next(group for group in after.groups.values() if group.name == "Welders")
    assert (welders.gid, welders.members) == (4000, {"mira-oyelaran", "rigging"})
    assert welders.id in after.groups["yard"].members
    after, _ = apply(lantern, people.read(lantern, "member,group\nMira Oyelaran,Ledger\nLedger,Yard\n").edits)
    assert "mira-oyelaran" in after.groups["ledger"].members
    assert "ledger" in after.groups["yard"].members


def test_people_written_and_read_into_an_empty_plan_are_the_same(lantern: Plan) -> None:
    groups = dict.fromkeys((group.name for group in lantern.groups.values()), "group")
    back, _ = apply(Plan(), people.read(Plan(), people.write(lantern), groups).edits)

    def strip(plan: Plan) -> list[tuple[object, ...]]:
        return sorted(
            (u.name, u.full_name, u.kind, u.uid, u.enabled, u.expires, u.aliases, u.note) for u in plan.users.values()
        )

    local = replace(lantern, users={u.id: u for u in lantern.users.values() if u.origin == LOCAL})
    assert strip(back) == strip(local)
    assert people.write(back) == people.write(local)
    passed_over = people.read(Plan(), people.write(lantern), groups).notes
    assert len(passed_over) == len(lantern.users) - len(local.users)
    assert any("“farid.haddad” is kept in the directory “LANTERNQUAY”" in note.text for note in passed_over)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("name,colour\nann,red\n", "line 1: column “colour” is not one of"),
        ("name,uid\nann,twelve\n", "line 2: left out: “twelve” is not a number"),
        ("name,enabled\nann,perhaps\n", "neither yes nor no"),
        ("name,expires\nann,31.12.2027\n", "is not a day"),
        ("name,kind\nann,robot\n", "is not a kind"),
        ("name\nann\nANN\n", "line 3: left out: “ANN” stands twice, first in line 2"),
        ("group,member\nLedger,\n", "line 2: left out: a membership needs"),
    ],
)
def test_what_cannot_be_read_of_a_table_of_people_is_noted(text: str, message: str) -> None:
    said = missed(people.read(Plan(), text))
    assert len(said) == 1
    assert message in said[0]


def test_a_table_of_people_has_a_column_of_names() -> None:
    with pytest.raises(FormatError, match="there must be a column 'name'"):
        people.read(Plan(), "full name\nAnn\n")


# --- account files ---

PASSWD = """root:x:0:0:root:/root:/bin/bash
# a comment
ann:x:1000:1000:Ann Archer,Room 1,,:/home/ann:/bin/bash
bob:x:1001:100::/home/bob:/bin/sh
"""
GROUP = "root:x:0:\nusers:x:100:ann\nann:x:1000:\nsudo:x:27:ann\nyard:x:2000:ann,bob,ghost\n"


def test_a_hosts_accounts_come_in_with_their_numbers() -> None:
    reading = accounts.read(Plan(), PASSWD, GROUP)
    plan, _ = apply(Plan(), reading.edits)
    assert {(u.name, u.full_name, u.uid, u.primary_group) for u in plan.users.values()} == {
        ("ann", "Ann Archer", 1000, None),
        ("bob", "", 1001, "users"),
    }
    assert {(g.name, g.gid, g.members) for g in plan.groups.values()} == {
        ("users", 100, frozenset({"ann"})),
        ("yard", 2000, frozenset({"ann", "bob"})),
    }
    said = [note.text for note in reading.notes]
    assert any("account “root” is left out: outside the numbers 1000 to 60000" in text for text in said)
    assert any("“ann” is left out: each is one account's own" in text for text in said)
    assert any("“sudo”" in text for text in said)
    assert any("“ghost”" in text for text in said)
    assert accounts.read(plan, PASSWD, GROUP).edits == ()


def test_private_groups_and_system_accounts_come_in_where_asked() -> None:
    plan, _ = apply(Plan(), accounts.read(Plan(), PASSWD, GROUP, lowest=0, private_groups=True).edits)
    assert {user.name for user in plan.users.values()} == {"root", "ann", "bob"}
    assert {group.name for group in plan.groups.values()} == {"root", "users", "ann", "sudo", "yard"}
    root = next(user for user in plan.users.values() if user.name == "root")
    assert plan.groups[root.primary_group or ""].name == "root"
    assert len({*plan.users, *plan.groups}) == 8


def test_this_machines_own_files_come_in() -> None:
    reading: Reading = accounts.read(
        Plan(), Path("/etc/passwd").read_text(), Path("/etc/group").read_text(), lowest=0, highest=2**32 - 2
    )
    plan, _ = apply(Plan(), reading.edits)
    lines = [line for line in Path("/etc/passwd").read_text().splitlines() if line]
    assert len(plan.users) == len(lines)
    assert {(user.name, user.uid) for user in plan.users.values()} == {
        (line.split(":")[0], int(line.split(":")[2])) for line in lines
    }


@pytest.mark.parametrize(
    ("passwd", "group", "message"),
    [
        ("ann:x:1000:1000:\n", "", "line 1, column 16: a line of passwd has 7 fields"),
        ("ann:x:ten:1000:::\n", "", "line 1, column 7: uid “ten”"),
        ("ann:x:1000:-1:::\n", "", "line 1, column 12: gid “-1”"),
        (":x:1000:1000:::\n", "", "the name is empty"),
        (PASSWD, "a:x:1\n", "a line of group has 4 fields"),
        (PASSWD, "a:x:99999999999:\n", "gid “99999999999”"),
    ],
)
def test_account_files_that_cannot_be_read(passwd: str, group: str, message: str) -> None:
    with pytest.raises(FormatError, match=message):
        accounts.read(Plan(), passwd, group)


DAMAGED = {
    "a name service's line": "+@netgroup::::::",
    "a comment": "# from the old server",
    "too few fields": "dora:x:1009",
    "no name": ":x:1009:1009:::",
    "a negative number": "nfsnobody:x:-2:-2:::",
    "a name in another case": "ANN:x:1009:1009:::",
    "a number that is none": "dora:x:1o09:1009:::",
}


@pytest.mark.parametrize("kind", DAMAGED)
def test_a_damaged_line_is_said_and_leaves_all_others_as_they_were(kind: str) -> None:
    good = "ann:x:1001:1001:Ann Höfer,,,:/home/ann:/bin/sh\nbob:x:1002:100::/home/bob:/bin/sh\n"
    groups = "crew:x:1100:ann,bob\nusers:x:100:\n"
    whole = accounts.read(Plan(), good, groups)
    for at in range(3):
        lines = good.splitlines(keepends=True)
        lines.insert(at, DAMAGED[kind] + "\n")
        found = accounts.read(Plan(), "".join(lines), groups)
        if kind != "a name in another case" or at > 0:  # else it is the first of the two
            assert found.edits == whole.edits
        said = [note for note in found.notes if note.line == at + 1 and note.text.startswith("left out")]
        assert len(said) == (kind != "a comment" and (kind != "a name in another case" or at > 0))


def test_groups_on_several_lines_and_primary_groups_that_are_nowhere() -> None:
    passwd = "ann:x:1001:1001:::\nbob:x:1002:1500:::\n"
    found = accounts.read(Plan(), passwd, "crew:x:1100:ann\ncrew:x:1100:bob\n+:::\ncrew:x:1200:ann\n")
    after, _ = apply(Plan(), found.edits)
    assert after.groups["crew"].members == {"ann", "bob"}
    notes = [(note.line, note.text) for note in found.notes]
    assert (2, "group “crew” goes on here from line 1; it came in as one") in notes
    assert (2, "“bob” has 1500 as primary group, and no group that came in has this number") in notes
    assert {line for line, text in notes if text.startswith("left out")} == {3, 4}


@pytest.mark.parametrize("encoding", ["utf-8", "latin-1", "cp1252"])
def test_account_files_in_any_encoding(encoding: str) -> None:
    files = "ann:x:1001:100:Ann Höfer:/home/ann:/bin/sh\n".encode(encoding), "users:x:100:\n".encode(encoding)
    found = accounts.from_files(Plan(), *files)
    assert apply(Plan(), found.edits)[0].users["ann"].full_name == "Ann Höfer"
    assert bool(found.notes) == (encoding != "utf-8")


def test_needs_come_from_a_table_as_people_write_them(quay: Plan) -> None:
    quay = replace(quay, needs={})
    text = "who,payroll,photos,quotes\nOffice,read,change,?\nMira Oyelaran,must not,,-\nTomas Brandt,RW,,\n"
    reading = matrix.read_needs(quay, text)
    plan, _ = apply(quay, reading.edits)
    assert {(need.who, need.place, need.wish) for need in plan.needs.values()} == {
        ("office", "payroll", "read"),
        ("office", "photos", "change"),
        ("office", "quotes", "any"),
        ("mira-oyelaran", "payroll", "must not"),
        ("tomas-brandt", "payroll", "change"),
    }
    assert matrix.read_needs(plan, text).edits == ()
    again, _ = apply(quay, matrix.read_needs(quay, matrix.write_needs(plan)).edits)
    assert again.needs == plan.needs
    back, _ = apply(plan, matrix.read_needs(plan, "who,payroll\nOffice,-\nTomas Brandt,r\n").edits)
    assert {need.wish for need in back.needs.values() if need.place == "payroll"} == {"must not", "read"}
    odd = missed(matrix.read_needs(quay, "who,payroll\nOffice,maybe\n"))
    assert odd == [
        "line 2: “maybe” is not a level, so that a cell said nothing; write change, read, must not, any, or leave it empty, or say what it means"
    ]
    assert [one.name for one in matrix.read_needs(quay, "who,payroll\nNobody Here,read\n").unknown] == ["Nobody Here"]
