"""How a table is laid out, found from what stands in it: which sheet, which row has the headings, where people stand, and what its words mean.

Three forms come in: people in rows and places in columns; the other way round; and a list with a line for each person and place. What is found can
be said otherwise, and is kept as a value, so that the next table of the kind is read alike.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, NamedTuple

from yardgate.core.acl.rights import STRICT
from yardgate.core.model.naming import fold, show
from yardgate.formats.reading import FormatError, Note
from yardgate.formats.sheets import CELLS, Sheet

TableForm = Literal["rows", "columns", "list"]
"""Where people stand: each in a row; each in a column; in each line of a list."""
Rows = list[tuple[int, list[str]]]

TOTALS = frozenset(
    map(
        fold,
        ("total", "totals", "sum", "sums", "gesamt", "summe", "somme", "totaal", "totale", "suma", "count", "anzahl"),
    )
)
HEADS = frozenset({"name", "group", "who"})  # what a table of one column begins with
PEOPLE_WORDS = (
    "who", "name", "person", "people", "user", "member", "employee", "staff", "group", "account", "benutzer", "mitarbeiter", "person",
    "utilisateur", "nom", "usuario", "nombre", "utente", "nome", "gebruiker", "naam", "team",
)  # fmt: skip
PLACE_WORDS = (
    "place", "folder", "share", "path", "directory", "dataset", "ordner", "freigabe", "verzeichnis", "pfad", "dossier", "partage", "carpeta",
    "recurso", "cartella", "condivisione", "map", "where",
)  # fmt: skip
LEVEL_WORDS = (
    "access", "level", "right", "permission", "recht", "zugriff", "droit", "accès", "permiso", "acceso", "permesso", "accesso", "toegang", "gets",
)  # fmt: skip
LOOKED_AT = 1000  # rows by which it is found out how a table is laid out
MOST_WORDS = 10_000  # that differ in the cells of a table
PEOPLE_APART = re.compile(r"\s*[;\n|]\s*|\s*,\s+(?=\S)|\s+(?:&|and|und|et|y|e|en)\s+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
    """How a table is read. sheet: its name. header: the line of its headings, of which there are `headings` lines. who, place, level: the columns
    of a list, counted from 0; who: of the others the column of names (or, where people stand in columns, of places). words: what a word of
    a cell means: RW, RO, NA, or nothing; in any case."""

    __pydantic_config__ = STRICT
    sheet: str = ""
    form: TableForm = "rows"
    header: int = 1
    headings: int = 1
    who: int = 0
    place: int | None = None
    level: int | None = None
    words: Mapping[str, str] = field(default_factory=dict)


class Knowing(NamedTuple):
    """What the plan knows: who and which place a text means, by id (nothing where that is not known, or several), and whether a word says a level."""

    who: Callable[[str], str]
    place: Callable[[str], str]
    word: Callable[[str], bool]


class Laid(NamedTuple):
    """A table as people in rows and places in columns: the first row has the places. words: each word of a cell, with how often it stands there."""

    rows: Rows
    notes: tuple[Note, ...]
    words: Counter[str]


# --- finding it out ---------------------------------------------------------------------------------------------------


def proposed(sheets: Sequence[Sheet], known: Knowing) -> Layout:
    """The layout that a table seems to have: of the sheet in which most is known."""
    if _is_ours(sheets[0].rows[0][1]):
        return _proposed(sheets[0], known)
    found = [
        (_score(sheet, known, layout := _proposed(sheet, known)), -number, layout)
        for number, sheet in enumerate(sheets)
    ]
    return max(found, key=lambda one: one[:2])[2]


def _is_ours(cells: Sequence[str]) -> bool:
    """Whether these are headings as they are written here."""
    return [fold(cell) for cell in cells[:2]] == ["kind", "name"]


def _score(whole: Sheet, known: Knowing, layout: Layout) -> int:
    sheet = replace(whole, rows=whole.rows[:LOOKED_AT])
    body = [cells for line, cells in sheet.rows if line > layout.header]
    levels = sum(bool(cell) and known.word(cell) for cells in body for cell in cells)
    names = sum(bool(cell) and bool(known.who(cell) or known.place(cell)) for _, cells in sheet.rows for cell in cells)
    return levels + 2 * names


def _proposed(whole: Sheet, known: Knowing) -> Layout:
    sheet = replace(whole, rows=whole.rows[:LOOKED_AT])
    for line, cells in sheet.rows[:20]:
        if _is_ours(cells):
            return Layout(sheet=sheet.name, header=line)
    levels = _level_columns(sheet, known)
    listed = _list(sheet, known, levels)
    return listed if listed is not None else _grid(sheet, known, levels)


def _level_columns(sheet: Sheet, known: Knowing) -> list[int]:
    """Columns most of whose cells say a level; where no word is known, those with few and short words."""
    columns = range(sheet.width)
    filled = {c: [cells[c] for _, cells in sheet.rows if c < len(cells) and cells[c]] for c in columns}
    sure = [c for c in columns if filled[c] and sum(map(known.word, filled[c])) * 2 >= max(len(filled[c]) - 2, 1)]
    if sure:
        return sure
    return [
        c
        for c in columns
        if c and 0 < len({fold(w) for w in filled[c][1:]}) <= 6 and all(len(w) <= 12 for w in filled[c][1:])
    ]


def _list(sheet: Sheet, known: Knowing, levels: Sequence[int]) -> Layout | None:
    """A list has a column of levels, one of people and one of places, and names that come again."""
    at = next((n for n, (_, cells) in enumerate(sheet.rows) if sum(map(bool, cells)) > 2), None)
    if at is None or sheet.width > 12 or len(levels) > 1:
        return None
    line, head = sheet.rows[at]
    heads = [fold(cell) for cell in head]
    body = [cells for _, cells in sheet.rows[at + 1 :]]

    def share(column: int, is_one: Callable[[str], object]) -> float:
        filled = [cells[column] for cells in body if column < len(cells) and cells[column]]
        return sum(bool(is_one(text)) for text in filled) / len(filled) if filled else 0.0

    def best(words: Iterable[str], is_one: Callable[[str], object], but: Sequence[int]) -> int | None:
        scored = [
            (share(c, is_one) + 0.6 * any(word in heads[c] for word in words if c < len(heads)), c)
            for c in range(len(head))
            if c not in but
        ]
        score, column = max(scored, key=lambda one: (one[0], -one[1]), default=(0.0, 0))
        return column if score >= 0.5 else None

    by_head = [c for c, text in enumerate(heads) if any(word in text for word in LEVEL_WORDS)]
    level = levels[0] if levels else by_head[0] if by_head else None
    if level is None:
        return None
    place = best(PLACE_WORDS, known.place, [level])
    who = best(
        PEOPLE_WORDS,
        lambda text: all(map(known.who, people_in(text, known.who))),
        [level, place if place is not None else level],
    )
    if place is None or who is None or not _comes_again(body, place, who):
        return None
    return Layout(sheet=sheet.name, form="list", header=line, who=who, place=place, level=level)


def _comes_again(body: Sequence[Sequence[str]], place: int, who: int) -> bool:
    """Whether it is a list of pairs, rather than a table of people with two columns beside."""
    for column in (place, who):
        names = [fold(cells[column]) for cells in body if column < len(cells) and cells[column]]
        if len(set(names)) < len(names):
            return True
    return len(body) < 3


def _grid(sheet: Sheet, known: Knowing, levels: Sequence[int]) -> Layout:
    rows = sheet.rows
    begins = _begins(rows)
    head = begins
    if levels:
        first = next(
            (n for n, (_, cells) in enumerate(rows) if n > begins and _says_levels(cells, levels, known)), begins + 1
        )
        named = [
            n
            for n in range(begins, first)
            if sum(c < len(rows[n][1]) and bool(rows[n][1][c]) for c in levels) > len(levels) // 2
        ]
        head = named[-1] if named else begins
    above = [n for n in range(begins, head) if n == head - 1 and sum(map(bool, rows[n][1])) > 1]
    headings = 1 + len(above)
    line, cells = rows[head]
    names = [c for c in range(min([*levels, sheet.width])) if any(c < len(r) and r[c] for _, r in rows[head + 1 :])]
    who = _names_column(sheet, known, head, names or [0])
    across = [cell for c, cell in enumerate(cells) if c > who and cell]
    down = [row[who] for _, row in rows[head + 1 :] if who < len(row) and row[who]]
    turned = _points(across, known.who, known.place) + _points(down, known.place, known.who) > 0
    return Layout(sheet=sheet.name, form="columns" if turned else "rows", header=line, headings=headings, who=who)


def _begins(rows: Sequence[tuple[int, Sequence[str]]]) -> int:
    """The first row that is no title: one with several cells, unless the first of all names a table of one column."""
    if fold("".join(rows[0][1])) in HEADS:
        return 0
    return next((at for at, (_, cells) in enumerate(rows) if sum(map(bool, cells)) > 1), 0)


def _titled(titles: Sequence[tuple[int, Sequence[str]]]) -> Iterator[Note]:
    """What is told of titles; nothing where there are none."""
    if titles:
        said = "; ".join(next(filter(None, cells)) for _, cells in titles)
        yield Note(titles[0][0], f"taken for a title, and left out: {said[:120]}")


def _says_levels(cells: Sequence[str], levels: Sequence[int], known: Knowing) -> bool:
    said = [cells[c] for c in levels if c < len(cells) and cells[c]]
    return bool(said) and sum(map(known.word, said)) * 2 >= len(said)


def _points(texts: Sequence[str], for_it: Callable[[str], str], against: Callable[[str], str]) -> int:
    return sum(bool(for_it(text)) for text in texts) - sum(bool(against(text)) for text in texts)


def _names_column(sheet: Sheet, known: Knowing, head: int, among: Sequence[int]) -> int:
    """The column of names: that in which most are known, and of those the first."""

    def score(column: int) -> int:
        filled = [row[column] for _, row in sheet.rows[head + 1 :] if column < len(row)]
        return sum(bool(cell) and bool(known.who(cell) or known.place(cell)) for cell in filled)

    return max(among, key=lambda column: (score(column), -column))


# --- reading by it ----------------------------------------------------------------------------------------------------


def people_in(text: str, is_one: Callable[[str], str]) -> tuple[str, ...]:
    """Whom a cell names: one, or several where the cell as a whole is nobody and its parts are."""
    if is_one(text) or not PEOPLE_APART.search(text):
        return (text,)
    parts = tuple(part for part in PEOPLE_APART.split(text) if part)
    return parts if any(map(is_one, parts)) or "\n" in text or ";" in text else (text,)


def laid_out(sheets: Sequence[Sheet], layout: Layout, known: Knowing) -> Laid:
    """A table as its layout says. Raises FormatError where that is not one of this table."""
    sheet = next((one for one in sheets if one.name == layout.sheet), None)
    if sheet is None:
        raise FormatError(f"there is no sheet {show(layout.sheet)} in it")
    notes = list(sheet.notes)
    others = [one.name for one in sheets if one is not sheet]
    if others:
        notes.append(
            Note(None, f"only the sheet {show(sheet.name)} was read; there are also {', '.join(map(show, others[:8]))}")
        )
    before = [(line, cells) for line, cells in sheet.rows if line < layout.header]
    after = [(line, list(cells)) for line, cells in sheet.rows if line > layout.header]
    head = next(((line, list(cells)) for line, cells in sheet.rows if line == layout.header), None)
    if head is None:
        raise FormatError(f"line {layout.header} is blank, or not there, so that it cannot have the headings")
    titles = before[: len(before) - (layout.headings - 1)]
    notes += _titled(titles)
    headings = _joined_heads([cells for _, cells in before[len(titles) :]], head[1], layout.who)
    if layout.form == "list":
        rows = _from_list(layout, head[0], after, known, notes)
    else:
        body = _without_totals(after, layout.who, notes)
        rows = [(head[0], headings), *body]
        rows = _turned(rows, layout.who) if layout.form == "columns" else _names_first(rows, layout.who)
        rows = _each_alone(_narrow(_without_heads(rows, known, notes)), known, notes)
    words = Counter(cell for _, cells in rows[1:] for cell in cells[1:] if cell)
    if len(words) > MOST_WORDS:
        raise FormatError(
            f"more than {MOST_WORDS:,} different words stand in its cells; this is no table of who may what"
        )
    return Laid(_meant(rows, layout.words), tuple(notes), words)


def _joined_heads(above: Sequence[Sequence[str]], head: Sequence[str], who: int) -> list[str]:
    """Headings of several lines as one: what stands above goes on over blank cells, and is a path to what stands below."""
    found = list(head)
    for cells in reversed(above):
        going_on = ""
        for column in range(len(found)):
            going_on = (cells[column] if column < len(cells) else "") or going_on
            if column > who and going_on and found[column] and fold(going_on) != fold(found[column]):
                found[column] = f"{going_on}/{found[column]}"
            elif column > who and going_on and not found[column]:
                found[column] = going_on
    return found


def _without_totals(rows: Rows, who: int, notes: list[Note]) -> Rows:
    kept = []
    for line, cells in rows:
        filled = [cell for cell in cells if cell]
        numbers = all(cell.replace(".", "").replace(",", "").isdigit() for cell in filled[1:])
        if fold(filled[0].rstrip(":")) in TOTALS and numbers and (who >= len(cells) or cells[who] in ("", filled[0])):
            notes.append(Note(line, f"taken for a sum, and left out: {filled[0]}"))
        else:
            kept.append((line, cells))
    return kept


def _names_first(rows: Rows, who: int) -> Rows:
    """The column of names first, and nothing that stands before it."""
    return [(line, [cells[who] if who < len(cells) else "", *cells[who + 1 :]]) for line, cells in rows]


def _turned(rows: Rows, who: int) -> Rows:
    """Rows and columns exchanged: each column becomes a row on the line of the headings."""
    plain = _names_first(rows, who)
    width = max(len(cells) for _, cells in plain)
    line = plain[0][0]
    return [(line, [cells[c] if c < len(cells) else "" for _, cells in plain]) for c in range(width)]


def _narrow(rows: Rows) -> Rows:
    """Without columns in which nothing stands."""
    width = max((len(cells) for _, cells in rows), default=0)
    used = [c for c in range(width) if c == 0 or any(c < len(cells) and cells[c] for _, cells in rows)]
    return [(line, [cells[c] if c < len(cells) else "" for c in used]) for line, cells in rows]


def _without_heads(rows: Rows, known: Knowing, notes: list[Note]) -> Rows:
    """Without rows that say nothing and name nobody whom the plan knows: headings of what follows."""
    kept = rows[:1]
    for line, cells in rows[1:]:
        if any(cells[1:]) or not cells or not cells[0] or known.who(cells[0]) or len(rows) < 3:
            if any(cells):
                kept.append((line, cells))
        else:
            notes.append(Note(line, f"taken for a heading, and left out: {cells[0][:120]}"))
    return kept


def _each_alone(rows: Rows, known: Knowing, notes: list[Note]) -> Rows:
    """A row for each of several whom one names."""
    found = rows[:1]
    for line, cells in rows[1:]:
        names = people_in(cells[0], known.who) if cells[0] else (cells[0],)
        if len(names) > 1:
            notes.append(Note(line, f"{show(cells[0])} was taken for {len(names)} names"))
        found += [(line, [name, *cells[1:]]) for name in names]
    return found


def _from_list(layout: Layout, head: int, rows: Rows, known: Knowing, notes: list[Note]) -> Rows:
    """A list of pairs as a table; a blank name is the one above it."""
    assert layout.place is not None
    assert layout.level is not None
    places: dict[str, str] = {}
    people: dict[str, tuple[int, str, dict[str, str]]] = {}
    who = place = ""
    for line, cells in rows:
        at = [cells[column] if column < len(cells) else "" for column in (layout.who, layout.place, layout.level)]
        who, place = at[0] or who, at[1] or place
        if not at[2] or not who or not place:
            notes.append(Note(line, "this line does not say who, where and what; left out"))
            continue
        where = known.place(place) or fold(place)
        places.setdefault(where, place)
        for name in people_in(who, known.who):
            _, _, said = people.setdefault(known.who(name) or fold(name), (line, name, {}))
            first = said.setdefault(where, at[2])
            if fold(first) != fold(at[2]):
                notes.append(Note(line, f"{show(name)} has {show(first)} in {show(place)} before; the first counts"))
    if len(people) * len(places) > CELLS:
        raise FormatError(
            f"the list is too large: {len(people):,} people by {len(places):,} places; at most {CELLS:,} cells are read"
        )
    table = [(line, [name, *(said.get(one, "") for one in places)]) for line, name, said in people.values()]
    return [(head, ["who", *places.values()]), *table]


def _meant(rows: Rows, words: Mapping[str, str]) -> Rows:
    """Words for which it is said what they mean as what they mean."""
    if not words:
        return rows
    plain = {fold(word): meaning for word, meaning in words.items()}
    return [
        *rows[:1],
        *((line, [cells[0], *(plain.get(fold(cell), cell) for cell in cells[1:])]) for line, cells in rows[1:]),
    ]


def plain_rows(sheet: Sheet, notes: list[Note]) -> Rows:
    """The rows of a table that has one row of headings, without titles, sums and columns in which nothing stands."""
    rows: Rows = [(line, list(cells)) for line, cells in sheet.rows]
    begins = _begins(rows)
    notes += _titled(rows[:begins])
    rows = rows[begins:]
    width = max(len(cells) for _, cells in rows)
    used = [c for c in range(width) if any(c < len(cells) and cells[c] for _, cells in rows)]
    kept = [rows[0], *_without_totals(rows[1:], used[0], notes)]
    return [(line, [cells[c] if c < len(cells) else "" for c in used]) for line, cells in kept]
