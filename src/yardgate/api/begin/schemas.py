"""What goes in and out of beginning, and of acts on many things."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import Id, In, Name, Revision
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Behaviour, Target
from yardgate.core.policy.stages import StageAct, StageId
from yardgate.formats.edits import AnyEdit


class OfficeOut(BaseModel):
    """A made-up office to begin a plan from."""

    id: str
    title: str
    words: str
    people: int
    groups: list[str]
    places: list[str]


class ToDoOut(BaseModel):
    act: StageAct
    words: str
    count: int
    ids: list[str]


class StageOut(BaseModel):
    """How far a plan is in one thing, and what is missing; the most urgent first."""

    id: StageId
    title: str
    says: str
    done: bool
    begun: bool
    todo: list[ToDoOut]


class SaidOut(BaseModel):
    who: str
    level: Level


class ChoiceOut(BaseModel):
    """An answer. target: what then is said of the appliance. taken: whether that is what it does, or is assumed to do."""

    id: str
    happens: str
    words: str
    taken: bool
    target: Target


class QuestionOut(BaseModel):
    """Something in which appliances differ. matters: whether it makes a difference to this plan. unanswered: what is said of the appliance
    where nobody knows; the answer then is assumed."""

    id: Behaviour
    title: str
    asks: str
    said: list[SaidOut]
    who: str
    where: str
    find_out: str
    answered: bool
    matters: bool
    choices: list[ChoiceOut]
    unanswered: Target


class ProfileOut(BaseModel):
    """A kind of appliance of which every answer is known. taken: whether the plan says just that of its own."""

    id: str
    title: str
    words: str
    taken: bool
    target: Target


class BeginOut(BaseModel):
    """How far a plan is, in the order in which people work; what appliances differ in."""

    revision: Revision
    stages: list[StageOut]
    questions: list[QuestionOut]
    profiles: list[ProfileOut]


class NumberThem(In):
    """Free numbers for those of some users and groups that have none."""

    do: Literal["number"]
    ids: Annotated[list[Id], Field(max_length=20_000)]


class ShareThem(In):
    """A share for each of some places."""

    do: Literal["share"]
    ids: Annotated[list[Id], Field(max_length=5000)]


class MoreLikeIt(In):
    """The same again, under another name: a user in the same groups, a group with the same members, a share of the same place, a place with all in it. grants: with
    what is granted to it, or there."""

    do: Literal["copy"]
    like: Id
    name: Name
    full_name: Annotated[str, Field(max_length=255)] = ""
    grants: bool = False


class NewName(In):
    name: Name
    full_name: Annotated[str, Field(max_length=255)] = ""


class AddThem(In):
    """New people, services or groups of these names, members of some groups."""

    do: Literal["add"]
    kind: Literal["person", "service", "group"]
    names: Annotated[list[NewName], Field(min_length=1, max_length=2000)]
    groups: Annotated[tuple[Id, ...], Field(max_length=200)] = ()


class PlaceThem(In):
    """Places at some paths, with all on the way that is missing: a pool, a dataset in it, folders below. start: what uses a pool that is new (see `kinds`)."""

    do: Literal["places"]
    paths: Annotated[list[Annotated[str, Field(min_length=1, max_length=4000)]], Field(min_length=1, max_length=2000)]
    start: Annotated[str, Field(max_length=300)] = ""


class LikeOffice(In):
    """All that is in a made-up office, in a plan with nobody and nothing in it."""

    do: Literal["office"]
    office: Id


MoreIn = Annotated[AddThem | PlaceThem | LikeOffice | NumberThem | ShareThem | MoreLikeIt, Field(discriminator="do")]


class MoreOut(BaseModel):
    """The edits that do it, not kept. made: the id of what is new, if it is one thing."""

    edits: list[AnyEdit]
    made: str | None = None


class NameSays(BaseModel):
    """Why something cannot be called so, nothing where it can; and a name like it that works, if there is one."""

    trouble: str
    better: str
