"""An SMB server's configuration as its own parser reads it (smb.conf(5)): includes, copies, defaults, macros, odd spacing and all.

Names of settings are compared without blanks and case. What a share does not say is what [global] had said where the share began. Nothing is
dropped in silence: what cannot be understood is noted with its file and line.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from yardgate.core.model.naming import show
from yardgate.formats.reading import FormatError, Toward

MAIN = "smb.conf"
DEEPEST = 16  # includes within includes
MOST_LINES = 200_000  # read in all, what is included again and again counted each time
YES, NO = frozenset({"yes", "true", "1", "on"}), frozenset({"no", "false", "0", "off"})
SYNONYMS = {  # another name: (its usual name, whether it says the contrary)
    "writeable": ("read only", True), "writable": ("read only", True), "write ok": ("read only", True),
    "public": ("guest ok", False), "browsable": ("browseable", False), "directory": ("path", False),
    "only guest": ("guest only", False), "allow hosts": ("hosts allow", False), "deny hosts": ("hosts deny", False),
    "group": ("force group", False), "vfs object": ("vfs objects", False), "create mode": ("create mask", False),
    "directory mode": ("directory mask", False), "print ok": ("printable", False), "exec": ("preexec", False),
    "casesignames": ("case sensitive", False), "root": ("root directory", False), "root dir": ("root directory", False),
    "default": ("default service", False), "auto services": ("preload", False), "server smb encrypt": ("smb encrypt", False),
}  # fmt: skip
NEW_FILES = frozenset({
    "create mask", "directory mask", "force create mode", "force directory mode", "inherit permissions", "inherit acls",
})  # fmt: skip
"""Settings on which it depends what others may do with what somebody makes."""
DECIDING = NEW_FILES | {
    "path", "read only", "guest ok", "guest only", "browseable", "available", "valid users", "invalid users", "read list", "write list",
    "admin users", "hide unreadable", "vfs objects", "comment", "force user", "force group", "printable",
}  # fmt: skip
"""Settings of a share that say who gets what, and are understood."""


class Otherwise(NamedTuple):
    """What a setting does that a plan cannot say, where it says something else than is usual."""

    toward: Toward
    words: str
    usual: str = ""


EFFECTS: Mapping[str, Otherwise] = {
    "hosts allow": Otherwise("less", "clients at other addresses do not get in"),
    "hosts deny": Otherwise("less", "clients at these addresses do not get in"),
    "veto files": Otherwise("less", "nobody sees or makes what has such a name"),
    "hide files": Otherwise("less", "what has such a name is hidden"),
    "hide special files": Otherwise("less", "what is neither file nor folder is hidden", "no"),
    "hide unwriteable files": Otherwise("less", "what somebody cannot write is hidden from them", "no"),
    "access based share enum": Otherwise("less", "who may not come in does not see the share in the list", "no"),
    "hide new files timeout": Otherwise("less", "new files are hidden for so many seconds", "0"),
    "max connections": Otherwise("less", "no more than so many come in at once", "0"),
    "root preexec": Otherwise("either", "a program of the host runs as root before anybody comes in"),
    "preexec": Otherwise("either", "a program of the host runs before anybody comes in"),
    "root preexec close": Otherwise("less", "a program of the host decides who comes in", "no"),
    "preexec close": Otherwise("less", "a program of the host decides who comes in", "no"),
    "follow symlinks": Otherwise("less", "what a link leads to is not there", "yes"),
    "wide links": Otherwise("more", "links may lead out of the share", "no"),
    "dont descend": Otherwise("less", "these folders show as empty"),
    "smb encrypt": Otherwise("less", "clients that cannot encrypt do not get in", "no off default auto if_required enabled desired"),
    "acl group control": Otherwise("more", "members of the owning group may change lists", "no"),
    "dos filemode": Otherwise("more", "who may write may also change lists", "no"),
    "inherit owner": Otherwise("more", "what somebody makes belongs to the owner of the folder", "no"),
    "msdfs root": Otherwise("either", "folders in it may lead to other servers", "no"),
    "msdfs proxy": Otherwise("either", "it leads to another server"),
    "force unknown acl user": Otherwise("either", "unknown names in lists are taken for whoever sets them", "no"),
    "nt acl support": Otherwise("less", "nobody can see or change lists", "yes"),
    "case sensitive": Otherwise("either", "names that differ only in case may be two", "auto no"),
    "delete readonly": Otherwise("more", "who may write deletes what is marked read-only", "no"),
    "acl map full control": Otherwise("less", "full rights show as fewer", "yes"),
    "administrative share": Otherwise("less", "only the server's administrators come in", "no"),
    "check parent directory delete on close": Otherwise("less", "deleting asks the folder's list, too", "no"),
    "username": Otherwise("either", "it is no longer known"),
}  # fmt: skip
GLOBAL_EFFECTS: Mapping[str, Otherwise] = {
    "registry shares": Otherwise("more", "shares that the server keeps in its registry are not in these files", "no"),
    "config backend": Otherwise("either", "what the server keeps in its registry counts, and is not in these files", "file"),
    "usershare max shares": Otherwise("more", "people may offer folders as shares by themselves, which are not in these files", "0"),
    "preload": Otherwise("more", "more shares may be offered than stand in these files"),
    "default service": Otherwise("more", "who asks for a share that does not exist gets this one"),
    "username map": Otherwise("either", "some sign in by other names, or count as somebody else"),
    "username map script": Otherwise("either", "some sign in by other names, or count as somebody else"),
    "security": Otherwise("either", "accounts are a domain's; they come in where that is joined to the plan first", "user auto"),
    "server role": Otherwise("either", "accounts are a domain's; they come in where that is joined to the plan first", "auto standalone standaloneserver"),
    "guest account": Otherwise("either", "guests count as this account of the host", "nobody"),
    "restrict anonymous": Otherwise("less", "guests do not get in", "0 1"),
    "null passwords": Otherwise("more", "accounts without a password get in", "no"),
    "root directory": Otherwise("either", "all paths lie below another folder", "/"),
    "obey pam restrictions": Otherwise("less", "rules of the host may refuse accounts", "no"),
    "server min protocol": Otherwise("less", "older clients do not get in", "smb2 smb2_02 nt1 core lanman1 lanman2"),
    "allow insecure wide links": Otherwise("more", "links may lead out of the shares", "no"),
    "winbind use default domain": Otherwise("either", "accounts of the domain are called without it", "no"),
}  # fmt: skip
"""What settings do that stand in [global] alone."""
WITHOUT_EFFECT = frozenset(
    [
        "acl allow execute always",
        "acl check permissions",
        "acl flag inherited canonicalization",
        "afs share",
        "aio read size",
        "aio write behind",
        "aio write size",
        "allocation roundup size",
        "blocking locks",
        "block size",
        "csc policy",
        "cups options",
        "default case",
        "default devmode",
        "delete veto files",
        "dfree cache time",
        "dfree command",
        "directory name cache size",
        "dmapi support",
        "dos filetime resolution",
        "dos filetimes",
        "durable handles",
        "ea support",
        "fake directory create times",
        "fake oplocks",
        "smbd force process locks",
        "force printername",
        "fstype",
        "hide dot files",
        "honor change notify privilege",
        "kernel oplocks",
        "kernel share modes",
        "level2 oplocks",
        "locking",
        "lppause command",
        "lpq command",
        "lpresume command",
        "lprm command",
        "magic output",
        "magic script",
        "mangled names",
        "mangling char",
        "map acl inherit",
        "map archive",
        "map hidden",
        "map readonly",
        "map system",
        "max print jobs",
        "max reported print jobs",
        "min print space",
        "msdfs shuffle referrals",
        "ntvfs handler",
        "oplocks",
        "posix locking",
        "postexec",
        "preserve case",
        "print command",
        "printer name",
        "printer",
        "printing",
        "printjob username",
        "print notify backchannel",
        "queuepause command",
        "queueresume command",
        "root postexec",
        "short preserve case",
        "smbd async dosmode",
        "smbd getinfo ask sharemode",
        "smbd max async dosmode",
        "smbd max xattr size",
        "smbd search ask sharemode",
        "spotlight",
        "spotlight backend",
        "store dos attributes",
        "strict allocate",
        "strict locking",
        "strict rename",
        "strict sync",
        "sync always",
        "use client driver",
        "use sendfile",
        "veto oplock files",
        "volume",
        "volume serial number",
    ]
)
"""Settings of a share that change nobody's access (smb.conf(5))."""
READ_ONLY_MODULE = "readonly"
MODULES = {
    "catia", "fruit", "streams_xattr", "streams_depot", "full_audit", "audit", "extd_audit", "recycle", "shadow_copy2", "cap", "netatalk", "btrfs", "fileid",
    "xattr_tdb", "default_quota", "commit", "dirsort", "crossrename", "io_uring", "aio_pthread", "aio_fork", "readahead", "preopen", "prealloc", "syncops", "time_audit",
    "media_harmony", "offline", "gpfs", "linux_xfs_sgid", "widelinks", "posix_eadb", "snapper", READ_ONLY_MODULE,
}  # fmt: skip
"""Modules that are understood, or on which nobody's access depends."""
LISTS_OF_ITS_OWN = {"acl_xattr", "acl_tdb", "nfs4acl_xattr", "zfsacl"}
"""Modules that keep ordered lists beside folders, or in them."""


def effects(found: "Configuration") -> Iterator[tuple["Setting", str, Otherwise]]:
    """What settings of [global] do that a plan cannot say, with their names."""
    for name, said in found.general.settings.items():
        effect = GLOBAL_EFFECTS.get(name)
        if effect is not None and not _is_usual(effect, said.value):
            yield said, name, effect


def effects_in(share: "Section") -> Iterator[tuple["Setting", str, str, Otherwise]]:
    """What settings do that count in a share, and that a plan cannot say: with the section that says them, and their names."""
    everywhere = {name: said for name, said in share.usual.items() if name in EFFECTS and name not in share.settings}
    for section, settings in ((share.name, share.settings), ("global", everywhere)):
        for name, said in settings.items():
            effect = EFFECTS.get(name)
            if effect is not None and not _is_usual(effect, said.value):
                yield said, section, name, effect
            elif effect is None and name not in DECIDING | WITHOUT_EFFECT and ":" not in name:
                yield said, section, name, Otherwise("either", "is not understood")


def _is_usual(effect: Otherwise, value: str) -> bool:
    plain = "".join(value.split()).casefold()
    usual = set(effect.usual.split())
    for some in (YES, NO):
        usual |= some if usual & some else set()
    return plain in usual or not plain


@dataclass(frozen=True, slots=True)
class Setting:
    value: str
    file: str
    line: int


@dataclass(slots=True)
class Section:
    """name as it was first written. settings by their usual names; the last that was said counts. usual: what [global] had said before."""

    name: str
    file: str
    line: int
    settings: dict[str, Setting] = field(default_factory=dict)
    usual: dict[str, Setting] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Remark:
    """Something that was not understood, or not taken."""

    file: str
    line: int
    text: str


@dataclass(slots=True)
class Configuration:
    """general: the settings of [global]. shares: by their names in one case."""

    general: Section
    shares: dict[str, Section]
    remarks: list[Remark]

    def said(self, share: Section, name: str) -> Setting | None:
        """What counts for a share."""
        return share.settings.get(name) or share.usual.get(name)

    def yes(self, share: Section, name: str, otherwise: bool) -> bool:
        found = self.said(share, name)
        return otherwise if found is None else is_yes(found.value, otherwise)


def is_yes(value: str, otherwise: bool) -> bool:
    """What a setting says that is yes or no; one that says neither does not count."""
    plain = value.casefold()
    return plain in YES or (otherwise and plain not in NO)


def parse(files: Mapping[str, str], main: str = MAIN) -> Configuration:
    """A configuration with what it includes. files: text by path, or by the last part of it. Raises FormatError where the main file is missing."""
    if _find(files, main) is None:
        raise FormatError(f"there is no file {show(main)} among those given")
    found = _parsed(files, main)
    other = found.general.settings.get("config file")
    if other is None:
        return found
    if "%" in other.value or _find(files, other.value) is None:
        why = "depends on who connects" if "%" in other.value else "is not among the files given"
        found.remarks.append(
            Remark(other.file, other.line, f"config file {show(other.value)} counts instead, and {why}")
        )
        return found
    return _parsed(files, other.value)


def _parsed(files: Mapping[str, str], main: str) -> Configuration:
    general = Section("global", main, 0)
    found = Configuration(general, {}, [])
    _Files(found, files).file(main, general)
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
                if not bracket or not name or (rest.strip() and rest.strip()[0] not in "#;"):
                    found.remarks.append(Remark(path, number, f"{show(line)} is not a section"))
                    continue
                section = self._section(name, path, number)
                continue
            key, equals, value = line.partition("=")
            name, value = usual_name(key), value.strip()
            if not equals or not name:
                found.remarks.append(Remark(path, number, f"{show(line)} is not a setting"))
            elif name == "include":
                section = self._include(Setting(value, path, number), section, (*including, text))
            elif name == "copy":
                self._copied(Setting(value, path, number), section)
            else:
                usual, contrary = SYNONYMS.get(name, (name, False))
                section.settings[usual] = Setting(_contrary(value) if contrary else value, path, number)
        return section

    def _section(self, name: str, path: str, number: int) -> Section:
        found, same = self.found, name.casefold()
        if same in ("global", "globals"):
            return found.general
        if same not in found.shares:
            found.shares[same] = Section(name, path, number, usual=dict(found.general.settings))
        return found.shares[same]

    def _copied(self, said: Setting, section: Section) -> None:
        source = self.found.shares.get(" ".join(said.value.split()).casefold())
        if source is None or source is section:
            self.found.remarks.append(
                Remark(said.file, said.line, f"there is no share {show(said.value)} before this that could be copied")
            )
            return
        section.settings = {**source.settings, **section.settings}
        section.usual = {**section.usual, **source.usual}

    def _include(self, said: Setting, section: Section, including: tuple[str, ...]) -> Section:
        wanted = said.value.strip('"').replace("%S", section.name)
        if wanted.casefold() == "registry":
            why = "is what the server keeps by itself, and not among the files given"
        elif "%" in wanted:
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


_KNOWN = {
    name.replace(" ", ""): name
    for name in (*SYNONYMS, *DECIDING, *EFFECTS, *GLOBAL_EFFECTS, *WITHOUT_EFFECT, "netbios name", "config file")
}


def usual_name(key: str) -> str:
    """The name of a setting as it is usually written: blanks and case do not count."""
    plain = "".join(key.split()).casefold()
    return _KNOWN.get(plain, " ".join(key.split()).casefold())


def _contrary(value: str) -> str:
    return "no" if value.casefold() in YES else "yes" if value.casefold() in NO else value


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


def names(value: str) -> tuple[str, ...]:
    """The names of a list: parted by commas, semicolons and blanks, unless quotes, which may begin within one, hold them together."""
    found, here, quoted = list[str](), "", False
    for char in value:
        if char == '"':
            quoted = not quoted
        elif not quoted and (char in ",;" or char.isspace()):
            found.append(here)
            here = ""
        else:
            here += char
    return tuple(name for name in (*found, here) if name)
