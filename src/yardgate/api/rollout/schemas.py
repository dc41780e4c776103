"""What goes in and out of rollouts: steps, runs, drift, and what lies in folders."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from yardgate.api.schemas import Id, In, Name, Revision
from yardgate.core.acl.rights import Level
from yardgate.core.host.diagnosis import About
from yardgate.core.host.going_back import Sort
from yardgate.core.host.state import RecordKind, System
from yardgate.core.host.steps import Destination, Does
from yardgate.core.model.share import Protocol
from yardgate.formats.edits import AnyEdit
from yardgate.store.pushes import PushDoes, PushState
from yardgate.store.rollouts import RolledOut
from yardgate.store.runs import RunState


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
    """From what the appliance has to what the plan comes to. troubles: why it cannot be put there at all. known: since which rollout or reading it is known
    what that has; none, where it never was. under_way: the number of the run that carries it out now. leftovers: what the appliance has and the plan does not
    speak of any more, each as the step that would delete it. manageable: accounts and groups that it had before and that the steps would change; an
    administrator can let them be managed."""

    revision: int
    destination: Destination
    known: RolledOut | None
    under_way: int | None
    troubles: list[str]
    left_out: list[str]
    total: int
    steps: list[RolloutStep]
    leftovers: list[RolloutStep]
    again: list[str]
    without_password: list[str]
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
    be deleted, each with its name as somebody typed it (of a folder, the last part of its path). end_sessions: those sessions that would keep
    what they were are ended when the steps are done."""

    left: Annotated[list[str], Field(max_length=10_000)] = []
    seconds: Annotated[int, Field(ge=10, le=86400)] = 300
    delete: Annotated[dict[str, str], Field(max_length=100)] = {}
    end_sessions: bool = False


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
    """A rollout that is carried out, or was. tried: how often somebody went into a share, of `to_try`, and `over_nfs` of these so; differs: what was then otherwise
    than the plan says. until: when it is put back unless it is kept (UTC); left: seconds to then. steps: the first 3000 of `total`. snapshots: those made
    before anything was changed: of which dataset, and its name."""

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
    over_nfs: int
    differs: list[str]
    promises: list[PromiseTried]
    notes: list[str]
    snapshots: list[str]
    again: list[str]
    without_password: list[str]
    destroys: bool


class StepDone(In):
    """Whether a step was done by hand."""

    done: bool


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


class DifferingOut(BaseModel):
    """name: the path in the dataset; none for itself. words: why it was left, where it was."""

    sort: Sort
    name: str
    words: str


class GoingBackOut(BaseModel):
    """What is otherwise than in a snapshot. changed: files with other contents; new: made since, so they would go; gone: deleted since, so they would
    come back; rights: with another owner, group, mode or list; left: what cannot be made as it was. people: of how many changed and new files each account is the
    owner; latest: when the last of them was written."""

    things: int
    changed: int
    new: int
    gone: int
    rights: int
    left: int
    people: dict[str, int]
    latest: str
    some: list[DifferingOut]


class PushOut(BaseModel):
    """A look into folders, and what was done with what lies there. pushed: those of them in which something can be put back.
    snapshots: those made before anything was changed: of which dataset, and its name. back_to: the snapshot with which a dataset, the one folder, is compared,
    and to which it goes back; since: what is otherwise, or went back."""

    number: int
    at: str
    by: str
    does: PushDoes
    state: PushState
    trouble: str
    folders: list[InsideFolder]
    pushed: list[str]
    snapshots: list[str]
    back_to: str
    since: GoingBackOut | None


class SnapshotsOf(BaseModel):
    """The names of a dataset's snapshots, the newest first: @GMT- and when it was made."""

    dataset: str
    snapshots: list[str]


class SnapshotsOut(BaseModel):
    """missing: datasets of the plan that are not on the appliance now, though they were rolled out."""

    datasets: list[SnapshotsOf]
    missing: list[str]
    last: PushOut | None


class SnapshotAt(In):
    dataset: Annotated[str, Field(max_length=4096)]
    snapshot: Annotated[str, Field(max_length=40)]


class InsideOut(BaseModel):
    """The planned folders on the appliance, and the last look into them."""

    folders: list[str]
    last: PushOut | None


class LookInside(BaseModel):
    """Look what lies in these folders."""

    model_config = ConfigDict(extra="forbid")
    folders: Annotated[list[Annotated[str, Field(max_length=4096)]], Field(min_length=1, max_length=10_000)]


class PushDo(BaseModel):
    """push: give things what their folder's list gives, go on with it, too; put back: what they had before; stop: what is under way.
    compare, go back: with and to the snapshot of the look."""

    model_config = ConfigDict(extra="forbid")
    do: PushDoes | Literal["stop"]


class DriftOut(BaseModel):
    """What a host has otherwise than it was left, in words; first: nothing was known of it before. shut: what keeps clients from its servers. kept: as which entry."""

    first: bool
    total: int
    words: list[str]
    edits: Annotated[
        list[list[AnyEdit]], Field(description="for each, what would take it into the plan, where a plan can say it")
    ] = []
    shut: list[str] = []
    kept: RolledOut | None


class PasswordState(BaseModel):
    """Whether anybody was given the password of somebody's account on the appliance. account: as the appliance calls it."""

    user: str
    account: str
    given: bool


class GivePasswords(In):
    """change: each has to choose another before anything else."""

    users: Annotated[list[Id], Field(min_length=1, max_length=2000)]
    change: bool = False


class GivenPassword(BaseModel):
    """Told this once."""

    user: str
    account: str
    password: str


class OpenSessionOut(BaseModel):
    """Where somebody has shares open now. account: as the appliance calls them; user: who that is in the plan, if anybody. since: in ISO 8601, or
    empty. stale: whether it would keep what it is, if the plan were rolled out now."""

    account: str
    user: str | None
    machine: str
    since: str
    shares: list[str]
    files: list[str]
    stale: bool


class SessionsEnd(In):
    users: Annotated[list[Id], Field(min_length=1, max_length=2000)]


class HostCheckIn(In):
    """Who, at which share, over what. path: of a folder or file in it, none for its top. machine: the address they come from. password: what they type,
    to try it; it is not kept."""

    user: Id
    share: Id
    protocol: Protocol = "smb"
    path: Annotated[str, Field(max_length=4096)] = ""
    machine: Annotated[str, Field(max_length=100)] = ""
    password: Annotated[str, Field(max_length=200)] = ""


class HostCheckLine(BaseModel):
    """One thing that was looked up. act: what mends it; empty where nothing is to be done."""

    about: About
    state: Literal["well", "amiss", "unknown"]
    words: str
    act: str


class HostCheckOut(BaseModel):
    """level: what the plan gives there. cause: the number of the first check that is amiss."""

    level: Level
    cause: int | None
    checks: list[HostCheckLine]


class OwnedBy(In):
    account: Name


class HandOver(In):
    """Give what an account that is shut owns to the account of a user (id)."""

    account: Name
    to: Id


class HandedOut(BaseModel):
    """How much is somebody else's now, and how much was left: links, and files with a second name."""

    things: int
    left: int


class OwnedOut(BaseModel):
    """What somebody owns below a folder: how many files and folders, and how much they take up, in bytes."""

    folder: str
    things: int
    size: int
