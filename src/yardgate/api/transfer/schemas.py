"""What goes in and out of import and export."""

from typing import Annotated, Literal

from pydantic import Base64Bytes, BaseModel, Field

from yardgate.api.schemas import EffectOut, Id, In, Revision
from yardgate.formats.reading import ObjectKind


class NamedFile(In):
    name: Annotated[str, Field(max_length=1000)]
    content: Base64Bytes


class Import(In):
    """A text to take in. accounts: `content` is a passwd file, `second` a group file. getfacl, find, nfs4: listings of folders. server: a file
    server whole, from `files` copied from it, or, where there are none, read from the appliance with the lists of `tops` and all in them."""

    revision: Revision
    kind: Literal["matrix", "people", "needs", "promises", "accounts", "plan", "getfacl", "find", "nfs4", "server"]
    content: Base64Bytes = b""
    files: list[NamedFile] = Field([], max_length=200)
    tops: list[Annotated[str, Field(max_length=1000, pattern=r"^/")]] = Field([], max_length=20)
    second: Base64Bytes = b""
    make: dict[str, ObjectKind] = Field({}, max_length=20_000)
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


class NoteOut(BaseModel):
    line: int | None
    text: str


class UnknownOut(BaseModel):
    line: int
    name: str
    of: Literal["who", "group", "place"]


class FormatOut(BaseModel):
    """A format that a plan can be exported in, or a paper of a rollout. of: the whole plan, the lists from a place down, the steps of a rollout, or all
    that it comes to (`system`)."""

    name: str
    words: str
    of: Literal["plan", "place", "steps", "system"]


class ImportPreview(BaseModel):
    """What an import would do; at most 1000 edits and notes are listed in words. tag: names just this outcome."""

    tag: str

    edits: int
    words: list[str]
    notes: list[NoteOut]
    note_count: int
    unknown: list[UnknownOut]
    effect: EffectOut
