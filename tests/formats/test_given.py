"""Tables as offices keep them: what comes out of each, and what is noticed."""

import io
from datetime import datetime

import pytest
from hypothesis import given as drawn
from hypothesis import settings
from hypothesis import strategies as st
from openpyxl import Workbook

from tests.tries import times
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.model.needs import Wish
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.formats import importing, table
from yardgate.formats.given import given
from yardgate.formats.importing import ToImport
from yardgate.formats.reading import FormatError

NAMES = {"ann": "Ann Höfer", "bo": "Bo Żak", "cy": "Cy Ward"}
OFFICE = Plan(
    users={who: User(id=who, name=who, full_name=name) for who, name in NAMES.items()},
    groups={"crew": Group(id="crew", name="Crew", members=frozenset(NAMES))},
    places={
        "tank": Place(id="tank", name="tank", kind="pool"),
        "jobs": Place(id="jobs", name="jobs", kind="dataset", parent="tank"),
        "wages": Place(id="wages", name="wages", kind="dataset", parent="tank"),
    },
)
PLAIN = "who;jobs;wages\nAnn Höfer;RW;RO\nCy Ward;RO;\n"
MEANT = {"jobs": {"ann": Level.RW, "cy": Level.RO}, "wages": {"ann": Level.RO}}


def read(content: bytes) -> tuple[dict[str, dict[str, Level]], list[str]]:
    reading = importing.read(OFFICE, ToImport(kind="matrix", content=content)).reading
    after, _ = apply(OFFICE, reading.edits)
    return {place: dict(said) for place, said in after.grants.items() if said}, [note.text for note in reading.notes]


TABLES = {
    "utf-8": PLAIN.encode(),
    "utf-8 with a mark": PLAIN.encode("utf-8-sig"),
    "utf-16": PLAIN.encode("utf-16"),
    "utf-16 big end first, no mark": PLAIN.encode("utf-16-be"),
    "utf-16 little end first, no mark": PLAIN.encode("utf-16-le"),
    "utf-32": PLAIN.encode("utf-32"),
    "windows-1252": PLAIN.encode("cp1252"),
    "latin-1": PLAIN.encode("latin-1"),
    "line ends of an old Macintosh": PLAIN.replace("\n", "\r").encode(),
    "tabs": PLAIN.replace(";", "\t").encode(),
    "sep": ("sep=;\n" + PLAIN).encode(),
    "sep in quotes, with a bar": ('"sep=|"\r\n' + PLAIN.replace(";", "|").replace("\n", "\r\n")).encode(),
    "titles": ("Access rights 2027;;\n\nas of 30 June;;\n" + PLAIN).encode(),
    "blank columns": PLAIN.replace(";", ";;").encode(),
    "blank first column": "".join(f";{line}\n" for line in PLAIN.splitlines()).encode(),
    "separators at the end": PLAIN.replace("\n", ";;;\n").encode(),
    "sums": (PLAIN + "\nTotal;2;1\nSumme:;;\n").encode(),
    "blanks that do not break": PLAIN.replace("Cy Ward", "Cy\u00a0Ward\u200b").encode(),
    "a column of notes": PLAIN.replace("wages\n", "wages;Comment\n")
    .replace("RW;RO", "RW;RO;since May, see mail")
    .encode(),
    "words": PLAIN.replace("RW;RO", "R/W;RX").replace("RO;", "view;").encode(),
    "german": PLAIN.replace("RW;RO", "Vollzugriff;nur lesen").replace("RO;", "Lesen;").encode(),
    "french": PLAIN.replace("RW;RO", "lecture/écriture;lecture seule").replace("RO;", "Lecture;").encode("cp1252"),
    "spanish": PLAIN.replace("RW;RO", "control total;solo lectura").replace("RO;", "lectura;").encode(),
}


@pytest.mark.parametrize("kind", TABLES)
def test_what_a_table_says(kind: str) -> None:
    grants, _ = read(TABLES[kind])
    assert grants == MEANT


@pytest.mark.parametrize(
    ("kind", "words"),
    [
        ("windows-1252", "this is not UTF-8; it was read as cp1252, so that a line reads: Ann Höfer;RW;RO"),
        ("titles", "taken for a title, and left out: Access rights 2027; as of 30 June"),
        ("sums", "taken for a sum, and left out: Total"),
        ("a column of notes", "the column “Comment” was left out: it is no place"),
    ],
)
def test_what_was_left_out_is_said(kind: str, words: str) -> None:
    assert words in read(TABLES[kind])[1]


def test_nothing_is_noticed_of_a_plain_table_and_lines_stay_where_they_were() -> None:
    assert read(TABLES["utf-8"])[1] == []
    odd = importing.read(OFFICE, ToImport(kind="matrix", content=b"Rights\n\n\nwho;jobs\nann;RW\nbo;perhaps\n")).reading
    assert [note.line for note in odd.notes if "“perhaps” is not a level" in note.text] == [6]
    assert given(b'who;note\nann;"two\nlines"\n\nbo;x\n').text == 'who,note\r\nann,"two\nlines"\r\n\r\nbo,x\r\n'


def test_no_is_a_refusal_and_that_is_said() -> None:
    grants, notes = read(b"who;jobs\nann;no\n")
    assert grants == {"jobs": {"ann": Level.NA}}
    assert notes == ["“no” was taken as a refusal, not as nothing said, in 1 cell"]


def test_a_workbook_with_a_title_days_and_numbers() -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ["Our people"],
        [],
        ["name", "full name", "uid", "expires"],
        ["dee", "Dee Oak", 1500.0, datetime(2027, 6, 30)],
    ):
        sheet.append(row)
    packed = io.BytesIO()
    book.save(packed)
    reading = importing.read(OFFICE, ToImport(kind="people", content=packed.getvalue())).reading
    after, _ = apply(OFFICE, reading.edits)
    dee = after.users["dee-oak"] if "dee-oak" in after.users else after.users["dee"]
    assert (dee.uid, str(dee.expires)) == (1500, "2027-06-30")
    assert [note.text for note in reading.notes] == ["taken for a title, and left out: Our people"]


def test_needs_of_a_table_with_a_title() -> None:
    wishes: dict[str, Wish] = {"ann": "change", "cy": "must not"}
    text = "Who needs what\n\nwho\tjobs\nAnn Höfer\tchange\nCy Ward\tmust not\n".encode("utf-16")
    found = importing.read(OFFICE, ToImport(kind="needs", content=text)).reading
    after, _ = apply(OFFICE, found.edits)
    assert {need.who: need.wish for need in after.needs.values()} == wishes


@pytest.mark.parametrize(
    "content", [b"\xff\xfe\x00", b"\x00\x01\x02abc", b"PK\x03\x04nothing", b"", b"\n\n", b"\xff\xfe\x00\xd8\x00"]
)
def test_what_is_no_table_is_refused_in_words(content: bytes) -> None:
    with pytest.raises(FormatError):
        given(content)


CELLS = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cf", "Zs"]), max_size=6)


@settings(max_examples=times(200, 1000))
@drawn(
    st.lists(st.lists(CELLS, min_size=2, max_size=4), min_size=1, max_size=5),
    st.sampled_from(["utf-8", "utf-16", "utf-8-sig"]),
)
def test_a_table_without_anything_around_it_stays_as_it_is(rows: list[list[str]], encoding: str) -> None:
    text = table.write([["who", "jobs", "wages", "photos"], *rows])
    found = given(text.encode(encoding))
    back = [cells for _, cells in table.rows(found.text)]
    wanted = [cells for _, cells in table.rows(text)]
    left_out = {note.line for note in found.notes}
    assert len(back) + len(left_out) == len(wanted)
    if not left_out:
        assert [cells + [""] * (4 - len(cells)) for cells in back] == [
            cells + [""] * (4 - len(cells)) for cells in wanted
        ]


@settings(max_examples=times(300, 3000), deadline=None)
@drawn(st.binary(max_size=200))
def test_any_bytes_are_a_table_or_refused(content: bytes) -> None:
    try:
        found = given(content)
    except FormatError:
        return
    assert isinstance(found.text, str)
