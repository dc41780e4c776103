"""What the station of needs sends and is sent."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import In, Revision
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import Edit
from yardgate.core.model.needs import Need
from yardgate.core.suggest.answers import BEYOND, ProposalKind

Missed = Literal["lacks", "must not", "more"]
"""Needed and not had; must not be and is; had and not needed."""


class MissedOut(BaseModel):
    user: str
    place: str
    gets: Level
    is_: Annotated[Missed, Field(serialization_alias="is")]


class ConflictOut(BaseModel):
    user: str
    place: str
    needs: list[Need]


class NeedsOut(BaseModel):
    """How needs stand: where something else comes out, over all ways in, of people whose account is open."""

    revision: Revision
    cells: Annotated[int, Field(description="how many cells need something, of all people and places")]
    missed: list[MissedOut]
    conflicts: list[ConflictOut]


class SuggestIn(In):
    """For how long groups are looked for, and of what kind; step: of simpler ones, how far from the exact one. may_change: people may join
    groups that there are, and leave them. today: needed is what everybody gets today."""

    seconds: Annotated[float, Field(gt=0, le=120)] = 20.0
    kind: ProposalKind = "exact"
    step: Annotated[int, Field(ge=0, lt=len(BEYOND))] = 0
    may_change: bool = False
    today: bool = False


class GrantedOut(BaseModel):
    place: str
    level: Level


class SuggestedGroup(BaseModel):
    """A group of the answer; there: it is in the plan already. members: the people; inside: groups that are in a new one. joins, leaves: who joins or
    leaves one that is there."""

    id: str
    name: str
    there: bool
    members: list[str]
    inside: list[str]
    joins: list[str]
    leaves: list[str]
    grants: list[GrantedOut]


class SuggestedPersonal(BaseModel):
    user: str
    grants: list[GrantedOut]


class SuggestedMiss(BaseModel):
    user: str
    place: str
    needed: Level
    gets: Level


class RoleOut(BaseModel):
    """People who need the same, and how many acts one more of them would be: groups to join, and grants by name."""

    people: list[str]
    acts: int


class SuggestionOut(BaseModel):
    """Groups that give what is needed, as edits. cost: what there is to look after, in one measure. beyond: who gets more than they need, as was allowed. gap: how much less there could be to look after at most, as a part; proven: by any groups, else by
    those that were looked at. misses: where something else would come out all the same."""

    revision: Revision
    kind: ProposalKind
    cost: int
    needs: int
    new_groups: int
    memberships: int
    grants: int
    personal: int
    gap: float
    proven: bool
    given: Annotated[list[str], Field(description="what a proof holds under, in words")]
    groups: list[SuggestedGroup]
    singles: list[SuggestedPersonal]
    edits: list[Edit]
    roles: list[RoleOut]
    misses: list[SuggestedMiss]
    beyond: list[SuggestedMiss]
    conflicts: list[ConflictOut]


class SimplifyIn(In):
    """Of what a plan is made simpler: all of it, or the grants in a place and below, or those of a group and of who is in it."""

    place: str | None = None
    group: str | None = None
    seconds: Annotated[float, Field(gt=0, le=120)] = 20.0


class SimplifiedOut(BaseModel):
    """Edits after which everybody gets the same. grants, personal: how many grants there are, and to single people; left: how many then. idle: grants that go because they decide nothing;
    whole: whether all was looked at in the time."""

    revision: Revision
    grants: int
    grants_left: int
    personal: int
    personal_left: int
    idle: int
    groups: list[str]
    whole: bool
    edits: list[Edit]
    words: Annotated[list[str], Field(description="each edit in a sentence")]


class FitOut(BaseModel):
    """Groups that somebody could join. lacks, beyond, never: places where they would still get less than they need, more than they need, and
    something where they must not."""

    groups: list[str]
    lacks: list[str]
    beyond: list[str]
    never: list[str]


class FitsOut(BaseModel):
    """now: how it is without; fits: best first."""

    revision: Revision
    now: FitOut
    fits: list[FitOut]


class ProjectIn(In):
    people: Annotated[list[str], Field(min_length=1, max_length=5000)]


class ProjectOut(BaseModel):
    """A new group of some people, with grants of what each of them needs; no edits where they have nothing in common."""

    revision: Revision
    edits: list[Edit]
