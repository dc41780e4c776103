"""A host with a firewall and a machine beside it: reads rules, a JSON text of nft(8) a line, and says of each what nft lists, and which connections get through.

Runs as root in a network namespace of its own, started with unshare(1) by `test_firewall`.
"""

import contextlib
import errno
import json
import os
import select
import socket
import subprocess
import sys
import threading
import time

NETWORKS = {"lan0": ("10.99.0.1/24", "fd00:99::1/64"), "lan1": ("10.99.1.1/24",)}
SOURCES = {"10.99.0.2": "lan0", "10.99.0.200": "lan0", "10.99.1.2": "lan1", "fd00:99::2": "lan0"}
PORTS = (445, 2049)
PATIENCE = 0.4  # seconds, after which a connection is taken for dropped; one that gets through takes less than a hundredth of that


def run(*command: str, given: str = "") -> str:
    done = subprocess.run(command, input=given, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{' '.join(command)}: {done.stderr}\n{given}")
    return done.stdout


def beside() -> None:
    """The other machine: a line of nothing in, which connections get through out."""
    for _ in sys.stdin:
        waiting = {}
        for source in SOURCES:
            for port in PORTS:
                version = socket.AF_INET6 if ":" in source else socket.AF_INET
                wire = socket.socket(version)
                wire.setblocking(False)
                wire.bind((source, 0))
                to = NETWORKS[SOURCES[source]][1 if ":" in source else 0].partition("/")[0]
                if wire.connect_ex((to, port)) in (0, errno.EINPROGRESS):
                    waiting[wire] = f"{source} {port}"
        through, end = [], time.monotonic() + PATIENCE
        while waiting and time.monotonic() < end:
            for wire in select.select(list(waiting), [], [], max(0.0, end - time.monotonic()))[0]:
                name = waiting.pop(wire)
                with contextlib.suppress(OSError):
                    through += [name] if wire.recv(1) else []
                wire.close()
        for wire in waiting:
            wire.close()
        print(json.dumps(through), flush=True)


def greet(listener: socket.socket) -> None:
    """Say something to everybody whose connection is there, and hear them end it."""
    while True:
        wire, _ = listener.accept()
        wire.send(b"!")
        wire.close()


def main() -> None:
    run("ip", "link", "set", "lo", "up")
    for port in PORTS:
        listener = socket.create_server(("::", port), family=socket.AF_INET6, dualstack_ipv6=True, backlog=4096)
        threading.Thread(target=greet, args=[listener], daemon=True).start()
    other = subprocess.Popen(
        ["unshare", "--net", sys.executable, __file__, "beside"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    while os.readlink(f"/proc/{other.pid}/ns/net") == os.readlink("/proc/self/ns/net"):
        time.sleep(0.02)
    for device, addresses in NETWORKS.items():
        run("ip", "link", "add", device, "type", "veth", "peer", "name", f"to-{device}", "netns", str(other.pid))
        for address in addresses:
            run("ip", "address", "add", address, "dev", device, *(["nodad"] if ":" in address else []))
        run("ip", "link", "set", device, "up")
    there = ["nsenter", f"--net=/proc/{other.pid}/ns/net"]
    for source, device in SOURCES.items():
        length = "64" if ":" in source else "24"
        more = ["nodad"] if ":" in source else []
        run(*there, "ip", "address", "add", f"{source}/{length}", "dev", f"to-{device}", *more)
    for device in NETWORKS:
        run(*there, "ip", "link", "set", f"to-{device}", "up")
    for line in sys.stdin:
        run("nft", "-f", "-", given="flush ruleset\n" + json.loads(line))
        listed = run("nft", "--json", "list", "ruleset")
        other.stdin.write("\n")
        other.stdin.flush()
        print(json.dumps({"listed": listed, "through": json.loads(other.stdout.readline())}), flush=True)
    other.stdin.close()
    other.wait(20)


if sys.argv[1:] == ["beside"]:
    beside()
else:
    main()
