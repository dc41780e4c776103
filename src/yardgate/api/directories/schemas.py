"""What goes in and out of joined directories."""

from typing import Annotated, Literal

from pydantic import Base64Bytes, BaseModel, Field

from yardgate.api.schemas import Changed, In, Revision
from yardgate.core.model.directory import Directory, Numbering


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
