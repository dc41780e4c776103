"""Whether a firewall keeps a client out: as a real kernel does it, of random rules of nft(8)."""

import json
import random
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest

from tests.real.host import OWN, host
from tests.real.test_host import runner, shell
from tests.tries import times
from yardgate.drivers.linux.command import Command, Done
from yardgate.drivers.linux.firewall import Ruleset
from yardgate.drivers.linux.host import LinuxHost

MATCHES = {
    "port": (
        "tcp dport 445", "tcp dport {{ 139, 445 }}", "tcp dport @ports", "tcp dport 400-500", "tcp dport != 445", "tcp dport {{ 1-500, 3000 }}", "th dport 2049",
        "meta l4proto tcp", "meta l4proto udp", "meta l4proto {{ tcp, udp }}", "udp dport 445", "icmp type echo-request", "ip protocol tcp", "ip6 nexthdr tcp",
    ),
    "address": (
        "ip saddr 10.99.0.0/24", "ip saddr != 10.99.0.2", "ip saddr @lan", "ip saddr {{ 10.99.0.2, 10.99.1.0/24 }}", "ip saddr 10.99.0.100-10.99.0.250",
        "ip saddr 10.99.0.2", "ip6 saddr fd00:99::/64", "ip6 saddr != fd00:99::2", "meta nfproto ipv4",
    ),
    "device": ("iifname lan0", 'iifname "lan*"', "iifname {{ lan0, lo }}", "iif lan1", 'iifname != "lan0"', "iif lo"),
    "state": ("ct state new", "ct state established,related", "ct state {{ new, related }}", "ct state invalid", "ct state != new"),
}  # fmt: skip
ALONE = {"th dport 2049", "icmp type echo-request", "ip protocol tcp", "ip6 nexthdr tcp"}
"""Of what nft lets stand beside nothing of another family or kind of packet."""
NOT_KNOWN = ("limit rate 1000/second", "meta mark 0", "meta skuid 0")
VERDICTS = (
    "accept",
    "accept",
    "drop",
    "reject",
    "return",
    "counter",
    "continue",
    "jump {sub}",
    "goto {sub}",
    "counter accept",
)
MAPS = {
    "port": "tcp dport vmap {{ 445 : accept, 2049 : drop }}",
    "state": "ct state vmap {{ invalid : drop, established : accept, new : jump {sub} }}",
    "device": "iifname vmap {{ lan0 : jump {sub}, lan1 : drop }}",
    "address": "ip saddr vmap @who",
}
IPV4, IPV6 = ("10.99.0.2", "10.99.0.200", "10.99.1.2"), ("fd00:99::2",)
DEVICES = {"10.99.1.2": "lan1"}


def rules(rng: random.Random, sub: str) -> str:
    lines = []
    for _ in range(rng.randint(0, 5)):
        kinds = rng.sample(list(MATCHES), rng.choice((0, 1, 1, 1, 2)))
        asked = [rng.choice(MATCHES[kind]) for kind in kinds]
        asked = asked[:1] if ALONE & set(asked) else asked
        if rng.random() < 0.06:
            asked.append(rng.choice(NOT_KNOWN))
        mapped = [MAPS[kind] for kind in MAPS if kind not in kinds] if not {"port", "address"} & set(kinds) else []
        verdict = rng.choice(mapped if mapped and rng.random() < 0.3 else VERDICTS)
        lines.append(" ".join((*asked, verdict)).format(sub=sub) + "\n")
    return "".join(lines)


def firewall(seed: int) -> str:
    """Neighbours are always found (IPv6 asks for them by ICMP), so that what is tried is what the rules say of TCP."""
    rng = random.Random(f"firewall-{seed}")
    text = ""
    for table in range(rng.choice((1, 1, 2))):
        hook, policy = rng.choice(("input", "input", "prerouting")), rng.choice(("accept", "drop"))
        named = """set ports { type inet_service; elements = { 445, 4000 }; }
          set lan { type ipv4_addr; flags interval; elements = { 10.99.0.0/25, 10.99.1.2 }; }
          map who { type ipv4_addr : verdict; elements = { 10.99.0.2 : accept, 10.99.1.2 : drop }; }"""
        text += f"""table inet t{table} {{
          {named}
          chain deep {{ {rules(rng, "empty")} }}
          chain empty {{ }}
          chain sub {{ {rules(rng, "deep")} }}
          chain base {{ type filter hook {hook} priority {rng.randint(-10, 10)}; policy {policy};
            meta l4proto icmpv6 accept
            {rules(rng, "sub")} }}
        }}
"""
    return text


def test_who_gets_through_is_as_the_kernel_has_it() -> None:
    texts = [firewall(seed) for seed in range(times(50, 400))]
    child = Path(__file__).with_name("firewall_child.py")
    done = subprocess.run(
        [*OWN, sys.executable, "-I", child],
        input="".join(f"{json.dumps(text)}\n" for text in texts),
        capture_output=True,
        text=True,
        start_new_session=True,
    )
    assert done.returncode == 0, done.stderr[-3000:]
    wrong, count = [], Counter[str]()
    for text, line in zip(texts, done.stdout.splitlines(), strict=True):
        said = json.loads(line)
        known = Ruleset(said["listed"])
        for source in (*IPV4, *IPV6):
            for port in (445, 2049):
                dropped = known.keeps_out(source, DEVICES.get(source, "lan0"), port)
                through = f"{source} {port}" in said["through"]
                sure = not any(words in text for words in NOT_KNOWN)
                count["through" if through else "kept out", "sure" if sure else "not sure"] += 1
                if through == (dropped is not None) and (sure or through):
                    wrong.append(
                        (source, port, through, dropped.name if dropped is not None else None, text, said["listed"])
                    )
    print(dict(count), len(wrong), "differ")
    for one in wrong[:3]:
        print(*one, sep="\n")
    assert wrong == []
    assert min(count.values()) > 5


def test_a_host_says_what_keeps_clients_out() -> None:
    with host() as keelson:
        at = LinuxHost(runner(keelson))
        assert at.shut("smb") == ""
        shell(
            keelson,
            "ip link add lan0 type veth peer name lan1; ip link set lan0 up; ip link set lan1 up; ip address add 192.0.2.10/24 dev lan0",
        )
        shell(
            keelson,
            "nft 'table inet f { chain in { type filter hook input priority 0; policy drop; tcp dport 2049 accept; ip saddr 192.0.2.41 accept; }; }'",
        )
        assert at.shut("smb") == (
            "clients on lan0 cannot reach the SMB server: the host's firewall (table inet f, chain in) stops port 445"
        )
        assert at.shut("nfs") == ""
        assert at.shut("smb", "192.0.2.41") == ""
        assert "192.0.2.42 cannot reach the SMB server: " in at.shut("smb", "192.0.2.42")
        shell(keelson, "nft flush ruleset")
        assert at.shut("smb") == ""


@pytest.mark.parametrize(
    "said",
    [
        "", "nonsense", "[]", '{"nftables": [{"rule": {}}]}', '{"nftables": [{"chain": {"family": "inet", "table": "t", "name": "in", "hook": "input", "prio": "filter"}}]}',
        json.dumps({"nftables": [
            {"chain": {"family": "inet", "table": "t", "name": "in", "hook": "input", "prio": 0, "policy": "drop"}},
            {"rule": {"family": "inet", "table": "t", "chain": "in", "expr": [{"jump": {"target": "gone"}}]}},
        ]}),
        json.dumps({"nftables": [
            {"chain": {"family": "inet", "table": "t", "name": "in", "hook": "input", "prio": 0, "policy": "drop"}},
            {"rule": {"family": "inet", "table": "t", "chain": "in", "expr": [{"match": {"op": "==", "left": 7, "right": {}}, "more": 1}]}},
        ]}),
    ],
)  # fmt: skip
def test_rules_that_are_said_otherwise_say_nothing(said: str) -> None:
    def run(command: Command) -> Done:
        address = '[{"ifname": "lan0", "addr_info": [{"local": "192.0.2.10", "prefixlen": 24, "scope": "global"}]}]'
        return Done(0, said if command.argv[0] == "nft" else address, "")

    assert LinuxHost(run).shut("smb") == ""
