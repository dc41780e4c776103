"""What every reader gives back, and the error that names line and column."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from yardgate.core.edits.records import Edit

ObjectKind = Literal["person", "service", "group", "place"]
Make = Mapping[str, ObjectKind]  # unknown name as written -> what to make of it; names not in it are left out


class FormatError(ValueError):
    """A text that cannot be taken in. line and column count from 1; column is a character, or a field of a table."""

    def __init__(self, message: str, line: int | None = None, column: int | None = None):
        self.line, self.column, self.plain = line, column, message
        where = "" if line is None else f"line {line}" + (f", column {column}" if column is not None else "")
        super().__init__(f"{where}: {message}" if where else message)


@dataclass(frozen=True, slots=True)
class Note:
    """Something a reader wants to be seen: what was left out or how it was understood."""

    line: int | None
    text: str


@dataclass(frozen=True, slots=True)
class Unknown:
    """A name in the text that the plan does not have, offered to be made."""

    line: int
    name: str
    of: Literal["who", "group", "place"]


@dataclass(frozen=True, slots=True)
class Reading:
    """The edits a text would make, what was noticed, and which names are unknown."""

    edits: tuple[Edit, ...]
    notes: tuple[Note, ...] = ()
    unknown: tuple[Unknown, ...] = ()


def decode(content: bytes, *, nul: bool = False) -> str:
    """UTF-8 with or without a byte order mark (RFC 3629); anything else is refused with its line and column, and so is
    NUL, unless `nul` says that it may separate records."""
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        before = content[: error.start].decode("utf-8", "replace")
        raise FormatError(
            f"byte 0x{content[error.start]:02x} is not UTF-8 text; save the file as UTF-8", *_where(before)
        ) from None
    if "\0" in text and not nul:
        raise FormatError("a NUL character; this does not look like a text file", *_where(text[: text.index("\0")]))
    return text


def _where(before: str) -> tuple[int, int]:
    return before.count("\n") + 1, len(before) - before.rfind("\n")
