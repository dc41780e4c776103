"""What a rollout may touch on a host: folders below one top, numbers in a range, and accounts and groups that it made or was given.

Whoever plans is not root on the host, and must not become it by a plan. So an administrator says once where folders lie and which numbers
may be given; what the host has for itself is its own; and what was there before is left as it is until an administrator lets it be managed.
"""

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from yardgate.core.acl.rights import STRICT
from yardgate.core.host.state import (
    ADMIN,
    OF_THE_HOST,
    Dataset,
    Export,
    Folder,
    HostAccount,
    HostGroup,
    Members,
    Offer,
    whos,
)
from yardgate.core.host.steps import Step
from yardgate.core.model.naming import show

NEVER = frozenset({
    "root", "adm", "disk", "docker", "incus", "incus-admin", "kmem", "libvirt", "lxd", "mem", "podman", "shadow", "sudo", "sys",
    "systemd-journal", "tty", "wheel",
})  # fmt: skip
"""Groups whose members are root, or can make themselves be: nothing lets a plan change who they are."""
SYSTEM = (
    "/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/root", "/run", "/sbin", "/sys", "/tmp", "/usr",
    "/var/cache", "/var/lib", "/var/log", "/var/mail", "/var/run", "/var/spool", "/var/tmp",
)  # fmt: skip
"""Folders of the host's own (FHS 3.0, chapters 3 to 5), in which no shared folders lie."""
ABOVE = ("/", "/var")  # of which some are
LOWEST, HIGHEST = 1000, 60000  # numbers of people's accounts, where a host says nothing (login.defs(5))


@dataclass(frozen=True, slots=True, kw_only=True)
class HostAccounts:
    """The accounts and groups that a host has, by name, with their numbers; and from which numbers on it keeps people's. name: its own.
    plain_names: whether it calls the accounts of its domain by their names alone."""

    __pydantic_config__ = STRICT
    users: Mapping[str, int] = field(default_factory=dict)
    groups: Mapping[str, int] = field(default_factory=dict)
    lowest_uid: int = LOWEST
    lowest_gid: int = LOWEST
    name: str = ""
    plain_names: bool = False


class Managed(NamedTuple):
    """An account or group that a plan may change on its host, since it made it, or since an administrator gave it."""

    part: Literal["accounts", "groups"]
    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Bounds:
    """top: in which all folders lie. lowest, highest: of the numbers that may be given. managed: what may be changed."""

    top: str
    lowest: int = LOWEST
    highest: int = HIGHEST
    managed: frozenset[Managed] = frozenset()


def top_trouble(top: str) -> str:
    """Why no pools may lie in a folder; nothing where they may."""
    parts = top.split("/")
    if not top.startswith("/") or top != "/" + "/".join(part for part in parts if part) or {".", ".."} & set(parts):
        return f"{show(top)} is not a plain path from the root, as /srv"
    if top in ABOVE or any(top == folder or top.startswith(f"{folder}/") for folder in SYSTEM):
        return f"{show(top)} holds what the system itself needs; shared folders have to lie elsewhere, as in /srv"
    return ""


def below(top: str, path: str) -> bool:
    """Whether a path leads to something in the top, and nowhere else."""
    parts = path.split("/")
    return path.startswith(f"{top}/") and not {".", "..", ""} & set(parts[1:])


def refused(steps: Iterable[Step], bounds: Bounds, host: HostAccounts) -> Mapping[str, str]:
    """Step id -> why it may not be done. What earlier steps make may be changed by later ones."""
    found: dict[str, str] = {}
    ours = set(bounds.managed)
    for step in steps:
        if why := next(_whys(step, bounds, host, ours), ""):
            found[step.id] = why
            continue
        part = step.part
        if part == "accounts" or part == "groups":
            ours |= {Managed(part, step.record.name)}
    return found


def manageable(steps: Iterable[Step], bounds: Bounds, host: HostAccounts) -> tuple[Managed, ...]:
    """What steps would change that was there before, and that an administrator can let be managed."""
    found: dict[Managed, None] = {}
    for step in steps:
        name = step.record.name if step.before is None else step.before.name
        part: Literal["accounts", "groups"] = "accounts" if step.part == "accounts" else "groups"
        known = host.users if part == "accounts" else host.groups
        one = Managed(part, name)
        concerns = step.part in ("accounts", "groups", "members") and name in known and one not in bounds.managed
        if concerns and known[name] != 0 and not (part == "groups" and name in NEVER):
            found[one] = None
    return tuple(found)


def made(steps: Iterable[Step], managed: Collection[Managed] = ()) -> frozenset[Managed]:
    """What may be changed after some steps were done: also what they made or gave another name, and no more what they took away."""
    found = set(managed)
    for step in steps:
        part = step.part
        if part == "accounts" or part == "groups":
            if step.before is not None and step.does in ("rename", "remove"):
                found.discard(Managed(part, step.before.name))
            if step.does in ("make", "rename"):
                found.add(Managed(part, step.record.name))
    return frozenset(found)


def _whys(step: Step, bounds: Bounds, host: HostAccounts, ours: Collection[Managed]) -> Iterator[str]:
    was, now = step.before, step.after
    match step.record:
        case Folder(name=name) | Dataset(name=name):
            if isinstance(now, Folder) and any("\\" in who for who in (now.owner, now.group, *whos(now.listed))):
                yield from _by_name_alone(host)
            for path in {name: None, was.name if was is not None else name: None}:
                if not below(bounds.top, path):
                    yield f"{path} does not lie in {bounds.top}"
        case Offer(path=path) | Export(path=path):
            if now is not None and not below(bounds.top, path):
                yield f"{path} does not lie in {bounds.top}"
        case HostGroup():
            if was is not None:
                yield from _theirs("groups", was.name, host, ours)
            if isinstance(now, HostGroup):
                if was is None or was.name != now.name:
                    yield from _taken("groups", now.name, host, ours)
                old = was.gid if isinstance(was, HostGroup) else None
                yield from _number("group", now.gid, old, max(bounds.lowest, host.lowest_gid), bounds.highest)
        case Members(name=name):
            yield from _theirs("groups", name, host, ours)
            if isinstance(now, Members) and any("\\" in user for user in now.users):
                yield from _by_name_alone(host)
        case HostAccount():
            if isinstance(now, HostAccount):
                yield from (
                    f"{alias}, another name of {now.name}, is an account of the host that no rollout of this plan made"
                    for alias in now.aliases
                    if alias in host.users and Managed("accounts", alias) not in ours
                )
            if was is not None:
                yield from _theirs("accounts", was.name, host, ours)
            if isinstance(now, HostAccount):
                if was is None or was.name != now.name:
                    yield from _taken("accounts", now.name, host, ours)
                old = was.uid if isinstance(was, HostAccount) else None
                yield from _number("account", now.uid, old, max(bounds.lowest, host.lowest_uid), bounds.highest)
                if not isinstance(was, HostAccount) or was.primary != now.primary:
                    yield from _primary(now.primary, host, ours)


def _by_name_alone(host: HostAccounts) -> Iterator[str]:
    """Why nothing is written that names accounts of a domain: the host would not find them by it."""
    if host.plain_names:
        yield "the server calls the accounts of its domain by their names alone, which rollouts do not; set “winbind use default domain” to no there"


def _theirs(
    part: Literal["accounts", "groups"], name: str, host: HostAccounts, ours: Collection[Managed]
) -> Iterator[str]:
    """Why what is there already may not be changed."""
    number = (host.users if part == "accounts" else host.groups).get(name)
    if name == ADMIN or number == 0 or (part == "groups" and name in NEVER):
        yield f"{name} is the host's own: whoever is in it, or may change it, is root there"
    elif Managed(part, name) not in ours:
        what = "account" if part == "accounts" else "group"
        yield f"{name} is {'an' if what == 'account' else 'a'} {what} that no rollout of this plan made; an administrator can let it be managed"


def _taken(
    part: Literal["accounts", "groups"], name: str, host: HostAccounts, ours: Collection[Managed]
) -> Iterator[str]:
    known = host.users if part == "accounts" else host.groups
    if name in known and Managed(part, name) not in ours:
        yield f"the host has {name} already, and no rollout of this plan made it"
    elif name in OF_THE_HOST or (part == "groups" and name in NEVER):
        yield f"{name} is a name that hosts have for themselves"


def _number(what: str, number: int | None, before: int | None, lowest: int, highest: int) -> Iterator[str]:
    if number is not None and number != before and not lowest <= number <= highest:
        yield f"the number {number} is not one that {what}s may be given there ({lowest} to {highest})"


def _primary(name: str, host: HostAccounts, ours: Collection[Managed]) -> Iterator[str]:
    own = name in NEVER or name == ADMIN
    if own or (host.groups.get(name, host.lowest_gid) < host.lowest_gid and Managed("groups", name) not in ours):
        yield f"{name}, its primary group, is the host's own"
