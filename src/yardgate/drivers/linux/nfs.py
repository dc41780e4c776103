"""Trying a Linux host's exports for real: the host asks its own NFS server, as a client of one of its own addresses (`nfs_visit`)."""

import json
from collections.abc import Sequence
from ipaddress import ip_address
from pathlib import Path

from yardgate.core.host.probe import Abilities
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Runner

VISITING = (Path(__file__).parent / "nfs_visit.py").read_text()


def addresses(run: Runner) -> tuple[str, ...]:
    """Those that others reach it by, and then its own for itself; none where it does not tell them."""
    done = run(Command(("ip", "-json", "address", "show", "up"), "ask the host's addresses", changes=False))
    told = json.loads(done.out or "[]") if not done.code else ()
    found = [one["local"] for link in told for one in link.get("addr_info", ()) if one.get("scope") != "link"]
    return tuple(sorted(dict.fromkeys(found), key=lambda one: ip_address(one).is_loopback))


def enter(run: Runner, account: str, exported: str, folders: Sequence[str], address: str) -> list[Abilities] | None:
    """What somebody finds in folders of one that is exported; None where it is not shown to them. Raises ApplianceError."""
    asked = {
        "account": account,
        "address": address,
        "folders": [f"{exported}/{one}" if one else exported for one in folders],
    }
    command = ("python3", "-I", "-c", VISITING, json.dumps(asked))
    done = run(Command(command, "ask the NFS server", changes=False, root=True))
    if done.code:
        said = (done.err.strip() or done.out.strip()).splitlines()
        raise ApplianceError(said[-1] if said else "the NFS server could not be asked")
    answers = json.loads(done.out)
    return None if answers is None else [Abilities(*one) for one in answers]
