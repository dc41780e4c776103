"""Edits applied: plan in, next plan and inverse out."""

from collections.abc import Collection, Iterable, Iterator, Set
from dataclasses import replace
from typing import Any

from yardgate.core.acl.rights import Level
from yardgate.core.edits.personal_folders import owed
from yardgate.core.edits.records import (
    PUT,
    REMOVED,
    Edit,
    Join,
    Leave,
    PutGroup,
    PutPattern,
    PutPlace,
    PutPromise,
    PutService,
    PutShare,
    PutUser,
    RemoveNeed,
    RemovePlace,
    RemovePromise,
    RemoveShare,
    SetGrant,
    SetTarget,
    SetTitle,
    put,
    remove,
)
from yardgate.core.model.checks import (
    PlanError,
    Trouble,
    grant_troubles,
    name_clashes,
    place_troubles,
    plan_troubles,
    target_troubles,
)
from yardgate.core.model.kinds import (
    DIRECTORIES,
    GROUPS,
    KINDS,
    MOST_GRANTS,
    NAMED,
    PATTERNS,
    PLACES,
    PROMISES,
    SERVICES,
    SHARES,
    USERS,
    Kind,
    PlanRecord,
)
from yardgate.core.model.mentions import mentioned, without
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Group, Plan


def apply(plan: Plan, edits: Iterable[Edit]) -> tuple[Plan, tuple[Edit, ...]]:
    """The next plan, and the edits that lead back from it. All or nothing.

    What an edit refers to must exist when its turn comes, except in records that are put (members, parents, primary
    groups): those are checked when all edits are in. What `in_step` adds to them is done, too. Raises PlanError.
    """
    return exactly(plan, in_step(plan, tuple(edits)))


def in_step(plan: Plan, edits: tuple[Edit, ...]) -> tuple[Edit, ...]:
    """Edits, and what the folders for each member of a group need after them (see `personal_folders`). Raises PlanError."""
    put_places = (edit.place for edit in edits if isinstance(edit, PutPlace))
    if all(place.personal_folders is None for places in (plan.places.values(), put_places) for place in places):
        return edits
    after, _ = exactly(plan, edits)
    if all(getattr(after, part) is getattr(plan, part) for part in ("users", "groups", "places", "target")):
        return edits
    more: list[Edit] = []
    for place in tuple(after.places):
        owing = owed(plan, after, place)
        some: list[Edit] = [PutPlace(folder) for folder in owing.places]
        some += [SetGrant(folder, who, level) for folder, who, level in owing.grants]
        some += [RemoveShare(share) for share in owing.ended]
        some += [PutShare(share) for share in owing.shares]
        if some:  # what one place takes of names is not free for the next
            after, _ = exactly(after, some)
            more += some
    return (*edits, *more)


def exactly(plan: Plan, edits: Iterable[Edit]) -> tuple[Plan, tuple[Edit, ...]]:
    """As `apply`, and these edits alone: for those that were whole before, as what undoes a change and what a journal has."""
    draft = _Draft(plan)
    undone = [tuple(_apply(edit, draft)) for edit in edits]
    inverse = [edit for one in reversed(undone) for edit in one]
    after = draft.now.after(plan)
    if troubles := tuple(_troubles(plan, after, draft)):
        raise PlanError(troubles)
    return after, tuple(inverse)


class _Draft:
    """A plan being edited: each map is copied once, when it is first changed, and everything else is shared."""

    def __init__(self, plan: Plan):
        self.now = plan
        self.own: set[str] = set()
        self.put: dict[str, set[str]] = {kind.part: set() for kind in KINDS}
        self.granted: set[str] = set()

    def map(self, part: str) -> dict[str, Any]:
        if part not in self.own:
            self.own.add(part)
            copied: dict[str, Any] = {part: dict(getattr(self.now, part))}
            self.now = replace(self.now, **copied)
        found: dict[str, Any] = getattr(self.now, part)
        return found

    def set(self, kind: Kind, record: PlanRecord) -> None:
        self.map(kind.part)[record.id] = record
        self.put[kind.part].add(record.id)

    def lines(self, place: str) -> dict[str, Level]:
        """The grants on a place, to be changed: copied once."""
        grants = self.map("grants")
        if place not in self.granted or place not in grants:
            grants[place] = dict(grants.get(place, {}))
            self.granted.add(place)
        found: dict[str, Level] = grants[place]
        return found

    def drop_lines(self, place: str) -> None:
        """No grants on a place any more."""
        del self.map("grants")[place]


def _troubles(before: Plan, plan: Plan, draft: _Draft) -> Iterator[Trouble]:
    """The checks of what was touched. (Removals cannot break anything: they take along what refers to them.)"""
    for kind in KINDS:
        if len(kind.of(plan)) > kind.most:
            yield Trouble("plan", f"it would have {len(kind.of(plan)):,} {kind.many}; a plan has at most {kind.most:,}")
    if draft.granted and sum(map(len, plan.grants.values())) > MOST_GRANTS:
        yield Trouble("plan", f"it would have more than {MOST_GRANTS:,} grants")
    for kind in KINDS:
        records = kind.of(plan)
        for record_id in draft.put[kind.part] & records.keys():
            yield from kind.troubles(plan, records[record_id])
    for group in draft.put["groups"] & plan.groups.keys() & plan.users.keys():
        yield Trouble(group, f"the id {show(group)} of group {show(plan.groups[group].name)} is taken by a user")
    if moved := draft.put["places"]:
        for child in plan.places.values():
            if child.parent in moved and child.id not in moved:
                yield from place_troubles(plan, child)
    for place in draft.granted & plan.grants.keys():
        yield from grant_troubles(plan, place, plan.grants[place])
    if any(draft.put[kind.part] for kind in NAMED if kind is not PLACES) or _renamed(before, plan, draft.put["places"]):
        yield from name_clashes(plan)
    yield from target_troubles(plan, plan.target)
    yield from plan_troubles(plan)


def _renamed(before: Plan, after: Plan, places: Collection[str]) -> bool:
    """Whether some of these places go by another name than before, or lie elsewhere."""
    old, new = before.places, after.places
    return any(
        place not in old or (old[place].name, old[place].parent) != (new[place].name, new[place].parent)
        for place in places & new.keys()
    )


def _missing(kind: str, object_id: str) -> PlanError:
    return PlanError(
        [Trouble(object_id, f"there is no {kind} {show(object_id)} in this plan; it may have been removed meanwhile")]
    )


def _apply(edit: Edit, draft: _Draft) -> list[Edit]:
    """Carry one edit into the draft; the edits that undo it."""
    if (kind := PUT.get(type(edit))) is not None:
        return _put(kind, getattr(edit, kind.key), draft)
    if (kind := REMOVED.get(type(edit))) is not None:
        return _remove(kind, getattr(edit, kind.key), draft)
    match edit:
        case Join(group, member):
            return _belongs(group, member, True, draft)
        case Leave(group, member):
            return _belongs(group, member, False, draft)
        case SetGrant():
            return _grant(edit, draft)
        case SetTarget(target):
            before = draft.now
            if target == before.target:  # the very same target goes on, by which others see that nothing of it changed
                return []
            draft.now = replace(before, target=target)
            return [SetTarget(before.target)]
        case SetTitle(name, office, said):
            before = draft.now
            purpose = before.purpose if said is None else said
            if (name, office, purpose) == (before.name, before.office, before.purpose):
                return []
            draft.now = replace(before, name=name, office=office, purpose=purpose)
            return [SetTitle(before.name, before.office, None if purpose == before.purpose else before.purpose)]
    raise TypeError(edit)


def _put(kind: Kind, record: PlanRecord, draft: _Draft) -> list[Edit]:
    before = kind.of(draft.now).get(record.id)
    draft.set(kind, record)
    return [remove(kind, record.id) if before is None else put(kind, before)]


def _remove(kind: Kind, record_id: str, draft: _Draft) -> list[Edit]:
    record = kind.of(draft.now).get(record_id)
    if record is None and kind is SERVICES:  # of which nothing is said as long as it is as usual
        return []
    if record is None:
        raise _missing(kind.one, record_id)
    with_it = _take_along(kind, record_id, draft)
    del draft.map(kind.part)[record_id]
    return [put(kind, record), *with_it]


def _take_along(kind: Kind, record_id: str, draft: _Draft) -> list[Edit]:
    """Take out what refers to a record that goes, or cannot be without it; the edits that undo it."""
    if kind is USERS:
        return _forget({record_id}, draft)
    if kind is GROUPS:
        return _forget({record_id}, draft) + _forget_as_special({record_id}, {record_id}, draft)
    if kind is PLACES:
        return _empty(record_id, draft)
    if kind is DIRECTORIES:
        return _forget_accounts_of(record_id, draft)
    return []


def _belongs(group_id: str, member: str, belongs: bool, draft: _Draft) -> list[Edit]:
    group = draft.now.groups.get(group_id)
    if group is None:
        raise _missing("group", group_id)
    if belongs and draft.now.account(member) is None:
        raise _missing("user or group", member)
    if (member in group.members) == belongs:
        return []
    draft.set(GROUPS, replace(group, members=group.members | {member} if belongs else group.members - {member}))
    return [Leave(group_id, member) if belongs else Join(group_id, member)]


def _grant(edit: SetGrant, draft: _Draft) -> list[Edit]:
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


def _forget(gone: Set[str], draft: _Draft) -> list[Edit]:
    """Take users and groups out of all other groups, grants, lists, shares, services, promises and needs; the edits that undo it.

    What they owned has no owner of its own then: the one above, or root. What was promised of them is promised no longer.
    """
    undo: list[Edit] = []
    for naming in [place for place in draft.now.places.values() if not gone.isdisjoint(mentioned(place))]:
        draft.set(PLACES, without(naming, gone))
        undo.append(PutPlace(naming))
    for kept in [pattern for pattern in draft.now.patterns.values() if not gone.isdisjoint(pattern.acl.whos)]:
        draft.set(PATTERNS, replace(kept, acl=kept.acl.without(gone)))
        undo.append(PutPattern(kept))
    for share in list(draft.now.shares.values()):
        named = {"administrator": share.administrator, "acts_as": share.acts_as, "acts_as_group": share.acts_as_group}
        lost: dict[str, Any] = {field: None for field, who in named.items() if who in gone}
        if share.grants is not None and not gone.isdisjoint(share.grants):
            lost["grants"] = {who: level for who, level in share.grants.items() if who not in gone}
        if lost:
            draft.set(SHARES, replace(share, **lost))
            undo.append(PutShare(share))
    for service in [service for service in draft.now.services.values() if service.allowed and service.allowed & gone]:
        draft.set(SERVICES, replace(service, allowed=(service.allowed or frozenset()) - gone))
        undo.append(PutService(service))
    for promise in list(draft.now.promises.values()):
        if promise.who in gone:
            undo += _apply(RemovePromise(promise.id), draft)
        elif promise.except_for & gone:
            draft.set(PROMISES, replace(promise, except_for=promise.except_for - gone))
            undo.append(PutPromise(promise))
    for need in [need for need in draft.now.needs.values() if need.who in gone]:
        undo += _apply(RemoveNeed(need.id), draft)
    for group in [group for group in draft.now.groups.values() if group.id not in gone]:
        for member in sorted(group.members & gone):
            undo[:0] = _apply(Leave(group.id, member), draft)
    for place, grants in list(draft.now.grants.items()):
        for who in [who for who in grants if who in gone]:
            undo[:0] = _apply(SetGrant(place, who, None), draft)
    return undo


def _forget_as_special(groups: Set[str], gone: Set[str], draft: _Draft) -> list[Edit]:
    """Groups that go are nobody's primary group any more, and neither baseline nor administrators; the edits that undo it."""
    undo: list[Edit] = []
    for user in [user for user in draft.now.users.values() if user.primary_group in groups and user.id not in gone]:
        draft.set(USERS, replace(user, primary_group=None))
        undo.append(PutUser(user))
    target = draft.now.target
    without_them = replace(
        target,
        baseline=None if target.baseline in groups else target.baseline,
        administrators=None if target.administrators in groups else target.administrators,
    )
    return undo + _apply(SetTarget(without_them), draft)


def _forget_accounts_of(directory: str, draft: _Draft) -> list[Edit]:
    """Take out the accounts that came from a directory; the edits that undo it."""
    users = [user for user in draft.now.users.values() if user.origin == directory]
    groups: list[Group] = [group for group in draft.now.groups.values() if group.origin == directory]
    gone = {user.id for user in users} | {group.id for group in groups}
    undo = _forget(gone, draft)
    undo += _forget_as_special({group.id for group in groups}, gone, draft)
    for user in users:
        del draft.map("users")[user.id]
    for group in groups:
        del draft.map("groups")[group.id]
    return [*map(PutGroup, groups), *map(PutUser, users), *undo]


def _empty(place: str, draft: _Draft) -> list[Edit]:
    """Take out what lies below a place, and the grants, shares, promises and needs there; the edits that undo it."""
    undo: list[Edit] = []
    for child in [child.id for child in draft.now.places.values() if child.parent == place]:
        undo[:0] = _apply(RemovePlace(child), draft)
    back: list[Edit] = [SetGrant(place, who, level) for who, level in draft.now.grants.get(place, {}).items()]
    if back:
        draft.drop_lines(place)
    for share in [share for share in draft.now.shares.values() if share.place == place]:
        back += _apply(RemoveShare(share.id), draft)
    for promise in [promise for promise in draft.now.promises.values() if promise.place == place]:
        back += _apply(RemovePromise(promise.id), draft)
    for need in [need for need in draft.now.needs.values() if need.place == place]:
        back += _apply(RemoveNeed(need.id), draft)
    return back + undo
