"""Shares: what of storage is offered over SMB and NFS, to whom besides those whom grants name, and to which hosts."""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Literal

from yardgate.core.acl.rights import STRICT, Level

Protocol = Literal["smb", "nfs"]
ServiceId = Literal["smb", "nfs", "pages"]
Squash = Literal["none", "root", "all"]
Order = Literal["narrowest", "first"]
Wildcards = Literal["names", "both"]
Address = IPv4Address | IPv6Address
Network = IPv4Network | IPv6Network
HostsKind = Literal["address", "name", "network", "pattern", "all"]

# Where more than one kind of rule takes in a host, the narrower kind counts; of one kind, the longer prefix, then the earlier line.
NARROWNESS: tuple[HostsKind, ...] = ("address", "name", "network", "pattern", "all")


@dataclass(frozen=True, slots=True, kw_only=True)
class HostRule:
    """What some hosts get over NFS: RW, RO, or NA. hosts: an address, a network (address/prefix), a host name, or either with * and ?."""

    __pydantic_config__ = STRICT
    hosts: str
    level: Level


@dataclass(frozen=True, slots=True, kw_only=True)
class Share:
    """A place offered under a name.

    guests: what somebody without an account gets at the share: NA (they are not let in), RO or RW; storage still has its say.
    administrator: a user or group whose members act as root on the files inside, over SMB.
    grants: over SMB, who gets what at this share, where that is not what its place says; None: as its place says.
    acts_as: over SMB, the user whom storage sees in place of whoever came in, guests too. acts_as_group: the group that whoever came in
    counts as besides, and that owns what they make.
    hidden: not listed among the shares. hide_unreadable: in folders, only what somebody can read is listed.
    versions: over SMB, clients are shown earlier versions that the storage keeps, each with the list that it had then.
    recycle: what is deleted over SMB is moved into a folder of whoever deletes it, at the share's top.
    of_host: the host's own configuration offers it, and no rollout writes or ends it.
    hosts: for NFS, who may mount it; nobody else may. squash: for NFS, whose numeric id becomes the guest's.
    """

    __pydantic_config__ = STRICT
    id: str
    name: str
    place: str
    smb: bool = True
    nfs: bool = False
    guests: Level = Level.NA
    read_only: bool = False
    hidden: bool = False
    hide_unreadable: bool = False
    versions: bool = False
    recycle: bool = False
    administrator: str | None = None
    grants: Mapping[str, Level] | None = None
    acts_as: str | None = None
    acts_as_group: str | None = None
    hosts: tuple[HostRule, ...] = ()
    squash: Squash = "root"
    of_host: bool = False
    note: str = ""

    @property
    def acts(self) -> bool:
        """Whether storage sees people over SMB as somebody else, or in one group more."""
        return self.acts_as is not None or self.acts_as_group is not None

    def over(self, protocol: Protocol) -> bool:
        return self.smb if protocol == "smb" else self.nfs


@dataclass(frozen=True, slots=True, kw_only=True)
class Service:
    """A service of the appliance; `pages` are its own, where one signs in to look after it. only: the users and groups who may
    use it; None: everybody."""

    __pydantic_config__ = STRICT
    id: ServiceId
    on: bool = True
    allowed: frozenset[str] | None = None


@dataclass(frozen=True, slots=True)
class Over:
    """A way in: one share over one protocol. For NFS, from one host; address None: from whichever host gets most."""

    share: str
    protocol: Protocol
    address: Address | None = None
    host: str = ""


# --- host rules -------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Hosts:
    """Which hosts a rule takes in, as understood."""

    kind: HostsKind
    network: Network | None = None
    pattern: str = ""

    def take_in(self, address: Address, name: str = "", wildcards: Wildcards = "both") -> bool:
        if self.network is not None:
            return address in self.network
        by_address = self.kind == "all" or (self.kind == "pattern" and wildcards == "both")
        return (by_address and fnmatchcase(str(address), self.pattern)) or fnmatchcase(name.casefold(), self.pattern)


def hosts(text: str) -> Hosts:
    """What stands in a host rule. Raises ValueError, in words for a person."""
    if text == "*":
        return Hosts("all", None, "*")
    if not text or len(text) > 253:
        raise ValueError("a host rule needs an address, a network such as 192.0.2.0/24, or a host name")
    if re.fullmatch(r"[0-9a-fA-F.:]+(/[0-9.]+)?", text) and (":" in text or text.partition("/")[0].count(".") == 3):
        return _network(text)
    if "/" in text:
        raise ValueError(
            f"{text} is not a network: it needs an address before the /, and the length of the prefix after it"
        )
    if re.fullmatch(r"[0-9a-fA-F.:]+-[0-9a-fA-F.:]+", text) and "." in text:
        raise ValueError(f"{text} is a range; write the network (192.0.2.0/24), or a line for each address")
    if not re.fullmatch(
        r"[A-Za-z0-9*?]([A-Za-z0-9*?_-]*[A-Za-z0-9*?])?(\.[A-Za-z0-9*?]([A-Za-z0-9*?_-]*[A-Za-z0-9*?])?)*", text
    ):
        raise ValueError(f"{text} is neither an address, nor a network, nor a host name (RFC 1123 section 2.1)")
    if text.rpartition(".")[2].isdigit():
        raise ValueError(f"{text} is not an address: it needs four numbers from 0 to 255")
    return Hosts("pattern" if set(text) & set("*?") else "name", None, text.casefold())


def _network(text: str) -> Hosts:
    address, slash, prefix = text.partition("/")
    if prefix.startswith("0.") and prefix != "0.0.0.0":
        raise ValueError(f"{text}: the mask {prefix} is the wrong way round")
    try:
        known = ip_address(address)
        network = ip_network(text, strict=False)
    except ValueError:
        raise ValueError(f"{text} is not {'a network' if slash else 'an address'} of IPv4 or IPv6") from None
    if known != network.network_address:
        raise ValueError(f"{text} has bits beyond its prefix; the network is {network}")
    return Hosts("address" if network.num_addresses == 1 else "network", network)


def host_rule(
    rules: Sequence[HostRule], order: Order, address: Address, name: str = "", wildcards: Wildcards = "both"
) -> HostRule | None:
    """The rule that counts for a host; None where none takes it in, and then it may not mount the share."""
    for rule in in_order(rules, order):
        if hosts(rule.hosts).take_in(address, name, wildcards):
            return rule
    return None


def in_order(rules: Iterable[HostRule], order: Order) -> Sequence[HostRule]:
    """Rules so that the first which takes in a host is the one that counts for it."""

    def narrowness(rule: HostRule) -> tuple[int, int]:
        known = hosts(rule.hosts)
        return NARROWNESS.index(known.kind), -known.network.prefixlen if known.network is not None else 0

    return tuple(rules) if order == "first" else sorted(rules, key=narrowness)


# --- names ------------------------------------------------------------------------------------------------------------

_SPECIAL = frozenset(
    {"global", "homes", "printers", "ipc$", "print$", "admin$"}
)  # an SMB server has its own use for these


def share_name_trouble(name: str) -> str | None:
    """Why a text cannot be the name of a share, or None (MS-SRVS 2.2.4.22; MS-FSCC 2.1.6)."""
    odd = sorted(set(name) & set('"\\/[]:|<>+=;,*?%'))
    if odd:
        return f"has {' '.join(odd)}, which no server takes in the name of a share"
    if len(name) > 80:
        return f"has {len(name)} characters; the name of a share has at most 80"
    if name.casefold() in _SPECIAL:
        return "is a name that SMB servers have their own use for"
    return "begins or ends with a dot" if name.startswith(".") or name.endswith(".") else None
