"""The plan: users, groups, places and grants of one appliance, as frozen values, and the checks that hold for every plan.

Everything is referred to by id, never by name, so a rename keeps what was granted. Users and groups share one space of
ids, because a grant may name either. The order of users, groups and places means nothing; the order of the grants on one
place does (it is the order in which a list is read).
"""

import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Literal

from yardgate.core.rights import GRANTABLE, Level

EVERYONE = "everyone"
GUEST = "guest"
BUILT_IN = (EVERYONE, GUEST)
LONGEST_NAME = 255
LARGEST_NUMBER = 2**32 - 2  # (uid_t) -1 means "no change" to chown(2)

STRICT = {"extra": "forbid"}  # for whoever reads these classes from outside: an unknown field is an error

PlaceKind = Literal["pool", "dataset", "folder"]
Tiers = Literal["pooled", "nearest"]
Within = Literal["refusal", "widest", "narrowest", "first"]


@dataclass(frozen=True, slots=True, kw_only=True)
class User:
    """A person or a service. `expires` is the first day on which the account is shut (shadow(5), expiration date)."""

    __pydantic_config__ = STRICT
    id: str
    name: str
    full_name: str = ""
    kind: Literal["person", "service"] = "person"
    uid: int | None = None
    primary_group: str | None = None
    enabled: bool = True
    expires: date | None = None
    aliases: tuple[str, ...] = ()
    origin: str = "local"
    sid: str | None = None
    note: str = ""

    def active(self, on: date) -> bool:
        return self.enabled and (self.expires is None or on < self.expires)


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """Members are ids of users and of groups (nesting)."""

    __pydantic_config__ = STRICT
    id: str
    name: str
    gid: int | None = None
    members: frozenset[str] = frozenset()
    origin: str = "local"
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A node of the storage tree. A pool has no parent; a dataset lies in a pool or dataset, a folder in either or a folder."""

    __pydantic_config__ = STRICT
    id: str
    name: str
    kind: PlaceKind
    parent: str | None = None
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """What differs between appliances.

    tiers, within: the clash rule (see `clash`). baseline: the group that every user is in without being listed.
    administrators: the group whose members always get read-write at the share.
    """

    __pydantic_config__ = STRICT
    tiers: Tiers = "pooled"
    within: Within = "refusal"
    baseline: str | None = None
    baseline_covers_directory: bool = True
    administrators: str | None = None


Grants = Mapping[str, Level]


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """One appliance, as planned. grants: place id -> who id -> level, the inner mapping in list order, never empty."""

    name: str = "appliance"
    office: str = ""
    target: Target = field(default_factory=Target)
    users: Mapping[str, User] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    places: Mapping[str, Place] = field(default_factory=dict)
    grants: Mapping[str, Grants] = field(default_factory=dict)

    def named(self, who: str) -> str:
        """The name of a user, a group or a built-in who, as shown to people; the id itself where nobody has it."""
        if who == EVERYONE:
            return "Everyone"
        if who == GUEST:
            return "Guest"
        if who in self.users:
            user = self.users[who]
            return user.full_name or user.name
        return self.groups[who].name if who in self.groups else who

    def path(self, place: str) -> tuple[str, ...]:
        """Ids from the pool down to the place, itself included."""
        steps: list[str] = []
        here: str | None = place
        while here is not None and here not in steps:
            steps.append(here)
            here = self.places[here].parent if here in self.places else None
        return tuple(reversed(steps))

    def path_name(self, place: str) -> str:
        return "/".join(self.places[step].name if step in self.places else step for step in self.path(place))

    def knows(self, who: str) -> bool:
        return who in self.users or who in self.groups or who == EVERYONE


def same(one: Plan, other: Plan) -> bool:
    """True when two plans are identical, the order of the grants on each place included."""
    return one == other and all(list(one.grants[place]) == list(other.grants[place]) for place in one.grants)


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that no plan may have: which object (its id), and what is wrong, in words that name it."""

    object: str
    message: str


class PlanError(ValueError):
    """A plan or an edit that cannot stand. `troubles` is never empty."""

    def __init__(self, troubles: Iterable[Trouble]):
        self.troubles = tuple(troubles)
        super().__init__("; ".join(trouble.message for trouble in self.troubles[:5]))


# --- checks -----------------------------------------------------------------------------------------------------------

_DIRECTION_MARKS = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def fold(name: str) -> str:
    """What two names are compared by: SMB takes names in any case (MS-SMB2 has no case-sensitive names)."""
    return unicodedata.normalize("NFC", name).casefold()


def name_trouble(name: str, *, separator: str = "") -> str | None:
    """Why a text cannot be a name, or None."""
    if not name.strip():
        return "is empty"
    if len(name) > LONGEST_NAME:
        return f"has {len(name)} characters; at most {LONGEST_NAME} are possible"
    for position, char in enumerate(name, 1):
        if char in _DIRECTION_MARKS:
            return f"has a direction mark (U+{ord(char):04X}) at character {position}, which can make it look like another name"
        if unicodedata.category(char) in ("Cc", "Cs", "Zl", "Zp"):
            return f"has a control character or line break (U+{ord(char):04X}) at character {position}"
    if name != name.strip():
        return "begins or ends with a space"
    if separator and separator in name:
        return f"contains {separator!r}, which separates folders"
    if separator and name in (".", ".."):
        return "is a dot name, which means a folder itself or the one above it"
    return None


def show(text: str, most: int = 40) -> str:
    """A name for a message: quoted, unprintable characters escaped, shortened."""
    plain = "".join(
        c if c.isprintable() and c not in _DIRECTION_MARKS else f"\\u{ord(c):04x}" for c in text[: most + 1]
    )
    return f"“{plain[:most]}…”" if len(plain) > most else f"“{plain}”"


def check(plan: Plan) -> tuple[Trouble, ...]:
    """Everything that is wrong with a plan; empty for a good one."""
    return (
        *(Trouble("plan", f"the plan's {what} {why}") for what, why in _plan_names(plan)),
        *(t for user in plan.users.values() for t in user_troubles(plan, user)),
        *(t for group in plan.groups.values() for t in group_troubles(plan, group)),
        *(t for place in plan.places.values() for t in place_troubles(plan, place)),
        *(t for place, grants in plan.grants.items() for t in grant_troubles(plan, place, grants)),
        *target_troubles(plan, plan.target),
        *name_clashes(plan),
    )


def _plan_names(plan: Plan) -> Iterator[tuple[str, str]]:
    if why := name_trouble(plan.name):
        yield "name", why
    if plan.office and (why := name_trouble(plan.office)):
        yield "office", why


def _text_troubles(object_id: str, kind: str, name: str, texts: Mapping[str, str]) -> Iterator[Trouble]:
    if why := name_trouble(object_id):
        yield Trouble(object_id, f"the id of {kind} {show(name)} {why}")
    if why := name_trouble(name, separator="/" if kind in ("pool", "dataset", "folder") else ""):
        yield Trouble(object_id, f"the name of {kind} {show(name)} {why}")
    for what, text in texts.items():
        if what == "note":
            if len(text) > 4000:
                yield Trouble(
                    object_id, f"the note of {kind} {show(name)} has {len(text)} characters; at most 4000 are possible"
                )
            elif any(unicodedata.category(c) in ("Cc", "Cs") and c not in "\n\t" for c in text):
                yield Trouble(object_id, f"the note of {kind} {show(name)} has a control character")
        elif text and (why := name_trouble(text)):
            yield Trouble(object_id, f"the {what} of {kind} {show(name)} {why}")


def user_troubles(plan: Plan, user: User) -> Iterator[Trouble]:
    yield from _text_troubles(
        user.id,
        user.kind,
        user.name,
        {"full name": user.full_name, "origin": user.origin, "SID": user.sid or "", "note": user.note},
    )
    for alias in user.aliases:
        if why := name_trouble(alias):
            yield Trouble(user.id, f"the sign-in name {show(alias)} of {show(user.name)} {why}")
    if user.id in plan.groups or user.id in BUILT_IN:
        yield Trouble(
            user.id, f"the id {show(user.id)} of user {show(user.name)} is taken by a group or a built-in who"
        )
    if user.uid is not None and not 0 <= user.uid <= LARGEST_NUMBER:
        yield Trouble(user.id, f"the uid {user.uid} of {show(user.name)} is outside 0 to {LARGEST_NUMBER}")
    if user.primary_group is not None and user.primary_group not in plan.groups:
        yield Trouble(
            user.id, f"the primary group {show(user.primary_group)} of {show(user.name)} is not a group of this plan"
        )


def group_troubles(plan: Plan, group: Group) -> Iterator[Trouble]:
    yield from _text_troubles(group.id, "group", group.name, {"origin": group.origin, "note": group.note})
    if group.id in BUILT_IN:
        yield Trouble(group.id, f"the id {show(group.id)} of group {show(group.name)} belongs to a built-in who")
    if group.gid is not None and not 0 <= group.gid <= LARGEST_NUMBER:
        yield Trouble(group.id, f"the gid {group.gid} of {show(group.name)} is outside 0 to {LARGEST_NUMBER}")
    for member in sorted(group.members):
        if member not in plan.users and member not in plan.groups:
            yield Trouble(
                group.id, f"group {show(group.name)} has a member {show(member)} that is no user or group of this plan"
            )


def place_troubles(plan: Plan, place: Place) -> Iterator[Trouble]:
    yield from _text_troubles(place.id, place.kind, place.name, {"note": place.note})
    if place.kind == "pool":
        if place.parent is not None:
            yield Trouble(place.id, f"pool {show(place.name)} cannot lie inside another place")
        return
    parent = plan.places.get(place.parent or "")
    if parent is None:
        where = show(place.parent) if place.parent else "nowhere"
        yield Trouble(place.id, f"{place.kind} {show(place.name)} lies in {where}, which is no place of this plan")
    elif place.kind == "dataset" and parent.kind == "folder":
        yield Trouble(
            place.id,
            f"dataset {show(place.name)} cannot lie in folder {show(parent.name)}; only in a pool or a dataset",
        )
    elif plan.places[plan.path(place.id)[0]].parent is not None:
        yield Trouble(place.id, f"{place.kind} {show(place.name)} lies inside itself")


def grant_troubles(plan: Plan, place: str, grants: Grants) -> Iterator[Trouble]:
    where = show(plan.path_name(place)) if place in plan.places else show(place)
    if place not in plan.places:
        yield Trouble(place, f"there are grants on {where}, which is no place of this plan")
    if not grants:
        yield Trouble(place, f"the list of grants on {where} is empty; leave it out")
    for who, level in grants.items():
        if not plan.knows(who):
            yield Trouble(place, f"a grant on {where} names {show(who)}, who is no user or group of this plan")
        if level not in GRANTABLE:
            yield Trouble(
                place, f"{plan.named(who)} is granted {level.words} on {where}; only RW, RO and NA can be granted"
            )


def target_troubles(plan: Plan, target: Target) -> Iterator[Trouble]:
    for what, group in (("baseline", target.baseline), ("administrators", target.administrators)):
        if group is not None and group not in plan.groups:
            yield Trouble("target", f"the {what} group {show(group)} is not a group of this plan")


def name_clashes(plan: Plan) -> Iterator[Trouble]:
    """Two users, two groups or two places in one folder that go by the same name. Local and directory accounts may share one."""
    yield from _twice(
        ((user.origin, name), user.id) for user in plan.users.values() for name in (user.name, *user.aliases)
    )
    yield from _twice(((group.origin, group.name), group.id) for group in plan.groups.values())
    yield from _twice(((place.parent or "", place.name), place.id) for place in plan.places.values())


def _twice(named: Iterable[tuple[tuple[str, str], str]]) -> Iterator[Trouble]:
    seen: dict[tuple[str, str], str] = {}
    for (where, name), object_id in named:
        first = seen.setdefault((where, fold(name)), object_id)
        if first != object_id:
            yield Trouble(
                object_id,
                f"the name {show(name)} is used twice (ids {show(first)} and {show(object_id)}); names must differ, whatever their case",
            )
