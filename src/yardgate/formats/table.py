"""CSV (RFC 4180) and tab-separated text: rows in, rows out."""

import csv
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache

from yardgate.formats.reading import FormatError

DELIMITERS = ",;\t"
QUOTED = re.compile(r'[,;\t"\r\n]|^\s|\s$')  # what stands in quotes
FORMULA = ("=", "+", "-", "@", "\t", "\r")  # a spreadsheet may take a cell that begins so for a formula


def rows(text: str, delimiter: str = "") -> Iterator[tuple[int, list[str]]]:
    """(line on which it begins, fields) for each row that is not blank. The delimiter is the header's most frequent one, if none is told."""
    found = False
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter or _delimiter(text), strict=True)
    while True:
        line = reader.line_num + 1
        try:
            row = next(reader)
        except StopIteration:
            if not found:
                raise FormatError("there is nothing in it; the first line must name the columns", 1, 1) from None
            return
        except csv.Error as error:
            raise FormatError(f"not a well-formed table: {error}", reader.line_num or line, 1) from None
        if not row:
            continue
        fields = [field if field.isalnum() else _bare(field) for field in row]
        if any(fields):
            found = True
            yield line, fields


@lru_cache(maxsize=10_000)  # a table says the same few words in most of its cells
def _bare(field: str) -> str:
    return _unguard(field.strip(" ")).strip()


def _delimiter(text: str) -> str:
    counts = dict.fromkeys(DELIMITERS, 0)
    quoted = False
    for char in text.lstrip():
        if char == '"':
            quoted = not quoted
        elif char == "\n" and not quoted:
            break
        elif char in counts and not quoted:
            counts[char] += 1
    return max(counts, key=lambda delimiter: counts[delimiter])


def _unguard(field: str) -> str:
    return field[1:] if field[:1] == "'" and field[1:].startswith((*FORMULA, "'")) else field


def write(table: Iterable[Sequence[str]]) -> str:
    """CSV text with CRLF. A cell that a spreadsheet might run gets an apostrophe in front, which `rows` takes off again.

    What any spreadsheet might split at stands in quotes, so that none finds a formula behind a semicolon.
    """
    return "".join(f"{','.join(cell if cell.isalnum() else _cell(cell) for cell in row)}\r\n" for row in table)


@lru_cache(maxsize=10_000)
def _cell(text: str) -> str:
    plain = f"'{text}" if text.startswith((*FORMULA, "'")) else text
    quoted = QUOTED.search(plain) is not None
    return '"{}"'.format(plain.replace('"', '""')) if quoted else plain


def fields(text: str) -> list[list[str]]:
    """The cells of a table that `write` wrote, as they were before."""
    return [[_unguard(field) for field in row] for row in csv.reader(io.StringIO(text, newline=""))]
