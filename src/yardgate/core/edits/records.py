"""Edits, as values: the one language that screens, commands, imports and undo all speak."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from yardgate.core.acl.rights import STRICT, Level
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.directory import Directory
from yardgate.core.model.kinds import (
    ACCEPTED,
    DIRECTORIES,
    GROUPS,
    NEEDS,
    PATTERNS,
    PLACES,
    PROMISES,
    SERVICES,
    SHARES,
    USERS,
    Kind,
    PlanRecord,
)
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Group, Pattern, Place, Target, User
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
class PutNeed:
    """Say what somebody needs in a place."""

    __pydantic_config__ = STRICT
    need: Need
    op: Literal["put-need"] = "put-need"


@dataclass(frozen=True, slots=True)
class RemoveNeed:
    """Say no longer what somebody needs in a place."""

    __pydantic_config__ = STRICT
    need: str
    op: Literal["remove-need"] = "remove-need"


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
    """Rename the appliance or the office, or say what it is for; None leaves that as it is."""

    __pydantic_config__ = STRICT
    name: str
    office: str
    purpose: str | None = None
    op: Literal["set-title"] = "set-title"


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
    | PutNeed
    | RemoveNeed
    | PutAccepted
    | RemoveAccepted
    | SetGrant
    | SetTarget
    | SetTitle
)

_OF_KIND: tuple[tuple[Kind, type, type], ...] = (
    (DIRECTORIES, PutDirectory, RemoveDirectory),
    (USERS, PutUser, RemoveUser),
    (GROUPS, PutGroup, RemoveGroup),
    (PLACES, PutPlace, RemovePlace),
    (PATTERNS, PutPattern, RemovePattern),
    (SHARES, PutShare, RemoveShare),
    (SERVICES, PutService, RemoveService),
    (PROMISES, PutPromise, RemovePromise),
    (NEEDS, PutNeed, RemoveNeed),
    (ACCEPTED, PutAccepted, RemoveAccepted),
)
PUT: Mapping[type, Kind] = {put: kind for kind, put, _ in _OF_KIND}
REMOVED: Mapping[type, Kind] = {remove: kind for kind, _, remove in _OF_KIND}
_PUTS = {kind.part: put for kind, put, _ in _OF_KIND}
_REMOVES = {kind.part: remove for kind, _, remove in _OF_KIND}


def put(kind: Kind, record: PlanRecord) -> Edit:
    """The edit that adds a record of a kind, or replaces the one of its id."""
    edit: Edit = _PUTS[kind.part](record)
    return edit


def remove(kind: Kind, record_id: str) -> Edit:
    """The edit that removes a record of a kind."""
    edit: Edit = _REMOVES[kind.part](record_id)
    return edit
