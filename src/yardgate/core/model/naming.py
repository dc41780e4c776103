"""What names may be, how two are compared, and how one is shown in a message."""

import unicodedata

LONGEST_NAME = 255


# --- checks -----------------------------------------------------------------------------------------------------------

_DIRECTION_MARKS = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def fold(name: str) -> str:
    """What two names are compared by: SMB takes names in any case (MS-SMB2 has no case-sensitive names)."""
    return unicodedata.normalize("NFC", name).casefold()


def name_trouble(name: str, *, separator: str = "") -> str | None:
    """Why a text cannot be a name, or None."""
    if not name.strip():
        return "is empty"
    if len(name) > LONGEST_NAME:
        return f"has {len(name)} characters; at most {LONGEST_NAME} are possible"
    for position, char in enumerate("" if name.isprintable() else name, 1):
        if char in _DIRECTION_MARKS:
            return f"has a direction mark (U+{ord(char):04X}) at character {position}, which can make it look like another name"
        if unicodedata.category(char) in ("Cc", "Cs", "Zl", "Zp"):
            return f"has a control character or line break (U+{ord(char):04X}) at character {position}"
    if name != name.strip():
        return "begins or ends with a space"
    if separator and separator in name:
        return f"contains {separator!r}, which separates folders"
    if separator and name in (".", ".."):
        return "is a dot name, which means a folder itself or the one above it"
    return None


def show(text: str, most: int = 40) -> str:
    """A name for a message: quoted, unprintable characters escaped, shortened."""
    head = text[: most + 1]
    plain = head if head.isprintable() else "".join(c if c.isprintable() else f"\\u{ord(c):04x}" for c in head)
    return f"“{plain[:most]}…”" if len(plain) > most else f"“{plain}”"


def size(count: int) -> str:
    """A number of bytes for people: in the largest binary unit (IEC 80000-13) of which there is at least one."""
    for unit, power in (("TiB", 40), ("GiB", 30), ("MiB", 20), ("KiB", 10)):
        if count >= 1 << power:
            return f"{count / (1 << power):.4g} {unit}"
    return f"{count} bytes"
