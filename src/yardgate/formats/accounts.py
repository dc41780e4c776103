"""passwd(5) and group(5) of a Linux host."""

import re
from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from typing import TypeVar

from yardgate.core.edits.records import Edit, Join, PutGroup, PutUser
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import LARGEST_NUMBER, LOCAL, Group, Plan, User
from yardgate.formats.given import decoded
from yardgate.formats.reading import FormatError, Note, Reading

LOWEST, HIGHEST = 1000, 60000  # UID_MIN and UID_MAX of login.defs(5)


def read(
    plan: Plan,
    passwd: str,
    group: str,
    lowest: int = LOWEST,
    highest: int = HIGHEST,
    private_groups: bool = False,
    also: Collection[str] = (),
) -> Reading:
    """The edits that bring a host's accounts into a plan, uid and gid kept.

    A line that cannot be read is left out and noted, and the rest comes in. Accounts and groups with a number outside lowest..highest are left out, except primary groups of accounts that come
    in, and those that are named in `also`. A private group (same name and number as its only user) is left out unless `private_groups`.
    """
    notes: list[Note] = []
    people = _taken_in(passwd, _passwd(), notes)
    groups = _joined(_taken_in(group, _group(), notes), notes)
    kept = [user for user in people if lowest <= user[2] <= highest or user[1] in also]
    notes += [
        Note(line, f"account {show(name)} left out: uid {uid} is outside {lowest} to {highest}")
        for line, name, uid, _, _ in people
        if not lowest <= uid <= highest and name not in also
    ]
    names = {name for _, name, *_ in kept}
    primary = {gid for _, _, _, gid, _ in kept}
    private = {(name, uid) for _, name, uid, gid, _ in kept if uid == gid}

    ours = {fold(g.name): g for g in plan.groups.values() if g.origin == LOCAL}
    taken = {*plan.users, *plan.groups, *plan.places}
    edits: list[Edit] = []
    by_gid: dict[int, str] = {}
    joins: list[Edit] = []
    user_ids = {fold(u.name): u.id for u in plan.users.values() if u.origin == LOCAL}
    for _, name, *_ in kept:
        if fold(name) not in user_ids:
            user_ids[fold(name)] = fresh_id(name, taken)
            taken.add(user_ids[fold(name)])
    for line, name, gid, members in groups:
        inside = [member for member in members if member in names]
        if not lowest <= gid <= highest and gid not in primary and name not in also:
            notes.append(Note(line, f"group {show(name)} left out: gid {gid} is outside {lowest} to {highest}"))
            continue
        if not private_groups and (name, gid) in private and set(inside) <= {name}:
            notes.append(Note(line, f"private group {show(name)} left out: only its own user is in it"))
            continue
        old = ours.get(fold(name))
        new = replace(old, gid=gid) if old else Group(id=fresh_id(name, taken), name=name, gid=gid)
        taken.add(new.id)
        ours[fold(name)] = new
        if new != old:
            edits.append(PutGroup(new))
        by_gid.setdefault(gid, new.id)
        joins += [Join(new.id, user_ids[fold(m)]) for m in inside if user_ids[fold(m)] not in new.members]
        notes += [
            Note(line, f"member {show(member)} of group {show(name)} left out: no such account came in")
            for member in members
            if member not in names
        ]
    for line, name, uid, gid, full_name in kept:
        if gid not in by_gid and (name, uid) not in private:
            notes.append(
                Note(line, f"{show(name)} has {gid} as primary group, and no group that came in has this number")
            )
        existing = plan.users.get(user_ids[fold(name)])
        user = existing or User(id=user_ids[fold(name)], name=name, full_name=full_name)
        user = replace(user, uid=uid, primary_group=by_gid.get(gid, user.primary_group))
        if user != existing:
            edits.append(PutUser(user))
    return Reading((*edits, *joins), tuple(notes))


def from_files(
    plan: Plan, passwd: bytes, group: bytes, lowest: int = LOWEST, highest: int = HIGHEST, private_groups: bool = False
) -> Reading:
    """The same, of files in the encoding that they are in."""
    notes: list[Note] = []
    people, groups = decoded(passwd, notes), decoded(group, notes)
    reading = read(plan, people, groups, lowest, highest, private_groups)
    return replace(reading, notes=(*notes, *reading.notes))


def smb_accounts(text: str) -> dict[str, dict[str, str]]:
    """What `pdbedit --list --verbose` says of each account of an SMB server, by its name on the host."""
    found = {}
    for block in text.split("---------------\n"):
        said = dict(part for line in block.splitlines() if len(part := re.split(r":\s*", line, maxsplit=1)) == 2)
        if "Unix username" in said:
            found[said["Unix username"]] = said
    return found


def is_open(said: Mapping[str, str]) -> bool:
    """Whether the SMB server lets such an account in."""
    return "D" not in said.get("Account Flags", "")


PasswdLine = tuple[int, str, int, int, str]
"""Line, name, uid, gid, full name."""
GroupLine = tuple[int, str, int, tuple[str, ...]]
"""Line, name, gid, members."""
Line = TypeVar("Line", PasswdLine, GroupLine)


def _taken_in(text: str, read_line: Callable[[int, str], Line], notes: list[Note]) -> list[Line]:
    """The lines that could be read; the others are noted. Raises FormatError where none could: then it is another file."""
    good, wrong = list[Line](), list[FormatError]()
    for line, row in enumerate(text.splitlines(), 1):
        if not row.strip() or row.startswith("#"):
            continue
        try:
            good.append(read_line(line, row))
        except FormatError as error:
            wrong.append(error)
    if wrong and not good:
        raise wrong[0]
    notes += [Note(error.line, f"left out: {error.plain}") for error in wrong]
    return good


def _joined(groups: list[GroupLine], notes: list[Note]) -> list[GroupLine]:
    """Groups that stand on several lines as one, as initgroups(3) counts them."""
    found: dict[tuple[str, int], GroupLine] = {}
    for line, name, gid, members in groups:
        if (name, gid) in found:
            first = found[name, gid]
            found[name, gid] = (*first[:3], tuple(dict.fromkeys((*first[3], *members))))
            notes.append(Note(line, f"group {show(name)} goes on here from line {first[0]}; it came in as one"))
        else:
            found[name, gid] = line, name, gid, members
    return list(found.values())


def _fields(line: int, row: str, what: str, fields: int) -> list[str]:
    parts = row.split(":")
    if row[0] in "+-":
        raise FormatError(f"{show(row[:40])} takes in or leaves out accounts of a name service (NIS)", line, 1)
    if len(parts) != fields:
        raise FormatError(
            f"a line of {what} has {fields} fields between colons; this one has {len(parts)}", line, len(row) or 1
        )
    if not parts[0]:
        raise FormatError("the name is empty", line, 1)
    return parts


def _number(text: str, what: str, line: int, column: int) -> int:
    if not (text.isascii() and text.isdigit()) or int(text) > LARGEST_NUMBER:
        raise FormatError(f"{what} {show(text)} is not a number from 0 to {LARGEST_NUMBER}", line, column)
    return int(text)


def _passwd() -> Callable[[int, str], PasswdLine]:
    """Reads an account, of which each name stands once. The full name is the first part of the comment field."""
    seen: dict[str, int] = {}

    def read_line(line: int, row: str) -> PasswdLine:
        name, password, uid, gid, comment, *_ = _fields(line, row, "passwd", 7)
        if seen.setdefault(fold(name), line) != line:
            raise FormatError(f"account {show(name)} stands twice, first in line {seen[fold(name)]}", line, 1)
        column = len(name) + len(password) + 3
        numbers = _number(uid, "uid", line, column), _number(gid, "gid", line, column + len(uid) + 1)
        return line, name, *numbers, comment.split(",")[0].strip()

    return read_line


def _group() -> Callable[[int, str], GroupLine]:
    """Reads a group, of which a name may stand again only with the same number."""
    seen: dict[str, tuple[int, str, str]] = {}

    def read_line(line: int, row: str) -> GroupLine:
        name, password, gid, members = _fields(line, row, "group", 4)
        first, called, number = seen.setdefault(fold(name), (line, name, gid))
        if first != line and (called, number) != (name, gid):
            raise FormatError(f"group {show(name)} stands twice, first in line {first}", line, 1)
        found = _number(gid, "gid", line, len(name) + len(password) + 3)
        return line, name, found, tuple(m.strip() for m in members.split(",") if m.strip())

    return read_line
