"""Tables as offices keep them, made up, with what comes out of each: `who place level` a line, and words of notes that are to be among those told."""

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

import xlwt
from odf import opendocument
from odf.office import Annotation
from odf.table import CoveredTableCell, Table, TableCell, TableRow
from odf.text import P
from openpyxl import Workbook
from openpyxl.comments import Comment

from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.core.model.share import Share

OFFICE = Plan(
    name="keelson",
    users={
        "ann": User(id="ann", name="ann", full_name="Ann Höfer", aliases=("ann.hoefer@quay.example",)),
        "bo": User(id="bo", name="bo", full_name="Bo Żak"),
        "cy": User(id="cy", name="cy", full_name="Cy Ward"),
        "tom": User(id="tom", name="tbeck", full_name="Tom Beck"),
    },
    groups={"crew": Group(id="crew", name="Crew", members=frozenset({"ann", "bo"}))},
    places={
        "tank": Place(id="tank", name="tank", kind="pool"),
        "jobs": Place(id="jobs", name="jobs", kind="dataset", parent="tank"),
        "wages": Place(id="wages", name="wages", kind="dataset", parent="tank"),
        "drawings": Place(id="drawings", name="old drawings", kind="folder", parent="jobs"),
    },
    shares={"j": Share(id="j", name="Joblist", place="jobs")},
)
USUAL = "ann jobs RW\nann wages RO\ncy jobs RO"
Sheets = Mapping[str, Sequence[Sequence[Any]]]


@dataclass(frozen=True)
class Case:
    """content: the file. comes: what is set. told: words of notes. make, words: what is answered. unknown: names that are asked about."""

    content: bytes
    comes: str = USUAL
    told: tuple[str, ...] = ()
    make: Mapping[str, str] = field(default_factory=dict)
    words: Mapping[str, str] = field(default_factory=dict)
    unknown: tuple[str, ...] = ()


def xlsx(sheets: Sheets, *, merged: Sequence[str] = (), comments: Mapping[str, str] | None = None) -> bytes:
    book, out = Workbook(), io.BytesIO()
    book.remove(book.active)
    for name, rows in sheets.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(list(row))
    last = book.worksheets[-1]
    for area in merged:
        last.merge_cells(area)
    for cell, text in (comments or {}).items():
        last[cell].comment = Comment(text, "H. Vance")
    book.save(out)
    return out.getvalue()


def ods(rows: Sequence[Sequence[str]], comment: str = "") -> bytes:
    book = opendocument.OpenDocumentSpreadsheet()
    sheet = Table(name="Rights")
    for row in rows:
        line = TableRow()
        for text in row:
            cell = TableCell(valuetype="string") if text != "<" else CoveredTableCell()
            if text and text != "<":
                cell.addElement(P(text=text))
            if comment and text == rows[0][0]:
                note = Annotation()
                note.addElement(P(text=comment))
                cell.addElement(note)
            line.addElement(cell)
        sheet.addElement(line)
    book.spreadsheet.addElement(sheet)
    out = io.BytesIO()
    book.write(out)
    return out.getvalue()


def xls(rows: Sequence[Sequence[object]]) -> bytes:
    book, out = xlwt.Workbook(), io.BytesIO()
    sheet, days = book.add_sheet("Rights"), xlwt.easyxf(num_format_str="YYYY-MM-DD")
    for at, row in enumerate(rows):
        for number, value in enumerate(row):
            sheet.write(at, number, value, days if isinstance(value, date) else xlwt.Style.default_style)
    book.save(out)
    return out.getvalue()


ROWS = [["who", "jobs", "wages"], ["Ann Höfer", "RW", "RO"], ["Cy Ward", "RO", ""]]


def csv(rows: Sequence[Sequence[str]] = ROWS, apart: str = ";") -> bytes:
    return "".join(apart.join(f'"{cell}"' if apart in cell else cell for cell in row) + "\n" for row in rows).encode()


def body(*rows: str) -> bytes:
    return "\n".join(rows).encode()


TABLES: dict[str, Case] = {
    "plain": Case(csv()),
    "workbook": Case(xlsx({"Rights": ROWS})),
    "a cover sheet first": Case(xlsx({"Cover": [["Access rights"], ["2027"]], "Rights": ROWS}), told=("only the sheet “Rights” was read",)),
    "two cover sheets and a list of people after": Case(
        xlsx({"Cover": [["x"]], "Rights": ROWS, "People": [["name", "phone"], ["Ann Höfer", "12"], ["Cy Ward", "13"]]})
    ),
    "ods": Case(ods(ROWS)),
    "xls": Case(xls(ROWS)),
    "xls with numbers and days": Case(
        xls([["who", "phone", "since", "jobs", "wages"], ["Ann Höfer", 12.0, date(2027, 3, 1), "RW", "RO"], ["Cy Ward", 13.5, date(2027, 3, 2), "RO", ""]]),
        unknown=("phone", "since"),
    ),
    "ods with a comment": Case(ods(ROWS, "ask Bo"), told=("a comment: ask Bo",)),
    "a comment in a workbook": Case(xlsx({"R": ROWS}, comments={"B2": "only until June"}), told=("a comment on “RW”: only until June",)),
    "merged title": Case(xlsx({"R": [["Access rights 2027", "", ""], *ROWS]}, merged=["A1:C1"])),
    "two heading rows, merged": Case(
        xlsx({"R": [["", "jobs", "", "tank"], ["who", "old drawings", "", "wages"], ["Ann Höfer", "RW", "", "RO"], ["Cy Ward", "RO", "", "RO"]]}, merged=["B1:C1"]),
        comes="ann drawings RW\nann wages RO\ncy drawings RO\ncy wages RO",
    ),
    "transposed": Case(csv([["", "Ann Höfer", "Cy Ward"], ["jobs", "RW", "RO"], ["wages", "RO", ""]])),
    "transposed workbook with a title": Case(
        xlsx({"R": [["Rights"], [], ["folder", "Ann Höfer", "Cy Ward"], ["jobs", "RW", "RO"], ["wages", "RO", None]]})
    ),
    "a list": Case(csv([["folder", "person", "access"], ["jobs", "Ann Höfer", "RW"], ["wages", "Ann Höfer", "RO"], ["jobs", "Cy Ward", "RO"]])),
    "a list, person first, other columns beside": Case(
        csv([["nr", "person", "since", "folder", "right"], ["1", "Ann Höfer", "2020", "jobs", "RW"], ["2", "Ann Höfer", "2021", "wages", "RO"], ["3", "Cy Ward", "2021", "jobs", "RO"]])
    ),
    "a list that goes on in blank cells": Case(
        csv([["person", "folder", "access"], ["Ann Höfer", "jobs", "RW"], ["", "wages", "RO"], ["Cy Ward", "jobs", "RO"]])
    ),
    "a list of several people in a cell": Case(
        csv([["folder", "people", "access"], ["jobs", "Ann Höfer, Bo Żak", "RW"], ["wages", "Cy Ward; Ann Höfer", "RO"], ["jobs", "Cy Ward", "RO"]]),
        comes="ann jobs RW\nann wages RO\nbo jobs RW\ncy jobs RO\ncy wages RO",
    ),
    "a list in German": Case(
        csv([["Ordner", "Mitarbeiter", "Recht"], ["jobs", "Ann Höfer", "Schreiben"], ["wages", "Ann Höfer", "Lesen"], ["jobs", "Cy Ward", "nur lesen"]])
    ),
    "a list that says one pair twice": Case(
        csv([["folder", "who", "access"], ["jobs", "Cy Ward", "RO"], ["jobs", "Cy Ward", "RW"], ["wages", "Ann Höfer", "RO"], ["jobs", "Ann Höfer", "RW"]]),
        told=("“Cy Ward” has “RO” in “jobs” before; the first counts",),
    ),
    "surname first": Case(csv([["who", "jobs", "wages"], ["Höfer Ann", "RW", "RO"], ["Ward, Cy", "RO", ""]])),
    "mail addresses": Case(csv([["who", "jobs", "wages"], ["ann.hoefer@quay.example", "RW", "RO"], ["cy@quay.example", "RO", ""]])),
    "sign-in names in brackets": Case(csv([["who", "jobs", "wages"], ["Höfer, A. (ann)", "RW", "RO"], ["Cy Ward (cy)", "RO", ""]])),
    "names in capitals, doubled blanks": Case(csv([["who", "jobs", "wages"], ["ANN  HÖFER", "RW", "RO"], [" cy ward ", "RO", ""]])),
    "blanks that do not break": Case(csv([["who", "jobs", "wages"], ["Ann\u00a0Höfer", "RW\u00a0", "RO"], ["Cy\u202fWard", "RO", ""]])),
    "UNC paths": Case(csv([["who", r"\\keelson\Joblist", r"\\keelson\tank\wages"], ["ann", "RW", "RO"], ["cy", "RO", ""]])),
    "UNC path below a share": Case(
        csv([["who", r"\\keelson\Joblist\old drawings", "wages"], ["ann", "RW", "RO"]]), comes="ann drawings RW\nann wages RO"
    ),
    "backslash paths": Case(csv([["who", r"tank\jobs", r"tank\wages"], ["ann", "RW", "RO"], ["cy", "RO", ""]])),
    "drive letters": Case(csv([["who", r"T:\jobs", r"T:\wages"], ["ann", "RW", "RO"], ["cy", "RO", ""]])),
    "paths from the root of the host": Case(csv([["who", "/srv/tank/jobs", "/srv/tank/wages"], ["ann", "RW", "RO"], ["cy", "RO", ""]])),
    "paths with blanks around slashes": Case(csv([["who", "tank / jobs", "tank/ wages"], ["ann", "RW", "RO"], ["cy", "RO", ""]])),
    "a cross that nobody explained": Case(
        csv([["who", "jobs", "wages"], ["ann", "x", "x"], ["cy", "x", ""]]), comes="", told=("“x” is not a level, so that 3 cells said nothing",)
    ),
    "a cross that means reading": Case(
        csv([["who", "jobs", "wages"], ["ann", "x", "X"], ["cy", "x", ""]]), comes="ann jobs RO\nann wages RO\ncy jobs RO", words={"x": "RO"}
    ),
    "ticks and crosses": Case(
        csv([["who", "jobs", "wages"], ["ann", "✓", "✗"], ["cy", "✓", "✗"]]),
        comes="ann jobs RW\ncy jobs RW",
        words={"✓": "RW", "✗": ""},
    ),
    "yes and no": Case(
        csv([["who", "jobs", "wages"], ["ann", "yes", "no"], ["cy", "Yes", "no"]]),
        comes="ann jobs RW\nann wages NA\ncy jobs RW\ncy wages NA",
        words={"yes": "RW"},
        told=("“no” was taken as a refusal",),
    ),
    "words of Windows": Case(
        csv([["who", "jobs", "wages"], ["ann", "Modify", "Read & execute"], ["cy", "RX", "Full control"]]),
        comes="ann jobs RW\nann wages RO\ncy jobs RO\ncy wages RW",
    ),
    "letters": Case(csv([["who", "jobs", "wages"], ["ann", "M", "R"], ["cy", "r", "-"]]), told=("a dash or dot was taken as not set",)),
    "rwx": Case(csv([["who", "jobs", "wages"], ["ann", "rwx", "r-x"], ["cy", "r--", "---"]]), comes="ann jobs RW\nann wages RO\ncy jobs RO"),
    "French": Case(csv([["nom", "jobs", "wages"], ["Ann Höfer", "écriture", "lecture"], ["Cy Ward", "Lecture seule", ""]])),
    "Spanish": Case(csv([["nombre", "jobs", "wages"], ["Ann Höfer", "escritura", "lectura"], ["Cy Ward", "Solo lectura", ""]])),
    "Italian": Case(csv([["nome", "jobs", "wages"], ["Ann Höfer", "Scrittura", "lettura"], ["Cy Ward", "sola lettura", ""]])),
    "Dutch": Case(csv([["naam", "jobs", "wages"], ["Ann Höfer", "schrijven", "lezen"], ["Cy Ward", "alleen lezen", ""]])),
    "a totals row and column": Case(csv([["who", "jobs", "wages"], ["Ann Höfer", "RW", "RO"], ["Cy Ward", "RO", ""], ["Total", "2", "1"]]), told=("taken for a sum",)),
    "headings of groups of people": Case(
        csv([["who", "jobs", "wages"], ["Workshop", "", ""], ["Ann Höfer", "RW", "RO"], ["Office", "", ""], ["Cy Ward", "RO", ""]]),
        told=("taken for a heading, and left out: Workshop", "taken for a heading, and left out: Office"),
    ),
    "a column of notes": Case(csv([["who", "jobs", "wages", "Remarks"], ["Ann Höfer", "RW", "RO", "since May"], ["Cy Ward", "RO", "", ""]]), told=("“Remarks” was left out",)),
    "a column before the names": Case(csv([["Nr", "who", "jobs", "wages"], ["1", "Ann Höfer", "RW", "RO"], ["2", "Cy Ward", "RO", ""]])),
    "several people in a row": Case(
        csv([["who", "jobs", "wages"], ["Ann Höfer; Bo Żak", "RW", "RO"], ["Cy Ward", "RO", ""]]), comes="ann jobs RW\nann wages RO\nbo jobs RW\nbo wages RO\ncy jobs RO"
    ),
    "an unknown person": Case(csv([*ROWS, ["Dan Ode", "RO", ""]]), unknown=("Dan Ode",)),
    "an unknown person who is meant by another name": Case(csv([*ROWS, ["Bo Zak", "RO", ""]]), make={"Bo Zak": "=bo"}, comes=f"bo jobs RO\n{USUAL}"),
    "an unknown place": Case(csv([["who", "jobs", "wages", "Holidays"], ["Ann Höfer", "RW", "RO", "RW"], ["Cy Ward", "RO", "", ""]]), unknown=("Holidays",)),
    "an unknown word": Case(csv([*ROWS, ["Bo Żak", "sometimes", ""]]), told=("“sometimes” is not a level, so that a cell said nothing",)),
    "a place named twice": Case(csv([["who", "jobs", "wages", "jobs"], ["Ann Höfer", "RW", "RO", "RO"], ["Cy Ward", "RO", "", ""]]), told=("“jobs” is named twice",)),
    "a person twice": Case(csv([*ROWS, ["cy", "RW", ""]]), told=("“cy” has another row in line 3 that says otherwise",)),
    "a person in two rows that agree": Case(csv([["who", "jobs", "wages"], ["Ann Höfer", "RW", ""], ["Cy Ward", "RO", ""], ["Höfer Ann", "", "RO"]])),
    "a row without a name": Case(csv([*ROWS, ["", "RW", ""]]), told=("the row has no name",)),
    "everything at once": Case(
        csv([["who", "jobs", "wages", ""], ["Ann Höfer", "RW", "RO", "RO"], ["Cy Ward", "RO", "", ""], ["cy", "RW", "", ""], ["Dan", "perhaps", "", ""], ["", "RO", "", ""]]),
        told=("column 4 has no place", "“cy” has another row in line 3", "“perhaps” is not a level", "the row has no name"),
        unknown=("Dan",),
    ),
    "bars between cells": Case(body("sep=|", "who|jobs|wages", "ann|RW|RO", "cy|RO|")),
    "pipes of a wiki": Case(body("who\tjobs\twages", "ann\tRW\tRO", "cy\tRO\t")),
    "group and person of a table with kinds": Case(csv([["kind", "name", "jobs"], ["group", "Crew", "RW"], ["person", "cy", "RO"]]), comes="crew jobs RW\ncy jobs RO"),
    "days and numbers beside": Case(
        xlsx({"R": [["Staff no.", "who", "jobs", "wages"], [17, "Ann Höfer", "RW", "RO"], [18, "Cy Ward", "RO", None]]})
    ),
    "formulas are not run": Case(csv([["who", "jobs", "wages"], ["ann", "'=RW", "RO"]]), comes="ann wages RO", told=("“=RW” is not a level",)),
    "UTF-16 with tabs": Case(csv(apart="\t").decode().encode("utf-16")),
    "Windows-1252": Case(csv().decode().encode("cp1252"), told=("this is not UTF-8; it was read as cp1252",)),
    "old Macintosh line ends": Case(csv().replace(b"\n", b"\r")),
}  # fmt: skip
