"""What goes in and out of plans: their outline, edits, history and versions."""

from typing import Annotated

from pydantic import AwareDatetime, Base64Bytes, BaseModel, Field

from yardgate.api.schemas import EffectOut, GrantOut, HistoryStep, In, Name, Revision, Standing
from yardgate.core.model.directory import Directory
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Pattern, Place, Target, User
from yardgate.core.model.share import ServiceId, Share
from yardgate.store.accounts import Role


class PlanHead(BaseModel):
    id: str
    name: str
    office: str
    revision: Revision
    archived: bool
    people: int
    services: int
    groups: int
    places: int
    grants: int
    trouble: Annotated[str, Field(description="why it cannot be read; nothing where it can")] = ""


class NewPlan(In):
    """A new plan: empty, or what a plan file holds."""

    name: Name
    office: Annotated[str, Field(max_length=255)] = ""
    file: Base64Bytes | None = None


class CopyPlan(In):
    name: Name


class Archive(In):
    archived: bool


class GroupOut(BaseModel):
    id: str
    name: str
    gid: int | None
    members: list[str]
    origin: str
    key: str | None
    sid: str | None
    gone: bool
    unknown: list[str]
    of_host: bool
    note: str


class ServiceOut(BaseModel):
    """A file service. only: who may use it; null: everybody."""

    id: ServiceId
    on: bool
    allowed: list[str] | None


class Outline(BaseModel):
    """Everything of a plan but what comes out. Users and groups are sorted by id: subjects are numbered in that order."""

    id: str
    name: str
    office: str
    purpose: str
    revision: Revision
    archived: bool
    may: Annotated[Role, Field(description="what whoever asks may do in it")]
    top: Annotated[str, Field(description="the folder of the appliance in which the pools lie")]
    target: Target
    rule: str
    users: list[User]
    groups: list[GroupOut]
    places: list[Place]
    grants: dict[str, list[GrantOut]]
    needs: list[Need]
    patterns: list[Pattern]
    directories: list[Directory]
    shares: list[Share]
    services: list[ServiceOut]
    namesakes: Annotated[list[str], Field(description="accounts that are shown by the name of one from elsewhere")]
    standing: Annotated[dict[str, Standing], Field(description="empty where no place of the plan says a list")]
    inactive: list[str]
    cycles: list[list[str]]
    undo: HistoryStep | None
    redo: HistoryStep | None


class VersionOut(BaseModel):
    name: str
    revision: Revision
    at: AwareDatetime
    by: str


class TakeBack(In):
    """A step of the plan that shall be taken back, and what came after it left."""

    revision: Revision
    step: Revision


class ComparedFile(In):
    """A plan file, to be compared with a revision of the plan; without one, with the present."""

    file: Base64Bytes
    revision: Revision | None = None


class HereIn(In):
    """A window says where it is."""

    window: Annotated[str, Field(min_length=8, max_length=64, description="made up by the window, and its own")]
    station: Annotated[str, Field(max_length=20, pattern="^[a-z]*$")]


class PresentOut(BaseModel):
    """Somebody else who is at the plan now."""

    name: str
    station: str


class NewVersion(In):
    name: Name


class BackTo(In):
    revision: Revision
    to: Revision


class FreeId(BaseModel):
    id: str


class PlanComparison(BaseModel):
    """From one revision to another: every edit in words (at most 1,000), and what comes out differently."""

    words: list[str]
    total: int
    effect: EffectOut
