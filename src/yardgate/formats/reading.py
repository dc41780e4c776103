"""What every reader gives back, and the error that names line and column."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal, TypeVar

from yardgate.core.edits.records import Edit
from yardgate.core.model.kinds import PLACES

ObjectKind = Literal["person", "service", "group", "place"]
Make = Mapping[str, str]
"""Unknown name as written -> what to make of it (an ObjectKind), or “=” and the name that is meant by it. Names not in it are left out."""
Toward = Literal["more", "less", "either"]
"""How what somebody really gets may differ from what the plan then says: they may get more, or less."""
MOST_NOTES = 2_000  # that anybody is shown of one import


class FormatError(ValueError):
    """A text that cannot be taken in. line and column count from 1; column is a character, or a field of a table."""

    def __init__(self, message: str, line: int | None = None, column: int | None = None):
        self.line, self.column, self.plain = line, column, message
        where = "" if line is None else f"line {line}" + (f", column {column}" if column is not None else "")
        super().__init__(f"{where}: {message}" if where else message)


@dataclass(frozen=True, slots=True)
class Note:
    """Something a reader wants to be seen: what was left out or how it was understood.

    line: the first of them; lines: how many say the same. file: in which, where there are several. toward: whether somebody may get
    more or less than the plan says; None: nobody does. about: ids of the shares and places in which that is so. missed: how many things
    that were said did not come in.
    """

    line: int | None
    text: str
    file: str = ""
    toward: Toward | None = None
    about: tuple[str, ...] = ()
    lines: int = 1
    missed: int = 0

    @property
    def where(self) -> str:
        """File and line, as words before the text; nothing where it is about no line."""
        more = f" and {self.lines - 1} more" if self.lines > 1 else ""
        at = "" if self.line is None else f"line {self.line}{more}"
        return ", ".join(part for part in (self.file, at) if part)


def gathered(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Notes that say the same as one, where the first of them stood."""
    found: dict[tuple[str, str, Toward | None], Note] = {}
    for note in notes:
        key = note.file, note.text, note.toward
        was = found.get(key)
        about = tuple(dict.fromkeys((*(was.about if was is not None else ()), *note.about)))
        found[key] = (
            note
            if was is None
            else replace(was, lines=was.lines + note.lines, about=about, missed=was.missed + note.missed)
        )
    return tuple(found.values())


def some_notes(notes: tuple[Note, ...]) -> tuple[Note, ...]:
    """The first notes of very many, and one that stands for the rest."""
    rest = notes[MOST_NOTES:]
    if not rest:
        return notes
    more = Note(
        None,
        f"{len(rest):,} more notes like these are not listed",
        toward="either" if any(note.toward for note in rest) else None,
        about=tuple(dict.fromkeys(one for note in rest for one in note.about)),
        lines=sum(note.lines for note in rest),
        missed=sum(note.missed for note in rest),
    )
    return (*notes[:MOST_NOTES], more)


def some_of(names: Sequence[str], most: int = 8) -> str:
    """The first names of some, and how many more there are."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def left_out(items: Sequence[tuple[int | None, str]], one: str, many: str, why: str, most: int = 8) -> tuple[Note, ...]:
    """One note on things that are left out for the same reason, each with its line; none where there are none."""
    if not items:
        return ()
    names = some_of([name for _, name in items], most)
    counted = f"{one} {names} is" if len(items) == 1 else f"{len(items)} {many} are"
    said = f"{counted} left out: {why}" + ("" if len(items) == 1 else f" ({names})")
    return (Note(items[0][0], said, lines=len(items)),)


@dataclass(frozen=True, slots=True)
class Unknown:
    """A name in the text that the plan does not have, offered to be made. near: names that may be meant by it, the likeliest first."""

    line: int
    name: str
    of: Literal["who", "group", "place"]
    near: tuple[str, ...] = ()


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


Block = TypeVar("Block")
FILE = "# file: "


def good_parts(
    text: str,
    blocks: Callable[[str, int], Iterable[Block]],
    moved: Callable[[Block, str, int], Block],
    wrong: list[FormatError],
) -> Iterator[Block]:
    """What could be read of a listing of files, each under a line “# file: ”; what is wrong with the others is added to `wrong`.

    blocks: reads a part of it that stands after so many lines. moved: the same of another file, with its first line, which is that line of the
    text: most files have what others have, and that is read once. Raises FormatError where no part can be read, or too many differ.
    """
    known: dict[str, list[Block]] = {}
    for after, part in _parts(text):
        head, _, said = part.partition("\n")
        said = said.rstrip()
        try:
            if head.startswith(FILE) and said in known:
                found = [moved(one, head.removesuffix("\r"), after + 1) for one in known[said]]
            else:
                found = list(blocks(part, after))
                if head.startswith(FILE):
                    known[said] = found
                    if len(known) > PLACES.most:
                        break
        except FormatError as error:
            wrong.append(error)
        else:
            yield from found
    if len(known) > PLACES.most:
        raise FormatError(f"there are more than {PLACES.most:,} different lists in it; list fewer folders at a time")
    if not known and wrong:
        raise wrong.pop(0)


def _parts(text: str) -> Iterator[tuple[int, str]]:
    """What is said of each file, and after how many lines; what stands before the first belongs to that."""
    heads = [found.start() for found in re.finditer(f"^{FILE}", text, re.MULTILINE)]
    after = 0
    for begins, ends in pairwise([0, *heads[1:], len(text)]):
        yield after, text[begins:ends]
        after += text.count("\n", begins, ends)
