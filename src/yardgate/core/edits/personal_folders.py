"""One place each: in a place, a folder for every member of a group, or for some people, with only its owner and named managers and readers in it.

The folders follow at every edit: who joins gets one; who leaves loses the grant on theirs, and its share, while the folder and
what is in it stay; whose sign-in name changes has it under the new one. Only what changes is acted on, so what somebody sets on one of the
folders afterwards stands.
"""

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import NamedTuple

from yardgate.core.access.membership import in_baseline
from yardgate.core.acl import Mode
from yardgate.core.acl.rights import Level
from yardgate.core.model.names import free_name, fresh_id
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import PersonalFolders, Place, Plan
from yardgate.core.model.share import Share, share_name_trouble


class Owed(NamedTuple):
    """What is missing for the folders to be in step. grants: (place, who, level), None for one that goes. ended: ids of shares."""

    places: tuple[Place, ...] = ()
    grants: tuple[tuple[str, str, Level | None], ...] = ()
    shares: tuple[Share, ...] = ()
    ended: tuple[str, ...] = ()


def owed(before: Plan, after: Plan, place: str) -> Owed:
    """What the step from one plan to another leaves to be done in a place, if it has personal folders."""
    each = after.places[place].personal_folders
    return Owed() if each is None else _owed(before, after, after.places[place], each)


def members(plan: Plan, group: str) -> list[str]:
    """Users who count as a group, nesting and baseline included, and whose directory still has them; by name."""
    found: set[str] = set()
    stack, seen = [group], {group}
    while stack:
        here = stack.pop()
        inside = set(plan.groups[here].members) if here in plan.groups else set()
        inside |= {user.id for user in plan.users.values() if user.primary_group == here}
        if here == plan.target.baseline:
            inside |= {user for user in plan.users if in_baseline(plan, user)}
        found |= inside & plan.users.keys()
        nested = (inside & plan.groups.keys()) - seen
        seen |= nested
        stack += nested
    return sorted((user for user in found if not plan.users[user].gone), key=lambda user: fold(plan.users[user].name))


def entitled(plan: Plan, each: PersonalFolders) -> list[str]:
    """Users who shall have a folder; by name."""
    counting = members(plan, each.group) if each.group is not None else []
    found = {user for user in counting if each.services or plan.users[user].kind == "person"}
    found |= {user for user in each.users if user in plan.users and not plan.users[user].gone}
    return sorted(found, key=lambda user: fold(plan.users[user].name))


def _owed(before: Plan, after: Plan, place: Place, each: PersonalFolders) -> Owed:
    old = before.places[place.id].personal_folders if place.id in before.places else None
    was = set(entitled(before, old)) if old is not None else set()
    now = entitled(after, each)
    joined, left = [user for user in now if user not in was], was - set(now)
    folders = _folders(after, place.id)
    made = _fresh(after, place.id, [user for user in joined if user not in folders])
    renamed = dict(_renamed(before, after, place.id, folders))
    left_behind = [
        after.places[folder]
        for user, folder in _folder_ids(before, place.id)
        if user in left and folder in after.places
    ]

    grants: list[tuple[str, str, Level | None]] = []
    for user in joined:
        folder = folders.get(user) or made[user]
        if user not in after.grants.get(folder.id, {}):
            grants.append((folder.id, user, Level.RW))
    grants += [
        (f.id, f.folder_of, None)
        for f in left_behind
        if f.folder_of is not None and f.folder_of in after.grants.get(f.id, {})
    ]
    had, have = _let_in(old), _let_in(each)
    for folder in (*folders.values(), *made.values()):
        grants += _changes(after, folder, {} if folder.folder_of in made else had, have)
    grants += _changes(after, place, _passing(old), _passing(each))

    offered = {share.place: share.id for share in after.shares.values()}
    was_shared = old is not None and old.shared
    closing = left_behind if each.shared else list(folders.values()) if was_shared else []
    ended = [share.id for folder in closing for share in after.shares.values() if share.place == folder.id]
    wanting = [
        folders.get(user) or made[user] for user in (joined if was_shared else now) if user in folders or user in made
    ]
    fresh = [f for f in wanting if f.id not in offered] if each.shared else []
    by_one = each.one_share and not (old is not None and old.one_share) and place.id not in offered
    shares = (*_shares(after, fresh), *(_whole(after, place) if by_one else ()), *_share_renames(after, renamed))
    return Owed((*made.values(), *renamed.values()), tuple(grants), shares, tuple(ended))


def _let_in(each: PersonalFolders | None) -> dict[str, Level]:
    """Who else gets into each folder; the wider where both are said."""
    if each is None:
        return {}
    return dict.fromkeys(sorted(each.readers), Level.RO) | dict.fromkeys(sorted(each.managers), Level.RW)


def _passing(each: PersonalFolders | None) -> dict[str, Level]:
    """Who gets into the place itself, so that one share of it leads all of them to the folders."""
    return dict.fromkeys(sorted(each.named), Level.RO) if each is not None and each.one_share else {}


def _changes(
    plan: Plan, place: Place, had: dict[str, Level], have: dict[str, Level]
) -> Iterator[tuple[str, str, Level | None]]:
    """The grants of a place from what came with one setting to what comes with another. What somebody set otherwise stands."""
    said = plan.grants.get(place.id, {})
    for who, level in have.items():
        if who != place.folder_of and had.get(who) != level and said.get(who, had.get(who)) == had.get(who):
            yield place.id, who, level
    for who in had.keys() - have.keys():
        if who in said and who != place.folder_of:
            yield place.id, who, None


def _renamed(before: Plan, after: Plan, place: str, folders: dict[str, Place]) -> Iterator[tuple[str, Place]]:
    """The folders of users who go by another name now, if they were called as their users were: old name -> the folder under the new one."""
    names = {fold(after.places[child].name) for child in after.inside.get(place, ())}
    for user, folder in folders.items():
        was = before.users.get(user)
        if was is not None and was.name != after.users[user].name and folder.name == _called(was.name):
            name = free_name(_called(after.users[user].name), names - {fold(folder.name)})
            names.add(fold(name))
            yield folder.name, replace(folder, name=name)


def _share_renames(plan: Plan, renamed: dict[str, Place]) -> Iterator[Share]:
    """The shares of renamed folders, if they were called as these were."""
    names = {fold(share.name) for share in plan.shares.values()}
    for old, folder in renamed.items():
        for share in plan.shares.values():
            name = free_name(folder.name, names - {fold(share.name)})
            if share.place == folder.id and share.name == old and share_name_trouble(name) is None:
                names.add(fold(name))
                yield replace(share, name=name)


def _called(name: str) -> str:
    """The folder's name for a sign-in name."""
    return name.replace("/", "-")


def _folder_ids(plan: Plan, place: str) -> Iterator[tuple[str, str]]:
    """Whom the folders in a place are for, and the folders' ids."""
    for child in plan.inside.get(place, ()):
        if (of := plan.places[child].folder_of) is not None:
            yield of, child


def _folders(plan: Plan, place: str) -> dict[str, Place]:
    return {of: plan.places[child] for of, child in _folder_ids(plan, place)}


def _fresh(plan: Plan, place: str, users: Iterable[str]) -> dict[str, Place]:
    """A folder for each of some users, under their sign-in names, to which nothing comes down; theirs where mode bits have to say who gets in, since
    these name nobody but the owner and one group."""
    ids = set(plan.places)
    names = {fold(plan.places[child].name) for child in plan.inside.get(place, ())}
    above = (plan.places[one].acl for one in reversed(plan.path(place)))
    by_mode = isinstance(next((own for own in above if own is not None), None), Mode)
    made = {}
    for user in users:
        name = free_name(_called(plan.users[user].name), names)
        folder = Place(
            id=fresh_id(f"{place} {name}", ids),
            name=name,
            kind="folder",
            parent=place,
            inheritance_stops=True,
            folder_of=user,
            owner=user if by_mode else None,
        )
        ids.add(folder.id)
        names.add(fold(name))
        made[user] = folder
    return made


def _shares(plan: Plan, folders: Iterable[Place]) -> Iterator[Share]:
    """A share for each folder whose name a share can have."""
    ids, names = set(plan.shares), {fold(share.name) for share in plan.shares.values()}
    for folder in folders:
        name = free_name(folder.name, names)
        if share_name_trouble(name) is None:
            share = Share(id=fresh_id(f"share {name}", ids), name=name, place=folder.id, hidden=True)
            ids.add(share.id)
            names.add(fold(name))
            yield share


def _whole(plan: Plan, place: Place) -> Iterator[Share]:
    """A share of the place itself, in which everybody sees what is theirs, if it has a name that a share can have."""
    name = free_name(place.name, {fold(share.name) for share in plan.shares.values()})
    if share_name_trouble(name) is None:
        ids = {*plan.shares}
        yield Share(id=fresh_id(f"share {name}", ids), name=name, place=place.id, hide_unreadable=True)
