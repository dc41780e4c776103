"""Trying a Linux host's exports for real: the host asks its own NFS server, as a client of one of its own addresses (`nfs_visit`)."""

import json
from collections.abc import Sequence
from pathlib import Path

from yardgate.core.host.probe import Abilities
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Runner, understood

VISITING = (Path(__file__).parent / "nfs_visit.py").read_text()


def enter(run: Runner, account: str, exported: str, folders: Sequence[str], address: str) -> list[Abilities] | None:
    """What somebody finds in folders of one that is exported; None where it is not shown to them. Raises ApplianceError."""
    asked = {
        "account": account,
        "address": address,
        "folders": [f"{exported}/{one}" if one else exported for one in folders],
    }
    argv = ("python3", "-I", "-c", VISITING, json.dumps(asked))
    command = Command(argv, "ask the NFS server", changes=False, root=True)
    done = run(command)
    if done.code:
        said = (done.err.strip() or done.out.strip()).splitlines()
        raise ApplianceError(said[-1] if said else "the NFS server could not be asked")
    with understood(command.why):
        answers = json.loads(done.out)
        return None if answers is None else [Abilities(*one) for one in answers]
