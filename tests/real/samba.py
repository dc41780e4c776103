"""Ordered lists as the SMB server's security descriptors, and its own access check of them."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from tests.conftest import ON
from tests.real.helper import Helper, helper
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.storage import Nfs4State, PlaceState, rights_on, storage_state
from yardgate.core.acl.nfs4 import (
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
from yardgate.core.model.plan import EVERYONE, ROOT, Plan

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


def sddl(plan: Plan, stored: PlaceState, entries: Sequence[Entry]) -> str:
    """A list as a security descriptor in SDDL: rights and flags are the same bits, who's become SIDs."""
    special = {OWNER: stored.owner, GROUP: stored.group}
    aces = "".join(
        f"({'A' if e.type == 'allow' else 'D'};{''.join(word for bit, word in SDDL_FLAGS.items() if e.flags & bit)};"
        f"0x{e.mask:x};;;{sid(plan, special.get(e.who, e.who))})"
        for e in entries
    )
    return f"O:{sid(plan, stored.owner)}G:{sid(plan, stored.group)}D:P{aces}"


class Server:
    """The helper under the system's Python."""

    def __init__(self, beside: Helper) -> None:
        self.beside = beside

    def granted(self, descriptors: list[str], tokens: list[list[str]]) -> list[int]:
        found: list[int] = self.beside.ask({"descriptors": descriptors, "tokens": tokens})
        return found


@contextmanager
def server() -> Iterator[Server]:
    with helper("/usr/bin/python3", "samba_child.py") as beside:
        yield Server(beside)


def compare(plan: Plan, asked_of: Server) -> tuple[int, list[str]]:
    """Every person on every place's folder and ordinary file: (descriptor checks, what differs)."""
    storage = storage_state(plan, count(plan, ON))
    people = [user for user in plan.users if plan.users[user].uid != 0]  # root does not get as far as a descriptor
    names = {user: token(plan, user) for user in people}
    tokens = [[sid(plan, user), *(sid(plan, g) for g in names[user] if g in plan.groups), WORLD] for user in people]
    asked, wrong = 0, []
    for place, stored in storage.items():
        assert isinstance(stored.list, Nfs4State)
        entries = stored.list.entries
        real = asked_of.granted([sddl(plan, stored, entries), sddl(plan, stored, files_of(entries))], tokens)
        expected = [rights_on(plan, stored, user, names[user]) for user in people]
        ours = [rights.folder for rights in expected] + [rights.file for rights in expected]
        asked += len(real)
        wrong += [
            f"{user} on {place}: server {theirs:x}, we {mine:x}"
            for user, theirs, mine in zip(people * 2, real, ours, strict=True)
            if theirs != mine
        ]
    return asked, wrong
