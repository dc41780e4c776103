"""A table in whatever wrote it and however it is laid out, as text that readers of tables take: a row of headings, then the rest."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache
from typing import NamedTuple

from yardgate.core.model.plan import Plan
from yardgate.formats import table
from yardgate.formats.layout import Knowing, Layout, Rows, laid_out, plain_rows, proposed
from yardgate.formats.lookup import Lookup
from yardgate.formats.reading import Note, Reading
from yardgate.formats.sheets import Sheet, sheets


class Given(NamedTuple):
    """Text as `table.rows` reads it, each row on the line on which it began; what was noticed; how it was read, and its words."""

    text: str
    notes: tuple[Note, ...]
    layout: Layout | None = None
    words: Counter[str] | None = None
    sheets: tuple[Sheet, ...] = ()


def given(content: bytes) -> Given:
    """A table that has a row of headings, without what stands around it. Raises FormatError where it is none."""
    found = sheets(content)
    notes = list(found[0].notes)
    return Given(_written(plain_rows(found[0], notes)), tuple(notes), sheets=found)


def laid(plan: Plan, content: bytes, layout: Layout | None, is_word: Callable[[str], bool]) -> Given:
    """A table of people and places as people in rows, by its layout or the one that it seems to have. is_word: whether a word says a level.

    Raises FormatError where it is no table, or none with that layout.
    """
    found, known = sheets(content), knowing(plan, is_word)
    layout = layout if layout is not None else proposed(found, known)
    rows, notes, words = laid_out(found, layout, known)
    return Given(_written(rows), notes, layout, words, found)


def knowing(plan: Plan, is_word: Callable[[str], bool]) -> Knowing:
    """What is known of the texts of a table."""
    lookup = Lookup(plan)

    def one(found: tuple[str, ...]) -> str:
        return found[0] if len(found) == 1 else ""

    return Knowing(
        cache(lambda text: one(lookup.who(text))), cache(lambda text: one(lookup.place(text))), cache(is_word)
    )


def noted(found: Given, read: Callable[[str], Reading]) -> Reading:
    """What a reader makes of a table that was given, with what was noticed before it."""
    reading = read(found.text)
    return replace(reading, notes=(*found.notes, *reading.notes))


def _written(rows: Rows | Sequence[tuple[int, Sequence[str]]]) -> str:
    """CSV with each row on its line, as far as they are in order."""
    found, at = [], 1
    for line, cells in rows:
        found.append("\r\n" * max(0, line - at))
        written = table.write([cells])
        found.append(written)
        at = max(line, at) + written.count("\n")
    return "".join(found)
