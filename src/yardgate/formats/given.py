"""A table in whatever wrote it: a workbook, or text in the encoding that it is in, with titles, totals and empty columns around it."""

import unicodedata
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from charset_normalizer import from_bytes

from yardgate.core.model.naming import fold
from yardgate.formats import table, workbook
from yardgate.formats.reading import FormatError, Note, Reading, decode

MARKS = (
    (b"\xff\xfe\x00\x00", "utf-32"),
    (b"\x00\x00\xfe\xff", "utf-32"),
    (b"\xff\xfe", "utf-16"),
    (b"\xfe\xff", "utf-16"),
)
OFFICE = [
    "cp1252",
    "cp1250",
    "cp1251",
    "cp1253",
    "cp1254",
    "cp1257",
    "latin_1",
    "iso8859_2",
    "iso8859_15",
    "cp850",
    "cp437",
    "mac_roman",
]
"""Encodings of one byte a character that office programs write, where a table is not UTF-8."""
HEADS = ("name", "group", "who")
"""What a table of one column begins with."""
TOTALS = frozenset(
    fold(word) for word in ("total", "totals", "sum", "gesamt", "summe", "somme", "totaal", "totale", "suma")
)


class Given(NamedTuple):
    """Text as `table.rows` reads it, each row on the line on which it began; and what was noticed."""

    text: str
    notes: tuple[Note, ...]


def given(content: bytes) -> Given:
    """A table without what stands around it. Raises FormatError where it is none."""
    notes: list[Note] = []
    text = workbook.text(content) if content.startswith(workbook.BEGINS) else decoded(content, notes)
    rows = list(_rows(text))
    kept = _without_totals(_without_titles(rows, notes), notes)
    width = max((len(cells) for _, cells in kept), default=0)
    used = [column for column in range(width) if any(column < len(cells) and cells[column] for _, cells in kept)]
    return Given(
        _written([(line, [cells[c] if c < len(cells) else "" for c in used]) for line, cells in kept]), tuple(notes)
    )


def noted(content: bytes, read: Callable[[str], Reading]) -> Reading:
    """What a reader makes of a table that was given, with what was noticed before it."""
    found = given(content)
    reading = read(found.text)
    return replace(reading, notes=(*found.notes, *reading.notes))


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


def _rows(text: str) -> Iterator[tuple[int, list[str]]]:
    """The rows that are not blank, with the line on which each begins. A line `sep=;` says what separates cells, and is no row."""
    first, end, rest = text.partition("\n")
    said = first.strip().strip('"')
    if fold(said).startswith("sep=") and len(said) in (4, 5):
        yield from table.rows(end + _plain(rest), said[4:] or "\t")
    else:
        yield from table.rows(_plain(text), _delimiter(text))


def _delimiter(text: str) -> str:
    """What separates cells: what stands in most lines, then most often; titles have none."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    return max(
        table.DELIMITERS, key=lambda one: (sum(one in line for line in lines), sum(line.count(one) for line in lines))
    )


def _plain(text: str) -> str:
    """Blanks of all kinds as blanks, and no marks of direction or of joining, which nobody sees."""
    blanks = text.replace("\u00a0", " ").replace("\u202f", " ").replace("\u2007", " ")
    return "".join(char for char in blanks if unicodedata.category(char) != "Cf")


def _without_titles(rows: list[tuple[int, list[str]]], notes: list[Note]) -> list[tuple[int, list[str]]]:
    """From the first row with several cells on, if there is one: what stands above it alone in its row is a title."""
    begins = next((at for at, (_, cells) in enumerate(rows) if sum(map(bool, cells)) > 1), 0)
    if begins and fold("".join(rows[0][1])) not in HEADS:
        titles = "; ".join(next(filter(None, cells)) for _, cells in rows[:begins])
        notes.append(Note(rows[0][0], f"taken for a title, and left out: {titles[:120]}"))
        return rows[begins:]
    return rows


def _without_totals(rows: list[tuple[int, list[str]]], notes: list[Note]) -> list[tuple[int, list[str]]]:
    kept = []
    for line, cells in rows:
        filled = [cell for cell in cells if cell]
        if (
            rows[0][0] != line
            and fold(filled[0].rstrip(":")) in TOTALS
            and all(_is_number(cell) for cell in filled[1:])
        ):
            notes.append(Note(line, f"taken for a sum, and left out: {filled[0]}"))
        else:
            kept.append((line, cells))
    return kept


def _is_number(cell: str) -> bool:
    return cell.replace(".", "").replace(",", "").isdigit()


def _written(rows: Sequence[tuple[int, Sequence[str]]]) -> str:
    """CSV with each row on its line."""
    found, at = [], 1
    for line, cells in rows:
        found.append("\r\n" * max(0, line - at))
        written = table.write([cells])
        found.append(written)
        at = max(line, at) + written.count("\n")
    return "".join(found)
