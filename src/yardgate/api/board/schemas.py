"""What goes out of the board."""

from typing import Literal

from pydantic import BaseModel

from yardgate.api.schemas import Changed, Column, Revision
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
