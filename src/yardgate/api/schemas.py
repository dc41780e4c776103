"""What goes in and out of the API. Records of the core go out as they are."""

from typing import Annotated, Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from yardgate.core.access.comparison import CellState
from yardgate.core.access.spec.explain import Reason
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Behaviour, Enforcement
from yardgate.core.model.share import Protocol
from yardgate.formats.edits import AnyEdit

Revision = Annotated[int, Field(ge=0, le=2**53, description="the plan's revision that this was made on, or is")]
Name = Annotated[str, Field(min_length=1, max_length=255)]
Id = Annotated[str, Field(min_length=1, max_length=255)]


class In(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Problem(BaseModel):
    """An error, as RFC 9457 has it, with the members that say more."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str = ""
    troubles: list["TroubleOut"] | None = None
    line: int | None = None
    column: int | None = None
    revision: Revision | None = None
    since: list["EntryOut"] | None = None


class TroubleOut(BaseModel):
    object: str
    message: str


class EntryOut(BaseModel):
    revision: Revision
    at: AwareDatetime
    by: str
    kind: Literal["create", "edit", "import", "undo", "redo", "return"]
    words: str


class GrantOut(BaseModel):
    who: str
    level: Level


class HistoryStep(BaseModel):
    revision: Revision
    words: str
    by: str
    at: AwareDatetime


class Column(BaseModel):
    """One place, a character for each subject. levels: N, P, R, W. sources: - nothing said, o own, g group, a all
    (baseline or everyone), A administrator, x account disabled or expired, w stopped at a folder above, l the storage list, i the way in. granted: N, P, R, W,
    what is granted. states: how what comes out stands to that: = as granted, s settled by the rule, . nothing is granted, u no way in leads
    there, + more than granted, < less than granted."""

    levels: str
    sources: str
    granted: str
    states: str


class CellChange(BaseModel):
    """A cell of somebody, or of the guest, that comes out differently over any way in, or else over one protocol."""

    over: Protocol | None
    subject: str
    place: str
    before: Level
    after: Level


class Changed(BaseModel):
    """Cells that come out differently. At most 500 are listed."""

    total: int
    people: int
    places: int
    cells: list[CellChange]


class Cell(BaseModel):
    subject: str
    place: str


class OffCell(Cell):
    granted: Level
    gets: Level


class HostShiftOut(BaseModel):
    """Hosts that would do something else in a share over NFS, in words, and how many people would get something else there from them.

    costs: they would get more, or less, than the rules give them now."""

    share: str
    hosts: str
    before: Level
    after: Level
    people: int
    costs: bool


class MadeOut(BaseModel):
    """A place that would be new, and how many people, guests among them, would get in there over any way in."""

    place: str
    rw: int
    ro: int


class EffectOut(BaseModel):
    """What edits change over the ways in (at most 200 cells are listed), and promises that they break or mend, in words.

    more, less: who would get more, or less, than is granted to them now (at most 200 each). hosts: what changes for hosts over NFS. free: whether
    nobody and no host pays for it in this way. along: what goes with the edits to keep the folders for each member of a group in step, in words."""

    along: list[str]
    total: int
    people: int
    places: int
    cells: list[CellChange]
    more: list[OffCell]
    less: list[OffCell]
    hosts: list[HostShiftOut]
    made: list[MadeOut]
    free: bool
    breaks: list[str]
    mends: list[str]


class Edits(In):
    revision: Revision
    edits: Annotated[list[AnyEdit], Field(min_length=1, max_length=20_000)]


class AtRevision(In):
    revision: Revision


class CameOut(GrantOut):
    """A grant that came down from a place above."""

    said_on: str


class Standing(BaseModel):
    """How a place will stand: its list style (null: not planned), owner and group, what carries grants, and which came down."""

    style: Literal["ordered", "posix", "mode"] | None
    owner: str
    group: str
    enforced_by: Enforcement
    came: list[CameOut]


class Stands(BaseModel):
    """How many people and guests, in how many places, get more or less than is granted to them, or what the rule settled where grants differ;
    and which, in order of places; at most 2000 are listed."""

    revision: Revision
    more: int
    less: int
    settled: int
    cells: list[OffCell]


class SinceOut(BaseModel):
    """What comes out otherwise than on the appliance, since the revision that was put there last; null before the first rollout."""

    revision: int | None
    changed: Changed


class Around(BaseModel):
    """What every screen shows around it, once an edit is kept: what is not as granted, what is not on the appliance yet, the journal's last entry."""

    stands: Stands
    since: SinceOut
    last: EntryOut


class Answer(BaseModel):
    """What an edit did, or would do. grants and columns of the places it touched; `whole`: read the outline again. around: of a kept one."""

    revision: Revision
    words: str
    changed: Changed
    grants: dict[str, list[GrantOut]]
    standing: dict[str, Standing]
    columns: dict[str, Column]
    whole: bool
    undo: HistoryStep | None
    redo: HistoryStep | None
    around: Around | None = None


class OverOut(BaseModel):
    share: str
    protocol: Protocol


class WayLevel(OverOut):
    level: Level


class AssumedOut(BaseModel):
    """title: what is not known of the appliance. happens: another answer, under which the cell comes to the level."""

    question: Behaviour
    title: str
    happens: str
    level: Level


class ReasonOut(BaseModel):
    revision: Revision
    reason: Reason
    names: Annotated[dict[str, str], Field(description="id -> name of everyone and every group that is mentioned")]
    over: Annotated[
        "OverOut | None", Field(description="the way in that it is the reason for; none: grants and storage alone")
    ] = None
    ways: Annotated[list[WayLevel], Field(description="what comes out over each way in that reaches the place")] = []
    granted: Annotated[Level, Field(description="what is granted, by the grants that count in the place")] = Level.NA
    stands: Annotated[CellState, Field(description="how what comes out stands to that")] = "as granted"
    words: Annotated[str, Field(description="the same in words")] = ""
    assumed: Annotated[
        list["AssumedOut"], Field(description="where it hangs on an answer about the appliance that nobody has given")
    ] = []
