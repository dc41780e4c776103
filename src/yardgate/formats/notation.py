"""Rights, flags and permissions as people write them, and lists in that form: nfs4_acl(5) letters, rwx, octal modes."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationInfo, field_validator

from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry, nfs4
from yardgate.core.acl.posix import Tag
from yardgate.core.acl.rights import LETTERS, letters
from yardgate.core.acl.words import rwx

FLAG_LETTERS = {
    "f": nfs4.FILE_INHERIT,
    "d": nfs4.DIRECTORY_INHERIT,
    "n": nfs4.NO_PROPAGATE_INHERIT,
    "i": nfs4.INHERIT_ONLY,
}
PERM_LETTERS = {"r": 4, "w": 2, "x": 1}


def bits(text: str, alphabet: dict[str, int], what: str) -> int:
    """Letters as bits. Raises ValueError that names the letter and where it stands."""
    found = 0
    for position, letter in enumerate(text, 1):
        if letter not in alphabet:
            known = "".join(alphabet)
            raise ValueError(f"{letter!r} (letter {position} of {text[:40]!r}) is not a {what}; there are {known}")
        found |= alphabet[letter]
    return found


def rights_of(text: str) -> int:
    return bits(text, LETTERS, "right")


def flags_of(text: str) -> int:
    return bits(text, FLAG_LETTERS, "flag")


def flag_letters(flags: int) -> str:
    return "".join(letter for letter, bit in FLAG_LETTERS.items() if flags & bit)


def perms_of(text: str) -> int:
    """rwx with dashes, each letter in its place or left out."""
    return bits(text.replace("-", ""), PERM_LETTERS, "permission")


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class EntryText(Strict):
    """An entry of an ordered list."""

    type: Literal["allow", "deny"]
    who: Annotated[str, Field(description="id of a user or group, or owner@, group@ or everyone")]
    rights: Annotated[str, Field(description="letters of nfs4_acl(5): rwaDdxtTnNcCoy")]
    flags: Annotated[str, Field(description="where it counts, letters of nfs4_acl(5): f, d, n, i")] = "fd"

    @field_validator("rights", "flags")
    @classmethod
    def _letters(cls, value: str, info: ValidationInfo) -> str:
        (rights_of if info.field_name == "rights" else flags_of)(value)
        return value


class OrderedText(Strict):
    style: Literal["ordered"]
    entries: list[EntryText] = []


class PosixEntryText(Strict):
    """An entry of a POSIX list, as setfacl(1) writes it: tag:who:perms."""

    tag: Tag
    who: Annotated[str, Field(description="id of a user or group; empty for owner, owning group, mask and others")] = ""
    perms: Annotated[str, Field(description="letters of rwx")]

    @field_validator("perms")
    @classmethod
    def _letters(cls, value: str) -> str:
        perms_of(value)
        return value


class PosixText(Strict):
    style: Literal["posix"]
    access: list[PosixEntryText] = []
    default: list[PosixEntryText] | None = None
    setgid: bool = False
    sticky: bool = False


class ModeText(Strict):
    style: Literal["mode"]
    bits: Annotated[str, Field(pattern="^[0-7]{1,4}$", description="octal, as 2770")] | None = None


OwnText = Annotated[OrderedText | PosixText | ModeText, Field(discriminator="style")]
OWN_TEXT: TypeAdapter[OrderedText | PosixText | ModeText] = TypeAdapter(OwnText)


def to_text(own: OwnList) -> OrderedText | PosixText | ModeText:
    match own:
        case Ordered(entries):
            made = [
                EntryText.model_construct(type=e.type, who=e.who, rights=letters(e.mask), flags=flag_letters(e.flags))
                for e in entries
            ]
            return OrderedText(style="ordered", entries=made)
        case Posix(access, default, setgid, sticky):
            return PosixText(
                style="posix",
                access=_posix_text(access),
                default=None if default is None else _posix_text(default),
                setgid=setgid,
                sticky=sticky,
            )
        case Mode(mode):
            return ModeText(style="mode", bits=None if mode is None else f"{mode:04o}")


def _posix_text(entries: tuple[PosixEntry, ...]) -> list[PosixEntryText]:
    return [PosixEntryText(tag=e.tag, who=e.who, perms=rwx(e.perms)) for e in entries]


def from_text(text: OrderedText | PosixText | ModeText) -> OwnList:
    match text:
        case OrderedText():
            return Ordered(tuple(Entry(e.type, e.who, rights_of(e.rights), flags_of(e.flags)) for e in text.entries))
        case PosixText():
            return Posix(
                _posix_entries(text.access),
                None if text.default is None else _posix_entries(text.default),
                text.setgid,
                text.sticky,
            )
        case ModeText():
            return Mode(None if text.bits is None else int(text.bits, 8))


def _posix_entries(entries: list[PosixEntryText]) -> tuple[PosixEntry, ...]:
    return tuple(PosixEntry(e.tag, e.who, perms_of(e.perms)) for e in entries)
