"""An SMB server's configuration as it is found on a server (smb.conf(5)): includes, copies, defaults, macros, odd spacing and all.

Nothing is dropped in silence: what cannot be understood is noted with its file and line.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from yardgate.core.model.naming import show
from yardgate.formats.reading import FormatError

MAIN = "smb.conf"
DEEPEST = 16  # includes within includes
MOST_LINES = 200_000  # read in all, what is included again and again counted each time
SYNONYMS = {  # another name: (its usual name, whether it says the contrary)
    "writeable": ("read only", True), "writable": ("read only", True), "write ok": ("read only", True),
    "public": ("guest ok", False), "browsable": ("browseable", False), "directory": ("path", False),
    "only guest": ("guest only", False), "admin user": ("admin users", False), "allow hosts": ("hosts allow", False),
    "deny hosts": ("hosts deny", False),
}  # fmt: skip
DECIDING = frozenset({
    "path", "read only", "guest ok", "guest only", "browseable", "available", "valid users", "invalid users", "read list", "write list",
    "admin users", "hide unreadable", "vfs objects", "comment", "copy",
})  # fmt: skip
"""Settings of a share that say who gets what, and are understood."""
UNSAID = frozenset({
    "force user", "force group", "group", "force directory mode", "force create mode", "hosts allow", "hosts deny", "veto files",
    "dont descend", "inherit owner", "inherit permissions", "acl group control", "username", "user", "users", "only user", "root preexec",
    "preexec", "msdfs root", "msdfs proxy", "kernel share modes", "force unknown acl user", "access based share enum", "store dos attributes",
    "profile acls", "hide unwriteable files", "hide files", "hide special files", "follow symlinks", "wide links", "max connections",
})  # fmt: skip
"""Settings that change who gets what, and that a plan cannot say."""


@dataclass(frozen=True, slots=True)
class Setting:
    value: str
    file: str
    line: int


@dataclass(slots=True)
class Section:
    """name as it was first written. settings by their usual names; the last that was said counts."""

    name: str
    file: str
    line: int
    settings: dict[str, Setting] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Remark:
    """Something that was not understood, or not taken."""

    file: str
    line: int
    text: str


@dataclass(slots=True)
class Configuration:
    """general: the settings of [global], which are the defaults of all shares. shares: by their names in one case."""

    general: Section
    shares: dict[str, Section]
    remarks: list[Remark]

    def said(self, share: Section, name: str) -> Setting | None:
        """What counts for a share."""
        return share.settings.get(name) or self.general.settings.get(name)

    def yes(self, share: Section, name: str, otherwise: bool) -> bool:
        found = self.said(share, name)
        return otherwise if found is None else found.value.casefold() in ("yes", "true", "1", "on")


def parse(files: Mapping[str, str], main: str = MAIN) -> Configuration:
    """A configuration with what it includes. files: text by path, or by the last part of it. Raises FormatError where the main file is missing."""
    if _find(files, main) is None:
        raise FormatError(f"there is no file {show(main)} among those given")
    general = Section("global", main, 0)
    found = Configuration(general, {}, [])
    _Files(found, files).file(main, general)
    for share in list(found.shares.values()):
        _copied(found, share)
    return found


def _find(files: Mapping[str, str], path: str) -> str | None:
    if path in files:
        return files[path]
    last = path.rpartition("/")[2]
    alike = [text for name, text in files.items() if name.rpartition("/")[2] == last]
    return alike[0] if len(alike) == 1 else None


class _Files:
    """Reads files into a configuration, and with them those that they include; no more lines in all than `most`."""

    def __init__(self, found: Configuration, files: Mapping[str, str], most: int = MOST_LINES) -> None:
        self.found, self.files, self.left = found, files, most

    def file(self, path: str, section: Section, including: tuple[str, ...] = ()) -> Section:
        """Read one file; the section that is open at its end goes on in the file that includes it. including: the texts of files that are open."""
        text = _find(self.files, path)
        assert text is not None
        found = self.found
        for number, line in _lines(text):
            self.left -= 1
            if self.left < 0:
                if self.left == -1:
                    found.remarks.append(
                        Remark(path, number, "this and all that follows is left out: too much is included")
                    )
                break
            if line.startswith("["):
                name, bracket, rest = line[1:].partition("]")
                name = " ".join(name.split())
                if not bracket or not name or rest.strip():
                    found.remarks.append(Remark(path, number, f"{show(line)} is not a section"))
                    continue
                same = name.casefold()
                section = (
                    found.general if same == "global" else found.shares.setdefault(same, Section(name, path, number))
                )
                continue
            key, equals, value = line.partition("=")
            name, value = " ".join(key.split()).casefold(), value.strip()
            if not equals or not name:
                found.remarks.append(Remark(path, number, f"{show(line)} is not a setting"))
            elif name == "include":
                section = self._include(Setting(value, path, number), section, (*including, text))
            else:
                usual, contrary = SYNONYMS.get(name, (name, False))
                value = _contrary(value) if contrary else value
                section.settings[usual] = Setting(value, path, number)
        return section

    def _include(self, said: Setting, section: Section, including: tuple[str, ...]) -> Section:
        wanted = said.value.replace("%S", section.name)
        if "%" in wanted:
            why = "depends on who connects; not imported"
        elif (text := _find(self.files, wanted)) is None:
            why = "is not among the files given"
        elif any(text is one for one in including):
            why = "includes itself"
        elif len(including) > DEEPEST:
            why = "goes too deep"
        else:
            return self.file(wanted, section, including)
        self.found.remarks.append(Remark(said.file, said.line, f"include {show(said.value)} {why}"))
        return section


def _contrary(value: str) -> str:
    return "no" if value.casefold() in ("yes", "true", "1", "on") else "yes"


def _lines(text: str) -> Iterator[tuple[int, str]]:
    """Lines that say something, those that end in a backslash joined with the next."""
    begun, start = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        start = start if begun else number
        stripped = line.strip()
        if not begun and (not stripped or stripped[0] in "#;"):
            continue
        if stripped.endswith("\\"):
            begun += stripped[:-1].rstrip() + " "
            continue
        whole = (begun + stripped).strip()
        begun = ""
        if whole:
            yield start, whole
    if begun.strip():
        yield start, begun.strip()


def _copied(found: Configuration, share: Section, seen: tuple[str, ...] = ()) -> None:
    said = share.settings.get("copy")
    if said is None:
        return
    source = found.shares.get(said.value.casefold())
    if source is None or said.value.casefold() in (*seen, share.name.casefold()):
        found.remarks.append(Remark(said.file, said.line, f"there is no share {show(said.value)} to copy"))
        return
    _copied(found, source, (*seen, share.name.casefold()))
    share.settings = {**source.settings, **share.settings}
    del share.settings["copy"]


def names(value: str) -> tuple[str, ...]:
    """The names of a list: parted by commas and blanks, unless quotes hold them together."""
    return tuple(quoted or plain for quoted, plain in re.findall(r'"([^"]*)"|([^\s,;"]+)', value) if quoted or plain)
