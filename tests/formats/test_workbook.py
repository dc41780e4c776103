"""Workbooks: a plan as sheets, the same cells in another program, and a sheet taken in."""

import csv
import io
import subprocess
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest
from openpyxl import Workbook, load_workbook

from tests.conftest import ON
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.edits.apply import apply
from yardgate.core.model.behaviour import PROFILES
from yardgate.core.model.plan import Plan, same
from yardgate.core.policy.compliance import Compliance, keep
from yardgate.core.policy.findings import find
from yardgate.core.policy.findings.case import Case
from yardgate.formats import importing, matrix, people, planfile, table, workbook
from yardgate.formats import sheets as sheet_files
from yardgate.formats.importing import ToImport
from yardgate.formats.reading import FormatError


def kept_of(plan: Plan) -> Compliance:
    return keep(outcome(resolve(plan, ON)))


def sheets(content: bytes) -> dict[str, list[list[str]]]:
    book = load_workbook(io.BytesIO(content))
    return {
        sheet.title: [["" if cell is None else str(cell) for cell in row] for row in sheet.iter_rows(values_only=True)]
        for sheet in book.worksheets
    }


@pytest.fixture(scope="module")
def hostile() -> Plan:
    """The demo with names that a spreadsheet might run, or that XML cannot hold."""
    plan = demo.plan()
    user = next(iter(plan.users.values()))
    group = next(iter(plan.groups.values()))
    named = replace(group, name='=HYPERLINK("http://x","y")')
    return replace(
        plan,
        users={**plan.users, user.id: replace(user, full_name="+1 & <b> ü ']]>")},
        groups={**plan.groups, group.id: named},
    )


def test_every_sheet_has_the_cells_of_its_table(hostile: Plan) -> None:
    kept = kept_of(hostile)
    content = workbook.write(kept, find(Case(kept.outcome)))
    found = sheets(content)
    assert list(found) == [
        "What is set",
        "What comes out",
        "Who gets in where",
        "People and groups",
        "Places and lists",
        "Shares",
        "Promises",
        "Findings",
        "Plan file",
    ]
    assert found["What is set"] == table.fields(matrix.write_grants(hostile))
    assert found["What comes out"] == table.fields(matrix.write_outcome(kept.outcome))
    assert found["People and groups"] == table.fields(people.write(hostile))
    assert len(found["Findings"]) > 10
    book = load_workbook(io.BytesIO(content))
    assert {cell.data_type for sheet in book.worksheets for row in sheet.iter_rows() for cell in row} <= {"s", "n"}
    assert b"<f>" not in b"".join(
        zipfile.ZipFile(io.BytesIO(content)).read(n) for n in zipfile.ZipFile(io.BytesIO(content)).namelist()
    )


def test_the_whole_plan_is_read_back_from_a_workbook(hostile: Plan) -> None:
    noted = replace(hostile.users["mira-oyelaran"], note="=1 \u21b3 " + "long " * 700)
    plan = replace(hostile, users={**hostile.users, noted.id: noted}, target=PROFILES[0].on(hostile.target))
    content = workbook.write(kept_of(plan), ())
    assert same(planfile.read(workbook.plan_file(content)), plan)
    rows = sheets(content)
    assert len(rows["Shares"]) == 1 + len(plan.shares)
    assert {row[0] for row in rows["Places and lists"][1:]} == {plan.path_name(place) for place in plan.places}
    bare = Workbook()
    bare.active.title = "What is set"
    out = io.BytesIO()
    bare.save(out)
    with pytest.raises(FormatError, match="has no sheet"):
        workbook.plan_file(out.getvalue())
    with pytest.raises(FormatError, match="not a workbook"):
        workbook.plan_file(b"PK\x03\x04 nonsense")


def test_what_was_taken_away_comes_in_again(hostile: Plan) -> None:
    kept = kept_of(hostile)
    bare = replace(hostile, grants={})
    reading = importing.read(bare, ToImport(kind="matrix", content=workbook.write(kept, ()))).reading
    again, _ = apply(bare, reading.edits)
    assert {p: dict(g) for p, g in again.grants.items()} == {p: dict(g) for p, g in hostile.grants.items()}


def test_a_sheet_that_somebody_typed_is_taken_in() -> None:
    book = Workbook()
    assert book.active is not None
    for row in (["", "drawings", "payroll", None], ["Mira Oyelaran", "rw", None], [], ["Ledger", None, "read only"]):
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    bare = replace(demo.plan(), grants={})
    reading = importing.read(bare, ToImport(kind="matrix", content=out.getvalue())).reading
    assert [(e.place, e.level) for e in reading.edits] == [("drawings", "RW"), ("payroll", "RO")]  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "content", [b"PK\x03\x04", b"PK\x03\x04" + b"x" * 500, b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 old"]
)
def test_what_is_no_workbook_is_refused(content: bytes) -> None:
    with pytest.raises(FormatError, match=r"not an? (old )?workbook|not an old"):
        sheet_files.sheets(content)


def test_a_workbook_that_would_unpack_to_more_than_fits_is_refused() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for number in range(5):
            packed.writestr(f"xl/worksheets/sheet{number}.xml", b"0" * (64 * 1024 * 1024))
    with pytest.raises(FormatError, match="too large"):
        sheet_files.sheets(out.getvalue())


@pytest.mark.long
def test_another_program_shows_the_same_cells(hostile: Plan, tmp_path: Path) -> None:
    """LibreOffice (Debian's libreoffice-calc) converts each sheet to CSV, without a screen."""
    kept = kept_of(hostile)
    (tmp_path / "plan.xlsx").write_bytes(workbook.write(kept, find(Case(kept.outcome))))
    ours = sheets((tmp_path / "plan.xlsx").read_bytes())
    options = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false,false,false,-1"
    command = ["soffice", f"-env:UserInstallation=file://{tmp_path}/profile", "--headless", "--convert-to", options]
    subprocess.run(
        [*command, "--outdir", tmp_path, tmp_path / "plan.xlsx"], check=True, capture_output=True, timeout=300
    )
    for title, rows in ours.items():
        shown = list(csv.reader((tmp_path / f"plan-{title}.csv").open(encoding="utf-8", newline="")))
        assert shown == rows, title
