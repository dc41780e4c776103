"""POSIX lists as text: what getfacl(1) writes and setfacl(1) reads (acl(5), long text form).

Names are written with a backslash and three octal digits for a byte that would be mistaken, as those tools do.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from yardgate.core.acl.posix import PosixEntry, Tag
from yardgate.core.acl.words import rwx
from yardgate.formats.reading import FILE, FormatError, good_parts

TAGS: dict[str, Tag] = {
    "user": "user", "u": "user", "group": "group", "g": "group", "mask": "mask", "m": "mask", "other": "other", "o": "other"
}  # fmt: skip
_ESCAPE = re.compile(r"\\([0-3][0-7]{2}|\\)")


@dataclass(slots=True)
class PosixBlock:
    """One file's part of a getfacl listing. Names as written; access and default: (line, tag, name, perms)."""

    line: int
    path: str
    owner: tuple[int, str] | None = None
    group: tuple[int, str] | None = None
    flags: str = "---"
    access: list[tuple[int, Tag, str, int]] = field(default_factory=list)
    default: list[tuple[int, Tag, str, int]] = field(default_factory=list)


def unescape(text: str) -> str:
    """Octal escapes back to what they stand for; they are bytes of UTF-8."""
    if "\\" not in text:
        return text
    plain = _ESCAPE.sub(
        lambda found: "\\" if found[1] == "\\" else chr(int(found[1], 8)),
        text.encode("utf-8", "surrogateescape").decode("latin-1"),
    )
    return plain.encode("latin-1").decode("utf-8", "surrogateescape")


def escape(text: str, special: str) -> str:
    """The characters of `special`, and backslashes, as those tools write them."""
    return "".join("\\\\" if c == "\\" else f"\\{ord(c):03o}" if c in special else c for c in text)


def escape_name(name: str) -> str:
    return escape(name, ":, \t\n\r")


def good_blocks(text: str, wrong: list[FormatError]) -> Iterator[PosixBlock]:
    """The files of a listing that can be read; what is wrong with the others is added to `wrong`. Raises FormatError where none is one."""
    return good_parts(text, blocks, _moved, wrong)


def _moved(block: PosixBlock, head: str, line: int) -> PosixBlock:
    path = unescape(head.removeprefix(FILE))
    if not path:
        raise FormatError("a file without a name", line, 9)
    return PosixBlock(line, path, block.owner, block.group, block.flags, block.access, block.default)


def blocks(text: str, after: int = 0) -> Iterator[PosixBlock]:
    """The files of a listing. after: how many lines stand before it. Raises FormatError with line and column."""
    block: PosixBlock | None = None
    for number, line in enumerate(text.split("\n"), after + 1):
        line = line.removesuffix("\r")
        if not line:
            continue
        if line.startswith("# file: "):
            if block is not None:
                yield _whole(block)
            path = unescape(line.removeprefix("# file: "))
            if not path:
                raise FormatError("a file without a name", number, 9)
            block = PosixBlock(number, path)
        elif not line.strip() or line.startswith("getfacl: "):  # what it complained of in between
            continue
        elif block is None:
            raise FormatError("this is not a getfacl output: it must begin with “# file: ”", number, 1)
        elif line.startswith(("# owner: ", "# group: ")):
            _, word, name = line.split(" ", 2)
            setattr(block, word.rstrip(":"), (number, unescape(name)))
        elif line.startswith("# flags: "):
            block.flags = line.removeprefix("# flags: ").strip()
            if not re.fullmatch("[s-][s-][t-]", block.flags):
                raise FormatError(f"flags are three of s, s, t and dashes, not {block.flags[:20]!r}", number, 10)
        elif not line.startswith("#"):
            default, entry = _entry(line, number)
            (block.default if default else block.access).append(entry)
    if block is None:
        raise FormatError("there is nothing in it; getfacl output begins with “# file: ”", 1, 1)
    yield _whole(block)


PosixLine = tuple[int, Tag, str, int]


def entries(text: str) -> tuple[list[PosixLine], list[PosixLine], str]:
    """The entries of one list and of its default list, long or short (acl(5)), and its flags; what else begins with # is left out."""
    found: tuple[list[PosixLine], list[PosixLine]] = ([], [])
    flags = "---"
    for number, line in enumerate(text.split("\n"), 1):
        if line.startswith("# flags:"):
            flags = line.removeprefix("# flags:").strip()
            if not re.fullmatch("[s-][s-][t-]", flags):
                raise FormatError(f"flags are three of s, s, t and dashes, not {flags[:20]!r}", number, 10)
        for one in line.partition("#")[0].split(","):
            if not one.strip():
                continue
            default, entry = _entry(re.sub(r"\s*:\s*", ":", one.strip()), number)
            if entry[1:3] in [said[1:3] for said in found[default]]:
                raise FormatError(f"{entry[1]}:{entry[2]} stands twice", number, 1)
            found[default].append(entry)
    return *found, flags


_MODE = re.compile(r"[r-][w-][xsS-][r-][w-][xsS-][r-][w-][xtT-]")


def is_mode(text: str) -> bool:
    """Whether a text is mode bits, as digits or as ls(1) writes them."""
    return re.fullmatch(r"[0-7]{1,4}|[d-]?" + _MODE.pattern + r"[+.@]?", text.strip()) is not None


def mode(text: str) -> int:
    """Mode bits of digits, or as ls(1) writes them. Raises FormatError."""
    plain = text.strip()
    if re.fullmatch("[0-7]{1,4}", plain):
        return int(plain, 8)
    if not is_mode(plain):
        raise FormatError(f"a mode is up to four octal digits, or like rwxr-x---, not {plain[:20]!r}", 1, 1)
    letters = plain.rstrip("+.@")[-9:]
    bits = sum(1 << (8 - at) for at, letter in enumerate(letters) if letter not in "-ST")
    special = (0o4000, 0o2000, 0o1000)
    return bits + sum(bit for bit, letter in zip(special, letters[2::3], strict=True) if letter in "sStT")


def _whole(block: PosixBlock) -> PosixBlock:
    for what, entries in (("", block.access), ("default ", block.default)):
        said = {(tag, name) for _, tag, name, _ in entries}
        if len(said) != len(entries):
            line, tag, name, _ = next(e for i, e in enumerate(entries) if e[1:3] in [o[1:3] for o in entries[:i]])
            raise FormatError(f"{what}{tag}:{name} stands twice for {block.path!r}", line, 1)
        missing = [tag for tag in ("user", "group", "other") if (tag, "") not in said]
        if missing and (entries or not what):
            raise FormatError(f"{block.path!r} has no {what}{missing[0]}:: entry; is the text cut off?", block.line, 1)
        if any(name for _, name in said) and ("mask", "") not in said:
            raise FormatError(f"{block.path!r} has named {what}entries but no mask", block.line, 1)
    return block


def _entry(line: str, number: int) -> tuple[bool, tuple[int, Tag, str, int]]:
    text = line.split("\t", 1)[0].split("#", 1)[0].rstrip() if "#effective" in line else line.rstrip()
    default = text.startswith(("default:", "d:"))
    at = text.index(":") + 1 if default else 0
    parts = text[at:].split(":")
    if len(parts) == 2 and parts[0] in ("mask", "m", "other", "o"):  # acl(5) lets these go without the second colon
        parts.insert(1, "")
    if len(parts) != 3:
        raise FormatError(f"an entry is tag:who:permissions, not {text[:60]!r}", number, at + 1)
    word, name, perms = parts
    if word not in TAGS:
        raise FormatError(f"{word[:20]!r} is not a tag; there are user, group, mask and other", number, at + 1)
    tag = TAGS[word]
    if name and tag in ("mask", "other"):
        raise FormatError(f"{tag} has no name", number, at + len(word) + 2)
    column = at + len(word) + len(name) + 3
    if (found := _permissions(perms)) is None:
        raise FormatError(f"permissions are like rwx or r-x, not {perms[:20]!r}", number, column)
    return default, (number, tag, unescape(name), found)


@lru_cache(maxsize=10_000)
def _permissions(text: str) -> int | None:
    """The bits of “r-x”, or of one digit; None for what is neither."""
    if re.fullmatch("[0-7]", text):
        return int(text)
    letters = text.lower().replace("-", "")
    if not re.fullmatch("[rwxX-]{1,3}", text) or len(set(letters)) < len(letters):
        return None
    return sum(bit for letter, bit in (("r", 4), ("w", 2), ("x", 1)) if letter in letters)


def entry_text(entry: PosixEntry, name: str, *, default: bool = False) -> str:
    return f"{'default:' if default else ''}{entry.tag}:{escape_name(name)}:{rwx(entry.perms)}"
