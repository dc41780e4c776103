"""A Linux host's own addresses, and the networks that they are in (ip-address(8))."""

import json
from ipaddress import IPv4Interface, IPv6Interface, ip_interface
from typing import NamedTuple

from yardgate.drivers.linux.command import Command, Runner, understood


class OwnAddress(NamedTuple):
    at: IPv4Interface | IPv6Interface
    device: str


def own(run: Runner) -> tuple[OwnAddress, ...]:
    """Those by which others reach it, and then its own for itself; none where it does not tell them. Raises ApplianceError."""
    asking = Command(("ip", "-json", "address", "show", "up"), "ask the host's addresses", changes=False)
    done = run(asking)
    with understood(asking.why):
        told = json.loads(done.out or "[]") if not done.code else ()
        found = [
            OwnAddress(ip_interface(f"{one['local']}/{one['prefixlen']}"), str(link["ifname"]))
            for link in told
            for one in link.get("addr_info", ())
            if one.get("scope") != "link"
        ]
    return tuple(sorted(found, key=lambda one: one.at.ip.is_loopback))


def neighbours(run: Runner) -> tuple[tuple[str, str], ...]:
    """An address of each network that a host is in, other than its own, with the interface that leads there. Raises ApplianceError."""
    found = []
    for one in own(run):
        if not one.at.ip.is_loopback and one.at.network.num_addresses > 2:
            found.append((str(next(other for other in one.at.network.hosts() if other != one.at.ip)), one.device))
    return tuple(found)


def way(run: Runner, machine: str) -> str:
    """The interface by which an address is reached, and so comes in; none where none is. Raises ApplianceError."""
    asking = Command(("ip", "-json", "route", "get", machine), "ask the way to a client", changes=False)
    done = run(asking)
    with understood(asking.why):
        return str(json.loads(done.out)[0].get("dev", "")) if not done.code and done.out.strip() else ""
