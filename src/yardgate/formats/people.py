"""People, groups and memberships as tables."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from datetime import date

from yardgate.core.edits.records import Edit, Join, PutGroup, PutUser
from yardgate.core.model.names import Names, fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import LOCAL, Group, Plan, User
from yardgate.formats import table
from yardgate.formats.reading import FormatError, Make, Note, Reading, Unknown

YES, NO = ("yes", "y", "true", "1", "on", "enabled", "x"), ("no", "n", "false", "0", "off", "disabled", "")
PEOPLE = (
    "name",
    "full name",
    "kind",
    "uid",
    "primary group",
    "groups",
    "enabled",
    "expires",
    "sign-in names",
    "note",
    "from",
)
GROUPS = ("group", "gid", "members", "note")
MEMBERSHIPS = ("group", "member")


def read(plan: Plan, text: str, make: Make | None = None) -> Reading:
    """The edits that a table of people, of groups or of memberships makes; which one it is, its first row says.

    People: name and any of the other `PEOPLE` columns. Groups: group and any of `GROUPS`. Memberships: group, member. Several
    groups, members or sign-in names in one cell are separated by a vertical bar or semicolon. Empty cells change nothing. A row that is `from` a directory is passed over: what
    it says is kept there.
    """
    lines = table.rows(text)
    header_line, header = next(lines)
    columns = [fold(cell).replace("_", " ") for cell in header]
    kind = MEMBERSHIPS if set(columns) == set(MEMBERSHIPS) else GROUPS if columns[0] == "group" else PEOPLE
    if kind[0] not in columns:
        raise FormatError(f"there must be a column {kind[0]!r}; there may be {', '.join(kind)}", header_line, 1)
    reader = _Reader(plan, make or {})
    for number, column in enumerate(columns):
        if column not in kind or column in columns[:number]:
            why = "stands twice" if column in kind else f"is not one of {', '.join(kind)}"
            reader.notes.append(Note(header_line, f"column {show(header[number])} {why}; left out", missed=1))
            columns[number] = f"\0{number}"
    take: Callable[[_Row], None] = (
        reader.person if kind is PEOPLE else reader.group if kind is GROUPS else reader.membership
    )
    for line, row in lines:
        if any(row[len(columns) :]):
            reader.notes.append(Note(line, f"{len(row)} cells where the first line has {len(columns)}", missed=1))
        reader.attempt(take, _Row(line, columns, row))
    return reader.reading()


class _Row:
    def __init__(self, line: int, columns: list[str], cells: list[str]):
        self.line, self.columns = line, columns
        self.cells = dict(zip(columns, cells, strict=False))

    def __getitem__(self, column: str) -> str:
        return self.cells.get(column, "")

    def error(self, column: str, message: str) -> FormatError:
        return FormatError(message, self.line, self.columns.index(column) + 1)

    def several(self, column: str) -> Iterator[str]:
        return (part.strip() for part in self[column].replace("|", ";").split(";") if part.strip())


class _Reader:
    def __init__(self, plan: Plan, make: Make):
        self.plan, self.make = plan, make
        self.names = Names(plan)
        self.users = dict(plan.users)
        self.groups = dict(plan.groups)
        self.user_ids = {fold(user.name): user.id for user in plan.users.values() if user.origin == LOCAL}
        self.group_ids = {fold(group.name): group.id for group in plan.groups.values() if group.origin == LOCAL}
        self.taken = {*plan.users, *plan.groups, *plan.places}
        self.joins: list[Join] = []
        self.later: list[tuple[_Row, str, str, str]] = []  # row, column, group id, member name
        self.unknown: dict[tuple[str, str], Unknown] = {}
        self.seen: dict[str, int] = {}
        self.notes: list[Note] = []

    def _fresh(self, name: str) -> str:
        found = fresh_id(name, self.taken)
        self.taken.add(found)
        return found

    def attempt(self, take: Callable[..., None], row: _Row, *more: str) -> None:
        """Take a row; where that cannot be, it is left out and noted."""
        try:
            take(row, *more)
        except FormatError as error:
            self.notes.append(Note(error.line, f"left out: {error.plain}", missed=1))

    def _once(self, row: _Row, column: str) -> str:
        name = row[column]
        if not name:
            raise row.error(column, f"the {column} is empty")
        if self.seen.setdefault(fold(name), row.line) != row.line:
            raise row.error(column, f"{show(name)} stands twice, first in line {self.seen[fold(name)]}")
        return name

    def person(self, row: _Row) -> None:
        if row["from"] and fold(row["from"]) != LOCAL:
            self.notes.append(
                Note(row.line, f"{show(row['name'])} is kept in the directory {show(row['from'])}; skipped")
            )
            return
        name = self._once(row, "name")
        old = self.users.get(self.user_ids.get(fold(name), ""))
        user = old or User(id=self._fresh(name), name=name)
        user = replace(user, full_name=row["full name"] or user.full_name, note=row["note"] or user.note)
        if row["kind"]:
            if fold(row["kind"]) not in ("person", "service"):
                raise row.error("kind", f"{show(row['kind'])} is not a kind; write person or service")
            user = replace(user, kind="service" if fold(row["kind"]) == "service" else "person")
        if row["uid"]:
            user = replace(user, uid=_number(row, "uid"))
        if row["enabled"]:
            user = replace(user, enabled=_yes(row, "enabled"))
        if row["expires"]:
            user = replace(user, expires=_day(row, "expires"))
        if row["sign-in names"]:
            user = replace(user, aliases=tuple(row.several("sign-in names")))
        if row["primary group"] and (primary := self._group(row, row["primary group"])):
            user = replace(user, primary_group=primary)
        self.users[user.id] = user
        self.user_ids[fold(name)] = user.id
        for group_name in row.several("groups"):
            if (group := self._group(row, group_name)) and user.id not in self.groups[group].members:
                self.joins.append(Join(group, user.id))

    def group(self, row: _Row) -> None:
        name = self._once(row, "group")
        old = self.groups.get(self.group_ids.get(fold(name), ""))
        group = old or Group(id=self._fresh(name), name=name)
        gid = _number(row, "gid") if row["gid"] else group.gid
        self.groups[group.id] = replace(group, gid=gid, note=row["note"] or group.note)
        self.group_ids[fold(name)] = group.id
        self.later += [(row, "members", group.id, member) for member in row.several("members")]

    def membership(self, row: _Row) -> None:
        if not row["group"] or not row["member"]:
            raise row.error("group" if not row["group"] else "member", "a membership needs a group and a member")
        if group := self._group(row, row["group"]):
            self.later.append((row, "member", group, row["member"]))

    def _group(self, row: _Row, name: str) -> str | None:
        found = self.group_ids.get(fold(name))
        if found is None and self.make.get(name) == "group":
            found = self._fresh(name)
            self.groups[found] = Group(id=found, name=name)
            self.group_ids[fold(name)] = found
        if found is None:
            self.unknown.setdefault(("group", name), Unknown(row.line, name, "group"))
        return found

    def _member(self, row: _Row, column: str, group: str, name: str) -> None:
        """Members are looked up when all rows are read, since a later row may be the group that is meant."""
        found = self.names.who(name)
        here = {self.user_ids.get(fold(name)), self.group_ids.get(fold(name))} - {None, *found}
        candidates = [*found, *(who for who in here if who)]
        if len(candidates) > 1:
            raise row.error(column, f"{show(name)} may mean several; write user:{name} or group:{name}")
        if not candidates and (kind := self.make.get(name)) in ("person", "service", "group"):
            new = self._fresh(name)
            if kind == "group":
                self.groups[new], self.group_ids[fold(name)] = Group(id=new, name=name), new
            else:
                self.users[new], self.user_ids[fold(name)] = (
                    User(id=new, name=name, kind="service" if kind == "service" else "person"),
                    new,
                )
            candidates = [new]
        if not candidates:
            self.unknown.setdefault(("who", name), Unknown(row.line, name, "who"))
        elif candidates[0] not in self.groups[group].members:
            self.joins.append(Join(group, candidates[0]))

    def reading(self) -> Reading:
        for row, column, group, name in self.later:
            self.attempt(self._member, row, column, group, name)
        edits: list[Edit] = [
            PutGroup(group) for group in self.groups.values() if self.plan.groups.get(group.id) != group
        ]
        edits += [PutUser(user) for user in self.users.values() if self.plan.users.get(user.id) != user]
        return Reading((*edits, *dict.fromkeys(self.joins)), tuple(self.notes), tuple(self.unknown.values()))


def _number(row: _Row, column: str) -> int:
    if not (row[column].isascii() and row[column].isdigit()):
        raise row.error(column, f"{show(row[column])} is not a number")
    return int(row[column])


def _yes(row: _Row, column: str) -> bool:
    if fold(row[column]) not in (*YES, *NO):
        raise row.error(column, f"{show(row[column])} is neither yes nor no")
    return fold(row[column]) in YES


def _day(row: _Row, column: str) -> date:
    try:
        return date.fromisoformat(row[column])
    except ValueError:
        raise row.error(column, f"{show(row[column])} is not a day; write it as 2027-01-31") from None


def write(plan: Plan) -> str:
    """People and services as CSV, with the groups they are in directly and where they come from."""

    def groups_of(user: User) -> Iterable[str]:
        return sorted(plan.called(group.id) for group in plan.groups.values() if user.id in group.members)

    return table.write(
        [
            PEOPLE,
            *(
                [
                    user.name,
                    user.full_name,
                    user.kind,
                    "" if user.uid is None else str(user.uid),
                    plan.called(user.primary_group) if user.primary_group else "",
                    "|".join(groups_of(user)),
                    "yes" if user.enabled else "no",
                    user.expires.isoformat() if user.expires else "",
                    "|".join(user.aliases),
                    user.note,
                    plan.source(user.origin),
                ]
                for user in sorted(plan.users.values(), key=lambda user: (fold(user.name), user.id))
            ),
        ]
    )
