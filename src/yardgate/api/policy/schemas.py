"""What goes in and out of promises and findings."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import Cell, EffectOut, In, Revision
from yardgate.core.acl.rights import Level
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.formats.edits import AnyEdit


class BreachOut(BaseModel):
    """Somebody for whom a promise does not hold: what they get, and why (said of the first few)."""

    subject: str
    level: Level
    why: str


class KeepingOut(BaseModel):
    """How a promise stands. meant: of how many people it speaks; broken: for how many it does not hold; at most 200 are listed."""

    promise: Promise
    words: str
    meant: int
    broken: int
    breaches: list[BreachOut]


class ContradictionOut(BaseModel):
    """Ids of two promises that cannot both be kept, and one of those of whom both speak."""

    one: str
    other: str
    subject: str


class SentenceIn(In):
    text: Annotated[str, Field(min_length=1, max_length=2000)]


class TouchedCell(Cell):
    """A cell that a finding touches, and what comes out there over any way in."""

    level: Level


class FindingOut(BaseModel):
    """Something that is probably not as it was meant. about: ids of what it concerns. cells: at most 200 of `total`.

    fixable: whether there are edits that remove it; none: that is tried when somebody asks. accepted: how it was accepted; open: not accepted,
    or no longer.
    """

    id: str
    kind: str
    title: str
    severity: Literal["serious", "consider", "note"]
    about: list[str]
    sentence: str
    advice: str
    total: int
    cells: list[TouchedCell]
    fixable: bool | None
    accepted: Accepted | None
    open: bool


class RepairOut(BaseModel):
    """What removes a finding: edits, what they do, and what they change; none where only a person can say what is right."""

    edits: list[AnyEdit]
    does: str
    effect: EffectOut | None


class StandingOut(BaseModel):
    """Promises and findings of a revision. Findings: the serious first."""

    revision: Revision
    promises: list[KeepingOut]
    contradictions: list[ContradictionOut]
    findings: list[FindingOut]


class RemedyOut(BaseModel):
    """Edits that make a cell as wanted; each in words, and all that they change. free: whether nobody else and no host pays for it."""

    edits: list[AnyEdit]
    words: list[str]
    effect: EffectOut
    free: bool
