"""Files and folders of a real server as a listing has them, of three kinds: getfacl(1), nfs4_getfacl(1), and type, mode, owner, group and path as
`find DIR -printf '%y %m %u %g %p\\n'` prints them (or with \\0 for odd names)."""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple, TypeVar

from yardgate.core.acl import Mode, Ordered, OwnList, Posix, PosixEntry, posix
from yardgate.core.acl.nfs4 import Entry
from yardgate.core.model.naming import name_trouble, show
from yardgate.formats import nfs4_text, posix_text
from yardgate.formats.host_names import HostNames
from yardgate.formats.reading import FormatError

ListStyle = Literal["posix", "mode", "ordered"]


class ListedFile(NamedTuple):
    """One file or folder of a listing, names looked up. posix, mode: the whole list; ordered: all entries, arrived ones too."""

    line: int
    path: tuple[str, ...]
    folder: bool
    owner: str | None
    group: str | None
    own: OwnList


def paths(text: str) -> Iterator[tuple[str, ...]]:
    """All paths that a getfacl listing has, whatever it says of them."""
    for line in text.split("\n"):
        if line.startswith("# file: "):
            yield steps(posix_text.unescape(line.removeprefix("# file: ").removesuffix("\r")))


def steps(path: str) -> tuple[str, ...]:
    return tuple([step for step in path.split("/") if step not in ("", ".")])


class OddName(FormatError):
    """A file or folder whose name, or that of a folder above it, a plan cannot hold."""


def path_of(text: str, line: int) -> tuple[str, ...]:
    above, _, last = text.rpartition("/")
    found, wrong = _folder(above)
    if last not in ("", "."):
        found, wrong = (*found, last), wrong or (_trouble(last) and last)
    if wrong:
        raise OddName(f"{show(text)}: the name {show(wrong)} {_trouble(wrong)}", line, 9)
    return found


@lru_cache(maxsize=10_000)
def _folder(text: str) -> tuple[tuple[str, ...], str | None]:
    """The path of a folder in which things are listed, and the first name on it that a plan cannot hold."""
    found = steps(text)
    return found, next((step for step in found if _trouble(step)), None)


@lru_cache(maxsize=100_000)
def _trouble(name: str) -> str | None:
    return name_trouble(name, separator="/")


# --- the three kinds of listing ---------------------------------------------------------------------------------------


def from_getfacl(text: str, names: HostNames, only_folders: bool, wrong: list[FormatError]) -> Iterator[ListedFile]:
    found = list(posix_text.good_blocks(text, wrong))
    inner = {steps(block.path)[:-1] for block in found}

    known: dict[int, tuple[str | None, str | None, Posix, bool]] = {}  # of each list, which many files have

    def said_by(block: posix_text.PosixBlock) -> tuple[str | None, str | None, Posix, bool]:
        owner = None if block.owner is None else names.id("user", block.owner[1], block.owner[0])
        group = None if block.group is None else names.id("group", block.group[1], block.group[0])
        own = Posix(
            _entries(block.access, names),
            _entries(block.default, names) if block.default else None,
            setgid=block.flags[1] == "s",
            sticky=block.flags[2] == "t",
        )
        runs = any(perms & posix.X for _, _, _, perms in block.access)
        return owner, group, own, bool(block.default) or runs or block.flags != "---"

    def one(block: posix_text.PosixBlock) -> ListedFile:
        path = path_of(block.path, block.line)
        if id(block.access) not in known:
            known[id(block.access)] = said_by(block)
        owner, group, own, folder = known[id(block.access)]
        return ListedFile(block.line, path, only_folders or folder or path in inner, owner, group, own)

    yield from _good(found, one, wrong)


Said = TypeVar("Said")


def _good(
    some: Iterable[Said], read_one: Callable[[Said], ListedFile], wrong: list[FormatError]
) -> Iterator[ListedFile]:
    """What could be read of some things; what is wrong with the others is added to `wrong`."""
    for one in some:
        try:
            yield read_one(one)
        except FormatError as error:
            wrong.append(error)


def _entries(said: Sequence[tuple[int, posix.Tag, str, int]], names: HostNames) -> tuple[PosixEntry, ...]:
    return posix.whole(posix_said(said, names))


_NO_PLACES = frozenset("lpscbD?")  # by find(1), -printf %y
_KINDS = _NO_PLACES | {"f", "d"}


@lru_cache(maxsize=10_000)
def _octal(mode: str) -> tuple[Mode, Mode] | None:
    """What some octal digits say of a file, and of a folder."""
    return (Mode(int(mode, 8) & 0o777), Mode(int(mode, 8))) if re.fullmatch("[0-7]{1,4}", mode) else None


def from_find(text: str, names: HostNames, _only_folders: bool, wrong: list[FormatError]) -> Iterator[ListedFile]:
    records = text.split("\0") if "\0" in text else text.split("\n")
    numbered = ((number, record) for number, record in enumerate(records, 1) if record.strip())

    def one(said: tuple[int, str]) -> ListedFile:
        number, record = said
        parts = record.split(" ", 4)
        if len(parts) != 5:
            raise FormatError(f"a record is type, mode, owner, group and path, not {record[:60]!r}", number, 1)
        kind, mode, owner, group, path = parts
        if kind not in _KINDS:
            raise FormatError(
                f"{kind[:20]!r} is not a type of file; there are d, f, l and others of find(1)", number, 1
            )
        if (bits := _octal(mode)) is None:
            raise FormatError(f"the mode {mode[:20]!r} is not octal", number, len(kind) + 2)
        return ListedFile(
            number,
            path_of(path, number),
            kind == "d",
            names.id("user", owner, number),
            names.id("group", group, number),
            bits[kind == "d"],
        )

    others = [said for said in numbered if said[1][:1] not in _NO_PLACES]  # links, sockets and the like are no places
    yield from _good(others, one, wrong)


def from_nfs4(text: str, names: HostNames, only_folders: bool, wrong: list[FormatError]) -> Iterator[ListedFile]:
    found = list(nfs4_text.good_blocks(text, wrong))
    inner = {steps(block.path)[:-1] for block in found}

    known: dict[int, Ordered] = {}  # of each list, which many files have

    def one(block: nfs4_text.Nfs4Block) -> ListedFile:
        path = path_of(block.path, block.line)
        if id(block.entries) not in known:
            known[id(block.entries)] = Ordered(nfs4_entries(block, names))
        own = known[id(block.entries)]
        entries = own.entries
        folder = only_folders or path in inner or any(e.flags for e in entries) or any(e.mask & 0x40 for e in entries)
        return ListedFile(block.line, path, folder, None, None, own)

    yield from _good(found, one, wrong)


def nfs4_entries(block: nfs4_text.Nfs4Block, names: HostNames) -> tuple[Entry, ...]:
    return tuple(
        Entry(
            "allow" if said.type == "allow" else "deny",
            said.who if said.kind == "special" else names.named(said.kind, said.who, said.line),
            said.mask,
            said.flags,
        )
        for said in block.entries
    )


def posix_said(said: Sequence[tuple[int, posix.Tag, str, int]], names: HostNames) -> tuple[PosixEntry, ...]:
    return tuple(
        PosixEntry(tag, names.named(tag, name, line) if name else "", perms) for line, tag, name, perms in said
    )
