"""Workbooks (.xlsx, ISO/IEC 29500): a plan as sheets to be read, and as a whole to be taken in again."""

import io
import re
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from openpyxl import Workbook, load_workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.styles import Alignment, Font, PatternFill
from openpyxl.utils import get_column_letter

from yardgate.core.model import naming
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Share
from yardgate.core.policy.compliance import Compliance
from yardgate.core.policy.findings import BY_KIND
from yardgate.core.policy.findings.case import Finding
from yardgate.formats import access, list_text, matrix, people, planfile, promises, table
from yardgate.formats.reading import FormatError
from yardgate.formats.sheets import FILLED, rows_within, unpackable

BEGINS = b"PK\x03\x04"
MEDIA = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
FILLS = {"RW": "DCEFEB", "RO": "FAECD2", "NA": "F4DFE7", "PT": "E6ECF0"}
HEAD = PatternFill("solid", fgColor="EBE6DA")
PLACES = ["place", "kind", "owner", "owning group", "list", "inheritance", "lines by hand", "quota", "note"]
SHARES = ["share", "place", "over", "guests", "options", "hosts over NFS", "squash", "acts as root", "note"]
WHOLE = "Plan file"
CELL = 30_000  # characters of a cell; Excel has 32,767
BREAKS = 200  # of lines in a cell; Excel has 253
CONTINUED = "\u21b3"  # before what goes on from the cell above
CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")  # which no sheet can hold


def write(kept: Compliance, findings: Iterable[Finding]) -> bytes:
    """What is set, what comes out, who gets in where, people and groups, places with their lists, shares, promises and findings, a sheet each; on
    the last the plan as its plan file has it, by which the workbook is read back whole."""
    plan = kept.outcome.matrix.plan
    book = Workbook(write_only=True)  # row by row: what is written is not kept
    _sheet(book, "What is set", table.fields(matrix.write_grants(plan)), fixed=2)
    _sheet(book, "What comes out", table.fields(matrix.write_outcome(kept.outcome)), fixed=3)
    _sheet(book, "Who gets in where", table.fields(access.write(kept.outcome)), fixed=1)
    _sheet(book, "People and groups", table.fields(people.write(plan)), fixed=1)
    _sheet(
        book, "Places and lists", [PLACES, *(_place(plan, place) for place in sorted(plan.places, key=plan.path_name))]
    )
    _sheet(
        book, "Shares", [SHARES, *(_share(plan, share) for share in sorted(plan.shares.values(), key=lambda s: s.name))]
    )
    _sheet(book, "Promises", table.fields(promises.write(plan)))
    said = [[f.severity, BY_KIND[f.kind].title, f.sentence] for f in findings]
    _sheet(book, "Findings", [["severity", "what", "in a sentence"], *said])
    _sheet(
        book,
        WHOLE,
        [
            ["the plan file, read back from here: leave it as it is"],
            *([line] for line in _pieces(planfile.write(plan))),
        ],
    )
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _place(plan: Plan, place: str) -> list[str]:
    one = plan.places[place]
    owner, group = (plan.named(who) if who else "" for who in (one.owner, one.group))
    own = "" if one.acl is None else " ".join(list_text.list_text(plan, one.acl).split())
    size = "" if one.quota is None else naming.size(one.quota)
    comes = "nothing comes down" if one.inheritance_stops else ""
    return [plan.path_name(place), one.kind, owner, group, one.acl.style if one.acl else "", comes, own, size, one.note]


def _share(plan: Plan, share: Share) -> list[str]:
    over = " and ".join(word for word, on in (("SMB", share.smb), ("NFS", share.nfs)) if on)
    marks = ("read_only", "hidden", "hide_unreadable", "versions", "recycle")
    options = [mark.replace("_", " ") for mark in marks if getattr(share, mark)]
    hosts = [f"{rule.hosts} {rule.level}" for rule in share.hosts]
    boss = plan.named(share.administrator) if share.administrator else ""
    return [
        share.name,
        plan.path_name(share.place),
        over,
        share.guests,
        ", ".join(options),
        ", ".join(hosts),
        share.squash,
        boss,
        share.note,
    ]


def _pieces(text: str) -> Iterator[str]:
    """A text in pieces that fit in cells, each of whole lines; of a line that is longer the further pieces begin with a mark."""
    piece = ""
    for line in text.splitlines():
        if piece and len(piece) + len(line) < CELL and piece.count("\n") < BREAKS:
            piece = f"{piece}\n{line}"
            continue
        if piece:
            yield piece
        *full, piece = [f"{CONTINUED if at else ''}{line[at : at + CELL]}" for at in range(0, max(len(line), 1), CELL)]
        yield from full
    if piece:
        yield piece


def plan_file(content: bytes) -> str:
    """The plan file that a workbook written here has on its last sheet. Raises FormatError."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as packed:
            unpackable(packed, sheets=False)
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        told = book[WHOLE].iter_rows(values_only=True) if WHOLE in book.sheetnames else iter(())
        lines = [str(row[0] or "") for row in rows_within(told, FILLED)][1:]
    except FormatError:
        raise
    except Exception:  # whatever the parts of the library meet in a damaged file goes through it
        raise FormatError("this is not a workbook (.xlsx) that can be read; export it again") from None
    if not lines:
        raise FormatError(
            f"this workbook has no sheet “{WHOLE}”, so the whole plan cannot be read from it; its first sheet can be imported as a matrix"
        )
    return "\n".join(lines).replace(f"\n{CONTINUED}", "")


def _sheet(book: Workbook, title: str, rows: Sequence[Sequence[str]], fixed: int = 0) -> None:
    """A sheet of texts; the first row is its head, and stays in sight, as do the first columns."""
    sheet = book.create_sheet(title)
    widths = [max((len(text) for text in column), default=0) for column in zip(*(rows[1:] or rows), strict=False)]
    for column, width in enumerate(widths, 1):
        sheet.column_dimensions[get_column_letter(column)].width = min(max(width + 2, 6), 70)
    sheet.freeze_panes = f"{get_column_letter(fixed + 1)}2"
    levels = {level: _level(sheet, level) for level in FILLS}
    sheet.append([_head(sheet, text, fixed, column) for column, text in enumerate(rows[0], 1)])
    for row in rows[1:]:
        sheet.append([levels.get(text) or _plain(sheet, text) for text in row])


def _plain(sheet: Any, text: str) -> Any:
    """A text as a cell that is never taken for a formula, nor for an error."""
    if not text:
        return None
    clean = CONTROL.sub("\ufffd", text)
    if clean[0] not in "=#":
        return clean
    cell = WriteOnlyCell(sheet, clean)
    cell.data_type = "s"
    return cell


def _head(sheet: Any, text: str, fixed: int, column: int) -> Any:
    cell = WriteOnlyCell(sheet, CONTROL.sub("\ufffd", text))
    cell.data_type = "s"
    cell.font, cell.fill = Font(bold=True), HEAD
    cell.alignment = Alignment(wrap_text=True, vertical="bottom", text_rotation=60 if column > fixed > 1 else 0)
    return cell


def _level(sheet: Any, level: str) -> Any:
    """A cell that stands wherever the level does."""
    cell = WriteOnlyCell(sheet, level)
    cell.fill = PatternFill("solid", fgColor=FILLS[level])
    cell.alignment = Alignment(horizontal="center")
    return cell
