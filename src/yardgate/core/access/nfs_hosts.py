"""All hosts there are, in classes that host rules treat alike, and what each class gets.

A class is the hosts that one rule takes in and no narrower one does, or those that no rule takes in; one host of it answers for all. Names and
addresses are taken apart: a host that has a name is asked for with an address that no rule by address takes in, as far as there is one. A wildcard
that is no beginning of an address (10.0.?.*) is answered for by one address that it takes in.
"""

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache
from ipaddress import ip_address, ip_network
from typing import NamedTuple

from yardgate.core.acl.rights import Level
from yardgate.core.model.share import Address, HostRule, Hosts, Network, Order, Wildcards, hosts, in_order

ALL = {4: ip_network("0.0.0.0/0"), 6: ip_network("::/0")}


class HostClass(NamedTuple):
    """words: which hosts these are. address, name: one of them."""

    words: str
    address: Address
    name: str = ""


def levels(rules: Sequence[HostRule], order: Order, wildcards: Wildcards, some: Sequence[HostClass]) -> Sequence[Level]:
    """What one host of each class gets: the level of the rule that counts for it, NA where none takes it in."""
    known = [(hosts(rule.hosts), rule.level) for rule in in_order(rules, order)]
    return [_level(known, one, wildcards) for one in some]


def _level(known: Sequence[tuple[Hosts, Level]], one: HostClass, wildcards: Wildcards) -> Level:
    return next((level for rule, level in known if rule.take_in(one.address, one.name, wildcards)), Level.NA)


@lru_cache(maxsize=1024)
def most(rules: tuple[HostRule, ...], order: Order, wildcards: Wildcards) -> Level:
    """The most that any host gets, which may be less than the most that any rule gives: a rule may never count."""
    known = [(hosts(rule.hosts), rule.level) for rule in in_order(rules, order)]
    highest, found = max((rule.level for rule in rules), default=Level.NA), Level.NA
    for one in classes([rule.hosts for rule in rules], wildcards) if found < highest else ():
        found = max(found, _level(known, one, wildcards))
        if found == highest:
            break
    return found


def classes(texts: Sequence[str], wildcards: Wildcards) -> Iterator[HostClass]:
    """The classes that host rules of these texts tell apart, those without a rule last."""
    networks: dict[Network, str] = {}
    names: dict[str, str] = {}  # a name -> words
    odd: dict[Address, str] = {}
    for text in texts:
        known = hosts(text)
        if known.network is not None:
            networks.setdefault(known.network, text)
        elif known.kind == "name":
            names.setdefault(known.pattern, text)
        elif known.kind == "pattern":
            if re.search("[a-z]", known.pattern):  # no host is named 10.0.*
                names.setdefault(re.sub(r"[*?]", "x", known.pattern), f"a host named {text}")
            if wildcards == "both" and (network := _beginning(text)) is not None:
                networks.setdefault(network, text)
            elif wildcards == "both" and (address := _taken_in(text)) is not None:
                odd.setdefault(address, f"a host with an address such as {text}")
    nested = _nested({**dict.fromkeys(ALL.values(), ""), **networks})
    free: list[Address] = []
    for network, text in networks.items():
        if (address := _outside(network, nested[network])) is not None:
            yield HostClass(text if not nested[network] else f"the rest of {text}", address)
    yield from (HostClass(words, address) for address, words in odd.items())
    for version, network in ALL.items():
        if network not in networks and (address := _outside(network, nested[network])) is not None:
            free.append(address)
            yield HostClass("every other host" if version == 4 else "every other host by IPv6", address)
    at = free[:1] or [address for net in networks if (address := _outside(net, nested[net])) is not None]
    yield from (HostClass(words, address, name) for name, words in names.items() for address in at)


def _beginning(text: str) -> Network | None:
    """192.0.2.* as a network; None where a wildcard is not the beginning of an address."""
    parts = text.split(".")
    whole = parts[: parts.index("*")] if "*" in parts else parts
    if set(parts[len(whole) :]) != {"*"} or len(parts) > 4 or not all(re.fullmatch(r"\d{1,3}", one) for one in whole):
        return None
    try:
        return ip_network(f"{'.'.join(whole + ['0'] * (4 - len(whole)))}/{8 * len(whole)}")
    except ValueError:
        return None


def _taken_in(text: str) -> Address | None:
    for one in ("1", "10", "100"):
        try:
            return ip_address(text.replace("*", one).replace("?", "1"))
        except ValueError:
            continue
    return None


def _nested(networks: dict[Network, str]) -> dict[Network, list[Network]]:
    """For each network, the largest of the others that lie in it, in order of their addresses."""
    inner: dict[Network, list[Network]] = {network: [] for network in networks}
    around: list[Network] = []
    for network in sorted(networks, key=lambda one: (one.version, int(one.network_address), one.prefixlen)):
        while around and not (around[-1].version == network.version and network.network_address in around[-1]):
            around.pop()
        if around:
            inner[around[-1]].append(network)
        around.append(network)
    return inner


def _outside(network: Network, inner: Sequence[Network]) -> Address | None:
    """The first address of a network in none of those inside it."""
    at = int(network.network_address)
    for one in inner:
        if int(one.network_address) > at:
            break
        at = int(one.broadcast_address) + 1
    return network[at - int(network.network_address)] if at <= int(network.broadcast_address) else None
