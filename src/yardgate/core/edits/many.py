"""One act on many things, and more of the same, as edits.

What is done to each alone is an edit already; here is what has to look at the others: numbers and names that are free, and the lines of a list that
go with a copy.
"""

from collections.abc import Collection, Iterable, Iterator
from dataclasses import replace
from typing import Literal, NamedTuple

from yardgate.core.edits.records import Edit, Join, PutGroup, PutNeed, PutPlace, PutService, PutShare, PutUser, SetGrant
from yardgate.core.edits.transforms import started
from yardgate.core.model.checks import PlanError, Trouble
from yardgate.core.model.names import free_name, fresh_id, ids_of
from yardgate.core.model.naming import fold
from yardgate.core.model.needs import need_id
from yardgate.core.model.plan import LOCAL, Group, Place, PlaceKind, Plan, User
from yardgate.core.model.share import Share, share_name_trouble


def numbered(plan: Plan, whos: Iterable[str], lowest: int = 1000) -> tuple[Edit, ...]:
    """Free numbers, from `lowest` on, for those of some users and groups of the appliance's own that have none."""
    uids = _free({user.uid for user in plan.users.values()}, lowest)
    gids = _free({group.gid for group in plan.groups.values()}, lowest)
    edits: list[Edit] = []
    for who in dict.fromkeys(whos):
        account = plan.account(who)
        if isinstance(account, User) and account.uid is None and account.origin == LOCAL:
            edits.append(PutUser(replace(account, uid=next(uids))))
        elif isinstance(account, Group) and account.gid is None and account.origin == LOCAL:
            edits.append(PutGroup(replace(account, gid=next(gids))))
    return tuple(edits)


def _free(taken: Collection[int | None], lowest: int) -> Iterator[int]:
    return (number for number in range(lowest, 2**31) if number not in taken)


def shared(plan: Plan, places: Iterable[str]) -> tuple[Edit, ...]:
    """A share over SMB for each of some places, called like it, or like its path where the name is taken or none that a server takes."""
    ids, names = ids_of(plan), {fold(share.name) for share in plan.shares.values()}
    edits = []
    for place in dict.fromkeys(places):
        path = [name for name in plan.path_name(place).split("/") if name]
        tries = ["-".join(path[-depth:]) for depth in range(1, len(path) + 1)]
        good = [name for name in tries if share_name_trouble(name) is None]
        if not good:
            raise PlanError((Trouble(place, f"no share can be called {path[-1]}; share it under another name"),))
        name = next((name for name in good if fold(name) not in names), free_name(good[0], names))
        share = Share(id=fresh_id(f"share {name}", ids), name=name, place=place, hide_unreadable=True)
        ids.add(share.id)
        names.add(fold(name))
        edits.append(PutShare(share))
    return tuple(edits)


def added(
    plan: Plan,
    names: Iterable[tuple[str, str]],
    kind: Literal["person", "service", "group"],
    groups: Collection[str] = (),
) -> tuple[Edit, ...]:
    """A person, a service or a group for each of some names (sign-in name, full name; a group's first), members of some groups. A sign-in name that somebody has is
    given a number."""
    ids = ids_of(plan)
    taken = {fold(user.name) for user in plan.users.values() if user.origin == LOCAL}
    edits: list[Edit] = []
    for name, full_name in names:
        new = fresh_id(full_name or name, ids)
        ids.add(new)
        if kind == "group":
            edits.append(PutGroup(Group(id=new, name=name)))
        else:
            called = free_name(name, taken)
            taken.add(fold(called))
            edits.append(PutUser(User(id=new, name=called, full_name=full_name, kind=kind)))
        edits += [Join(group, new) for group in groups]
    return tuple(edits)


KINDS: tuple[PlaceKind, ...] = ("pool", "dataset", "folder")  # by depth; all below are folders


def placed(plan: Plan, paths: Iterable[str], start: str = "") -> tuple[Edit, ...]:
    """Places at some paths (pool/dataset/folder), with all on the way that is missing; what is there stays. start: the starting kind of pools that are new."""
    ids = ids_of(plan)
    there = {fold(plan.path_name(place)): place for place in plan.places}
    edits: list[Edit] = []
    for path in paths:
        steps = [step.strip() for step in path.strip().strip("/").split("/") if step.strip()]
        for depth, name in enumerate(steps):
            here = fold("/".join(steps[: depth + 1]))
            if here in there:
                continue
            there[here] = fresh_id(name, ids)
            ids.add(there[here])
            parent = there[fold("/".join(steps[:depth]))] if depth else None
            place = Place(id=there[here], name=name, kind=KINDS[min(depth, 2)], parent=parent)
            edits.append(PutPlace(place if parent else started(plan, place, start)))
    return tuple(edits)


class Again(NamedTuple):
    id: str
    edits: tuple[Edit, ...]


def copied(plan: Plan, like: str, name: str, full_name: str = "", *, grants: bool) -> Again | None:
    """One more of a user, a group, a share or a place, under another name; None where there is no such thing."""
    new = fresh_id(full_name or name, ids_of(plan))
    if like in plan.users:
        user = User(id=new, name=name, full_name=full_name)
        return Again(new, copied_user(plan, like, user, grants=grants))
    if like in plan.groups:
        return Again(new, copied_group(plan, like, Group(id=new, name=name), grants=grants))
    if like in plan.shares:
        return Again(new, copied_share(plan, like, new, name))
    return Again(new, copied_place(plan, like, new, name, grants=grants)) if like in plan.places else None


def copied_user(plan: Plan, like: str, new: User, *, grants: bool) -> tuple[Edit, ...]:
    """Somebody new who is in the groups that `like` is in and needs what they need; `grants`: who is granted what they are themselves, too."""
    was = plan.users[like]
    primary = was.primary_group if was.primary_group in plan.groups else None
    groups = [group.id for group in plan.groups.values() if was.id in group.members and group.origin == LOCAL]
    first: tuple[Edit, ...] = (PutUser(replace(new, kind=was.kind, primary_group=primary)),)
    joins: list[Edit] = [Join(group, new.id) for group in sorted(groups)]
    needs = [
        PutNeed(replace(need, id=need_id(new.id, need.place), who=new.id))
        for need in plan.needs.values()
        if need.who == like
    ]
    return (*first, *joins, *needs, *(_named_like(plan, like, new.id) if grants else ()))


def copied_group(plan: Plan, like: str, new: Group, *, grants: bool) -> tuple[Edit, ...]:
    """A group with the members of another; `grants`: and what is granted to it."""
    first: tuple[Edit, ...] = (PutGroup(replace(new, members=plan.groups[like].members)),)
    return (*first, *(_named_like(plan, like, new.id) if grants else ()))


def copied_share(plan: Plan, like: str, share_id: str, name: str) -> tuple[Edit, ...]:
    """The same place, offered in the same way under another name."""
    return (PutShare(replace(plan.shares[like], id=share_id, name=name)),)


def copied_place(plan: Plan, like: str, new: str, name: str, *, grants: bool) -> tuple[Edit, ...]:
    """A place and all that lies in it, again beside it under another name; `grants`: with what is granted there and with lists, else with what owner, kind and
    snapshots are. Folders that are somebody's own are left out."""
    ids, made = {*ids_of(plan), new}, {like: new}
    edits: list[Edit] = []
    for place in _below(plan, like):
        was = plan.places[place]
        if place != like:
            made[place] = fresh_id(was.name, ids)
            ids.add(made[place])
        again = replace(was, id=made[place], parent=made.get(was.parent or "", was.parent), personal_folders=None)
        again = replace(again, name=name) if place == like else again
        if not grants:
            again = replace(again, acl=None, inheritance_stops=False, enforced_by=None, group_quotas=())
        edits.append(PutPlace(again))
        edits += [SetGrant(again.id, who, level) for who, level in plan.grants.get(place, {}).items() if grants]
    return tuple(edits)


def _below(plan: Plan, top: str) -> Iterator[str]:
    yield top
    for child in plan.inside.get(top, ()):
        if plan.places[child].folder_of is None:
            yield from _below(plan, child)


def _named_like(plan: Plan, like: str, new: str) -> Iterator[Edit]:
    """`new` wherever `like` is granted something, stands in a list, or may use a service: right behind it."""
    for place, lines in plan.grants.items():
        if like in lines:
            yield SetGrant(place, new, lines[like], at=list(lines).index(like) + 1)
    for one in plan.places.values():
        if one.acl is not None and like in one.acl.whos:
            yield PutPlace(replace(one, acl=one.acl.also(like, new)))
    for service in plan.services.values():
        if service.allowed is not None and like in service.allowed:
            yield PutService(replace(service, allowed=service.allowed | {new}))
