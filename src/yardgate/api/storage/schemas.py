"""What goes in and out of storage: lists, what changes them at once, forecasts."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import In, Revision
from yardgate.core.acl import OwnList
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import FileSystem
from yardgate.formats.edits import AnyEdit


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
    inheritance: Literal["follows", "adds", "stops"]
    by_hand: int
    lines: list[LineOut]


class UnsaidOut(BaseModel):
    subject: str
    wanted: Level
    gets: Level


class HostPlace(BaseModel):
    """What a pool or dataset is on the host. path: where it lies there. used: bytes that it held when that was `read` last, if it ever was."""

    path: str
    file_system: FileSystem
    used: int | None
    read: str | None


class StoredPlace(BaseModel):
    """What stands on a place. reading: its whole list in the order in which it is read. unsaid: cells that the list cannot give
    as granted. personal: who needed an entry of their own. passes: who is let through for something deeper. text: its own
    list in the notation of nfs4_acl(5), of getfacl(1), or as an octal mode. on_host: of a pool or dataset."""

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
    on_host: HostPlace | None


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
    acl: OwnList
    text: str
