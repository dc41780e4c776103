"""Ordered lists as the SMB server's security descriptors, and its own access check of them."""

import json
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from tests.conftest import ON
from yardgate.core.lists.ordered import (
    DIRECTORY_INHERIT,
    FILE_INHERIT,
    GROUP,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE_INHERIT,
    OWNER,
    Entry,
    files_of,
)
from yardgate.core.membership import containers, token
from yardgate.core.packed import count
from yardgate.core.plan import EVERYONE, ROOT, Plan
from yardgate.core.storage import Laid, OrderedLaid, lay, rights_on

# The flag words of SDDL (MS-DTYP 2.5.1.1).
SDDL_FLAGS = {
    FILE_INHERIT: "OI",
    DIRECTORY_INHERIT: "CI",
    NO_PROPAGATE_INHERIT: "NP",
    INHERIT_ONLY: "IO",
    INHERITED: "ID",
}
WORLD = "S-1-1-0"


def sid(plan: Plan, who: str) -> str:
    if who == EVERYONE:
        return WORLD
    if who == ROOT:
        return "S-1-22-1-0"
    kind, ids = (1000, plan.users) if who in plan.users else (5000, plan.groups)
    return f"S-1-5-21-1-2-3-{kind + list(ids).index(who)}"


def sddl(plan: Plan, laid: Laid, entries: Sequence[Entry]) -> str:
    """A list as a security descriptor in SDDL: rights and flags are the same bits, who's become SIDs."""
    special = {OWNER: laid.owner, GROUP: laid.group}
    aces = "".join(
        f"({'A' if e.type == 'allow' else 'D'};{''.join(word for bit, word in SDDL_FLAGS.items() if e.flags & bit)};"
        f"0x{e.mask:x};;;{sid(plan, special.get(e.who, e.who))})"
        for e in entries
    )
    return f"O:{sid(plan, laid.owner)}G:{sid(plan, laid.group)}D:P{aces}"


class Server:
    """The helper under the system's Python."""

    def __init__(self) -> None:
        child = Path(__file__).with_name("samba_child.py")
        self.process = subprocess.Popen(
            ["/usr/bin/python3", "-I", child], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def granted(self, descriptors: list[str], tokens: list[list[str]]) -> list[int]:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(json.dumps({"descriptors": descriptors, "tokens": tokens}) + "\n")
        self.process.stdin.flush()
        found: list[int] = json.loads(self.process.stdout.readline())
        return found


@contextmanager
def server() -> Iterator[Server]:
    helper = Server()
    try:
        yield helper
    finally:
        assert helper.process.stdin is not None
        helper.process.stdin.close()
        assert helper.process.wait(30) == 0


def compare(plan: Plan, helper: Server) -> tuple[int, list[str]]:
    """Every person on every place's folder and ordinary file: (descriptor checks, what differs)."""
    laying, above = lay(plan, count(plan, ON)), containers(plan)
    people = [user for user in plan.users if plan.users[user].uid != 0]  # root does not get as far as a descriptor
    names = {user: token(plan, user, above) for user in people}
    tokens = [[sid(plan, user), *(sid(plan, g) for g in names[user] if g in plan.groups), WORLD] for user in people]
    asked, wrong = 0, []
    for place, laid in laying.items():
        assert isinstance(laid.list, OrderedLaid)
        entries = laid.list.entries
        real = helper.granted([sddl(plan, laid, entries), sddl(plan, laid, files_of(entries))], tokens)
        expected = [rights_on(plan, laid, user, names[user]) for user in people]
        ours = [rights.folder for rights in expected] + [rights.file for rights in expected]
        asked += len(real)
        wrong += [
            f"{user} on {place}: server {theirs:x}, we {mine:x}"
            for user, theirs, mine in zip(people * 2, real, ours, strict=True)
            if theirs != mine
        ]
    return asked, wrong
