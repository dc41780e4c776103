"""Taking anything in: which reader reads what, for the API and the command line alike."""

import gc
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Literal, NamedTuple, get_args

from yardgate.core.edits.difference import difference
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import Plan
from yardgate.formats import accounts, listing, matrix, people, planfile, promises, server, workbook
from yardgate.formats.given import Given, given, knowing, laid, noted
from yardgate.formats.layout import Layout, proposed
from yardgate.formats.listed import ListStyle
from yardgate.formats.reading import FormatError, Make, Reading, decode, some_notes
from yardgate.formats.sheets import decoded, sheets

ImportKind = Literal["matrix", "people", "needs", "promises", "accounts", "plan", "getfacl", "find", "nfs4", "server"]
KINDS: tuple[ImportKind, ...] = get_args(ImportKind)
KIND_WORDS: Mapping[ImportKind, str] = {
    "matrix": "a matrix",
    "people": "a table of people",
    "needs": "a table of needs",
    "promises": "a table of promises",
    "accounts": "a host's accounts",
    "plan": "a plan file",
    "getfacl": "folders with POSIX lists",
    "find": "folders with mode bits",
    "nfs4": "folders with ordered lists",
    "server": "a file server",
}


@dataclass(frozen=True, kw_only=True)
class ToImport:
    """What is to be taken in, and how. content: a file; second: of accounts, the group file. copied: of a file server. make: what becomes of
    names that the plan does not have. layout: of a table of people and places; None: as it seems to be laid out. at: for listings, the place that
    their topmost folder is."""

    kind: ImportKind
    content: bytes = b""
    second: bytes = b""
    copied: server.Copied | None = None
    make: Make = field(default_factory=dict)
    layout: Layout | None = None
    clear_blanks: bool = False
    at: str | None = None
    only_folders: bool = False
    lowest: int = accounts.LOWEST
    highest: int = accounts.HIGHEST
    private_groups: bool = False


class Imported(NamedTuple):
    """What comes of it; of a table also how that was given."""

    reading: Reading
    table: Given | None = None


def read(plan: Plan, wanted: ToImport) -> Imported:
    """The edits that an import makes in a plan. Raises FormatError where the text is none of its kind."""
    with _uncollected():
        found = _read(plan, wanted)
        return found._replace(reading=replace(found.reading, notes=some_notes(found.reading.notes)))


@contextmanager
def _uncollected() -> Iterator[None]:
    """Without a search for cycles: a large text becomes a million values that hold none, and each search goes over all of them."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _read(plan: Plan, wanted: ToImport) -> Imported:
    content, make = wanted.content, wanted.make
    match wanted.kind:
        case "server":
            found = wanted.copied or server.Copied()
            return Imported(server.read(plan, found, make, wanted.lowest, wanted.highest))
        case "matrix":
            return _laid(plan, wanted, lambda text: matrix.read(plan, text, make, wanted.clear_blanks))
        case "needs":
            return _laid(plan, wanted, lambda text: matrix.read_needs(plan, text, make))
        case "people":
            return Imported(noted(given(content), lambda text: people.read(plan, text, make)))
        case "promises":
            return Imported(noted(given(content), lambda text: promises.read(plan, text)))
        case "accounts":
            limits = wanted.lowest, wanted.highest, wanted.private_groups
            return Imported(accounts.from_files(plan, content, wanted.second, *limits))
        case "getfacl" | "nfs4":
            style: ListStyle = "posix" if wanted.kind == "getfacl" else "ordered"
            text = _listed(content)
            return Imported(listing.read(plan, text, style, wanted.at, make, only_folders=wanted.only_folders))
        case "find":
            return Imported(listing.read(plan, _listed(content), "mode", wanted.at, make))
        case "plan":
            text = workbook.plan_file(content) if content.startswith(workbook.BEGINS) else decode(content)
            return Imported(Reading(difference(plan, planfile.read(text))))


def of_sheet(plan: Plan, wanted: ToImport, name: str) -> Layout:
    """The layout that one sheet of a workbook seems to have. Raises FormatError where it is not there."""
    found = [sheet for sheet in sheets(wanted.content) if sheet.name == name]
    if not found:
        raise FormatError(f"there is no sheet {show(name)} in it")
    return proposed(found, knowing(plan, _says_something(wanted.kind)))


def _laid(plan: Plan, wanted: ToImport, read_text: Callable[[str], Reading]) -> Imported:
    found = laid(plan, wanted.content, wanted.layout, _says_something(wanted.kind))
    return Imported(noted(found, read_text), found)


def _says_something(kind: ImportKind) -> Callable[[str], bool]:
    means = _meaning(kind)
    return lambda word: bool(means(word))


def words_of(kind: ImportKind, table: Given) -> list[tuple[str, int, str | None]]:
    """The words of a table's cells, the most frequent first: how often each stands there, and what it means, as was said or by itself; None
    where that is not known."""
    means = _meaning(kind)
    said = {fold(word): level for word, level in (table.layout.words if table.layout is not None else {}).items()}
    found = table.words.most_common() if table.words is not None else []
    return [(word, count, said[fold(word)] if fold(word) in said else means(word)) for word, count in found]


def _meaning(kind: ImportKind) -> Callable[[str], str | None]:
    """What a word of a table's cell means by itself: a level or a wish, nothing, or None where that is not known."""
    spellings: Mapping[str, object] = matrix.WISH_SPELLINGS if kind == "needs" else matrix.SPELLINGS

    def of(word: str) -> str | None:
        known = spellings.get(fold(word), KeyError)
        return None if known is KeyError else str(known or "")

    return of


def _listed(content: bytes) -> str:
    """A listing; bytes of names that are no UTF-8 are kept as they are (PEP 383)."""
    if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return decoded(content, [])
    return content.decode("utf-8-sig", "surrogateescape")


def of_server(files: Mapping[str, bytes]) -> server.Copied:
    """Files copied from a server, by their names. Raises FormatError."""
    return server.sorted_out({name: _text(content) for name, content in files.items()})


def _text(content: bytes) -> str:
    if b"# file: " in content[:100_000]:
        return _listed(content)
    return decoded(content, [])
