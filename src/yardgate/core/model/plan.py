"""The plan: users, groups, places and grants of one appliance, as frozen values, and the checks that hold for every plan.

Everything is referred to by id, never by name, so a rename keeps what was granted. Users and groups share one space of
ids, because a grant may name either. The order of users, groups and places means nothing; the order of the grants on one
place does (it is the order in which a list is read).
"""

from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from typing import Literal

from yardgate.core.acl import OwnList
from yardgate.core.acl.nfs4 import GROUP, OWNER
from yardgate.core.acl.rights import STRICT, Level
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.directory import Directory
from yardgate.core.model.naming import fold
from yardgate.core.model.needs import Need
from yardgate.core.model.share import Order, Service, Share, Wildcards

LOCAL = "local"  # the origin of accounts that the appliance itself has
EVERYONE = "everyone"
GUEST = "guest"
GUEST_ACCOUNT = "nobody"  # as whom servers let guests in
ROOT = "root"  # the owner, and the owning group, of what nobody of the plan was given
BUILT_IN = (EVERYONE, GUEST, OWNER, GROUP)
LARGEST_NUMBER = 2**32 - 2  # (uid_t) -1 means "no change" to chown(2)

PlaceKind = Literal["pool", "dataset", "folder"]
Enforcement = Literal["share", "storage", "both"]
Precedence = Literal["pooled", "nearest"]
Combining = Literal["refusal", "widest", "narrowest", "first"]
Behaviour = Literal["several", "nearest", "traverse", "nfs_traverse", "host_rules", "wildcards"]
"""What appliances differ in, as questions (see `behaviour`)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class User:
    """A person or a service. `expires` is the first day on which the account is shut (shadow(5), expiration date).

    origin: local, or the id of the directory that it comes from; there it is followed by its key (objectSid or entryUUID).
    gone: the directory no longer has it. jobs: what signs in with this account by itself (a backup, a scanner).
    of_host: the host has it for itself (nobody, a server program, a number that is nobody's any more): lists and owners name it, and no
    rollout makes, changes or shuts it.
    """

    __pydantic_config__ = STRICT
    id: str
    name: str
    full_name: str = ""
    kind: Literal["person", "service"] = "person"
    uid: int | None = None
    primary_group: str | None = None
    enabled: bool = True
    expires: date | None = None
    aliases: tuple[str, ...] = ()
    origin: str = LOCAL
    key: str | None = None
    sid: str | None = None
    gone: bool = False
    jobs: tuple[str, ...] = ()
    of_host: bool = False
    note: str = ""

    def active(self, on: date) -> bool:
        return self.enabled and not self.gone and (self.expires is None or on < self.expires)


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """Members are ids of users and of groups (nesting). unknown: members that its directory names and does not have. of_host: the host has
    it for itself (`users`, the group of one account's own): no rollout makes, renames or ends it."""

    __pydantic_config__ = STRICT
    id: str
    name: str
    gid: int | None = None
    members: frozenset[str] = frozenset()
    origin: str = LOCAL
    key: str | None = None
    sid: str | None = None
    gone: bool = False
    unknown: tuple[str, ...] = ()
    of_host: bool = False
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonalFolders:
    """Whose folders lie in a place (see `edits.personal_folders`): those of a group's members, services among them only with `services`,
    and of `users`. managers, readers: who else changes them, or reads them. shared: each is a share of its own; one_share: the place is
    one, in which each finds their own."""

    __pydantic_config__ = STRICT
    group: str | None = None
    users: frozenset[str] = frozenset()
    services: bool = False
    managers: frozenset[str] = frozenset()
    readers: frozenset[str] = frozenset()
    shared: bool = False
    one_share: bool = False

    @property
    def named(self) -> frozenset[str]:
        """Ids of all whom it names."""
        return self.users | self.managers | self.readers | ({self.group} if self.group is not None else set())

    def without(self, gone: Set[str]) -> "PersonalFolders | None":
        """The same without some accounts; None where nobody is left to have a folder."""
        group, users = None if self.group in gone else self.group, self.users - gone
        if group is None and not users:
            return None
        return replace(self, group=group, users=users, managers=self.managers - gone, readers=self.readers - gone)


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupQuota:
    """The most that what belongs to a group may take in a place, in bytes."""

    __pydantic_config__ = STRICT
    group: str
    bytes: int


FileSystem = Literal["folder", "btrfs", "zfs"]
"""What a pool is on its host: a plain folder, or where datasets are subvolumes of btrfs(5) or datasets of zfs(8)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Snapshots:
    """How many snapshots are kept: the newest of each of the last so many hours, days, weeks and months in which there are any."""

    __pydantic_config__ = STRICT
    hours: int = 0
    days: int = 0
    weeks: int = 0
    months: int = 0


Compression = Literal["off", "lz4", "zstd", "gzip"]
SyncWrites = Literal["standard", "always", "disabled"]


@dataclass(frozen=True, slots=True, kw_only=True)
class DatasetOptions:
    """How a dataset's file system keeps files (zfsprops(7), btrfs-property(8)); None leaves an option as it is there.

    access_times: whether reading a file writes down when it was read. sync: when what a client wants to be safe on disk is said to be:
    when it is, for everything, or at once, so that the last seconds are lost when the power goes. asked_by: who wanted it so, and what for.
    """

    __pydantic_config__ = STRICT
    access_times: bool | None = None
    sync: SyncWrites | None = None
    compression: Compression | None = None
    asked_by: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A node of the storage tree. A pool has no parent; a dataset lies in a pool or dataset, a folder in either or a folder.

    owner, group: ids; None leaves a folder to what lies above it, and gives pools and datasets to root. acl: its own
    entries, and with them its list style; None has the style from above. inheritance_stops: nothing comes down. enforced_by:
    what enforces its grants; None has it from above. quota: the most that it may hold, in bytes; of a pool, what it has. case_sensitive:
    whether names that differ only in case are two. personal_folders: in it, every member of a group has a folder;
    folder_of: whose folder this is, of such ones. group_quotas: the most that groups may take in it. file_system: of a pool, what it is on the
    host. snapshots: how many are kept; None makes none. options: of a pool or dataset, how files are kept. Where no place from the pool down says a style, storage is not planned there.
    """

    __pydantic_config__ = STRICT
    id: str
    name: str
    kind: PlaceKind
    parent: str | None = None
    note: str = ""
    owner: str | None = None
    group: str | None = None
    acl: OwnList | None = None
    inheritance_stops: bool = False
    enforced_by: Enforcement | None = None
    quota: int | None = None
    case_sensitive: bool = False
    personal_folders: PersonalFolders | None = None
    folder_of: str | None = None
    group_quotas: tuple[GroupQuota, ...] = ()
    file_system: FileSystem = "folder"
    snapshots: Snapshots | None = None
    options: DatasetOptions | None = None

    @property
    def inheritance(self) -> Literal["follows", "adds", "stops"]:
        if self.inheritance_stops:
            return "stops"
        has_own = self.acl is not None and self.acl != type(self.acl)()
        return "adds" if has_own else "follows"


@dataclass(frozen=True, slots=True, kw_only=True)
class Pattern:
    """A list kept under a name, to be given to places again."""

    __pydantic_config__ = STRICT
    id: str
    name: str
    acl: OwnList
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """What differs between appliances.

    precedence, combining: what several grants add up to (see `access.combining`). baseline: the group that every user is in without being listed.
    administrators: the group whose members always get read-write where grants count.
    traverse: whether every folder on the way down asks for the right to enter (a kernel does; an SMB server that keeps
    ordered lists itself does not). attributes_open: whether everybody may read attributes, whatever an ordered list says
    (such an SMB server lets them). host_rules: which of the host rules that take in one host counts (see `share`).
    wildcards: what * and ? in a host rule are compared with: host names (exports(5)), or addresses as well. nfs_traverse: whether
    folders above the top of a share ask the right to enter of those who mount it (a kernel's server does where clients of version
    4 pass through them, RFC 7530 section 7; one that mounts a share itself, as version 3 has it, does not). addresses: names and addresses by which
    clients reach it, the usual first; without any, the plan's name. nfs_domain: what stands behind the @ of its own accounts where names go over
    NFS (RFC 8881 section 5.9); nothing: not known. share_groups: whether people whom a share names are put in groups of that share's own, which
    it names instead. answered: what somebody has said of it; the rest is assumed.
    """

    __pydantic_config__ = STRICT
    precedence: Precedence = "pooled"
    combining: Combining = "refusal"
    baseline: str | None = None
    baseline_covers_directory: bool = True
    administrators: str | None = None
    traverse: Literal["checked", "bypassed"] = "checked"
    attributes_open: bool = False
    host_rules: Order = "narrowest"
    wildcards: Wildcards = "both"
    nfs_traverse: Literal["checked", "bypassed"] = "checked"
    addresses: tuple[str, ...] = ()
    nfs_domain: str = ""
    share_groups: bool = False
    answered: tuple[Behaviour, ...] = ()


Grants = Mapping[str, Level]
WORKED_OUT = {"namesakes": ("users", "groups", "directories"), "containers": ("users", "groups"), "inside": ("places",)}


@dataclass(frozen=True, kw_only=True)
class Plan:
    """One appliance, as planned. purpose: what it is for, for people who take it over. grants: place id -> who id -> level, the inner mapping in list order, never empty."""

    name: str = "appliance"
    office: str = ""
    purpose: str = ""
    target: Target = field(default_factory=Target)
    users: Mapping[str, User] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    places: Mapping[str, Place] = field(default_factory=dict)
    grants: Mapping[str, Grants] = field(default_factory=dict)
    patterns: Mapping[str, Pattern] = field(default_factory=dict)
    directories: Mapping[str, Directory] = field(default_factory=dict)
    shares: Mapping[str, Share] = field(default_factory=dict)
    services: Mapping[str, Service] = field(default_factory=dict)
    promises: Mapping[str, Promise] = field(default_factory=dict)
    needs: Mapping[str, Need] = field(default_factory=dict)
    accepted: Mapping[str, Accepted] = field(default_factory=dict)

    def after(self, before: "Plan") -> "Plan":
        """This plan, knowing already what `before` had worked out of the parts that both share."""
        for name, parts in WORKED_OUT.items():
            if name in vars(before) and all(getattr(self, part) is getattr(before, part) for part in parts):
                vars(self)[name] = vars(before)[name]
        return self

    def named(self, who: str) -> str:
        """The name of a user, a group or a built-in who, as shown to people; the id itself where nobody has it.

        Where two accounts are shown by one name, and one comes from a directory, it says which is meant.
        """
        if who == EVERYONE:
            return "Everyone"
        if who in SPECIAL_WORDS:
            return SPECIAL_WORDS[who]
        account = self.account(who)
        if account is None:
            return who
        shown = _shown(account)
        return f"{shown} ({self.source(account.origin)})" if who in self.namesakes else shown

    def account(self, who: str) -> "User | Group | None":
        """The user or group of an id."""
        return self.users.get(who) or self.groups.get(who)

    @cached_property
    def namesakes(self) -> frozenset[str]:
        """Ids of the accounts that are shown by the name of another, where not all of them are local."""
        if not self.directories:
            return frozenset()
        by_name: dict[str, list[User | Group]] = {}
        accounts: tuple[User | Group, ...] = (*self.users.values(), *self.groups.values())
        for account in accounts:
            by_name.setdefault(fold(_shown(account)), []).append(account)
        same = (found for found in by_name.values() if len({account.origin for account in found}) > 1)
        return frozenset(account.id for found in same for account in found)

    def source(self, origin: str) -> str:
        """Where an account comes from, in a word: local, or the short name of its directory."""
        return self.directories[origin].name if origin in self.directories else origin

    def called(self, who: str) -> str:
        """The sign-in name, which nobody else has: a directory's accounts with its short name before them."""
        account = self.account(who)
        if account is None:
            return who
        return account.name if account.origin == LOCAL else f"{self.source(account.origin)}\\{account.name}"

    @cached_property
    def guest_account(self) -> str | None:
        """The account as which servers let guests in, where the plan knows that of its host."""
        return next((u.id for u in self.users.values() if u.of_host and u.name == GUEST_ACCOUNT), None)

    @cached_property
    def containers(self) -> Mapping[str, Sequence[str]]:
        """Account id -> ids of the groups that name it as a direct member or are its primary group, sorted."""
        found: dict[str, list[str]] = {}
        for group in self.groups.values():
            for member in group.members:
                found.setdefault(member, []).append(group.id)
        for user in self.users.values():
            if user.primary_group is not None and user.primary_group not in found.setdefault(user.id, []):
                found[user.id].append(user.primary_group)
        return {who: tuple(sorted(groups)) for who, groups in found.items()}

    @cached_property
    def inside(self) -> Mapping[str | None, Sequence[str]]:
        """Ids of the places directly inside each place that has some, and of the pools under None."""
        found: dict[str | None, list[str]] = {}
        for place in self.places.values():
            found.setdefault(place.parent, []).append(place.id)
        return found

    def path(self, place: str) -> tuple[str, ...]:
        """Ids from the pool down to the place, itself included."""
        steps: list[str] = []
        here: str | None = place
        while here is not None and here not in steps:
            steps.append(here)
            here = self.places[here].parent if here in self.places else None
        return tuple(reversed(steps))

    def path_name(self, place: str) -> str:
        return "/".join(self.places[step].name if step in self.places else step for step in self.path(place))

    def knows(self, who: str) -> bool:
        return who in self.users or who in self.groups or who == EVERYONE


def _shown(account: User | Group) -> str:
    return account.full_name or account.name if isinstance(account, User) else account.name


SPECIAL_WORDS = {GUEST: "Guest", OWNER: "Owner", GROUP: "Owning group"}


def same(one: Plan, other: Plan) -> bool:
    """True when two plans are identical, the order of the grants on each place included."""
    return one == other and all(list(one.grants[place]) == list(other.grants[place]) for place in one.grants)


def new_plan(name: str = "appliance") -> Plan:
    """What a plan begins with, where nothing on an appliance goes by it yet: nothing, and shares that name no people."""
    return Plan(name=name, target=Target(share_groups=True))
