"""One place each: in a place, a folder for every member of a group, with only that member and named keepers in it.

The folders follow the group at every edit: who joins gets one; who leaves loses the grant on theirs, and its share, while the
folder and what is in it stay. Only what changes is acted on, so what somebody sets on one of the folders afterwards stands.
"""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from yardgate.core.access.membership import in_baseline
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


def owed(before: Plan, after: Plan) -> Iterator[Owed]:
    """What the step from one plan to another leaves to be done, for each place that has a folder for every member of a group."""
    for place in after.places.values():
        if place.personal_folders is not None:
            yield _owed(before, after, place, place.personal_folders)


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


def _owed(before: Plan, after: Plan, place: Place, each: PersonalFolders) -> Owed:
    old = before.places[place.id].personal_folders if place.id in before.places else None
    was = set(members(before, old.group)) if old is not None else set()
    now = members(after, each.group)
    joined, left = [user for user in now if user not in was], was - set(now)
    folders = _folders(after, place.id)
    made = _fresh(after, place.id, [user for user in joined if user not in folders])
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
    named = each.managers - (old.managers if old is not None else frozenset())
    dismissed = (old.managers if old is not None else frozenset()) - each.managers
    for folder in (*folders.values(), *made.values()):
        said = after.grants.get(folder.id, {})
        newly = each.managers if folder.folder_of in made else named
        grants += [(folder.id, who, Level.RW) for who in sorted(newly) if who not in said and who != folder.folder_of]
        grants += [(folder.id, who, None) for who in sorted(dismissed) if who in said and who != folder.folder_of]

    offered = {share.place: share.id for share in after.shares.values()}
    was_shared = old is not None and old.shared
    closing = left_behind if each.shared else list(folders.values()) if was_shared else []
    ended = [share.id for folder in closing for share in after.shares.values() if share.place == folder.id]
    wanting = [
        folders.get(user) or made[user] for user in (joined if was_shared else now) if user in folders or user in made
    ]
    fresh = _shares(after, [f for f in wanting if f.id not in offered]) if each.shared else ()
    return Owed(tuple(made.values()), tuple(grants), tuple(fresh), tuple(ended))


def _folder_ids(plan: Plan, place: str) -> Iterator[tuple[str, str]]:
    """Whom the folders in a place are for, and the folders' ids."""
    for child in plan.inside.get(place, ()):
        if (of := plan.places[child].folder_of) is not None:
            yield of, child


def _folders(plan: Plan, place: str) -> dict[str, Place]:
    return {of: plan.places[child] for of, child in _folder_ids(plan, place)}


def _fresh(plan: Plan, place: str, users: Iterable[str]) -> dict[str, Place]:
    """A folder for each of some users, under their sign-in names, to which nothing comes down."""
    ids = set(plan.places)
    names = {fold(plan.places[child].name) for child in plan.inside.get(place, ())}
    made = {}
    for user in users:
        name = free_name(plan.users[user].name.replace("/", "-"), names)
        folder = Place(
            id=fresh_id(f"{place} {name}", ids),
            name=name,
            kind="folder",
            parent=place,
            inheritance_stops=True,
            folder_of=user,
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
