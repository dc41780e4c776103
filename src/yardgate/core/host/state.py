"""What an appliance has, as it has it: accounts, groups, folders with owners and lists, shares, exports, servers; by name, not by id.

`compiled.compiled` says what a plan comes to; an appliance is read as the same kind of value. Then a rollout is the difference of two of
them (`rollout`), reading back is comparing, and putting back is the difference the other way round.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from typing import Any, Literal, TypeVar

from yardgate.core.acl import Ordered, Posix, PosixEntry
from yardgate.core.acl.mode import entries_of
from yardgate.core.acl.rights import STRICT, Level
from yardgate.core.host.share_lists import GROUP_MARK, ShareLists
from yardgate.core.model.plan import Snapshots
from yardgate.core.model.share import HostRule, Squash

ADMIN = "root"  # the account and the group that every Unix host has
OF_THE_HOST = frozenset({
    "root", "daemon", "bin", "sys", "sync", "games", "man", "lp", "mail", "news", "uucp", "proxy", "www-data", "backup", "list",
    "irc", "gnats", "nobody", "nogroup", "adm", "tty", "disk", "kmem", "dialout", "fax", "voice", "cdrom", "floppy", "tape", "sudo",
    "audio", "dip", "operator", "src", "shadow", "utmp", "video", "sasl", "plugdev", "staff", "users", "_apt", "sshd", "messagebus",
})  # fmt: skip
"""Accounts and groups that a host has for itself (Debian's base-passwd, and what comes with about every host)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class HostGroup:
    """A group. gid None: whichever number the host gives it. share: the share whose own it is, for people who read steps, and no part of it."""

    __pydantic_config__ = STRICT
    name: str
    gid: int | None = None
    share: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class HostAccount:
    """An account that signs in. uid None: whichever number the host gives. primary: its primary group. smb: known to the SMB server.
    aliases: other names under which that lets them in, sorted."""

    __pydantic_config__ = STRICT
    name: str
    uid: int | None = None
    full_name: str = ""
    primary: str
    enabled: bool = True
    expires: date | None = None
    smb: bool = True
    aliases: tuple[str, ...] = ()

    def active(self, on: date) -> bool:
        """Whether anybody may sign in with it on a day."""
        return self.enabled and (self.expires is None or on < self.expires)


@dataclass(frozen=True, slots=True, kw_only=True)
class Members:
    """Who is in a group. Hosts know no groups in groups: everybody who counts as one is named."""

    __pydantic_config__ = STRICT
    name: str
    users: frozenset[str] = frozenset()


OPEN = Posix((PosixEntry("user", "", 7), PosixEntry("group", "", 7), PosixEntry("other", "", 7)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Folder:
    """A folder with owner, owning group and list. name: its path. A mode is a POSIX list of three entries.

    The lists name accounts. In an ordered list a group has an @ before its name, and owner@ and group@ stand only in what comes down
    to new things (see `nfs4.spelled`); a number or a SID stands where it is nobody's that the appliance knows. beneath: what the file system
    itself has where an ordered list is kept beside it, if that is not open to all. place: the plan's id for it, where that is known: the host
    does not keep it, so it comes from what a rollout left.
    """

    __pydantic_config__ = STRICT
    name: str
    owner: str = ADMIN
    group: str = ADMIN
    listed: Posix | Ordered = field(default_factory=Posix)
    beneath: Posix | None = None
    place: str = field(default="", compare=False)

    @property
    def mode(self) -> Posix:
        """The list that the file system itself has: beneath an ordered list it lets everybody do everything."""
        return self.listed if isinstance(self.listed, Posix) else self.beneath or OPEN


@dataclass(frozen=True, slots=True, kw_only=True)
class HostQuota:
    """The most that what belongs to a group may take in a dataset, in bytes. group: its name."""

    __pydantic_config__ = STRICT
    group: str
    bytes: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Dataset:
    """A file system of its own: a subvolume of btrfs, or a dataset of ZFS. name: the path at which it lies. place: the plan's id for it, which
    the file system keeps, so that it is known again under another name. quota: the most that it may hold, in bytes. group_quotas: sorted.
    case_sensitive: whether names that differ only in case are two, which is settled when it is made. snapshots: how many the host keeps.
    access_times, sync, compression: as they were set of it; None has them from above, or as the file system usually does.
    used: what it holds, where it was read, in bytes.
    """

    __pydantic_config__ = STRICT
    name: str
    file_system: Literal["btrfs", "zfs"]
    place: str = ""
    quota: int | None = None
    group_quotas: tuple[HostQuota, ...] = ()
    case_sensitive: bool = True
    snapshots: Snapshots | None = None
    access_times: bool | None = None
    sync: str | None = None
    compression: str | None = None
    used: int | None = field(default=None, compare=False)


OPTIONS = ("access_times", "sync", "compression")
"""What may be chosen of how a dataset keeps files."""


def as_made(dataset: Dataset) -> Folder:
    """The folder that a dataset is when it has just been made: root's, and nobody else's."""
    return Folder(name=dataset.name, listed=Posix(entries_of(0o700)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer(ShareLists):
    """A share over SMB: whom its lists name, and who acts as root inside. acts_as, acts_as_group: as whom, and in which
    group besides, all others do; nothing: as themselves. ordered: the server keeps ordered lists in it. foreign: what
    the server's own configuration says of it besides, which no rollout wrote. snapdir: where its file system shows snapshots, where that is not
    the server's usual place. note: for people who read its configuration, no part of it."""

    __pydantic_config__ = STRICT
    name: str
    path: str
    roots: tuple[str, ...] = ()
    acts_as: str = ""
    acts_as_group: str = ""
    guests: Level = Level.NA
    hidden: bool = False
    hide_unreadable: bool = False
    versions: bool = False
    snapdir: str = ""
    recycle: bool = False
    ordered: bool = False
    foreign: tuple[str, ...] = ()
    note: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Export:
    """A share over NFS: what hosts get, the rule that counts first."""

    __pydantic_config__ = STRICT
    name: str
    path: str
    rules: tuple[HostRule, ...] = ()
    squash: Squash = "root"


@dataclass(frozen=True, slots=True, kw_only=True)
class HostService:
    """A server program of the host's: whether it answers now, and whether it starts when the host does. name: smb or nfs."""

    __pydantic_config__ = STRICT
    name: str
    running: bool = True
    enabled: bool = True


def whos(listed: Posix | Ordered) -> tuple[str, ...]:
    """Whom a list names, entry by entry."""
    if isinstance(listed, Ordered):
        return tuple(entry.who for entry in listed.entries)
    return tuple(entry.who for entry in (*listed.access, *(listed.default or ())))


RecordKind = Literal["groups", "accounts", "members", "datasets", "folders", "offers", "exports", "services"]
PARTS: tuple[RecordKind, ...] = (
    "groups",
    "accounts",
    "members",
    "datasets",
    "folders",
    "offers",
    "exports",
    "services",
)
Record = HostGroup | HostAccount | Members | Dataset | Folder | Offer | Export | HostService
R = TypeVar("R", HostGroup, HostAccount, Members, Dataset, Folder, Offer, Export, HostService)


@dataclass(frozen=True, kw_only=True)
class System:
    """All that an appliance has, or shall have; each part by name."""

    __pydantic_config__ = STRICT
    groups: Mapping[str, HostGroup] = field(default_factory=dict)
    accounts: Mapping[str, HostAccount] = field(default_factory=dict)
    members: Mapping[str, Members] = field(default_factory=dict)
    datasets: Mapping[str, Dataset] = field(default_factory=dict)
    folders: Mapping[str, Folder] = field(default_factory=dict)
    offers: Mapping[str, Offer] = field(default_factory=dict)
    exports: Mapping[str, Export] = field(default_factory=dict)
    services: Mapping[str, HostService] = field(default_factory=dict)

    def part(self, part: RecordKind) -> Mapping[str, Record]:
        found: Mapping[str, Record] = getattr(self, part)
        return found

    def having(self, part: RecordKind, name: str, record: Record | None) -> "System":
        """The same with another record under a name; None: with none."""
        kept = dict(self.part(part))
        kept.pop(name, None)
        changed: Any = {part: kept if record is None else kept | {record.name: record}}
        then = replace(self, **changed)
        if part != "folders" and "dangling" in self.__dict__:  # what is known of the folders holds on
            then.__dict__["dangling"] = self.dangling
        return then

    def holding(self, paths: Iterable[str]) -> tuple[str, ...]:
        """The datasets in which some paths lie, or which they are; of each the nearest."""
        found = set()
        for path in paths:
            while path and path not in self.datasets:
                path = path.rpartition("/")[0]
            found |= {path} if path else set()
        return tuple(sorted(found))

    @cached_property
    def dangling(self) -> frozenset[str]:
        """Numbers that owners and lists of folders have and that are nobody's."""
        found: set[str] = set()
        for folder in self.folders.values():
            named = {folder.owner, folder.group, *whos(folder.listed), *whos(folder.beneath or Posix())}
            found.update(who.removeprefix(GROUP_MARK) for who in named if who.removeprefix(GROUP_MARK).isdigit())
        return frozenset(found)


def asked(*systems: System) -> System:
    """Everything that any of these speaks of; of two records of one name the later one's."""
    return System(
        groups={name: record for one in systems for name, record in one.groups.items()},
        accounts={name: record for one in systems for name, record in one.accounts.items()},
        members={name: record for one in systems for name, record in one.members.items()},
        datasets={name: record for one in systems for name, record in one.datasets.items()},
        folders={name: record for one in systems for name, record in one.folders.items()},
        offers={name: record for one in systems for name, record in one.offers.items()},
        exports={name: record for one in systems for name, record in one.exports.items()},
        services={name: record for one in systems for name, record in one.services.items()},
    )


def known_places(found: Mapping[str, Folder], asked: Mapping[str, Folder]) -> dict[str, Folder]:
    """Folders as they were found, as the places of the plan that they are taken to be."""
    return {
        path: replace(folder, place=asked[path].place) if path in asked else folder for path, folder in found.items()
    }
