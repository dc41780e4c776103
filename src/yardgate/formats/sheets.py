"""Any file with tables in it as sheets of texts: workbooks of four kinds, and text in whatever encoding, with whatever between its cells."""

import io
import re
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from typing import Any

import xlrd
from charset_normalizer import from_bytes
from odf import office as odf_office
from odf import opendocument, teletype
from odf.namespaces import OFFICENS, TABLENS
from odf.table import Table, TableRow
from openpyxl import load_workbook

from yardgate.core.model.naming import fold, show
from yardgate.formats import table
from yardgate.formats.reading import FormatError, Note, decode

PACKED, OLD = b"PK\x03\x04", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
LARGEST = 64 * 1024 * 1024  # bytes of what is packed in a workbook
LOOKED_INTO = 4 * 1024 * 1024  # bytes up to which comments, colours and merged cells of an .xlsx are read
PARTS = 2000  # files that are packed in it
FILLED, OPEN_FILLED = 60_000, 30_000  # cells of an .xlsx and an .ods: what their readers take about three seconds for
TAGS = 6  # of a filled cell at most: it begins and ends, as does what is in it
OLD_LARGEST = 6 * 1024 * 1024  # bytes of an .xls
ROWS, CELLS = 50_000, 600_000  # of a sheet, empty ones too
MARKS = (
    (b"\xff\xfe\x00\x00", "utf-32"),
    (b"\x00\x00\xfe\xff", "utf-32"),
    (b"\xff\xfe", "utf-16"),
    (b"\xfe\xff", "utf-16"),
)
OFFICE = [
    "cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp1257", "latin_1", "iso8859_2", "iso8859_15", "cp850", "cp437", "mac_roman",
]  # fmt: skip
"""Encodings of one byte a character that office programs write, where a table is not UTF-8."""


@dataclass(frozen=True, slots=True)
class Sheet:
    """One table: its rows that are not blank, each with the line, or row of its workbook, on which it begins; what was noticed of it."""

    name: str
    rows: tuple[tuple[int, tuple[str, ...]], ...]
    notes: tuple[Note, ...] = field(default=())

    @property
    def width(self) -> int:
        return max((len(cells) for _, cells in self.rows), default=0)


def _too_large(line: int, most: int, what: str = "sheet") -> FormatError:
    return FormatError(f"the {what} is too large; at most {ROWS:,} rows and {most:,} cells are read", line)


def sheets(content: bytes) -> tuple[Sheet, ...]:
    """The sheets of a file that are not blank, in their order. Raises FormatError where it is no table."""
    if content.startswith(PACKED):
        found = _packed(content)
    elif content.startswith(OLD):
        if len(content) > OLD_LARGEST:
            raise FormatError(
                f"the workbook is too large; of an .xls at most {OLD_LARGEST // 2**20} MiB are read: save it as CSV"
            )
        found = _tried("an old workbook (.xls)", _old, content)
    else:
        notes: list[Note] = []
        text = decoded(content, notes)
        if text.count("\n") > 10 * ROWS:  # also blank ones, which are no rows
            raise FormatError(f"the table is too large; at most {10 * ROWS:,} lines are read")
        found = [Sheet("", tuple(_within(_text_rows(text))), tuple(notes))]
    some = tuple(sheet for sheet in found if sheet.rows)
    if not some:
        raise FormatError("there is nothing in it; the first line must name the columns", 1, 1)
    return some


def _tried(what: str, read: Callable[[bytes], list[Sheet]], content: bytes) -> list[Sheet]:
    try:
        return read(content)
    except FormatError:
        raise
    except Exception:  # whatever the parts of a library meet in a damaged file goes through it
        raise FormatError(f"this is not {what} that can be read; save it again, or as CSV") from None


def _sheet(name: str, rows: Iterable[Sequence[str]], notes: Iterable[Note] = ()) -> Sheet:
    """A sheet without its blank rows. Raises FormatError for more than a table can have, as where a single cell far off is set."""
    kept, cells = [], 0
    for number, row in enumerate(rows, 1):
        cells += len(row)
        if number > ROWS or cells > CELLS:
            raise _too_large(number, CELLS)
        plain = tuple(_plain(cell).strip() for cell in row)
        if any(plain):
            kept.append((number, plain))
    return Sheet(name, tuple(kept), tuple(notes))


# --- workbooks --------------------------------------------------------------------------------------------------------


def _packed(content: bytes) -> list[Sheet]:
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as packed:
            is_open = "mimetype" in packed.namelist() and b"opendocument.spreadsheet" in packed.read("mimetype")[:100]
            size = unpackable(packed, OPEN_FILLED if is_open else FILLED)
    except FormatError:
        raise
    except Exception:
        raise FormatError("this is not a workbook (.xlsx or .ods) that can be read; save it again, or as CSV") from None
    if is_open:
        return _tried("a workbook (.ods)", _opendocument, content)
    return _tried("a workbook (.xlsx)", lambda it: _openxml(it, whole=size <= LOOKED_INTO), content)


def unpackable(packed: zipfile.ZipFile, filled: int = FILLED, *, sheets: bool = True) -> int:
    """The bytes that a workbook unpacks to. filled: about how many cells it may have; sheets: those in its sheets, too. Raises FormatError for
    one that is too large to be read."""
    parts = packed.infolist()
    size = sum(part.file_size for part in parts)
    if len(parts) > PARTS or size > LARGEST:
        raise FormatError(f"the workbook is too large; at most {LARGEST // 2**20} MiB are unpacked")
    counted = [part for part in parts if sheets or "/worksheets/" not in part.filename]
    if sum(packed.read(part).count(b"<") for part in counted) > filled * TAGS:
        raise FormatError(
            f"the workbook is too large; about {filled:,} filled cells are read, of all its sheets: save the one with the table as CSV"
        )
    return size


def _openxml(content: bytes, *, whole: bool) -> list[Sheet]:
    """whole: also what stands beside the values, for which all of it has to be in memory."""
    book = load_workbook(io.BytesIO(content), read_only=not whole, data_only=True)
    found = []
    for sheet in book.worksheets:
        if whole and (sheet.max_row > ROWS or sheet.max_row * sheet.max_column > CELLS):
            raise _too_large(1, CELLS)
        rows = [[_value(value) for value in row] for row in rows_within(sheet.iter_rows(values_only=True))]
        found.append(_sheet(sheet.title, rows, _beside(sheet, rows) if whole else ()))
    return found


def rows_within(rows: Iterable[tuple[Any, ...]], most: int = CELLS) -> Iterator[tuple[Any, ...]]:
    """Rows, as many as a sheet can have. most: cells. Raises FormatError for more."""
    cells = 0
    for number, row in enumerate(rows, 1):
        cells += len(row)
        if number > ROWS or cells > most:
            raise _too_large(number, most)
        yield row


def _beside(sheet: Any, rows: list[list[str]]) -> Iterator[Note]:
    """What a sheet has beside its values; a value in merged cells stands in each of them afterwards."""
    for merged in list(sheet.merged_cells.ranges)[:1000]:
        value = rows[merged.min_row - 1][merged.min_col - 1] if merged.min_row <= len(rows) else ""
        for row in rows[merged.min_row - 1 : merged.max_row] if value else ():
            for column in range(merged.min_col - 1, min(merged.max_col, len(row))):
                row[column] = value
    comments = [cell for row in sheet.iter_rows() for cell in row if cell.comment is not None]
    for cell in comments[:20]:
        yield Note(cell.row, f"a comment on {show(_value(cell.value))}: {' '.join(cell.comment.text.split())[:200]}")
    if len(comments) > 20:
        yield Note(comments[20].row, f"{len(comments) - 20} more comments")
    hidden = [number for number, row in sheet.row_dimensions.items() if row.hidden and number <= len(rows)]
    if hidden:
        yield Note(hidden[0], f"{len(hidden)} hidden rows were read as the others", lines=len(hidden))
    if any(column.hidden for column in sheet.column_dimensions.values()):
        yield Note(None, "hidden columns were read as the others")
    colours = Counter(_colour(cell) for row in sheet.iter_rows(min_row=2) for cell in row if cell.has_style)
    colours.pop("", None)
    if colours:
        yield Note(None, f"{sum(colours.values())} cells are coloured; that says nothing here")


def _colour(cell: Any) -> str:
    fill = cell.fill
    return str(fill.fgColor.rgb) if fill is not None and fill.fill_type == "solid" and not cell.font.b else ""


def _value(value: Any) -> str:
    """A cell as a table has it: a day without a time, a whole number without a point."""
    if value is None:
        return ""
    if isinstance(value, datetime) and value.time() == time():
        return value.date().isoformat()
    if isinstance(value, date) and not isinstance(value, datetime):
        return value.isoformat()
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def _old(content: bytes) -> list[Sheet]:
    book = xlrd.open_workbook(file_contents=content, logfile=io.StringIO(), on_demand=True)

    def texts(sheet: Any) -> Iterator[list[str]]:
        for row in range(sheet.nrows):
            yield [_old_value(book, cell) for cell in sheet.row(row)]

    return [_sheet(sheet.name, texts(sheet)) for sheet in map(book.sheet_by_index, range(book.nsheets))]


def _old_value(book: Any, cell: Any) -> str:
    if cell.ctype == xlrd.XL_CELL_DATE:
        return _value(xlrd.xldate_as_datetime(cell.value, book.datemode))
    if cell.ctype == xlrd.XL_CELL_BOOLEAN:
        return "TRUE" if cell.value else "FALSE"
    return "" if cell.ctype == xlrd.XL_CELL_ERROR else _value(cell.value)


def _opendocument(content: bytes) -> list[Sheet]:
    book = opendocument.load(io.BytesIO(content))
    return [
        _sheet(str(one.getAttrNS(TABLENS, "name") or ""), _open_rows(one), _open_notes(one))
        for one in book.spreadsheet.getElementsByType(Table)
    ]


def _open_rows(sheet: Any) -> Iterator[list[str]]:
    """Rows and cells as often as they say that they are repeated, but for blank ones at the end."""
    blank = 0
    for row in sheet.getElementsByType(TableRow):
        times = int(row.getAttrNS(TABLENS, "number-rows-repeated") or 1)
        cells: list[str] = []
        gap = 0
        for cell in row.childNodes:
            if cell.qname not in ((TABLENS, "table-cell"), (TABLENS, "covered-table-cell")):
                continue
            repeated = int(cell.getAttrNS(TABLENS, "number-columns-repeated") or 1)
            text = _open_value(cell)
            if not text:
                gap += repeated
                continue
            if len(cells) + gap + repeated > CELLS:
                raise _too_large(1, CELLS)
            cells += [""] * gap + [text] * repeated
            gap = 0
        if not cells:
            blank += times
            continue
        if blank > ROWS or times > ROWS:
            raise _too_large(1, CELLS)
        yield from ([] for _ in range(blank))
        blank = 0
        yield from (cells for _ in range(times))


def _open_value(cell: Any) -> str:
    day = cell.getAttrNS(OFFICENS, "date-value")
    if day:
        return str(day).removesuffix("T00:00:00")
    paragraphs = [child for child in cell.childNodes if getattr(child, "qname", ("", ""))[1] == "p"]
    return "\n".join(teletype.extractText(paragraph) for paragraph in paragraphs)


def _open_notes(sheet: Any) -> Iterator[Note]:
    comments = sheet.getElementsByType(odf_office.Annotation)
    for comment in comments[:20]:
        yield Note(None, f"a comment: {' '.join(teletype.extractText(comment).split())[:200]}")
    if len(comments) > 20:
        yield Note(None, f"{len(comments) - 20} more comments")


# --- text -------------------------------------------------------------------------------------------------------------


def decoded(content: bytes, notes: list[Note]) -> str:
    """Text by its byte order mark, as UTF-8, as UTF-16 where every other byte is NUL, else in the encoding of which it looks most."""
    for mark, name in MARKS:
        if content.startswith(mark):
            return _by(name, content)
    half = content[: len(content) // 2 * 2]
    for name, zeros in (("utf-16-le", half[1::2]), ("utf-16-be", half[::2])):
        if zeros and zeros.count(0) > 0.4 * len(zeros):
            return _by(name, content)
    try:
        return decode(content)
    except FormatError:
        if b"\0" in content:
            raise
    best = from_bytes(content, cp_isolation=OFFICE, threshold=1.0).best()
    name = best.encoding if best is not None else "cp1252"
    text = content.decode(name, "replace")
    if text == content.decode("cp1252", "replace"):
        name = "cp1252"
    odd = next((line for line in text.splitlines() if not line.isascii()), "")
    notes.append(Note(None, f"this is not UTF-8; it was read as {name}, so that a line reads: {odd.strip()[:80]}"))
    return text


def _by(name: str, content: bytes) -> str:
    try:
        return content.decode(name).removeprefix("\ufeff")
    except UnicodeDecodeError:
        raise FormatError(
            f"this begins as {name.upper()} text does, and goes on otherwise; save it again, as UTF-8"
        ) from None


def _text_rows(text: str) -> Iterator[tuple[int, list[str]]]:
    """The rows that are not blank, with the line on which each begins. A line `sep=;` says what separates cells, and is no row."""
    first, end, rest = text.partition("\n")
    said = first.strip().strip('"')
    if fold(said).startswith("sep=") and len(said) in (4, 5):
        yield from table.rows(end + _plain(rest), said[4:] or "\t")
    else:
        yield from table.rows(_plain(text), _delimiter(text))


def _within(rows: Iterable[tuple[int, list[str]]]) -> Iterator[tuple[int, tuple[str, ...]]]:
    """Rows, as many as a table can have. Raises FormatError for more."""
    number = cells = 0
    for line, row in rows:
        number, cells = number + 1, cells + len(row)
        if number > ROWS or cells > CELLS:
            raise _too_large(line, CELLS, "table")
        yield line, tuple(row)


def _delimiter(text: str) -> str:
    """What separates cells: what stands in most lines, then most often; titles have none."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    return max(
        table.DELIMITERS, key=lambda one: (sum(one in line for line in lines), sum(line.count(one) for line in lines))
    )


def _plain(text: str) -> str:
    """Blanks of all kinds as blanks, and no marks of direction or of joining, which nobody sees."""
    return text if text.isascii() else UNSEEN.sub("", BLANKS.sub(" ", text))


BLANKS = re.compile("[\u00a0\u202f\u2007]")
UNSEEN = re.compile(
    "[\u00ad\u0600-\u0605\u061c\u06dd\u070f\u0890\u0891\u08e2\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2064\u2066-\u206f\ufeff\ufff9-\ufffb"
    "\U000110bd\U000110cd\U00013430-\U0001343f\U0001bca0-\U0001bca3\U0001d173-\U0001d17a\U000e0001\U000e0020-\U000e007f]"
)
"""Characters of the category Cf (The Unicode Standard 15.0, 4.5)."""
