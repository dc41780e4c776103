"""What goes in and out of the API. Records of the core go out as they are."""

from datetime import date
from typing import Annotated, Literal

from pydantic import AwareDatetime, Base64Bytes, BaseModel, ConfigDict, Field

from yardgate.core.access.comparison import CellState
from yardgate.core.access.spec.explain import Reason
from yardgate.core.acl import OwnList
from yardgate.core.acl.rights import Level
from yardgate.core.host.state import RecordKind, System
from yardgate.core.host.steps import Destination, Does
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.directory import Directory, Numbering
from yardgate.core.model.plan import Carrier, Pattern, Place, Target, User
from yardgate.core.model.share import Protocol, ServiceId, Share
from yardgate.formats.edits import AnyEdit
from yardgate.formats.reading import ObjectKind
from yardgate.store.accounts import PlanRole, Role
from yardgate.store.pushes import PushDoes, PushState
from yardgate.store.rollouts import RolledOut
from yardgate.store.runs import RunState

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


class Session(BaseModel):
    """Who is signed in; nobody where name is null. `first`: no account exists yet."""

    name: str | None
    role: Role | None
    first: bool
    has_password: bool = False


class SignIn(In):
    name: Name
    password: Annotated[str, Field(max_length=1000)]


class Link(In):
    link: Annotated[str, Field(max_length=200)]


class UseLink(Link):
    """switch: also where somebody else is signed in here."""

    switch: bool = False


class LinkKind(BaseModel):
    """name: whom it signs in. instead_of: who is signed in here now."""

    kind: Literal["sign-in", "first"] | None
    name: str | None = None
    instead_of: str | None = None


class First(In):
    link: Annotated[str, Field(max_length=200)]
    name: Name
    password: Annotated[str, Field(max_length=1000)]


class AccountOut(BaseModel):
    id: str
    name: str
    role: Role
    disabled: bool
    has_password: bool
    plans: dict[str, PlanRole]
    sessions: int


class SessionOut(BaseModel):
    """A place where somebody is signed in. made_at, seen_at: seconds since 1970. this: the one that asks."""

    id: str
    made_at: int
    seen_at: int
    address: str
    agent: str
    this: bool


class HappenedOut(BaseModel):
    """Something that was done: by whom, from where, to what."""

    number: int
    at: str
    by: str
    address: str
    what: str
    about: str
    plan: str | None


class RanOut(BaseModel):
    """A command that was run on a host: what for, what it ended with, and the end of what it said went wrong."""

    number: int
    at: str
    plan: str | None
    run: int | None
    host: str
    why: str
    command: str
    code: int
    said: str


class NewAccount(In):
    name: Name
    role: Role


class NewAccountOut(BaseModel):
    account: AccountOut
    link: Annotated[str, Field(description="a one-time path that signs this account in, for a day")]


class ChangeAccount(In):
    role: Role | None = None
    disabled: bool | None = None
    plans: Annotated[dict[str, PlanRole] | None, Field(max_length=1000)] = None


class OwnPassword(In):
    """old: the one before, where there is one and nobody signed in by a link just now."""

    password: Annotated[str, Field(max_length=1000)]
    old: Annotated[str | None, Field(max_length=1000)] = None


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
    note: str


class GrantOut(BaseModel):
    who: str
    level: Level


class CameOut(GrantOut):
    """A grant that came down from a place above."""

    said_on: str


class Standing(BaseModel):
    """How a place will stand: its list style (null: not planned), owner and group, what carries grants, and which came down."""

    style: Literal["ordered", "posix", "mode"] | None
    owner: str
    group: str
    carried: Carrier
    came: list[CameOut]


class HistoryStep(BaseModel):
    revision: Revision
    words: str


class ServiceOut(BaseModel):
    """A file service. only: who may use it; null: everybody."""

    id: ServiceId
    on: bool
    only: list[str] | None


class Outline(BaseModel):
    """Everything of a plan but what comes out. Users and groups are sorted by id: subjects are numbered in that order."""

    id: str
    name: str
    office: str
    revision: Revision
    archived: bool
    may: Annotated[Role, Field(description="what whoever asks may do in it")]
    target: Target
    rule: str
    users: list[User]
    groups: list[GroupOut]
    places: list[Place]
    grants: dict[str, list[GrantOut]]
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


class Column(BaseModel):
    """One place, a character for each subject. levels: N, P, R, W. sources: - nothing said, o own, g group, a all
    (baseline or everyone), A administrator, x account shut, w blocked on the way, l the storage list, i the way in. granted: N, P, R, W,
    what is granted. states: how what comes out stands to that: = as granted, s settled by the rule, . nothing is granted, u no way in leads
    there, + more than granted, < less than granted."""

    levels: str
    sources: str
    granted: str
    states: str


class Window(BaseModel):
    revision: Revision
    first: int
    count: int
    subjects: int
    columns: dict[str, Column]


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


class Edits(In):
    revision: Revision
    edits: Annotated[list[AnyEdit], Field(min_length=1, max_length=20_000)]


class AtRevision(In):
    revision: Revision


class Answer(BaseModel):
    """What an edit did, or would do. grants and columns of the places it touched; `whole`: read the outline again."""

    revision: Revision
    words: str
    changed: Changed
    grants: dict[str, list[GrantOut]]
    standing: dict[str, Standing]
    columns: dict[str, Column]
    whole: bool
    undo: HistoryStep | None
    redo: HistoryStep | None


class ReasonOut(BaseModel):
    revision: Revision
    reason: Reason
    names: Annotated[dict[str, str], Field(description="id -> name of everyone and every group that is mentioned")]
    over: Annotated[
        "OverOut | None", Field(description="the way in that it is the reason for; none: grants and storage alone")
    ] = None
    ways: Annotated[list["WayLevel"], Field(description="what comes out over each way in that reaches the place")] = []
    granted: Annotated[Level, Field(description="what is granted, by the grants that count in the place")] = Level.NA
    stands: Annotated[CellState, Field(description="how what comes out stands to that")] = "as granted"
    words: Annotated[str, Field(description="the same in words")] = ""


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


class OverOut(BaseModel):
    share: str
    protocol: Protocol


class WayLevel(OverOut):
    level: Level


class AccessOut(BaseModel):
    """Who gets what in a place that differs from the one above; of each level, the first names and how many there are."""

    place: str
    ways: list[OverOut]
    who: dict[Level, list[str]]
    counts: dict[Level, int]
    guest: Level


class PersonOut(BaseModel):
    who: str
    stretches: list[StretchOut]


class ReportOut(BaseModel):
    """Who gets in where, by place and by person. people: how many there are; the first of them are listed."""

    revision: Revision
    on: date
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
    """One place, as somebody finds it who came in over a share: see `core.walk.Visit`."""

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


class RuleOut(BaseModel):
    """One clash rule, and how many cells would come out differently under it."""

    tiers: Literal["pooled", "nearest"]
    within: Literal["refusal", "widest", "narrowest", "first"]
    words: str
    taken: bool
    changed: Changed


class InsteadOut(BaseModel):
    who: str
    name: str
    level: Level
    others: Changed


class TouchedCell(Cell):
    """A cell that a finding touches, and what comes out there over any way in."""

    level: Level


class FindingOut(BaseModel):
    """Something that is probably not as it was meant. about: ids of what it concerns. cells: at most 200 of `total`.

    fix: edits that remove it, `does` says what they do. accepted: how it was accepted; open: not accepted, or no longer.
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
    fix: list[AnyEdit]
    does: str
    accepted: Accepted | None
    open: bool


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


class Stands(BaseModel):
    """How many people and guests, in how many places, get more or less than is granted to them, or what the rule settled where grants differ;
    and which, in order of places; at most 2000 are listed."""

    revision: Revision
    more: int
    less: int
    settled: int
    cells: list[OffCell]


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


class VersionOut(BaseModel):
    name: str
    revision: Revision
    at: AwareDatetime
    by: str


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


class NamedFile(In):
    name: Annotated[str, Field(max_length=1000)]
    content: Base64Bytes


class Import(In):
    """A text to take in. accounts: `content` is a passwd file, `second` a group file. getfacl, find, nfs4: listings of folders. server: a file
    server whole, from `files` copied from it, or, where there are none, read from the appliance with the lists of `tops` and all in them."""

    revision: Revision
    kind: Literal["matrix", "people", "promises", "accounts", "plan", "getfacl", "find", "nfs4", "server"]
    content: Base64Bytes = b""
    files: Annotated[list[NamedFile], Field(max_length=200)] = []
    tops: Annotated[list[Annotated[str, Field(max_length=1000, pattern=r"^/")]], Field(max_length=20)] = []
    second: Base64Bytes = b""
    make: Annotated[dict[str, ObjectKind], Field(max_length=20_000)] = {}
    clear_blanks: bool = False
    at: Annotated[
        Id | None, Field(description="for listings: the place that their topmost folder is; none makes a pool")
    ] = None
    only_folders: Annotated[bool, Field(description="for listings that do not say: everything in it is a folder")] = (
        False
    )
    lowest: Annotated[int, Field(ge=0, le=2**32)] = 1000
    highest: Annotated[int, Field(ge=0, le=2**32)] = 60000
    private_groups: bool = False
    tag: Annotated[
        str | None,
        Field(description="for keeping: of the preview; nothing is kept where it would come out otherwise now"),
    ] = None


class LineOut(BaseModel):
    """A line of a list. says: allow or deny, or a POSIX tag. mask: an access mask, or 0 to 7. stops: why it does not reach the
    place asked about."""

    says: Literal["allow", "deny", "user", "group", "mask", "other"]
    who: str
    mask: int
    flags: int
    said_on: str
    made: Literal["hand", "grant", "pass", "computed"]
    stops: str | None = None


class Layer(BaseModel):
    """A place on the way down: what it says itself."""

    place: str
    style: Literal["ordered", "posix", "mode"] | None
    owner: str
    group: str
    inheritance: Literal["follows", "adds", "cut"]
    by_hand: int
    lines: list[LineOut]


class UnsaidOut(BaseModel):
    subject: str
    wanted: Level
    gets: Level


class StoredPlace(BaseModel):
    """What stands on a place. reading: its whole list in the order in which it is read. unsaid: cells that the list cannot give
    as granted. personal: who needed an entry of their own. passes: who is let through for something deeper. text: its own
    list in the notation of nfs4_acl(5), of getfacl(1), or as an octal mode."""

    revision: Revision
    layers: list[Layer]
    reading: list[LineOut]
    default: list[LineOut]
    setgid: bool
    sticky: bool
    unsaid: list[UnsaidOut]
    personal: list[str]
    passes: list[str]
    text: str


class Lost(BaseModel):
    """What a place loses by a change, in words; or has of its own and keeps, where `left`."""

    place: str
    words: list[str]
    left: bool


class Arrangement(BaseModel):
    """A larger change as edits, to be looked at and then kept like any others."""

    edits: list[AnyEdit]
    lost: list[Lost]


class StartOut(BaseModel):
    id: str
    title: str
    words: str
    sets: list[str]
    edits: list[AnyEdit]


class Forecast(BaseModel):
    """A new thing: owner, group and list, and who can change it, only read it, or neither."""

    owner: str
    group: str
    setgid: bool
    lines: list[LineOut]
    change: list[str]
    read: list[str]
    nothing: list[str]


class ListIn(In):
    style: Literal["ordered", "posix", "mode"]
    text: Annotated[str, Field(max_length=1_000_000)]


class ListOut(BaseModel):
    own: OwnList
    text: str


class NoteOut(BaseModel):
    line: int | None
    text: str


class UnknownOut(BaseModel):
    line: int
    name: str
    of: Literal["who", "group", "place"]


class FormatOut(BaseModel):
    """A format that a plan can be exported in. of: the whole plan, or the lists from a place down."""

    name: str
    words: str
    of: Literal["plan", "place"]


class ImportPreview(BaseModel):
    """What an import would do; at most 1000 edits and notes are listed in words. tag: names just this outcome."""

    tag: str

    edits: int
    words: list[str]
    notes: list[NoteOut]
    note_count: int
    unknown: list[UnknownOut]
    effect: EffectOut


class TroubleOfNumber(BaseModel):
    """Something wrong with accounts of a directory, or with their numbers."""

    kind: str
    whos: list[str]
    words: str


class DirectoryOut(BaseModel):
    """A joined directory. at: when the last copy was read; null: never. gone: accounts that it no longer has."""

    directory: Directory
    at: str | None
    users: int
    groups: int
    shut: int
    gone: list[str]
    namesakes: list[str]
    troubles: list[TroubleOfNumber]
    trouble_count: int
    password_known: bool


class CheckDirectory(In):
    directory: Directory
    password: Annotated[str | None, Field(max_length=1000)] = None


class StepOut(BaseModel):
    step: Literal["controller", "port", "tls", "sign-in", "clock", "base", "read", "paging"]
    passed: bool
    words: str


class CheckedDirectory(BaseModel):
    """The steps up to the first that failed. fingerprint: of a certificate that was shown and is not trusted, and why not."""

    steps: list[StepOut]
    fingerprint: str | None
    distrust: str | None


class Password(In):
    password: Annotated[str, Field(max_length=1000)]


class ReadDirectory(In):
    """full: everything, not what has changed only. ldif: take the directory's content from this instead of reading it."""

    directory: Directory
    password: Annotated[str | None, Field(max_length=1000)] = None
    full: bool = False
    ldif: Base64Bytes | None = None


class ReadingOut(BaseModel):
    state: Literal["none", "reading", "ready", "failed", "cancelled"]
    phase: str = ""
    done: int = 0
    step: str = ""
    words: str = ""
    at: str | None = None
    full: bool | None = None


class ItemOut(BaseModel):
    what: Literal["new", "renamed", "joins", "leaves", "shut", "open", "gone", "back", "number", "changed"]
    who: str
    words: str


class LeftOutOut(BaseModel):
    name: str
    why: str


class SyncOut(BaseModel):
    """What a reading does to the plan. counts: items of each kind; at most 500 are listed. names: of whom the cells speak."""

    edits: int
    counts: dict[str, int]
    items: list[ItemOut]
    left_out: list[LeftOutOut]
    changed: Changed
    names: dict[str, str]


class MappingIn(In):
    revision: Revision
    numbering: Numbering
    low: Annotated[int, Field(ge=1, le=2**32)]
    high: Annotated[int, Field(ge=1, le=2**32)]


class MoveOut(BaseModel):
    who: str
    was: int | None
    becomes: int | None
    owns: list[str]
    listed: list[str]


class MappingOut(BaseModel):
    edits: int
    moved: int
    moves: list[MoveOut]
    troubles: list[TroubleOfNumber]
    trouble_count: int


class RolloutStep(BaseModel):
    """One step of a rollout. name: what it is about, as the appliance calls it. needs: ids of those that must be done before. anew: the id of the one that makes again what this one ends;
    neither is done without the other. trouble: why this kind of host cannot do it."""

    id: str
    part: RecordKind
    name: str
    does: Does
    words: str
    needs: list[str]
    anew: str | None = None
    destroys: bool
    reloads: Protocol | None
    trouble: str


class RolloutOut(BaseModel):
    """From what the appliance has to what the plan comes to. troubles: why it cannot be put there at all. known: whether what it has was
    ever read or said. under_way: the number of the run that carries it out now. leftovers: what the appliance has and the plan does not
    speak of any more, each as the step that would delete it. manageable: accounts and groups that it had before and that the steps would change; an
    administrator can let them be managed."""

    revision: int
    destination: Destination
    known: bool
    under_way: int | None
    troubles: list[str]
    left_out: list[str]
    total: int
    steps: list[RolloutStep]
    leftovers: list[RolloutStep]
    again: list[str]
    manageable: list["ManagedOut"] = []
    history: list[RolledOut]


class ManagedOut(BaseModel):
    """An account or group of the appliance that a plan may change there."""

    model_config = ConfigDict(extra="forbid")
    part: Literal["accounts", "groups"]
    name: Name


class ManagedIn(BaseModel):
    """All that a plan may change on its appliance of what that had before."""

    model_config = ConfigDict(extra="forbid")
    managed: Annotated[list[ManagedOut], Field(max_length=20_000)]


class StepCommands(BaseModel):
    """The commands of a step and of what undoes it, as text to be read."""

    words: str
    commands: list[str]
    undo_words: str
    undo: list[str]


class RolloutDone(BaseModel):
    """Steps that were done by hand: all of the plan's revision but those left for later."""

    model_config = ConfigDict(extra="forbid")
    revision: Revision
    left: Annotated[list[str], Field(max_length=10_000)] = []


class HostReading(BaseModel):
    """What a host has, as `yardgate rollout read` writes it."""

    model_config = ConfigDict(extra="forbid")
    revision: Revision
    system: System
    keep: Annotated[bool, Field(description="take it as what the appliance has from now on; otherwise only look")] = (
        False
    )


class Compared(BaseModel):
    """What the appliance had otherwise after one rollout than after another, in words; the first 3000 of `total`."""

    total: int
    words: list[str]


class SinceOut(BaseModel):
    """What comes out otherwise than on the appliance, since the revision that was put there last; null before the first rollout."""

    revision: int | None
    changed: Changed


class HostAt(BaseModel):
    """Where a host may be asked for its public keys."""

    model_config = ConfigDict(extra="forbid")
    host: Annotated[str, Field(max_length=253)]
    port: Annotated[int, Field(ge=1, le=65535)] = 22


class HostKeyOut(BaseModel):
    line: str
    fingerprint: str


class LookAt(BaseModel):
    """Read what the appliance has of what a revision of the plan speaks of."""

    model_config = ConfigDict(extra="forbid")
    revision: Revision


class PutThere(LookAt):
    """Carry the steps out but those left for later; what is not kept within `seconds` is put back. delete: ids of leftovers that are to
    be deleted, each with its name as somebody typed it (of a folder, the last part of its path)."""

    left: Annotated[list[str], Field(max_length=10_000)] = []
    seconds: Annotated[int, Field(ge=10, le=86400)] = 300
    delete: Annotated[dict[str, str], Field(max_length=100)] = {}


class RunStep(BaseModel):
    """A step of a run. state: failed, why says so; back: done and taken back again. at: when that came about; by: who said so."""

    words: str
    state: Literal["to do", "doing", "done", "failed", "back", "not back"]
    why: str
    at: str | None = None
    by: str = ""


class PromiseTried(BaseModel):
    """A promise, at how many shares people were sent in for it, and what was otherwise than the plan says."""

    promise: str
    tried: int
    differs: list[str]


class InsideThing(BaseModel):
    """A thing that has something else than its folder's list gives it, and what."""

    name: str
    words: str


class RunOut(BaseModel):
    """A rollout that is carried out, or was. tried: how often somebody went into a share, of `to_try`; differs: what was then otherwise
    than the plan says. until: when it is put back unless it is kept (UTC); left: seconds to then. steps: the first 3000 of `total`."""

    number: int
    at: str
    by: str
    revision: int
    top: str
    destination: Destination
    seconds: int
    state: RunState
    trouble: str
    until: str | None
    left: int | None
    ended: str | None
    total: int
    done: int
    back: int
    steps: list[RunStep]
    to_try: int
    tried: int
    differs: list[str]
    promises: list[PromiseTried]
    notes: list[str]
    again: list[str]
    destroys: bool


class Tick(BaseModel):
    """A step of a runbook, by its place in it, that somebody says to have done; or not, after all."""

    model_config = ConfigDict(extra="forbid")
    step: Annotated[int, Field(ge=0, le=1_000_000)]
    done: bool


class RunWish(BaseModel):
    """What shall become of a run: kept, or everything put back."""

    model_config = ConfigDict(extra="forbid")
    wish: Literal["keep", "put back"]


class InsideFolder(BaseModel):
    """What a planned folder holds. things: files and folders in it that the plan does not speak of; seen: those looked at so far. otherwise: those that
    have something else than its list gives; changed: those that were given it, or put back; kept: those that could not be; linked: files that are left alone, since they have a second name (hard links),
    perhaps elsewhere. some: a few of the first."""

    folder: str
    things: int
    seen: int
    otherwise: int
    changed: int
    kept: int
    linked: int
    some: list[InsideThing]


class PushOut(BaseModel):
    """A look into folders, and what was done with what lies there. pushed: those of them in which something can be put back."""

    number: int
    at: str
    by: str
    does: PushDoes
    state: PushState
    trouble: str
    folders: list[InsideFolder]
    pushed: list[str]


class InsideOut(BaseModel):
    """The planned folders on the appliance, and the last look into them."""

    folders: list[str]
    last: PushOut | None


class LookInside(BaseModel):
    """Look what lies in these folders."""

    model_config = ConfigDict(extra="forbid")
    folders: Annotated[list[Annotated[str, Field(max_length=4096)]], Field(min_length=1, max_length=10_000)]


class PushDo(BaseModel):
    """push: give things what their folder's list gives, go on with it, too; put back: what they had before; stop: what is under way."""

    model_config = ConfigDict(extra="forbid")
    do: Literal["look", "push", "put back", "stop"]


class DriftOut(BaseModel):
    """What a host has otherwise than it was left, in words; first: nothing was known of it before. kept: as which entry."""

    first: bool
    total: int
    words: list[str]
    edits: Annotated[
        list[list[AnyEdit]], Field(description="for each, what would take it into the plan, where a plan can say it")
    ] = []
    kept: RolledOut | None
