"""passwd(5) and group(5) of a Linux host."""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from yardgate.core.edits.records import Edit, Join, PutGroup, PutUser
from yardgate.core.host.state import OF_THE_HOST
from yardgate.core.model.kinds import GROUPS, USERS
from yardgate.core.model.names import fresh_id, unix_trouble
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.plan import LARGEST_NUMBER, LOCAL, Group, Plan, User
from yardgate.formats.reading import FormatError, Note, Reading, gathered, left_out
from yardgate.formats.sheets import decoded

MOST_LINES = 100_000  # of accounts, and of groups: twice as many as a plan can have
LOWEST, HIGHEST = 1000, 60000  # UID_MIN and UID_MAX of login.defs(5)


@dataclass(frozen=True, slots=True, kw_only=True)
class Whole:
    """What else is known of a host that is taken in whole. named, groups: accounts and groups that its folders and shares name. listed:
    accounts that lists of shares let in. signing: accounts that its SMB server has; None: not known. plain: whether plain names are also those
    of a domain's accounts."""

    named: frozenset[str]
    groups: frozenset[str]
    listed: frozenset[str] = frozenset()
    signing: frozenset[str] | None = None
    plain: bool = False

    def signs_in(self, name: str, *, in_range: bool) -> bool:
        """Whether it is the account of somebody who signs in, rather than the host's own."""
        if self.signing is not None:
            return name in self.signing
        return in_range or (name in self.listed and name not in OF_THE_HOST)


def read(
    plan: Plan,
    passwd: str,
    group: str,
    lowest: int = LOWEST,
    highest: int = HIGHEST,
    private_groups: bool = False,
    whole: Whole | None = None,
) -> Reading:
    """The edits that bring a host's accounts into a plan, uid and gid kept.

    A line that cannot be read is left out and noted, and the rest comes in. Accounts and groups with a number outside lowest..highest are
    left out, except primary groups of accounts that come in. A private group (same name and number as its only user) is left out unless
    `private_groups`.

    whole: of a host that is taken in whole also those that it names come in, whatever their numbers, and with such groups their members;
    accounts with which nobody signs in as the host's own, and groups outside the range in which nobody is who does, or that every host has,
    and those with names that a host could not be told to make.
    """
    for text, what in ((passwd, "accounts"), (group, "groups")):
        if text.count("\n") > MOST_LINES:
            raise FormatError(f"there are more than {MOST_LINES:,} lines of {what}; give a part of them")
    notes: list[Note] = []
    people = _taken_in(passwd, _passwd(), notes)
    groups = _joined(_taken_in(group, _group(), notes), notes)
    named = whole.named if whole is not None else frozenset[str]()
    spoken_of = whole.groups if whole is not None else frozenset[str]()
    theirs = _of_directories(plan, whole)
    in_range = {name for _, name, uid, _, _ in people if lowest <= uid <= highest}
    primary = {gid for _, name, _, gid, _ in people if name in in_range or name in named}
    first_in = _by_primary(people)
    into, alone = list[GroupLine](), list[tuple[int | None, str]]()
    outside: list[tuple[int | None, str]] = []
    for one in groups:
        line, name, gid, members = one
        others = {*first_in.get(gid, ()), *members}
        of_ours = not in_range.isdisjoint(others - {name}) or not theirs.keys().isdisjoint(members)
        if not lowest <= gid <= highest and gid not in primary and name not in spoken_of:
            outside.append((line, show(name)))
        elif not private_groups and name not in spoken_of and name in in_range and not of_ours:
            alone.append((line, show(name)))
        else:
            into.append(one)
    asked = named | {member for *_, members in into for member in members if whole is not None}
    kept = [one for one in people if one[1] in in_range or one[1] in asked]
    for kind, some in (USERS, kept), (GROUPS, into):
        if len(some) > kind.most:
            raise FormatError(
                f"{len(some):,} {kind.many} would come in; a plan has at most {kind.most:,}. Narrow the range of numbers"
            )
    why = f"outside the numbers {lowest} to {highest}"
    why += ", and named by no folder or share" if whole is not None else ""
    left = [(line, show(name)) for line, name, *_ in people if name not in asked and name not in in_range]
    notes += left_out(left, "account", "accounts", why)
    notes += left_out(outside, "group", "groups", why)
    notes += left_out(alone, "group", "groups", "each is one account's own, with nobody else in it")
    signing = {name for _, name, *_ in kept if whole is None or whole.signs_in(name, in_range=name in in_range)}
    edits = _edits(plan, kept, into, signing, theirs, (lowest, highest), notes, whole=whole is not None)
    return Reading(tuple(edits), gathered(notes))


def _of_directories(plan: Plan, whole: Whole | None) -> Mapping[str, str]:
    """Name -> id, of accounts of directories that the lines of groups may name: just as winbindd(8) calls them."""
    plain = whole is not None and whole.plain
    return {
        user.name.lower() if plain else f"{plan.source(user.origin)}\\{user.name.lower()}": user.id
        for user in plan.users.values()
        if user.origin != LOCAL
    }


def _by_primary(people: Iterable["PasswdLine"]) -> Mapping[int, Sequence[str]]:
    """Number of a group -> whose primary group it is."""
    found: dict[int, list[str]] = {}
    for _, name, _, gid, _ in people:
        found.setdefault(gid, []).append(name)
    return found


def _edits(
    plan: Plan,
    people: Sequence["PasswdLine"],
    groups: Sequence["GroupLine"],
    signing: Collection[str],
    theirs: Mapping[str, str],
    numbers: tuple[int, int],
    notes: list[Note],
    *,
    whole: bool,
) -> Iterator[Edit]:
    """What makes these accounts and groups: groups, then accounts, then who is in which."""
    ours = {fold(g.name): g for g in plan.groups.values() if g.origin == LOCAL}
    known = {fold(u.name): u for u in plan.users.values() if u.origin == LOCAL}
    taken = {*plan.users, *plan.groups, *plan.places}
    ids = {fold(name): user.id for name, user in known.items()}
    for _, name, *_ in people:
        if fold(name) not in ids:
            ids[fold(name)] = fresh_id(name, taken)
            taken.add(ids[fold(name)])
    names, private = {name for _, name, *_ in people}, {(name, uid) for _, name, uid, gid, _ in people if uid == gid}
    by_gid: dict[int, str] = {}
    joins: list[Edit] = []

    def grouped(name: str, gid: int, members: Iterable[str] = (), *, of_host: bool) -> Iterator[Edit]:
        old = ours.get(fold(name))
        new = replace(old, gid=gid) if old else Group(id=fresh_id(name, taken), name=name, gid=gid, of_host=of_host)
        missing = [who for who in dict.fromkeys(members) if who not in new.members]
        if new.id in plan.groups:
            joins.extend(Join(new.id, who) for who in missing)
        else:
            new = replace(new, members=new.members.union(missing))
        taken.add(new.id)
        ours[fold(name)] = new
        by_gid.setdefault(gid, new.id)
        if new != old:
            yield PutGroup(new)

    strangers: list[tuple[int | None, str]] = []
    first_in = _by_primary(people)
    for line, name, gid, members in groups:
        inside = {*first_in.get(gid, ()), *members}
        nobody = inside.isdisjoint(signing) and theirs.keys().isdisjoint(members)
        low = not numbers[0] <= gid <= numbers[1] and (name in OF_THE_HOST or nobody)
        found = {m: ids[fold(m)] if m in names else theirs.get(m) for m in members}
        came = [who for who in found.values() if who is not None]
        yield from grouped(name, gid, came, of_host=whole and (low or unix_trouble(name) is not None))
        strangers += [(line, f"{show(member)} of {show(name)}") for member, who in found.items() if who is None]
    notes += left_out(strangers, "member", "members of groups", "no such account came in")
    for line, name, uid, gid, full_name in people:
        if gid not in by_gid and whole and gid != 0 and (name, uid) not in private:
            yield from grouped(str(gid), gid, of_host=True)
        if gid not in by_gid and (name, uid) not in private:
            notes.append(
                Note(line, f"{show(name)} has {gid} as primary group, and no group that came in has this number")
            )
        existing = known.get(fold(name))
        shut = name not in signing
        user = existing or User(id=ids[fold(name)], name=name, full_name=_full_name(full_name), of_host=whole and shut)
        user = replace(user, uid=uid, primary_group=by_gid.get(gid, user.primary_group))
        if existing is None and shut:
            person = numbers[0] <= uid <= numbers[1]
            user = replace(user, kind="person" if person else "service", enabled=False)
        if user != existing:
            yield PutUser(user)
    yield from joins


def _full_name(text: str) -> str:
    """A full name as a plan has them; what none can be is left out."""
    plain = " ".join("".join(c if c.isprintable() else " " for c in text).split())
    return plain if name_trouble(plain) is None else ""


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
