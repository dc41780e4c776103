"""Whether a Linux host's own firewall (nftables, nft(8)) keeps clients from its servers, by the rules that it has.

The packets of a connection are led through the rules as the kernel leads them: through each base chain of its hook by priority, where to drop it is final and
to accept one ends that chain. What a rule asks that is not known here may hold or not; so a connection may have several ends, and only one that
can but be dropped is told. Where nft is not there, or its rules cannot be read, nothing is.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from ipaddress import ip_address, ip_network
from typing import Any, Literal

from yardgate.core.host.step_words import SERVERS
from yardgate.core.model.share import Protocol
from yardgate.drivers.linux import network
from yardgate.drivers.linux.command import NOT_AS_DESCRIBED, Command, Runner

PORTS: Mapping[Protocol, int] = {"smb": 445, "nfs": 2049}  # MS-SMB2 section 2.1; RFC 7530 section 3.1
End = Literal["accept", "drop", "return", "go on"]
Rule = Sequence[Mapping[str, Any]]
DEEPEST = 32  # chains in chains


@dataclass(frozen=True, slots=True)
class Packet:
    """One from a client, of a connection over TCP. device: the interface that it comes in by. state: new of the first, established of all others."""

    source: str
    device: str
    port: int
    state: str = "new"

    @property
    def version(self) -> int:
        return ip_address(self.source).version


@dataclass(frozen=True, slots=True)
class Chain:
    """hook, priority, policy: of a base chain; others have none."""

    family: str
    table: str
    name: str
    rules: tuple[Rule, ...]
    hook: str = ""
    priority: int = 0
    policy: str = "accept"


class Ruleset:
    """What `nft --json list ruleset` says (libnftables-json(5))."""

    def __init__(self, said: str) -> None:
        listed: Sequence[Mapping[str, Any]] = json.loads(said)["nftables"]
        rules: dict[tuple[str, str, str], list[Rule]] = {}
        for one in (line["rule"] for line in listed if "rule" in line):
            rules.setdefault((one["family"], one["table"], one["chain"]), []).append(one["expr"])
        self.chains = {
            key: Chain(*key, tuple(rules.get(key, ())), one.get("hook", ""), one.get("prio", 0), one.get("policy", ""))
            for one in (line["chain"] for line in listed if "chain" in line)
            for key in [(one["family"], one["table"], one["name"])]
        }
        self.sets: dict[tuple[str, str, str], Sequence[Any]] = {
            (one["family"], one["table"], one["name"]): one.get("elem", ())
            for kind in ("set", "map")
            for one in (line[kind] for line in listed if kind in line)
        }

    def keeps_out(self, source: str, device: str, port: int) -> Chain | None:
        """The chain that surely ends connections from an address; None where they get through, or may."""
        states = ("new", "established")
        return next(filter(None, (self._dropped(Packet(source, device, port, state)) for state in states)), None)

    def _dropped(self, packet: Packet) -> Chain | None:
        families = {"inet", "ip" if packet.version == 4 else "ip6"}
        for hook in ("prerouting", "input"):
            base = [chain for chain in self.chains.values() if chain.hook == hook and chain.family in families]
            for chain in sorted(base, key=lambda chain: chain.priority):
                ends = self._through(chain, packet, 0)
                usual: set[End] = {"drop"} if chain.policy == "drop" else {"accept"}
                if ends - {"go on", "return"} | (usual if ends & {"go on", "return"} else set()) == {"drop"}:
                    return chain
        return None

    def _through(self, chain: Chain, packet: Packet, depth: int) -> set[End]:
        """The ends that a packet may come to in a chain; go on: none of its rules ends it."""
        found = set[End]()
        for rule in chain.rules if depth < DEEPEST else ():
            applies, ends = self._rule(chain, rule, packet, depth)
            if applies is False:
                continue
            found |= ends - {"go on"}
            if applies and "go on" not in ends:
                return found
        return found | {"go on"} if depth < DEEPEST else {"accept", "drop"}

    def _rule(self, chain: Chain, rule: Rule, packet: Packet, depth: int) -> tuple[bool | None, set[End]]:
        """Whether a rule applies (None: it may), and what it does then."""
        applies: bool | None = True
        for said in rule:
            [(kind, value)] = said.items()
            match kind:
                case "match":
                    holds = self._holds(chain, value, packet)
                    if holds is False:
                        return False, set()
                    applies = None if holds is None else applies
                case (
                    "xt" | "limit" | "quota" | "connlimit"
                ):  # what a compatible program asks, or what depends on what came before
                    applies = None
                case "vmap":
                    return applies, self._mapped(chain, value, packet, depth)
                case "reject" if _refuses_others(
                    value, packet
                ):  # nft leaves out that it asks for the family of its answer
                    return False, set()
                case "queue" | "fwd" | "synproxy":
                    return applies, {"accept", "drop"}
                case _ if (ends := self._verdict(chain, said, packet, depth)) is not None:
                    return applies, ends
        return applies, {"go on"}

    def _verdict(self, chain: Chain, said: Mapping[str, Any], packet: Packet, depth: int) -> set[End] | None:
        [(kind, value)] = said.items()
        match kind:
            case "accept":
                return {"accept"}
            case "drop" | "reject":
                return {"drop"}
            case "return":
                return {"return"}
            case "continue":
                return {"go on"}
            case "jump" | "goto":
                into = self.chains[chain.family, chain.table, value["target"]]
                ends = self._through(into, packet, depth + 1)
                back: End = "go on" if kind == "jump" else "return"
                return ends - {"go on", "return"} | ({back} if ends & {"go on", "return"} else set())
        return None

    def _mapped(self, chain: Chain, said: Mapping[str, Any], packet: Packet, depth: int) -> set[End]:
        """A verdict by a value: that of the first entry that has it."""
        ends, value = set[End](), _value(said["key"], packet)
        for entry, verdict in self._elements(chain, said["data"]):
            holds = None if value is None else self._has(chain, entry, value)
            if holds is not False:
                ends |= self._verdict(chain, verdict, packet, depth) or {"go on"}
            if holds:
                return ends
        return ends | {"go on"}

    def _holds(self, chain: Chain, said: Mapping[str, Any], packet: Packet) -> bool | None:
        value = _value(said["left"], packet)
        if value is None or said["op"] not in ("==", "!=", "in"):
            return None
        if value == "":  # of another kind of packet
            return False
        holds = self._has(chain, said["right"], value)
        return not holds if said["op"] == "!=" and holds is not None else holds

    def _has(self, chain: Chain, said: Any, value: str | int) -> bool | None:
        """Whether a value is one of what is said."""
        match said:
            case {"elem": {"val": one}}:
                return self._has(chain, one, value)
            case {"range": [low, high]}:
                return _order(low) <= _order(value) <= _order(high)
            case {"prefix": {"addr": address, "len": length}}:
                network = ip_network(f"{address}/{length}", strict=False)
                return isinstance(value, str) and ip_address(value) in network
            case list() | {"set": _}:
                found = [self._has(chain, one, value) for one in self._elements(chain, said)]
                return True if True in found else None if None in found else False
            case str() if said.startswith("@"):
                return self._has(chain, list(self._elements(chain, said)), value)
            case str() if isinstance(value, str):
                return fnmatchcase(value, said) if said.endswith("*") else said == value
            case str() | int():
                return said == value
        return None

    def _elements(self, chain: Chain, said: Any) -> Iterator[Any]:
        match said:
            case {"set": found} if isinstance(found, list):
                yield from found
            case {"set": found}:
                yield found
            case list():
                yield from said
            case str():
                yield from self.sets.get((chain.family, chain.table, said.removeprefix("@")), ())


def _refuses_others(said: Any, packet: Packet) -> bool:
    return isinstance(said, dict) and said.get("type") == ("icmpv6" if packet.version == 4 else "icmp")


def _order(value: Any) -> tuple[int, int]:
    return (0, value) if isinstance(value, int) else (ip_address(value).version, int(ip_address(value)))


def _value(said: Mapping[str, Any], packet: Packet) -> str | int | None:
    """What a packet has of what a rule looks at: nothing, as text, where only other packets have it; None where that is not known here."""
    version = packet.version
    match said:
        case {"payload": {"protocol": "tcp" | "th", "field": "dport"}}:
            return packet.port
        case {"payload": {"protocol": "ip" | "ip6" as kind, "field": "saddr"}}:
            return packet.source if kind == ("ip" if version == 4 else "ip6") else ""
        case {"payload": {"protocol": "ip", "field": "protocol"}}:
            return "tcp" if version == 4 else ""
        case {"payload": {"protocol": "ip6", "field": "nexthdr"}}:
            return "tcp" if version == 6 else ""
        case {"payload": {"protocol": "udp" | "udplite" | "sctp" | "dccp" | "icmp" | "icmpv6" | "igmp" | "esp" | "ah"}}:
            return ""
        case {"meta": {"key": "l4proto"}}:
            return "tcp"
        case {"meta": {"key": "nfproto"}}:
            return f"ipv{version}"
        case {"meta": {"key": "protocol"}}:
            return "ip" if version == 4 else "ip6"
        case {"meta": {"key": "iifname" | "iif"}}:
            return packet.device
        case {"ct": {"key": "state"}}:
            return packet.state
    return None


# --- a host -----------------------------------------------------------------------------------------------------------


def ruleset(run: Runner) -> Ruleset | None:
    """The rules of a host; None where they cannot be read."""
    done = run(Command(("nft", "--json", "list", "ruleset"), "read the firewall's rules", changes=False))
    try:
        return None if done.code else Ruleset(done.out)
    except NOT_AS_DESCRIBED:
        return None


def shut(run: Runner, protocol: Protocol, machine: str = "") -> str:
    """What keeps a client from a server, in words; nothing where nothing is known to. machine: its address; none: anybody in the networks that the host is in."""
    known = ruleset(run)
    if known is None:
        return ""
    asking = [(machine, network.way(run, machine))] if machine else list(network.neighbours(run))
    try:
        dropped = [known.keeps_out(source, device, PORTS[protocol]) for source, device in asking]
    except NOT_AS_DESCRIBED:
        return ""
    first = dropped[0] if dropped and all(dropped) else None
    if first is None:
        return ""
    whom = machine or f"clients on {', '.join(sorted({device for _, device in asking}))}"
    chain = f"table {first.family} {first.table}, chain {first.name}"
    return f"{whom} cannot reach {SERVERS[protocol]}: the host's firewall ({chain}) stops port {PORTS[protocol]}"
