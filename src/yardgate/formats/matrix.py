"""A matrix of grants as a table: rows are people, services or groups, columns are places."""

import json
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from functools import cache
from typing import Generic, Literal, NamedTuple, TypeVar

from yardgate.core.access.batch.resolve import Matrix, rights
from yardgate.core.access.outcome import Outcome
from yardgate.core.acl.rights import APART, LEVELS, Level, Rights, letters
from yardgate.core.edits.records import Edit, PutGroup, PutNeed, PutPlace, PutUser, RemoveNeed, SetGrant
from yardgate.core.edits.transforms import started
from yardgate.core.model.names import Names, free_name, fresh_id, sign_in_name, unix_trouble
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.needs import Need, Wish, need_id
from yardgate.core.model.plan import EVERYONE, Group, Place, PlaceKind, Plan, User
from yardgate.formats import table
from yardgate.formats.lookup import Lookup, plain_path
from yardgate.formats.reading import FormatError, Make, Note, Reading, Unknown

_WRITTEN: Mapping[Level | None, tuple[str, ...]] = {
    Level.RW: (
        *(
            "rw",
            "w",
            "r/w",
            "r+w",
            "r-w",
            "rwx",
            "rw-",
            "m",
            "f",
            "read-write",
            "read/write",
            "read write",
            "readwrite",
            "read & write",
        ),
        *("read and write", "write", "change", "modify", "edit", "full", "full control", "full access"),
        *("schreiben", "lesen/schreiben", "lesen und schreiben", "ändern", "vollzugriff"),
        *("écriture", "lecture/écriture", "lecture et écriture", "modification", "contrôle total"),
        *("escritura", "lectura/escritura", "lectura y escritura", "modificar", "control total"),
        *("scrittura", "lettura/scrittura", "lettura e scrittura", "modifica", "controllo completo"),
        *("schrijven", "lezen/schrijven", "lezen en schrijven", "wijzigen", "volledig beheer"),
    ),
    Level.RO: (
        *("r--", "read & execute", "read and execute", "read&execute", "list folder contents"),
        *("ro", "r", "rx", "r-x", "read-only", "read only", "readonly", "read", "view"),
        *("lesen", "nur lesen", "lecture", "lecture seule", "lectura", "solo lectura", "lettura", "sola lettura"),
        *("lezen", "alleen lezen"),
    ),
    Level.NA: (
        *("na", "n", "no", "no access", "no-access", "noaccess", "deny", "denied", "refuse", "refused"),
        *("kein zugriff", "aucun accès", "sin acceso", "nessun accesso", "geen toegang"),
    ),
    None: ("", "-", "–", "—", ".", "·", "--", "---"),
}
"""What people write for a level, in the languages that offices here write in."""
SPELLINGS: dict[str, Level | None] = {fold(word): level for level, some in _WRITTEN.items() for word in some}
PLAIN_NO = ("n", "no")
REMARKS = frozenset(
    fold(word)
    for word in (
        "note",
        "notes",
        "comment",
        "comments",
        "remark",
        "remarks",
        "bemerkung",
        "bemerkungen",
        "remarque",
        "notas",
        "opmerking",
    )
)
"""What a column is called that says nothing of a place."""

_HINTS = {
    "": "write RW, RO, NA or leave it empty",
    "none": "write NA for a refusal, or leave the cell empty to say nothing",
}
_WISHES: Mapping[Wish | None, tuple[str, ...]] = {
    "change": ("change", "rw", "w", "read-write", "read/write", "write", "modify", "full", "c"),
    "read": ("read", "ro", "r", "read-only", "read only"),
    "must not": ("must not", "never", "na", "no access"),
    "any": ("any", "?", "does not matter"),
    None: ("", "-", "–", "—", ".", "·"),
}
WISH_SPELLINGS: Mapping[str, Wish | None] = {spelling: wish for wish, some in _WISHES.items() for spelling in some}
T = TypeVar("T")
LOOKED_AT = 100  # unknown names for which those that are near are looked for


def read(plan: Plan, text: str, make: Make | None = None, clear_blanks: bool = False) -> Reading:
    """The edits that a matrix makes in a plan. `make`: what to do with names the plan does not have; see `Reading.unknown`.

    The first row names the places, by name or by path from the pool. A row begins with a name (or `user:name`,
    `group:name`), or, where the first two columns are headed kind and name, with both. An empty cell leaves what is there,
    or, with `clear_blanks`, takes it away.
    """
    maker, rows = _grid(plan, text, make or {}, SPELLINGS, _HINTS)
    grants: list[Edit] = []
    for who, cells in rows:
        if not who:
            continue
        for place, level, _ in cells:
            if place and (level is not None or clear_blanks) and level != plan.grants.get(place, {}).get(who):
                grants.append(SetGrant(place, who, level))
    if any(isinstance(edit, SetGrant) and edit.who == EVERYONE and edit.level for edit in grants):
        maker.notes.append(Note(None, "Everyone means all accounts, and guests wherever a share lets guests in"))
    said = Counter(cell.text for _, cells in rows for cell in cells if cell.text)
    dashes = sum(count for word, count in said.items() if SPELLINGS[fold(word)] is None)
    plain = sum(count for word, count in said.items() if fold(word) in PLAIN_NO)
    if plain:
        maker.notes.append(
            Note(
                None,
                f"“no” was taken as a refusal, not as nothing said, in {plain} {'cell' if plain == 1 else 'cells'}",
            )
        )
    if dashes:
        maker.notes.append(
            Note(
                None,
                f"a dash or dot was taken as not set, not as no access, in {dashes} {'cell' if dashes == 1 else 'cells'}",
            )
        )
    return Reading((*maker.edits, *grants), tuple(maker.notes), tuple(maker.unknown))


def read_needs(plan: Plan, text: str, make: Make | None = None) -> Reading:
    """The needs that a table of the same form says, as edits. An empty cell says nothing new; a dash takes away what was needed."""
    maker, rows = _grid(
        plan, text, make or {}, WISH_SPELLINGS, {"": "write change, read, must not, any, or leave it empty"}
    )
    edits: list[Edit] = []
    for who, cells in rows:
        for place, wish, said in cells:
            if not who or not place or not said:
                continue
            if who == EVERYONE:
                maker.miss(1, "needs are those of people and groups; for everyone name a group that all are in")
                break
            before = plan.needs.get(need_id(who, place))
            if wish is None and before is not None:
                edits.append(RemoveNeed(before.id))
            elif wish is not None and (before is None or before.wish != wish):
                edits.append(PutNeed(replace(before, wish=wish) if before is not None else Need.of(who, place, wish)))
    return Reading((*maker.edits, *edits), tuple(maker.notes), tuple(maker.unknown))


class _Cell(NamedTuple, Generic[T]):
    """A cell of a place (none: of a column that is left out): what it means, and what stands in it."""

    place: str | None
    means: T
    text: str


def _grid(
    plan: Plan, text: str, make: Make, spellings: Mapping[str, T], hints: Mapping[str, str]
) -> "tuple[_Maker, list[tuple[str | None, list[_Cell[T]]]]]":
    """A table of people, or groups, by places: its names looked up, its places, and a row each. What cannot be understood is noted, all of it."""
    lines = iter(table.rows(text))
    header_line, header = next(lines)
    lead = 2 if [fold(cell) for cell in header[:2]] == ["kind", "name"] else 1
    if len(header) <= lead:
        raise FormatError(
            "the first line must name at least one place after the column of names", header_line, len(header)
        )
    maker = _Maker(plan, make)
    columns = _columns(maker, header, header_line, lead)
    rows: list[tuple[str | None, list[_Cell[T]]]] = []
    seen: dict[str, tuple[int, int]] = {}  # who -> the line and the row in which they first stood
    folded = cache(fold)
    odd: dict[str, list[int]] = {}
    for line, row in lines:
        name = row[0] if lead == 1 or len(row) < 2 else f"{row[0]}:{row[1]}" if fold(row[1]) != EVERYONE else row[1]
        if any(row[len(header) :]):
            maker.miss(line, f"{len(row)} cells where the first line has {len(header)}; those beyond are left out")
        who = maker.who(name, line)
        cells = []
        for place, cell in zip(columns, row[lead:], strict=False):
            if place is None and cell not in spellings:
                continue
            if folded(cell) in spellings:
                cells.append(_Cell(place, spellings[folded(cell)], cell))
            else:
                odd.setdefault(cell, []).append(line)
        if who is not None and (first := seen.setdefault(who, (line, len(rows))))[0] != line:
            rows[first[1]] = who, _both(maker, rows[first[1]][1], cells, name, first[0], line)
        else:
            rows.append((who, cells))
    for word, where in odd.items():
        hint = hints.get(fold(word), hints[""])
        said = "a cell" if len(where) == 1 else f"{len(where)} cells"
        maker.notes.append(
            Note(
                where[0],
                f"{show(word)} is not a level, so that {said} said nothing; {hint}, or say what it means",
                lines=len(where),
                missed=len(where),
            )
        )
    if not any(columns) and not maker.unknown:
        raise FormatError("none of the columns is a place", header_line, lead + 1)
    return maker, rows


def _both(
    maker: "_Maker", first: "list[_Cell[T]]", second: "list[_Cell[T]]", name: str, line: int, again: int
) -> "list[_Cell[T]]":
    """Two rows of somebody as one; where they contradict each other the first counts, which is noted."""
    other = {cell.place: cell for cell in second if cell.text}
    found = [other.pop(cell.place, cell) if not cell.text else cell for cell in first]
    against = [cell for cell in first if cell.text and cell.place in other and other[cell.place].means != cell.means]
    found += [cell for place, cell in other.items() if place not in {cell.place for cell in first}]
    if against:
        maker.miss(again, f"{show(name)} has another row in line {line} that says otherwise; the first counts")
    return found


def _columns(maker: "_Maker", header: list[str], line: int, lead: int) -> list[str | None]:
    """The place of each column; none for one that is left out, with a note."""
    columns: list[str | None] = []
    for i, cell in enumerate(header[lead:]):
        if fold(cell) in REMARKS and not maker.names.place(cell):
            maker.notes.append(Note(line, f"the column {show(cell)} was left out: it is no place"))
            columns.append(None)
            continue
        place = maker.place(cell, line, lead + i + 1)
        if place is not None and place in columns:
            maker.miss(line, f"place {show(cell)} is named twice; the first column counts")
            place = None
        columns.append(place)
    return columns


class _Maker:
    """Looks names up, and makes what is to be made of unknown ones."""

    def __init__(self, plan: Plan, make: Make):
        self.plan, self.make = plan, make
        self.names = Lookup(plan)
        self.taken = {*plan.users, *plan.groups, *plan.places}
        self.edits: list[Edit] = []
        self.notes: list[Note] = []
        self.unknown: list[Unknown] = []
        self.made: dict[str, str] = {}
        self.called = {fold(user.name) for user in plan.users.values()}
        self.paths = {fold(plan.path_name(place)): place for place in plan.places}

    def miss(self, line: int, text: str) -> None:
        self.notes.append(Note(line, text, missed=1))

    def ask(self, line: int, name: str, of: Literal["who", "place"]) -> None:
        """A name that the plan does not have, with those that may be meant, for as many as somebody may look at."""
        near = self.names.near(name, place=of == "place") if len(self.unknown) < LOOKED_AT else ()
        self.unknown.append(Unknown(line, name, of, near))

    def _fresh(self, name: str) -> str:
        found = fresh_id(name, self.taken)
        self.taken.add(found)
        return found

    def who(self, name: str, line: int) -> str | None:
        if not name:
            self.miss(line, "the row has no name; left out")
            return None
        found = self.names.who(name)
        if not found and name not in self.made and self.make.get(name, "").startswith("="):
            found = self.names.who(self.make[name][1:])
        if len(found) > 1:
            self.miss(
                line, f"{show(name)} may mean several; write user:{name} or group:{name}, or the sign-in name; left out"
            )
            return None
        if found or name in self.made:
            return found[0] if found else self.made[name]
        kind = self.make.get(name)
        if kind not in ("person", "service", "group"):
            self.ask(line, name, "who")
            return None
        plain = (
            name.partition(":")[2].strip()
            if fold(name.partition(":")[0]) in ("user", "person", "service", "group")
            else name
        )
        plain = plain or name
        new = self._fresh(plain)
        self.edits.append(
            PutGroup(Group(id=new, name=plain))
            if kind == "group"
            else PutUser(self._user(new, plain, "service" if kind == "service" else "person"))
        )
        self.made[name] = new
        return new

    def _user(self, new: str, called: str, kind: Literal["person", "service"]) -> User:
        """Somebody new; who is called as no account can be is given a sign-in name of it."""
        if unix_trouble(called) is None or not sign_in_name(called):
            return User(id=new, name=called, kind=kind)
        name = free_name(sign_in_name(called), self.called)
        self.called.add(fold(name))
        return User(id=new, name=name, full_name=called, kind=kind)

    def place(self, name: str, line: int, column: int) -> str | None:
        if not name:
            self.miss(line, f"column {column} has no place; left out")
            return None
        found = self.names.place(name)
        if not found and self.make.get(name, "").startswith("="):
            found = self.names.place(self.make[name][1:])
        if len(found) > 1:
            self.miss(line, f"{show(name)} may mean several places; write the path from the pool; left out")
            return None
        path = plain_path(name)
        if found or fold(path) in self.paths:
            return found[0] if found else self.paths[fold(path)]
        wrong = next((why for step in path.split("/") if (why := name_trouble(step, separator="/"))), None)
        if self.make.get(name) != "place" or wrong is not None:
            self.ask(line, name, "place")
            return None
        return self._make_path(path.split("/"))

    def _make_path(self, steps: list[str]) -> str:
        if len(steps) == 1:
            pools = sorted((p.name, p.id) for p in self.plan.places.values() if p.kind == "pool")
            steps = [pools[0][0] if pools else "pool", *steps]
        parent: str | None = None
        for depth in range(len(steps)):
            path = fold("/".join(steps[: depth + 1]))
            if path not in self.paths:
                kind: PlaceKind = ("pool", "dataset", "folder")[min(depth, 2)]
                new = self._fresh(steps[depth])
                place = Place(id=new, name=steps[depth], kind=kind, parent=parent)
                self.edits.append(PutPlace(place if parent else started(self.plan, place, "mixed")))
                self.paths[path] = new
            parent = self.paths[path]
        assert parent is not None
        return parent


def _who_rows(plan: Plan) -> list[tuple[str, str, str]]:
    """(id, kind, name) of everyone, the groups and the users, in the order they are shown."""
    groups = sorted(plan.groups.values(), key=lambda group: (fold(group.name), group.id))
    users = sorted(plan.users.values(), key=lambda user: (fold(user.name), user.id))
    return [
        (EVERYONE, "group", "Everyone"),
        *((group.id, "group", plan.called(group.id)) for group in groups),
        *((user.id, user.kind, plan.called(user.id)) for user in users),
    ]


def _only(plan: Plan, names: Names, who: str, name: str) -> str:
    """A name that means nobody else when it is read again: a local account that shares its name says where it is from."""
    alike = names.groups if who in plan.groups else names.users
    return f"{plan.name}\\{name}" if len(alike.get(fold(name), ())) > 1 else name


def _places(plan: Plan) -> list[tuple[str, str]]:
    return sorted(((place, plan.path_name(place)) for place in plan.places), key=lambda pair: (fold(pair[1]), pair[0]))


def write_grants(plan: Plan) -> str:
    """What is set, as CSV: kind, name, then a column a place headed by its path; RW, RO, NA or empty."""
    places, names = _places(plan), Names(plan)
    body = [
        [kind, _only(plan, names, who, name), *(plan.grants.get(place, {}).get(who, "") for place, _ in places)]
        for who, kind, name in _who_rows(plan)
    ]
    return table.write([["kind", "name", *(path for _, path in places)], *body])


def write_needs(plan: Plan) -> str:
    """What is needed, as CSV: kind, name, then a column for each place of which a need speaks; change, read, must not, any or empty."""
    whos, asked = {need.who for need in plan.needs.values()}, {need.place for need in plan.needs.values()}
    places, names = [one for one in _places(plan) if one[0] in asked], Names(plan)
    body = [
        [
            kind,
            _only(plan, names, who, name),
            *(plan.needs[one].wish if (one := need_id(who, place)) in plan.needs else "" for place, _ in places),
        ]
        for who, kind, name in _who_rows(plan)
        if who in whos
    ]
    return table.write([["kind", "name", *(path for _, path in places)], *body])


def write_rights(matrix: Matrix) -> str:
    """Every cell of every user with the access masks that its list gives, as CSV: name, place, level, masks in hexadecimal and
    in letters. Masks are empty where storage is not planned; `~` marks reading and writing only one at a time."""
    body = []
    for user, place, level, masks in _cells(matrix):
        words = ["", "", "", ""]
        if masks is not None:
            words = [f"0x{masks.folder:x}", f"0x{masks.file:x}", letters(masks.folder), _with_apart(masks.file)]
        body.append([matrix.plan.called(user), matrix.plan.path_name(place), level, *words])
    return table.write([["name", "place", "level", "folder", "file", "folder letters", "file letters"], *body])


def write_rights_json(matrix: Matrix) -> str:
    """Every cell by ids: level, and the access masks on the folder and on an ordinary file in it, or null."""
    found: dict[str, dict[str, dict[str, object]]] = {}
    for user, place, level, masks in _cells(matrix):
        folder, file = masks or (None, None)
        found.setdefault(user, {})[place] = {"level": level, "folder": folder, "file": file}
    return json.dumps({"on": matrix.on.isoformat(), "cells": found}, ensure_ascii=False) + "\n"


def _cells(matrix: Matrix) -> Iterator[tuple[str, str, Level, Rights | None]]:
    """User, place, level, and masks where storage is planned, user by user."""
    places = _places(matrix.plan)
    masks = rights(matrix, [place for place, _ in places])
    for who, _, _ in _who_rows(matrix.plan):
        if who not in matrix.plan.users:
            continue
        number = matrix.counting.number[who]
        for place, _ in places:
            stored, given = matrix.storage.get(place), masks[place]
            planned = stored is not None and stored.list is not None
            mask = Rights(int(given.folder[number]), int(given.file[number])) if planned else None
            yield who, place, LEVELS[matrix.rows[place][number]], mask


def _with_apart(mask: int) -> str:
    return letters(mask) + ("~" if mask & APART else "")


def write_outcome(found: Outcome) -> str:
    """What people get over any way in, as `write_effective`; a dash in the column of a place that no share leads to."""
    matrix = found.matrix
    unshared = {place for place in matrix.plan.places if matrix.plan.shares and not found.ways_to(place)}
    return write_effective(replace(matrix, rows=found.best[None]), unshared)


def write_effective(matrix: Matrix, unshared: Collection[str] = ()) -> str:
    """What comes out, as CSV: kind, name, full name, then a column a place; the level of every user, and a dash in the places of `unshared`."""
    plan, number = matrix.plan, matrix.counting.number
    places = _places(plan)
    body = [
        [
            kind,
            name,
            plan.users[who].full_name,
            *("–" if place in unshared else LEVELS[matrix.rows[place][number[who]]] for place, _ in places),
        ]
        for who, kind, name in _who_rows(plan)
        if who in plan.users
    ]
    return table.write([["kind", "name", "full name", *(path for _, path in places)], *body])


def write_template(plan: Plan) -> str:
    """A table to be filled in, as CSV: kind, name, then a column a place headed by its path; nothing in its cells."""
    places, names = _places(plan), Names(plan)
    body = [[kind, _only(plan, names, who, name), *("" for _ in places)] for who, kind, name in _who_rows(plan)]
    return table.write([["kind", "name", *(path for _, path in places)], *body])
