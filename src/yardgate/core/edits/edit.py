"""Edits: plan in, next plan and inverse out. The one language that screens, commands, imports and undo all speak."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, fields, replace
from functools import singledispatch
from typing import Any, Literal, TypeVar, get_args

from yardgate.core.access.combining import rule_words
from yardgate.core.acl import Mode, Ordered, OwnList, Posix
from yardgate.core.acl.rights import STRICT, Level, letters, words
from yardgate.core.edits.personal_folders import owed
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.checks import (
    PlanError,
    Trouble,
    accepted_troubles,
    check,
    directory_troubles,
    grant_troubles,
    group_troubles,
    name_clashes,
    pattern_troubles,
    place_troubles,
    promise_troubles,
    service_troubles,
    share_troubles,
    target_troubles,
    user_troubles,
)
from yardgate.core.model.directory import Directory
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import Group, Pattern, Place, Plan, Target, User
from yardgate.core.model.share import Service, Share


@dataclass(frozen=True, slots=True)
class PutUser:
    """Add a user, or replace the one of this id."""

    __pydantic_config__ = STRICT
    user: User
    op: Literal["put-user"] = "put-user"


@dataclass(frozen=True, slots=True)
class RemoveUser:
    """Remove a user, with memberships and grants."""

    __pydantic_config__ = STRICT
    user: str
    op: Literal["remove-user"] = "remove-user"


@dataclass(frozen=True, slots=True)
class PutGroup:
    """Add a group, or replace the one of this id, members included."""

    __pydantic_config__ = STRICT
    group: Group
    op: Literal["put-group"] = "put-group"


@dataclass(frozen=True, slots=True)
class RemoveGroup:
    """Remove a group, with its memberships and grants; whoever had it as primary group has none then."""

    __pydantic_config__ = STRICT
    group: str
    op: Literal["remove-group"] = "remove-group"


@dataclass(frozen=True, slots=True)
class Join:
    """Make a user or a group a direct member of a group."""

    __pydantic_config__ = STRICT
    group: str
    member: str
    op: Literal["join"] = "join"


@dataclass(frozen=True, slots=True)
class Leave:
    """Take a direct member out of a group."""

    __pydantic_config__ = STRICT
    group: str
    member: str
    op: Literal["leave"] = "leave"


@dataclass(frozen=True, slots=True)
class PutPlace:
    """Add a place, or replace the one of this id; another parent moves it with all below it."""

    __pydantic_config__ = STRICT
    place: Place
    op: Literal["put-place"] = "put-place"


@dataclass(frozen=True, slots=True)
class RemovePlace:
    """Remove a place from the plan, with all below it, and all grants, shares and promises there."""

    __pydantic_config__ = STRICT
    place: str
    op: Literal["remove-place"] = "remove-place"


@dataclass(frozen=True, slots=True)
class PutPattern:
    """Keep a list under a name, or replace the pattern of this id."""

    __pydantic_config__ = STRICT
    pattern: Pattern
    op: Literal["put-pattern"] = "put-pattern"


@dataclass(frozen=True, slots=True)
class RemovePattern:
    """Forget a pattern. Places that were given it keep their lists."""

    __pydantic_config__ = STRICT
    pattern: str
    op: Literal["remove-pattern"] = "remove-pattern"


@dataclass(frozen=True, slots=True)
class PutDirectory:
    """Join a directory, or change the settings of the one of this id."""

    __pydantic_config__ = STRICT
    directory: Directory
    op: Literal["put-directory"] = "put-directory"


@dataclass(frozen=True, slots=True)
class RemoveDirectory:
    """Leave a directory, with all accounts that came from it, their memberships and grants."""

    __pydantic_config__ = STRICT
    directory: str
    op: Literal["remove-directory"] = "remove-directory"


@dataclass(frozen=True, slots=True)
class PutShare:
    """Offer a place under a name, or replace the share of this id."""

    __pydantic_config__ = STRICT
    share: Share
    op: Literal["put-share"] = "put-share"


@dataclass(frozen=True, slots=True)
class RemoveShare:
    """Offer a share no longer. The place stays, and what is in it."""

    __pydantic_config__ = STRICT
    share: str
    op: Literal["remove-share"] = "remove-share"


@dataclass(frozen=True, slots=True)
class PutService:
    """Say whether a file service is on, and who may use it."""

    __pydantic_config__ = STRICT
    service: Service
    op: Literal["put-service"] = "put-service"


@dataclass(frozen=True, slots=True)
class RemoveService:
    """Say nothing of a file service: it is on, for everybody."""

    __pydantic_config__ = STRICT
    service: str
    op: Literal["remove-service"] = "remove-service"


@dataclass(frozen=True, slots=True)
class PutPromise:
    """Promise something, or change the promise of this id."""

    __pydantic_config__ = STRICT
    promise: Promise
    op: Literal["put-promise"] = "put-promise"


@dataclass(frozen=True, slots=True)
class RemovePromise:
    """Promise something no longer."""

    __pydantic_config__ = STRICT
    promise: str
    op: Literal["remove-promise"] = "remove-promise"


@dataclass(frozen=True, slots=True)
class PutAccepted:
    """Accept a finding, with a reason."""

    __pydantic_config__ = STRICT
    accepted: Accepted
    op: Literal["put-accepted"] = "put-accepted"


@dataclass(frozen=True, slots=True)
class RemoveAccepted:
    """Accept a finding no longer: it is listed again."""

    __pydantic_config__ = STRICT
    accepted: str
    op: Literal["remove-accepted"] = "remove-accepted"


@dataclass(frozen=True, slots=True)
class SetGrant:
    """Say what `who` gets on a place; None says nothing. `at`: where in the list (0 first); None keeps the line, or adds it last."""

    __pydantic_config__ = STRICT
    place: str
    who: str
    level: Level | None
    at: int | None = None
    op: Literal["set-grant"] = "set-grant"


@dataclass(frozen=True, slots=True)
class SetTarget:
    """Change what kind of appliance is planned for: clash rule, baseline, administrators."""

    __pydantic_config__ = STRICT
    target: Target
    op: Literal["set-target"] = "set-target"


@dataclass(frozen=True, slots=True)
class SetTitle:
    """Rename the appliance or the office."""

    __pydantic_config__ = STRICT
    name: str
    office: str
    op: Literal["set-title"] = "set-title"


T = TypeVar("T")
PlanRecord = User | Group | Place | Pattern | Directory | Share | Service | Promise | Accepted
R = TypeVar("R", User, Group, Place, Pattern, Directory, Share, Service, Promise, Accepted)

Edit = (
    PutUser
    | RemoveUser
    | PutGroup
    | RemoveGroup
    | Join
    | Leave
    | PutPlace
    | RemovePlace
    | PutPattern
    | RemovePattern
    | PutDirectory
    | RemoveDirectory
    | PutShare
    | RemoveShare
    | PutService
    | RemoveService
    | PutPromise
    | RemovePromise
    | PutAccepted
    | RemoveAccepted
    | SetGrant
    | SetTarget
    | SetTitle
)


def apply(plan: Plan, edits: Iterable[Edit]) -> tuple[Plan, tuple[Edit, ...]]:
    """The next plan, and the edits that lead back from it. All or nothing.

    What an edit refers to must exist when its turn comes, except in records that are put (members, parents, primary
    groups): those are checked when all edits are in. What `in_step` adds to them is done, too. Raises PlanError.
    """
    return exactly(plan, in_step(plan, tuple(edits)))


def in_step(plan: Plan, edits: tuple[Edit, ...]) -> tuple[Edit, ...]:
    """Edits, and what the folders for each member of a group need after them (see `each`). Raises PlanError."""
    put = (edit.place for edit in edits if isinstance(edit, PutPlace))
    if all(place.each is None for places in (plan.places.values(), put) for place in places):
        return edits
    after, _ = exactly(plan, edits)
    if all(getattr(after, part) is getattr(plan, part) for part in ("users", "groups", "places", "target")):
        return edits
    more: list[Edit] = []
    for owing in owed(plan, after):
        more += [PutPlace(place) for place in owing.places]
        more += [SetGrant(place, who, level) for place, who, level in owing.grants]
        more += [RemoveShare(share) for share in owing.ended]
        more += [PutShare(share) for share in owing.shares]
    return (*edits, *more)


def exactly(plan: Plan, edits: Iterable[Edit]) -> tuple[Plan, tuple[Edit, ...]]:
    """As `apply`, and these edits alone: for those that were whole before, as what undoes a change and what a journal has."""
    draft = _Draft(plan)
    undone = [tuple(_apply(edit, draft)) for edit in edits]
    inverse = [edit for one in reversed(undone) for edit in one]
    after = draft.plan().after(plan)
    if troubles := tuple(_troubles(after, draft)):
        raise PlanError(troubles)
    return after, tuple(inverse)


Map = Literal[
    "users", "groups", "places", "patterns", "directories", "shares", "services", "promises", "accepted", "grants"
]


class _Draft:
    """A plan being edited: each map is copied once, when it is first changed, and everything else is shared."""

    def __init__(self, plan: Plan):
        self.now = plan
        self.own: set[str] = set()
        self.put: dict[str, set[str]] = {name: set() for name in get_args(Map)}

    def map(self, name: Map) -> dict[str, object]:
        if name not in self.own:
            self.own.add(name)
            copied: dict[str, Any] = {name: dict(getattr(self.now, name))}
            self.now = replace(self.now, **copied)
        found: dict[str, object] = getattr(self.now, name)
        return found

    def set(self, name: Map, record: PlanRecord) -> None:
        self.map(name)[record.id] = record
        self.put[name].add(record.id)

    def lines(self, place: str) -> dict[str, Level]:
        """The grants on a place, to be changed: copied once."""
        grants: dict[str, Any] = self.map("grants")
        if place not in self.put["grants"] or place not in grants:
            grants[place] = dict(grants.get(place, {}))
            self.put["grants"].add(place)
        found: dict[str, Level] = grants[place]
        return found

    def drop_lines(self, place: str) -> None:
        """No grants on a place any more."""
        del self.map("grants")[place]

    def put_back(self, name: Map, record: R, put: Callable[[R], Edit], remove: Callable[[str], Edit]) -> list[Edit]:
        """Set a record; the edit that undoes it."""
        before = getattr(self.now, name).get(record.id)
        self.set(name, record)
        return [remove(record.id)] if before is None else [put(before)]

    def take_out(self, name: Map, record_id: str, kind: str, put: Callable[[Any], Edit]) -> list[Edit]:
        """Take out a record that nothing refers to; the edit that undoes it."""
        record = getattr(self.now, name).get(record_id)
        if record is None:
            raise _missing(kind, record_id)
        del self.map(name)[record_id]
        return [put(record)]

    def plan(self) -> Plan:
        return self.now


MOST: Mapping[str, tuple[int, str]] = {
    "users": (50_000, "people"),
    "groups": (20_000, "groups"),
    "places": (20_000, "places"),
    "shares": (5_000, "shares"),
    "promises": (5_000, "promises"),
    "directories": (50, "directories"),
    "patterns": (1_000, "patterns"),
}
"""How much a plan may hold: far beyond a small office, and little enough to be worked out while somebody waits."""
MOST_GRANTS = 1_000_000


def _troubles(plan: Plan, draft: _Draft) -> Iterator[Trouble]:
    for part, (most, what) in MOST.items():
        if len(getattr(plan, part)) > most:
            yield Trouble("plan", f"it would have {len(getattr(plan, part)):,} {what}; a plan has at most {most:,}")
    if draft.put["grants"] and sum(map(len, plan.grants.values())) > MOST_GRANTS:
        yield Trouble("plan", f"it would have more than {MOST_GRANTS:,} grants")
    """The checks of what was touched. (Removals cannot break anything: they take along what refers to them.)"""
    put = draft.put
    for user in put["users"] & plan.users.keys():
        yield from user_troubles(plan, plan.users[user])
    for group in put["groups"] & plan.groups.keys():
        yield from group_troubles(plan, plan.groups[group])
        if group in plan.users:
            yield Trouble(group, f"the id {show(group)} of group {show(plan.groups[group].name)} is taken by a user")
    for place in put["places"] & plan.places.keys():
        yield from place_troubles(plan, plan.places[place])
    if put["places"]:
        for child in plan.places.values():
            if child.parent in put["places"] and child.id not in put["places"]:
                yield from place_troubles(plan, child)
    for pattern in put["patterns"] & plan.patterns.keys():
        yield from pattern_troubles(plan, plan.patterns[pattern])
    for directory in put["directories"] & plan.directories.keys():
        yield from directory_troubles(plan.directories[directory])
    for share in put["shares"] & plan.shares.keys():
        yield from share_troubles(plan, plan.shares[share])
    for service in put["services"] & plan.services.keys():
        yield from service_troubles(plan, plan.services[service])
    for promise in put["promises"] & plan.promises.keys():
        yield from promise_troubles(plan, plan.promises[promise])
    for accepted in put["accepted"] & plan.accepted.keys():
        yield from accepted_troubles(plan.accepted[accepted])
    for place in put["grants"] & plan.grants.keys():
        yield from grant_troubles(plan, place, plan.grants[place])
    if any(put[name] for name in ("users", "groups", "places", "patterns", "directories")):
        yield from name_clashes(plan)
    yield from target_troubles(plan, plan.target)
    yield from (t for t in check(Plan(name=plan.name, office=plan.office)))


def _missing(kind: str, object_id: str) -> PlanError:
    return PlanError(
        [Trouble(object_id, f"there is no {kind} {show(object_id)} in this plan; it may have been removed meanwhile")]
    )


@singledispatch
def _apply(edit: Edit, _draft: _Draft) -> list[Edit]:
    """Carry one edit into the draft; the edits that undo it."""
    raise TypeError(edit)


@_apply.register
def _(edit: PutUser, draft: _Draft) -> list[Edit]:
    return draft.put_back("users", edit.user, PutUser, RemoveUser)


@_apply.register
def _(edit: PutGroup, draft: _Draft) -> list[Edit]:
    return draft.put_back("groups", edit.group, PutGroup, RemoveGroup)


@_apply.register
def _(edit: PutPlace, draft: _Draft) -> list[Edit]:
    return draft.put_back("places", edit.place, PutPlace, RemovePlace)


@_apply.register
def _(edit: PutPattern, draft: _Draft) -> list[Edit]:
    return draft.put_back("patterns", edit.pattern, PutPattern, RemovePattern)


@_apply.register
def _(edit: RemovePattern, draft: _Draft) -> list[Edit]:
    return draft.take_out("patterns", edit.pattern, "pattern", PutPattern)


@_apply.register
def _(edit: PutShare, draft: _Draft) -> list[Edit]:
    return draft.put_back("shares", edit.share, PutShare, RemoveShare)


@_apply.register
def _(edit: RemoveShare, draft: _Draft) -> list[Edit]:
    return draft.take_out("shares", edit.share, "share", PutShare)


@_apply.register
def _(edit: PutService, draft: _Draft) -> list[Edit]:
    return draft.put_back("services", edit.service, PutService, RemoveService)


@_apply.register
def _(edit: RemoveService, draft: _Draft) -> list[Edit]:
    if edit.service not in draft.now.services:
        return []
    return draft.take_out("services", edit.service, "service", PutService)


@_apply.register
def _(edit: PutPromise, draft: _Draft) -> list[Edit]:
    return draft.put_back("promises", edit.promise, PutPromise, RemovePromise)


@_apply.register
def _(edit: RemovePromise, draft: _Draft) -> list[Edit]:
    return draft.take_out("promises", edit.promise, "promise", PutPromise)


@_apply.register
def _(edit: PutAccepted, draft: _Draft) -> list[Edit]:
    return draft.put_back("accepted", edit.accepted, PutAccepted, RemoveAccepted)


@_apply.register
def _(edit: RemoveAccepted, draft: _Draft) -> list[Edit]:
    return draft.take_out("accepted", edit.accepted, "accepted finding", PutAccepted)


@_apply.register
def _(edit: PutDirectory, draft: _Draft) -> list[Edit]:
    return draft.put_back("directories", edit.directory, PutDirectory, RemoveDirectory)


@_apply.register
def _(edit: RemoveDirectory, draft: _Draft) -> list[Edit]:
    directory = draft.now.directories.get(edit.directory)
    if directory is None:
        raise _missing("directory", edit.directory)
    users = [user for user in draft.now.users.values() if user.origin == edit.directory]
    groups = [group for group in draft.now.groups.values() if group.origin == edit.directory]
    back: list[Edit] = [PutDirectory(directory), *map(PutGroup, groups), *map(PutUser, users)]
    gone = {user.id for user in users} | {group.id for group in groups}
    undo = _forget(gone, draft)
    undo += _forget_as_special({group.id for group in groups}, gone, draft)
    for user in users:
        del draft.map("users")[user.id]
    for group in groups:
        del draft.map("groups")[group.id]
    del draft.map("directories")[edit.directory]
    return [*back, *undo]


@_apply.register
def _(edit: Join, draft: _Draft) -> list[Edit]:
    group = draft.now.groups.get(edit.group)
    if group is None:
        raise _missing("group", edit.group)
    if edit.member not in draft.now.users and edit.member not in draft.now.groups:
        raise _missing("user or group", edit.member)
    if edit.member in group.members:
        return []
    draft.set("groups", replace(group, members=group.members | {edit.member}))
    return [Leave(edit.group, edit.member)]


@_apply.register
def _(edit: Leave, draft: _Draft) -> list[Edit]:
    group = draft.now.groups.get(edit.group)
    if group is None:
        raise _missing("group", edit.group)
    if edit.member not in group.members:
        return []
    draft.set("groups", replace(group, members=group.members - {edit.member}))
    return [Join(edit.group, edit.member)]


@_apply.register
def _(edit: SetGrant, draft: _Draft) -> list[Edit]:
    plan = draft.now
    if edit.place not in plan.places:
        raise _missing("place", edit.place)
    if not plan.knows(edit.who):
        raise _missing("user or group", edit.who)
    if edit.at is not None and edit.at < 0:
        raise PlanError(
            [Trouble(edit.place, f"line {edit.at} on {show(plan.path_name(edit.place))}: lines count from 0")]
        )
    old = plan.grants.get(edit.place, {})
    before = old.get(edit.who)
    if before == edit.level and (edit.level is None or edit.at is None):
        return []
    position = None  # a line whose level alone changes stays where it is, and so when that is undone
    if before is not None and (edit.level is None or edit.at is not None):
        position = list(old).index(edit.who)
    moved: list[tuple[str, Level]] = []
    if edit.level is not None and edit.at is not None:
        rest = [(who, level) for who, level in old.items() if who != edit.who]
        moved = [*rest[: edit.at], (edit.who, edit.level), *rest[edit.at :]]
        if moved == list(old.items()):
            return []
    lines = draft.lines(edit.place)
    if edit.level is None:
        del lines[edit.who]
        if not lines:
            draft.drop_lines(edit.place)
    elif edit.at is None:
        lines[edit.who] = edit.level
    else:
        lines.clear()
        lines.update(moved)
    return [SetGrant(edit.place, edit.who, before, position)]


@_apply.register
def _(edit: SetTarget, draft: _Draft) -> list[Edit]:
    before = draft.now.target
    if edit.target == before:
        return []
    draft.now = replace(draft.now, target=edit.target)
    return [SetTarget(before)]


@_apply.register
def _(edit: SetTitle, draft: _Draft) -> list[Edit]:
    before = draft.now
    if (edit.name, edit.office) == (before.name, before.office):
        return []
    draft.now = replace(before, name=edit.name, office=edit.office)
    return [SetTitle(before.name, before.office)]


@_apply.register
def _(edit: RemoveUser, draft: _Draft) -> list[Edit]:
    user = draft.now.users.get(edit.user)
    if user is None:
        raise _missing("user", edit.user)
    undo = _forget({edit.user}, draft)
    del draft.map("users")[edit.user]
    return [PutUser(user), *undo]


@_apply.register
def _(edit: RemoveGroup, draft: _Draft) -> list[Edit]:
    group = draft.now.groups.get(edit.group)
    if group is None:
        raise _missing("group", edit.group)
    undo = _forget({edit.group}, draft) + _forget_as_special({edit.group}, {edit.group}, draft)
    del draft.map("groups")[edit.group]
    return [PutGroup(group), *undo]


def _forget_as_special(groups: Set[str], gone: Set[str], draft: _Draft) -> list[Edit]:
    """Groups that go are nobody's primary group any more, and neither baseline nor administrators; the edits that undo it."""
    undo: list[Edit] = []
    for user in [user for user in draft.now.users.values() if user.primary_group in groups and user.id not in gone]:
        draft.set("users", replace(user, primary_group=None))
        undo.append(PutUser(user))
    target = draft.now.target
    without = replace(
        target,
        baseline=None if target.baseline in groups else target.baseline,
        administrators=None if target.administrators in groups else target.administrators,
    )
    return undo + _apply(SetTarget(without), draft)


def _forget(gone: Set[str], draft: _Draft) -> list[Edit]:
    """Take users and groups out of all other groups, grants, lists, shares, services and promises; the edits that undo it.

    What they owned has no owner of its own then: the one above, or root. What was promised of them is promised no longer.
    """
    undo: list[Edit] = []
    for naming in [place for place in draft.now.places.values() if not gone.isdisjoint(mentioned(place))]:
        draft.set("places", without(naming, gone))
        undo.append(PutPlace(naming))
    for kept in [pattern for pattern in draft.now.patterns.values() if not gone.isdisjoint(named_in(pattern.own))]:
        draft.set("patterns", replace(kept, own=_list_without(kept.own, gone)))
        undo.append(PutPattern(kept))
    for share in [share for share in draft.now.shares.values() if share.administrator in gone]:
        draft.set("shares", replace(share, administrator=None))
        undo.append(PutShare(share))
    for service in [service for service in draft.now.services.values() if service.only and service.only & gone]:
        draft.set("services", replace(service, only=(service.only or frozenset()) - gone))
        undo.append(PutService(service))
    for promise in list(draft.now.promises.values()):
        if promise.who in gone:
            undo += _apply(RemovePromise(promise.id), draft)
        elif promise.but & gone:
            draft.set("promises", replace(promise, but=promise.but - gone))
            undo.append(PutPromise(promise))
    for group in [group for group in draft.now.groups.values() if group.id not in gone]:
        for member in sorted(group.members & gone):
            undo[:0] = _apply(Leave(group.id, member), draft)
    for place, grants in list(draft.now.grants.items()):
        for who in [who for who in grants if who in gone]:
            undo[:0] = _apply(SetGrant(place, who, None), draft)
    return undo


@_apply.register
def _(edit: RemovePlace, draft: _Draft) -> list[Edit]:
    place = draft.now.places.get(edit.place)
    if place is None:
        raise _missing("place", edit.place)
    undo: list[Edit] = []
    for child in [child.id for child in draft.now.places.values() if child.parent == edit.place]:
        undo[:0] = _apply(RemovePlace(child), draft)
    back: list[Edit] = [SetGrant(edit.place, who, level) for who, level in draft.now.grants.get(edit.place, {}).items()]
    if back:
        del draft.map("grants")[edit.place]
    for share in [share for share in draft.now.shares.values() if share.place == edit.place]:
        back += _apply(RemoveShare(share.id), draft)
    for promise in [promise for promise in draft.now.promises.values() if promise.place == edit.place]:
        back += _apply(RemovePromise(promise.id), draft)
    del draft.map("places")[edit.place]
    return [PutPlace(place), *back, *undo]


def mentioned(place: Place) -> set[str]:
    """Ids that a place's owner, owning group, list and quotas name, and whom its folders or itself are for."""
    named = named_in(place.own) if place.own is not None else set()
    each = {place.each.group, *place.each.keepers} if place.each is not None else set()
    each |= {quota.group for quota in place.group_quotas}
    return named | each | {who for who in (place.owner, place.group, place.of) if who is not None}


def named_in(own: OwnList) -> set[str]:
    """Ids that a list names."""
    whos: set[str] = set()
    match own:
        case Ordered(entries):
            whos = {entry.who for entry in entries}
        case Posix(access, default):
            whos = {entry.who for entry in (*access, *(default or ()))}
        case Mode():
            pass
    return whos - {""}


def without(place: Place, gone: Set[str]) -> Place:
    """A place that does not name some accounts."""
    own = None if place.own is None else _list_without(place.own, gone)
    owner, group, of = (None if named in gone else named for named in (place.owner, place.group, place.of))
    each = place.each
    if each is not None:
        each = None if each.group in gone else replace(each, keepers=each.keepers - gone)
    quotas = tuple(quota for quota in place.group_quotas if quota.group not in gone)
    return replace(place, own=own, owner=owner, group=group, each=each, of=of, group_quotas=quotas)


def _list_without(own: OwnList, gone: Set[str]) -> OwnList:
    match own:
        case Ordered(entries):
            return replace(own, entries=tuple(entry for entry in entries if entry.who not in gone))
        case Posix(access, default):
            kept = default and tuple(entry for entry in default if entry.who not in gone)
            return replace(own, access=tuple(entry for entry in access if entry.who not in gone), default=kept)
        case Mode():
            return own


# --- from one plan to another -----------------------------------------------------------------------------------------


def difference(before: Plan, after: Plan) -> tuple[Edit, ...]:
    """The edits that turn one plan into another: what is added or changed first, then grants, what is gone last."""
    edits: list[Edit] = []
    if (before.name, before.office) != (after.name, after.office):
        edits.append(SetTitle(after.name, after.office))
    edits += [PutDirectory(directory) for directory in _changed(before.directories, after.directories)]
    edits += [PutUser(user) for user in _changed(before.users, after.users)]
    edits += [PutGroup(group) for group in _changed(before.groups, after.groups)]
    edits += [PutPlace(place) for place in _changed(before.places, after.places)]
    edits += [PutPattern(pattern) for pattern in _changed(before.patterns, after.patterns)]
    edits += [PutShare(share) for share in _changed(before.shares, after.shares)]
    edits += [PutService(service) for service in _changed(before.services, after.services)]
    edits += [PutPromise(promise) for promise in _changed(before.promises, after.promises)]
    edits += [PutAccepted(accepted) for accepted in _changed(before.accepted, after.accepted)]
    if before.target != after.target:
        edits.append(SetTarget(after.target))
    for place in after.places:
        edits += _grant_edits(place, before.grants.get(place, {}), after.grants.get(place, {}))
    edits += [RemoveShare(share) for share in sorted(before.shares.keys() - after.shares.keys())]
    edits += [RemoveService(service) for service in sorted(before.services.keys() - after.services.keys())]
    edits += [RemovePromise(promise) for promise in sorted(before.promises.keys() - after.promises.keys())]
    edits += [RemoveAccepted(accepted) for accepted in sorted(before.accepted.keys() - after.accepted.keys())]
    gone = before.places.keys() - after.places.keys()
    edits += [RemovePlace(place) for place in sorted(gone) if before.places[place].parent not in gone]
    edits += [RemovePattern(pattern) for pattern in sorted(before.patterns.keys() - after.patterns.keys())]
    edits += [RemoveGroup(group) for group in sorted(before.groups.keys() - after.groups.keys())]
    edits += [RemoveUser(user) for user in sorted(before.users.keys() - after.users.keys())]
    edits += [RemoveDirectory(directory) for directory in sorted(before.directories.keys() - after.directories.keys())]
    return tuple(edits)


def _changed(before: Mapping[str, T], after: Mapping[str, T]) -> Iterator[T]:
    return (record for key, record in after.items() if before.get(key) != record)


def _grant_edits(place: str, before: Mapping[str, Level], after: Mapping[str, Level]) -> Iterator[Edit]:
    lines = [who for who in before if who in after]
    yield from (SetGrant(place, who, None) for who in before if who not in after)
    for at, (who, level) in enumerate(after.items()):
        moved = at >= len(lines) or lines[at] != who
        if moved:
            lines = [other for other in lines if other != who]
            lines.insert(at, who)
        if moved or before[who] != level:
            yield SetGrant(place, who, level, at if moved else None)


# --- in words ---------------------------------------------------------------------------------------------------------


def describe(before: Plan, after: Plan, edits: Sequence[Edit]) -> str:
    """What some edits did, in one line for a journal: each of up to three, or how many of what kind."""
    if len(edits) <= 3:
        return "; ".join(sentence(before, after, edit) for edit in edits) or "nothing changed"
    counts: dict[str, int] = {}
    for edit in edits:
        kind = _KIND_WORDS[edit.op]
        counts[kind] = counts.get(kind, 0) + 1
    return ", ".join(f"{number} {kind if number > 1 else _SINGULAR.get(kind, kind)}" for kind, number in counts.items())


_KIND_WORDS = {
    "put-user": "people and services put",
    "remove-user": "people and services removed",
    "put-group": "groups put",
    "remove-group": "groups removed",
    "join": "memberships added",
    "leave": "memberships ended",
    "put-place": "places put",
    "remove-place": "places removed",
    "put-pattern": "patterns kept",
    "remove-pattern": "patterns forgotten",
    "put-directory": "directories set",
    "remove-directory": "directories left",
    "put-share": "shares put",
    "remove-share": "shares removed",
    "put-service": "services set",
    "remove-service": "services as usual",
    "put-promise": "promises made",
    "remove-promise": "promises dropped",
    "put-accepted": "findings accepted",
    "remove-accepted": "findings listed again",
    "set-grant": "grants set",
    "set-target": "settings changed",
    "set-title": "titles changed",
}
_SINGULAR = {
    "people and services put": "person put",
    "people and services removed": "person removed",
    "groups put": "group put",
    "groups removed": "group removed",
    "memberships added": "membership added",
    "memberships ended": "membership ended",
    "places put": "place put",
    "places removed": "place removed",
    "patterns kept": "pattern kept",
    "patterns forgotten": "pattern forgotten",
    "directories set": "directory set",
    "directories left": "directory left",
    "shares put": "share put",
    "shares removed": "share removed",
    "services set": "service set",
    "services as usual": "service as usual",
    "promises made": "promise made",
    "promises dropped": "promise dropped",
    "findings accepted": "finding accepted",
    "findings listed again": "finding listed again",
    "grants set": "grant set",
    "settings changed": "setting changed",
    "titles changed": "title changed",
}


def sentence(before: Plan, after: Plan, edit: Edit) -> str:
    """One edit in words, with the names that people know."""

    def named(who: str) -> str:
        return after.named(who) if after.knows(who) else before.named(who)

    def where(place: str) -> str:
        return (after if place in after.places else before).path_name(place)

    match edit:
        case PutUser(user):
            return _put_words(user.kind, before.users.get(user.id), user, before, after)
        case PutGroup(group):
            return _put_words("group", before.groups.get(group.id), group, before, after)
        case PutPlace(place):
            old = before.places.get(place.id)
            if old is None:
                return f"added {place.kind} {where(place.id)}"
            return _put_words(place.kind, old, place, before, after)
        case RemoveUser(who) | RemoveGroup(who):
            return f"removed {named(who)}"
        case RemovePlace(place):
            return f"removed {where(place)} from the plan"
        case PutPattern(pattern):
            return f"{'changed' if pattern.id in before.patterns else 'kept'} the pattern {pattern.name}"
        case RemovePattern(pattern_id):
            return f"forgot the pattern {before.patterns[pattern_id].name if pattern_id in before.patterns else pattern_id}"
        case PutDirectory(directory):
            return _put_words("directory", before.directories.get(directory.id), directory, before, after)
        case RemoveDirectory(directory_id):
            left = before.directories.get(directory_id)
            return f"left the directory {left.name if left is not None else directory_id}"
        case PutShare(share):
            if share.id not in before.shares:
                return f"shared {where(share.place)} as {share.name}"
            return _share_words(before.shares[share.id], share, before, after)
        case RemoveShare(share_id):
            return f"stopped sharing {before.shares[share_id].name if share_id in before.shares else share_id}"
        case PutService(service):
            return _service_words(before.services.get(service.id), service, after)
        case RemoveService(service_id):
            return f"{service_id.upper()} is on, for everybody"
        case PutPromise(promise):
            return (
                f"{'changed the promise' if promise.id in before.promises else 'promised'}: {promised(after, promise)}"
            )
        case RemovePromise(promise_id):
            kept = before.promises.get(promise_id)
            return f"promised no longer: {promise_id if kept is None else promised(before, kept)}"
        case PutAccepted(accepted):
            again = f", until {accepted.until}" if accepted.until is not None else ""
            return f"accepted a finding{again}: {accepted.reason}"
        case RemoveAccepted(accepted_id):
            return f"listed a finding again: {accepted_id}"
        case Join(group, member):
            return f"{named(member)} joined {named(group)}"
        case Leave(group, member):
            return f"{named(member)} left {named(group)}"
        case SetGrant(place, who, level):
            if level is None:
                return f"{named(who)} on {where(place)}: not set"
            moved = (
                f", line {edit.at + 1}"
                if edit.at is not None and before.grants.get(place, {}).get(who) == level
                else ""
            )
            return f"{named(who)} on {where(place)}: {level.words}{moved}"
        case SetTarget(target):
            return _target_words(before.target, target, after)
        case SetTitle(name, office):
            return f"called this plan {name}" + (f" of {office}" if office else "")


def promised(plan: Plan, promise: Promise) -> str:
    """A promise as the sentence it is."""
    left_out = sorted((plan.named(who) for who in promise.but), key=fold)
    but = f" but {', '.join(left_out[:-1])}{' and ' if len(left_out) > 1 else ''}{left_out[-1]}" if left_out else ""
    over = f" over {promise.over.upper()}" if promise.over is not None else ""
    must = "must be able to" if promise.must else "must not be able to"
    return f"{plan.named(promise.who)}{but} {must} {promise.act} {plan.path_name(promise.place)}{over}"


def _put_words(
    kind: str,
    old: User | Group | Place | Directory | Share | None,
    new: User | Group | Place | Directory | Share,
    before: Plan,
    after: Plan,
) -> str:
    name = after.named(new.id) if isinstance(new, User | Group) else new.name
    if old is None:
        with_members = isinstance(new, Group) and len(new.members)
        return f"added {kind} {name}{f' with {with_members} {_members(with_members)}' if with_members else ''}"
    parts = [f"renamed {kind} {old.name} to {new.name}"] if old.name != new.name else []
    if isinstance(old, Group) and isinstance(new, Group):
        came = [after.named(who) for who in sorted(new.members - old.members)]
        went = [before.named(who) for who in sorted(old.members - new.members)]
        parts += [
            f"{', '.join(names)} {verb} {new.name}" for names, verb in ((came, "joined"), (went, "left")) if names
        ]
    if isinstance(old, Place) and isinstance(new, Place) and old.parent != new.parent:
        parts.append(f"moved {before.path_name(old.id)} to {after.path_name(new.id)}")
    told = {"name", "members", "parent"}
    begins = isinstance(old, Place) and isinstance(new, Place) and old.own is None and new.own is not None
    if begins and isinstance(new, Place) and new.cut and new.carried == "storage":
        parts.append(f"planned a list for {after.path_name(new.id)}, of what is granted there")
        told |= {"own", "cut", "carried"}
    changed = [
        _FIELD_WORDS.get(f.name, f.name.replace("_", " "))
        for f in fields(new)
        if f.name not in told and getattr(old, f.name, None) != getattr(new, f.name)
    ]
    if isinstance(old, Place) and isinstance(new, Place) and old.cut != new.cut and "cut" not in told:
        where = after.path_name(new.id)
        parts.append(f"{'cut inheritance at' if new.cut else 'let lines come down again to'} {where}")
        changed = [field for field in changed if field != "inheritance"]
        if changed:
            parts.append(f"changed its {', '.join(changed)}")
    elif changed == ["list"] and isinstance(old, Place) and isinstance(new, Place):
        parts.append(_list_words(old, new, after) or f"changed list of {kind} {new.name}")
    elif changed == ["enabled"] and isinstance(new, User):
        parts.append(f"{'enabled' if new.enabled else 'disabled'} {after.named(new.id)}")
    elif changed:
        parts.append(f"changed {', '.join(changed)} of {kind} {name}")
    return " and ".join(parts) or f"changed nothing of {kind} {name}"


def _members(number: int) -> str:
    return "member" if number == 1 else "members"


def _list_words(old: Place, new: Place, plan: Plan) -> str | None:
    """The few lines that a list has more or less than before, in words; None where they are many."""
    had, has = (None if place.own is None else _lines(place.own, plan) for place in (old, new))
    if (had is not None and has is not None and type(old.own) is not type(new.own)) or has is None:
        return None
    more = [line for line in has if line not in (had or ())]
    less = [line for line in had or () if line not in has]
    if not 0 < len(more) + len(less) <= 3:
        return None
    parts = [f"{what} “{'” and “'.join(lines)}”" for what, lines in (("with", more), ("without", less)) if lines]
    return f"list of {plan.path_name(new.id)} {' and '.join(parts)}"


def _mask_words(mask: int) -> str:
    said = words(mask)
    return said if said.count(",") < 2 else letters(mask)


def _lines(own: OwnList, plan: Plan) -> tuple[str, ...]:
    match own:
        case Ordered(entries):
            return tuple(
                f"{plan.named(e.who)}: {'no ' if e.type == 'deny' else ''}{_mask_words(e.mask)}{'' if e.flags else ', this folder only'}"
                for e in entries
            )
        case Posix(access, default):
            special = {"user": "owner", "group": "owning group", "mask": "mask", "other": "others"}
            both = [("", entry) for entry in access] + [("default ", entry) for entry in default or ()]
            return tuple(
                f"{kind}{plan.named(e.who) if e.who else special[e.tag]}: {(e.perms & 4 and 'r') or '-'}{(e.perms & 2 and 'w') or '-'}{(e.perms & 1 and 'x') or '-'}"
                for kind, e in both
            )
        case Mode(bits):
            return () if bits is None else (f"{bits:04o}",)


def _share_words(old: Share, new: Share, before: Plan, after: Plan) -> str:
    """What becomes of a share, setting by setting."""
    if old.name != new.name or old.place != new.place or old.note != new.note:
        return _put_words("share", old, new, before, after)
    said = []
    for field, yes, no in (
        ("smb", "offered over SMB", "not offered over SMB"),
        ("nfs", "offered over NFS", "not offered over NFS"),
        ("read_only", "read-only", "not read-only"),
        ("hidden", "not listed", "listed"),
        ("hide_unreadable", "hides what one cannot read", "shows what one cannot read"),
        ("versions", "shows earlier versions", "shows no earlier versions"),
        ("recycle", "keeps what is deleted", "deletes at once"),
    ):
        if getattr(old, field) != getattr(new, field):
            said.append(yes if getattr(new, field) else no)
    if old.guests != new.guests:
        said.append(f"guests get {new.guests.words}")
    if old.administrator != new.administrator:
        said.append(f"run by {after.named(new.administrator)}" if new.administrator is not None else "run by nobody")
    if old.hosts != new.hosts:
        rules = ", ".join(f"{rule.hosts} {rule.level.words}" for rule in new.hosts)
        said.append(f"hosts: {rules or 'none'}" if len(new.hosts) <= 3 else "other host rules")
    if old.squash != new.squash:
        said.append(
            {"none": "nobody is squashed", "root": "root is squashed", "all": "everybody is squashed"}[new.squash]
        )
    return f"share {new.name}: {', '.join(said) or 'as it was'}"


def _service_words(old: Service | None, new: Service, plan: Plan) -> str:
    said = []
    name = "the appliance's pages" if new.id == "pages" else new.id.upper()
    if (old is None or old.on) != new.on:
        said.append(f"switched {name} {'on' if new.on else 'off'}")
    if (old.only if old is not None else None) != new.only:
        whos = "everybody" if new.only is None else " and ".join(sorted(map(plan.named, new.only))) or "nobody"
        said.append(f"{name} may be used by {whos}")
    return " and ".join(said) or f"left {name} as it was"


_FIELD_WORDS = {
    "own": "list",
    "cut": "inheritance",
    "group": "owning group",
    "carried": "carrier of grants",
    "hosts": "host rules",
    "each": "folders for each",
    "of": "whom it is for",
    "group_quotas": "quotas of groups",
}


def _target_words(old: Target, new: Target, plan: Plan) -> str:
    said = []
    if (old.tiers, old.within) != (new.tiers, new.within):
        said.append(f"when several grants apply: {rule_words(new)}")
    for what, was, now in (
        ("baseline", old.baseline, new.baseline),
        ("administrators", old.administrators, new.administrators),
    ):
        if was != now:
            said.append(f"{what}: {plan.named(now) if now else 'no group'}")
    if old.baseline_covers_directory != new.baseline_covers_directory:
        said.append(f"the baseline {'covers' if new.baseline_covers_directory else 'leaves out'} directory users")
    if old.entering != new.entering:
        said.append(
            f"passing through folders: {'asks for a right' if new.entering == 'asked' else 'asks for no right'}"
        )
    if old.attributes_open != new.attributes_open:
        said.append(f"attributes: {'open to everybody' if new.attributes_open else 'as lists say'}")
    if old.host_rules != new.host_rules:
        said.append(f"of host rules that take in one host: the {new.host_rules} counts")
    if old.wildcards != new.wildcards:
        said.append(f"wildcards: compared with {'host names' if new.wildcards == 'names' else 'names and addresses'}")
    if old.nfs_way != new.nfs_way:
        said.append(
            f"folders above an NFS share: {'ask for a right' if new.nfs_way == 'asked' else 'ask for no right'}"
        )
    return "; ".join(said) or "settings unchanged"
