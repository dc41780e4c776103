"""What was changed at an appliance behind the plan's back, as edits that take it into the plan, where a plan can say it so."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.storage import PosixState
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry
from yardgate.core.acl.mode import SETGID, STICKY, bits_of
from yardgate.core.acl.nfs4 import INHERITED
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, Join, Leave, PutPlace, PutShare, PutUser, SetGrant
from yardgate.core.host.compiled import away_from, compiled, host_names, marked, paths
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import Folder, HostAccount, Members, Offer
from yardgate.core.host.steps import Step, stands
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import LOCAL, Group, Place, Plan, User


def taken_in(matrix: Matrix, joined: Collection[str], found: Sequence[Step], top: str) -> list[tuple[Edit, ...]]:
    """For each step of `drift`, the edits after which the plan comes to what it made; none where only a person can say what was meant.

    joined: ids of the directories that the host is joined to; top: the folder in which the pools lie. Lists become lines by hand; they, owners and
    what a share says of itself are taken in where the plan then comes to exactly what was found.
    """
    named = host_names(matrix.plan, away_from(matrix.plan, joined))
    return [_taken_in(matrix, joined, named, step, top) for step in found]


def _taken_in(
    matrix: Matrix, joined: Collection[str], named: Mapping[str, str], step: Step, top: str
) -> tuple[Edit, ...]:
    """named: account id -> its name on the host."""
    plan = matrix.plan
    match step.before, step.after:
        case HostAccount() as was, HostAccount() as now:
            return tuple(_account(plan, was, now))
        case (None | Members()) as had, (None | Members()) as has:
            users = tuple(m.users if m is not None else frozenset[str]() for m in (had, has))
            edits = _members(plan, named, step.record.name, *users)
            return edits or _proved(
                matrix, joined, step, top, tuple(_granted(matrix, joined, named, step, top, *users))
            )
        case Folder() as before, Folder() as found:
            return _proved(matrix, joined, step, top, tuple(_folder(matrix, named, before, found, top)))
        case Offer(), Offer() as found_:
            return _proved(matrix, joined, step, top, tuple(_share(plan, found_)))
    return ()


def _proved(matrix: Matrix, joined: Collection[str], step: Step, top: str, edits: tuple[Edit, ...]) -> tuple[Edit, ...]:
    """The edits, if the plan comes to what was found after them."""
    try:
        after, _ = apply(matrix.plan, edits)
        record = compiled(resolve(after, matrix.on, matrix), top, joined).system.part(step.part).get(step.record.name)
    except PlanError:
        return ()
    return edits if edits and stands(step.after, record) else ()


def _share(plan: Plan, found: Offer) -> Iterator[Edit]:
    for share in plan.shares.values():
        if share.name == found.name:
            said = {key: getattr(found, key) for key in ("guests", "hidden", "hide_unreadable", "versions", "recycle")}
            yield PutShare(replace(share, **said))


def _folder(matrix: Matrix, named: Mapping[str, str], was: Folder, now: Folder, top: str) -> Iterator[Edit]:
    plan = matrix.plan
    place = next((plan.places[place] for place, path in paths(plan, top).items() if path == now.name), None)
    whos = {name: who for who, name in marked(plan, named).items()}
    if place is None or place.id not in matrix.storage:
        return
    owner = whos.get(now.owner) if now.owner != was.owner else place.owner
    group = whos.get(f"{GROUP_MARK}{now.group}", whos.get(now.group)) if now.group != was.group else place.group
    own = place.acl
    if now.listed != was.listed:
        stored = matrix.storage[place.id].list
        is_mode = isinstance(stored, PosixState) and stored.style == "mode"
        own = _own(place, whos, was.listed, now.listed, is_mode=is_mode)
    yield PutPlace(replace(place, owner=owner, group=group, acl=own))


def _own(
    place: Place, whos: Mapping[str, str], was: Posix | Ordered, now: Posix | Ordered, *, is_mode: bool
) -> OwnList | None:
    """The lines by hand of a place that make its list another one."""
    if is_mode and isinstance(now, Posix):
        bits = bits_of(now.access) | (SETGID if now.setgid else 0) | (STICKY if now.sticky else 0)
        return Mode(bits)
    if isinstance(was, Ordered) and isinstance(now, Ordered):
        mine = place.acl.entries if isinstance(place.acl, Ordered) else ()
        come = _by_id((e for e in now.entries if e not in was.entries), whos)
        gone = _by_id((e for e in was.entries if e not in now.entries), whos)
        return Ordered((*come, *(e for e in mine if e not in gone)))
    if isinstance(was, Posix) and isinstance(now, Posix):
        said = place.acl if isinstance(place.acl, Posix) else Posix()
        default = _entries(said.default or (), was.default or (), now.default or (), whos)
        return Posix(
            _entries(said.access, was.access, now.access, whos),
            default if default or said.default is not None else None,
            setgid=now.setgid,
            sticky=now.sticky,
        )
    return place.acl


def _by_id(entries: Iterable[Entry], whos: Mapping[str, str]) -> tuple[Entry, ...]:
    return tuple(replace(e, who=whos.get(e.who, e.who), flags=e.flags & ~INHERITED) for e in entries)


def _entries(
    mine: Sequence[PosixEntry], was: Sequence[PosixEntry], now: Sequence[PosixEntry], whos: Mapping[str, str]
) -> tuple[PosixEntry, ...]:
    """The entries by hand that turn one list into another."""

    def by_id(entries: Iterable[PosixEntry]) -> dict[tuple[str, str], PosixEntry]:
        marked = (replace(e, who=whos.get(f"{GROUP_MARK if e.tag == 'group' else ''}{e.who}", e.who)) for e in entries)
        return {(e.tag, e.who): e for e in marked}

    before, after = by_id(was), by_id(now)
    gone = before.keys() - after.keys()
    kept = [e for e in mine if (e.tag, e.who) not in gone and before.get((e.tag, e.who)) == after.get((e.tag, e.who))]
    return (*kept, *(e for key, e in after.items() if before.get(key) != e))


def _account(plan: Plan, was: HostAccount, now: HostAccount) -> Iterator[Edit]:
    user = _user(plan, was.name)
    said = replace(was, enabled=now.enabled, expires=now.expires, full_name=now.full_name, aliases=now.aliases)
    if user is None or said != now:
        return
    after = replace(user, enabled=now.enabled, full_name=now.full_name)
    if was.aliases != now.aliases:
        after = replace(after, aliases=now.aliases)
    if now.enabled:
        after = replace(after, expires=now.expires)
    yield PutUser(after)


def _members(
    plan: Plan, named: Mapping[str, str], name: str, had: frozenset[str], has: frozenset[str]
) -> tuple[Edit, ...]:
    group: Group | None = next((g for g in plan.groups.values() if g.origin == LOCAL and named.get(g.id) == name), None)
    known = {named[user.id]: user for user in plan.users.values() if user.id in named}
    come, gone = ([known.get(user) for user in sorted(users)] for users in (has - had, had - has))
    if group is None or None in come or any(user is None or user.id not in group.members for user in gone):
        return ()  # somebody unknown, or somebody who is in it through another group
    joins = (Join(group.id, user.id) for user in come if user is not None)
    return (*joins, *(Leave(group.id, user.id) for user in gone if user is not None))


def _granted(
    matrix: Matrix,
    joined: Collection[str],
    named: Mapping[str, str],
    step: Step,
    top: str,
    had: frozenset[str],
    has: frozenset[str],
) -> Iterator[Edit]:
    """Of a group of a share's own what somebody in it is granted there, and what somebody who is not in it any more is not."""
    plan = matrix.plan
    if not plan.target.share_groups:
        return
    system = compiled(matrix, top, joined).system
    group = system.groups.get(step.record.name)
    share = next((s for s in plan.shares.values() if group is not None and s.name == group.share), None)
    people = {named[user]: user for user in plan.users if user in named}
    if share is None or not (had ^ has) <= people.keys():
        return
    level = system.offers[share.name].gives({f"{GROUP_MARK}{step.record.name}"})
    change = {people[name]: level if name in has else None for name in sorted(had ^ has)}
    if share.grants is None:
        yield from (SetGrant(share.place, who, to) for who, to in change.items())
    else:
        both = {**share.grants, **change}
        yield PutShare(replace(share, grants={who: to for who, to in both.items() if to is not None}))


def _user(plan: Plan, name: str) -> User | None:
    return next((user for user in plan.users.values() if user.origin == LOCAL and user.name == name), None)
