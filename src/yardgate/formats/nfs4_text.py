"""Ordered lists as text: the notation of nfs4_acl(5), as nfs4_getfacl(1) writes and nfs4_setfacl(1) reads it."""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from yardgate.core.acl.nfs4 import GROUP, OWNER, Entry
from yardgate.core.acl.rights import LETTERS, letters
from yardgate.core.model.plan import EVERYONE
from yardgate.formats.notation import FLAG_LETTERS, flag_letters
from yardgate.formats.reading import FILE, FormatError, good_parts

SPECIAL = {"OWNER@": OWNER, "GROUP@": GROUP, "EVERYONE@": EVERYONE}
ALIASES = {"R": "rntcy", "W": "waDtTNcCy", "X": "xtcy"}  # generic permissions of nfs4_setfacl(1)


@dataclass(frozen=True, slots=True)
class Nfs4Line:
    """One line of a list. who: OWNER@ and the like as in a plan, else a name as written; kind: whose name it is."""

    line: int
    column: int
    type: str
    kind: str
    who: str
    mask: int
    flags: int


@dataclass(slots=True)
class Nfs4Block:
    line: int
    path: str
    entries: list[Nfs4Line] = field(default_factory=list)
    audits: int = 0


def good_blocks(text: str, wrong: list[FormatError]) -> Iterator[Nfs4Block]:
    """The files of a listing that can be read; what is wrong with the others is added to `wrong`. Raises FormatError where none is one."""
    return good_parts(text, blocks, _moved, wrong)


def _moved(block: Nfs4Block, head: str, line: int) -> Nfs4Block:
    return replace(block, path=head.removeprefix(FILE).rstrip(), line=line)


def blocks(text: str, after: int = 0) -> Iterator[Nfs4Block]:
    """The files of a listing; without any “# file: ” line, one list with an empty path. after: how many lines stand before it.
    Raises FormatError with line and column."""
    block: Nfs4Block | None = None
    for number, line in enumerate(text.split("\n"), after + 1):
        if not line:
            continue
        if line.startswith("# file: "):
            if block is not None:
                yield block
            block = Nfs4Block(number, line.removeprefix("# file: ").rstrip())
        elif line.strip() and not line.startswith("#"):
            block = block or Nfs4Block(number, "")
            for text_of_one in _apart(line.strip()):
                said = _entry(text_of_one, number)
                if said is None:
                    block.audits += 1
                else:
                    block.entries.append(said)
    if block is None:
        raise FormatError("there is no list in it; a line is like A:fd:OWNER@:rwaDxtTnNcCoy", 1, 1)
    yield block


def _apart(line: str) -> list[str]:
    """The entries of a line: parted by commas, tabs or, where each part is one, by blanks (nfs4_acl(5)). A name may have blanks."""
    found: list[str] = []
    for part in re.split(r"[,\t]", line):
        words = part.split()
        found += words if len(words) > 1 and all(word.count(":") == 3 for word in words) else [part.strip()]
    return [part for part in found if part]


def _entry(text: str, number: int) -> Nfs4Line | None:
    """One line; None for an audit or alarm entry, which decides nothing."""
    parts = text.split(":")
    if len(parts) != 4:
        raise FormatError(f"an entry is type:flags:who:permissions, not {text[:60]!r}", number, 1)
    kind, flag_text, who, perms = parts
    if kind in ("U", "L"):
        return None
    if kind not in ("A", "D"):
        raise FormatError(f"{kind[:20]!r} is not a type; there are A (allow), D (deny), U and L", number, 1)
    flags = 0
    for at, letter in enumerate(flag_text):
        if letter not in FLAG_LETTERS and letter not in "gSF":
            raise FormatError(f"{letter!r} is not a flag; there are fdnigSF", number, 3 + at)
        flags |= FLAG_LETTERS.get(letter, 0)
    if not who:
        raise FormatError("it says nobody", number, 4 + len(flag_text))
    mask = 0
    column = 5 + len(flag_text) + len(who)
    for at, letter in enumerate(perms):
        for plain in ALIASES.get(letter, letter):
            if plain not in LETTERS:
                raise FormatError(f"{letter!r} is not a permission; there are {''.join(LETTERS)}", number, column + at)
            mask |= LETTERS[plain]
    if not mask:
        raise FormatError("it has no permissions", number, column)
    of = "special" if who in SPECIAL else "group" if "g" in flag_text else "user"
    return Nfs4Line(
        number, 4 + len(flag_text), "allow" if kind == "A" else "deny", of, SPECIAL.get(who, who), mask, flags
    )


def entry_text(entry: Entry, name: str, *, group: bool, strict: bool = True) -> str:
    """One entry, for a who of this name. Raises FormatError for a name that the notation cannot carry, if `strict`."""
    if strict and re.search(r"[:\s]", name):
        raise FormatError(
            f"{name!r} has a colon or a space, which nfs4_acl(5) cannot write, and no number that could stand for it"
        )
    special = next((word for word, who in SPECIAL.items() if who == entry.who), None)
    flags = flag_letters(entry.flags) + ("g" if group and special is None else "")
    return f"{'A' if entry.type == 'allow' else 'D'}:{flags}:{special or name}:{letters(entry.mask)}"
