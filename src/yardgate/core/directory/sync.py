"""What a directory's accounts, as read, make of a plan: the edits, and what each of them does in words.

Accounts are followed by key, so a new name keeps grants and memberships. What the directory no longer has stays, marked as
gone, with its grants. Memberships of a directory's groups are the directory's; those of local groups are the plan's.
"""

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Literal

from yardgate.core.directory.idmap import numbers
from yardgate.core.edits.records import Edit, PutDirectory, PutGroup, PutUser
from yardgate.core.model.directory import AccountRecord, Directory, Linked, linked
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.plan import Group, Plan, User

ChangeKind = Literal["new", "renamed", "joins", "leaves", "shut", "open", "gone", "back", "number", "changed"]


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a sync does to an account."""

    what: ChangeKind
    who: str
    words: str


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An account that cannot be taken in."""

    key: str
    name: str
    why: str


@dataclass(frozen=True, slots=True)
class Sync:
    """edits: what makes the plan agree with the directory, in an order that can be applied. items: the same, told."""

    edits: tuple[Edit, ...]
    items: tuple[Item, ...]
    left_out: tuple[LeftOut, ...]


def sync(plan: Plan, directory: Directory, records: Iterable[AccountRecord]) -> Sync:
    """Bring a plan in step with everything that its directory says. `directory` may have other settings than the plan's."""
    accounts = linked(directory, records)
    known = _known(plan, directory)
    left_out = tuple(_left_out(known, accounts))
    refused = {out.key for out in left_out}
    accounts = {key: account for key, account in accounts.items() if key not in refused}
    kept = {key: number for key, (_, number) in known.items() if number is not None}
    mapped, directory = numbers(directory, accounts, kept)
    ids = {key: who for key, (who, _) in known.items()}
    taken = {*plan.users, *plan.groups}
    aliases = _aliases(accounts)
    for key in sorted(accounts.keys() - ids.keys()):
        ids[key] = fresh_id(accounts[key].record.name, taken)
        taken.add(ids[key])

    users = {
        ids[key]: _user(plan, directory, ids, account, mapped[key], aliases[key])
        for key, account in accounts.items()
        if account.record.kind != "group"
    }
    groups = {
        ids[key]: _group(plan, directory, ids, account, mapped[key])
        for key, account in accounts.items()
        if account.record.kind == "group"
    }
    for user in plan.users.values():
        if user.origin == directory.id and user.key not in accounts:
            users[user.id] = replace(user, gone=True)
    for group in plan.groups.values():
        if group.origin == directory.id and group.key not in accounts:
            groups[group.id] = replace(group, gone=True, members=frozenset(), unknown=())

    settings: list[Edit] = [PutDirectory(directory)] if plan.directories.get(directory.id) != directory else []
    groups = {who: group for who, group in sorted(groups.items()) if plan.groups.get(who) != group}
    users = {who: user for who, user in sorted(users.items()) if plan.users.get(who) != user}
    # Groups first: a user names a primary group, and what a group names is looked at when all edits are in.
    edits: tuple[Edit, ...] = (*settings, *map(PutGroup, groups.values()), *map(PutUser, users.values()))
    after = replace(plan, users={**plan.users, **users}, groups={**plan.groups, **groups})
    items = [item for who, user in users.items() for item in _told(plan.users.get(who), user, after)]
    items += [item for who, group in groups.items() for item in _told_of_group(plan.groups.get(who), group, after)]
    return Sync(edits, tuple(items), left_out)


def _known(plan: Plan, directory: Directory) -> Mapping[str, tuple[str, int | None]]:
    """Key -> (id, number) of the accounts that the plan has from this directory, those that are gone too."""
    users = {u.key: (u.id, u.uid) for u in plan.users.values() if u.origin == directory.id and u.key is not None}
    return users | {
        g.key: (g.id, g.gid) for g in plan.groups.values() if g.origin == directory.id and g.key is not None
    }


def _left_out(known: Collection[str], accounts: Mapping[str, Linked]) -> Iterator[LeftOut]:
    """Accounts that a plan cannot have: names that nothing can carry, and the later of two with one name."""
    users: dict[str, str] = {}
    groups: dict[str, str] = {}
    for key in sorted(accounts, key=lambda key: (key not in known, key)):  # whom the plan has already keeps the name
        record = accounts[key].record
        if why := name_trouble(record.name):
            yield LeftOut(key, record.name, f"its name {why}")
            continue
        seen = groups if record.kind == "group" else users
        first = seen.setdefault(fold(record.name), key)
        if first != key:
            yield LeftOut(key, record.name, f"{show(record.dn)} has the same name as {show(accounts[first].record.dn)}")


def _aliases(accounts: Mapping[str, Linked]) -> Mapping[str, tuple[str, ...]]:
    """Key -> the other sign-in names of a user that nobody else of the directory has."""
    users = {key: account.record for key, account in sorted(accounts.items()) if account.record.kind != "group"}
    seen = {fold(record.name): key for key, record in users.items()}
    found: dict[str, tuple[str, ...]] = {}
    for key, record in users.items():
        good = [alias for alias in record.aliases if not name_trouble(alias) and fold(alias) != fold(record.name)]
        found[key] = tuple(alias for alias in dict.fromkeys(good) if seen.setdefault(fold(alias), key) == key)
    return found


def _user(
    plan: Plan, directory: Directory, ids: Mapping[str, str], account: Linked, uid: int | None, aliases: tuple[str, ...]
) -> User:
    record, who = account.record, ids[account.record.key]
    before = plan.users.get(who) or User(id=who, name=record.name)
    primary = ids.get(account.primary) if account.primary is not None else None
    return replace(
        before,
        name=record.name,
        full_name=record.full_name if not name_trouble(record.full_name) else "",
        kind="service" if record.kind == "service" else "person",
        uid=uid,
        primary_group=primary,
        enabled=record.enabled,
        expires=record.expires,
        aliases=aliases,
        origin=directory.id,
        key=record.key,
        sid=record.sid,
        gone=False,
    )


def _group(plan: Plan, directory: Directory, ids: Mapping[str, str], account: Linked, gid: int | None) -> Group:
    record, who = account.record, ids[account.record.key]
    before = plan.groups.get(who) or Group(id=who, name=record.name)
    return replace(
        before,
        name=record.name,
        gid=gid,
        members=frozenset(ids[key] for key in account.members if key in ids),
        origin=directory.id,
        key=record.key,
        sid=record.sid,
        gone=False,
        unknown=account.unknown,
    )


# --- told -------------------------------------------------------------------------------------------------------------


def _told(old: User | None, new: User, after: Plan) -> Iterator[Item]:
    name = after.named(new.id)
    if old is None:
        yield Item("new", new.id, f"{name} is new" + ("" if new.enabled else ", disabled"))
        return
    if new.gone != old.gone:
        yield Item("gone" if new.gone else "back", new.id, _GONE[new.gone].format(name=name))
    if new.name != old.name:
        yield Item("renamed", new.id, f"{old.name} is called {new.name} now")
    elif new.full_name != old.full_name:
        yield Item("renamed", new.id, f"{old.full_name or old.name} is called {name} now")
    if new.enabled != old.enabled:
        yield Item("open" if new.enabled else "shut", new.id, f"{name} is {'enabled' if new.enabled else 'disabled'}")
    if new.expires != old.expires:
        words = f"{name} expires on {new.expires}" if new.expires else f"{name} no longer expires"
        yield Item("shut" if new.expires else "open", new.id, words)
    if new.uid != old.uid:
        yield Item("number", new.id, f"{name} has {_number('uid', new.uid)}, had {_number('uid', old.uid)}")
    if new.primary_group != old.primary_group:
        primary = after.named(new.primary_group) if new.primary_group else "none that is known"
        yield Item("joins", new.id, f"the primary group of {name} is {primary}")
    if (new.aliases, new.kind, new.sid) != (old.aliases, old.kind, old.sid):
        yield Item("changed", new.id, f"{name}: sign-in names or kind changed")


def _told_of_group(old: Group | None, new: Group, after: Plan) -> Iterator[Item]:
    name = after.named(new.id)
    before = old.members if old is not None else frozenset()
    if old is None:
        yield Item(
            "new",
            new.id,
            f"group {name} is new, with {len(new.members)} direct {'member' if len(new.members) == 1 else 'members'}",
        )
        return
    if new.gone != old.gone:
        yield Item("gone" if new.gone else "back", new.id, _GONE[new.gone].format(name=f"group {name}"))
    if new.name != old.name:
        yield Item("renamed", new.id, f"group {old.name} is called {new.name} now")
    if new.gid != old.gid:
        yield Item("number", new.id, f"group {name} has {_number('gid', new.gid)}, had {_number('gid', old.gid)}")
    for who in sorted(new.members - before):
        yield Item("joins", who, f"{after.named(who)} joins {name}")
    for who in sorted(before - new.members):
        yield Item("leaves", who, f"{after.named(who)} leaves {name}")
    if new.unknown != old.unknown:
        yield Item("changed", new.id, f"group {name}: {_unknown(len(new.unknown))}")


_GONE = {True: "{name} is gone from the directory; what was granted stays, marked", False: "{name} is back"}


def _unknown(count: int) -> str:
    members = "one member who is" if count == 1 else f"{count or 'no'} members who are"
    return f"names {members} not known here"


def _number(what: str, number: int | None) -> str:
    return f"no {what}" if number is None else f"{what} {number}"
