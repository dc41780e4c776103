"""Who gets in where, as CSV: for people, not to be taken in again."""

from collections.abc import Iterator

from yardgate.core.access.outcome import Outcome
from yardgate.core.access.summary import report
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import GUEST
from yardgate.formats import table

HEADER = ("place", "shares", "name", "full name", "best", "over SMB", "over NFS")


def write(found: Outcome) -> str:
    """A line for each person, and the guest, who gets something in a place, where a place differs from the one above."""
    return table.write([list(HEADER), *_rows(found)])


def _rows(found: Outcome) -> Iterator[list[str]]:
    plan = found.matrix.plan
    for access in report(found):
        place = [
            plan.path_name(access.place),
            ", ".join(f"{plan.shares[w.share].name} ({w.protocol.upper()})" for w in access.ways),
        ]
        people = [who for users in access.who.values() for who in users]
        for who in [*people, *([GUEST] if access.guest > Level.NA else [])]:
            name = (plan.called(who), plan.users[who].full_name) if who != GUEST else (GUEST, "")
            levels = (found.level(who, access.place, protocol) for protocol in (None, "smb", "nfs"))
            yield [*place, *name, *map(str, levels)]
