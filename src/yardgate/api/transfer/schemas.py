"""What goes in and out of import and export."""

from typing import Annotated, Literal

from pydantic import Base64Bytes, BaseModel, Field

from yardgate.api.schemas import EffectOut, Id, In, Revision
from yardgate.formats.importing import ImportKind
from yardgate.formats.layout import Layout
from yardgate.formats.reading import Toward, Unknown


class NamedFile(In):
    name: Annotated[str, Field(max_length=1000)]
    content: Base64Bytes


class Import(In):
    """A text to take in. accounts: `content` is a passwd file, `second` a group file. getfacl, find, nfs4: listings of folders. server: a file
    server whole, from `files` copied from it, or, where there are none, read from the appliance with the lists of `tops` and all in them."""

    revision: Revision
    kind: ImportKind
    content: Base64Bytes = b""
    files: list[NamedFile] = Field([], max_length=200)
    tops: list[Annotated[str, Field(max_length=1000, pattern=r"^/")]] = Field([], max_length=20)
    second: Base64Bytes = b""
    make: dict[str, Annotated[str, Field(pattern=r"^(person|service|group|place|=.{1,255})$")]] = Field(
        {}, max_length=20_000, description="name as written: what to make of it, or = and the name that is meant"
    )
    layout: Annotated[
        Layout | None, Field(description="of a table of people and places; none: as it seems to be laid out")
    ] = None
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
    """toward: whether somebody may get more or less than the plan says then; in how many shares, and in which places: the paths of the first
    of them. missed: how many things that were said did not come in."""

    line: int | None
    text: str
    where: str
    toward: Toward | None
    shares: int
    places: list[str]
    place_count: int
    missed: int


class UnknownOut(BaseModel):
    """near: names of the plan that may be meant."""

    line: int
    name: str
    of: Literal["who", "group", "place"]
    near: list[str]

    @classmethod
    def of_name(cls, name: Unknown) -> "UnknownOut":
        return cls(line=name.line, name=name.name, of=name.of, near=list(name.near))


class TableRow(BaseModel):
    line: int
    cells: list[str]


class WordOut(BaseModel):
    """A word that stands in cells of a table, and what it means: a level or a wish, nothing, or null where that is not known."""

    word: str
    cells: int
    means: str | None


class TableOut(BaseModel):
    """How a table was read: its sheets, the layout that was said or seemed to be, the first rows of its sheet as they stand there."""

    sheets: list[str]
    layout: Layout
    rows: list[TableRow]
    words: list[WordOut]


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
    table: TableOut | None
    effect: EffectOut
