"""What goes out of the board."""

from typing import Literal

from pydantic import BaseModel

from yardgate.api.schemas import Changed, Column, OffCell, Revision
from yardgate.core.acl.rights import Level


class Window(BaseModel):
    revision: Revision
    first: int
    count: int
    subjects: int
    columns: dict[str, Column]


class RuleOut(BaseModel):
    """One clash rule, and how many cells would come out differently under it."""

    precedence: Literal["pooled", "nearest"]
    combining: Literal["refusal", "widest", "narrowest", "first"]
    words: str
    taken: bool
    changed: Changed


class InsteadOut(BaseModel):
    who: str
    name: str
    level: Level
    others: Changed


class Stands(BaseModel):
    """How many people and guests, in how many places, get more or less than is granted to them, or what the rule settled where grants differ;
    and which, in order of places; at most 2000 are listed."""

    revision: Revision
    more: int
    less: int
    settled: int
    cells: list[OffCell]
