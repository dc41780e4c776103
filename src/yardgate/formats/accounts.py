"""passwd(5) and group(5) of a Linux host."""

import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from yardgate.core.edits.records import Edit, Join, PutGroup, PutUser
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import LARGEST_NUMBER, LOCAL, Group, Plan, User
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

    Accounts and groups with a number outside lowest..highest are left out, except primary groups of accounts that come
    in, and those that are named in `also`. A private group (same name and number as its only user) is left out unless `private_groups`.
    """
    people = list(_passwd(passwd))
    groups = list(_group(group))
    notes: list[Note] = []
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
    for _, name, uid, gid, full_name in kept:
        existing = plan.users.get(user_ids[fold(name)])
        user = existing or User(id=user_ids[fold(name)], name=name, full_name=full_name)
        user = replace(user, uid=uid, primary_group=by_gid.get(gid, user.primary_group))
        if user != existing:
            edits.append(PutUser(user))
    return Reading((*edits, *joins), tuple(notes))


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


def _rows(text: str, what: str, fields: int) -> Iterator[tuple[int, list[str]]]:
    for line, row in enumerate(text.splitlines(), 1):
        if not row.strip() or row.startswith("#"):
            continue
        parts = row.split(":")
        if len(parts) != fields:
            raise FormatError(
                f"a line of {what} has {fields} fields between colons; this one has {len(parts)}", line, len(row) or 1
            )
        if not parts[0]:
            raise FormatError("the name is empty", line, 1)
        yield line, parts


def _number(text: str, what: str, line: int, column: int) -> int:
    if not (text.isascii() and text.isdigit()) or int(text) > LARGEST_NUMBER:
        raise FormatError(f"{what} {show(text)} is not a number from 0 to {LARGEST_NUMBER}", line, column)
    return int(text)


def _passwd(text: str) -> Iterator[tuple[int, str, int, int, str]]:
    """(line, name, uid, gid, full name) for each account. The full name is the first part of the comment field."""
    seen: dict[str, int] = {}
    for line, parts in _rows(text, "passwd", 7):
        name, _, uid, gid, comment, *_ = parts
        if seen.setdefault(fold(name), line) != line:
            raise FormatError(f"account {show(name)} stands twice, first in line {seen[fold(name)]}", line, 1)
        column = len(name) + len(parts[1]) + 3
        numbers = _number(uid, "uid", line, column), _number(gid, "gid", line, column + len(uid) + 1)
        yield line, name, *numbers, comment.split(",")[0].strip()


def _group(text: str) -> Iterator[tuple[int, str, int, tuple[str, ...]]]:
    """(line, name, gid, members) for each group."""
    seen: dict[str, int] = {}
    for line, (name, password, gid, members) in _rows(text, "group", 4):
        if seen.setdefault(fold(name), line) != line:
            raise FormatError(f"group {show(name)} stands twice, first in line {seen[fold(name)]}", line, 1)
        number = _number(gid, "gid", line, len(name) + len(password) + 3)
        yield line, name, number, tuple(m.strip() for m in members.split(",") if m.strip())
