"""What goes out of shares, walks, cards and reports."""

from datetime import date
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import OverOut, Revision
from yardgate.core.acl.rights import Level
from yardgate.core.model.share import Protocol


class WayOut(BaseModel):
    """Who gets in over one share and protocol, at the share's top. people: level -> users, at most 200 of each; guest: what a guest gets."""

    protocol: Protocol
    on: bool
    counts: dict[Level, int]
    people: dict[Level, list[str]]
    guest: Level


class ShareOut(BaseModel):
    share: str
    ways: list[WayOut]


class StretchOut(BaseModel):
    """A place from which on down a level holds, up to the next such place."""

    place: str
    level: Level


class ReachOut(BaseModel):
    """What somebody gets over one way in."""

    share: str
    protocol: Protocol
    stretches: list[StretchOut]


class CardOut(BaseModel):
    revision: Revision
    on: date
    pages: Annotated[bool, Field(description="whether they may use the appliance's administration pages")]
    reaches: list[ReachOut]


class ThroughOut(BaseModel):
    """Some who get a level by the same grants: to whom, by name; none where a list by hand, a share or being administrator gives it."""

    level: Level
    by: list[str]
    who: list[str]


class AccessOut(BaseModel):
    """Who gets what in a place that differs from the one above; of each level, the first names and how many there are."""

    place: str
    ways: list[OverOut]
    who: dict[Level, list[str]]
    counts: dict[Level, int]
    through: list[ThroughOut]
    guest: Level


class PersonOut(BaseModel):
    who: str
    stretches: list[StretchOut]


class ReportOut(BaseModel):
    """Who gets in where, by place and by person. people: how many there are; the first of them are listed. names: of all who are named, as they were
    called then."""

    revision: Revision
    on: date
    names: dict[str, str]
    paths: dict[str, str]
    shares: dict[str, str]
    places: list[AccessOut]
    persons: list[PersonOut]
    people: int


class SharesOut(BaseModel):
    """All shares, and the places that no share reaches."""

    revision: Revision
    shares: list[ShareOut]
    unreached: list[str]


class GateOut(BaseModel):
    """What brings somebody down to a level, in short."""

    kind: Literal["account", "service", "share", "way", "list"]
    sentence: str


class VisitOut(BaseModel):
    """One place, as somebody finds it who came in over a share: see `access.walk.Visit`."""

    place: str
    level: Level
    shown: bool
    enters: bool
    lists: bool
    reads: bool
    changes: bool
    adds: bool
    deletes: bool
    gate: GateOut


class WalkedShare(BaseModel):
    share: str
    listed: bool
    visits: list[VisitOut]


class WalkOut(BaseModel):
    revision: Revision
    shares: list[WalkedShare]


class SurpriseOut(BaseModel):
    """A cell, and two levels that differ in it."""

    subject: str
    place: str
    one: Level
    other: Level


class EveryoneOut(BaseModel):
    """All people tried on all places over all ways in (see core/everyone.py); of each kind at most 300 are listed, `totals` says how many there are."""

    revision: Revision
    tried: int
    totals: dict[Literal["more", "less", "nowhere", "differ", "unwritten", "open_to_all"], int]
    more: list[SurpriseOut]
    less: list[SurpriseOut]
    nowhere: list[str]
    differ: list[SurpriseOut]
    unwritten: list[str]
    open_to_all: list[str]
