"""Walking through a share as somebody: what is shown, what opens, what can be saved, place by place."""

from dataclasses import dataclass
from datetime import date

from yardgate.core.packed import count
from yardgate.core.plan import Plan
from yardgate.core.reason import Gate
from yardgate.core.rights import (
    ADD_FILE,
    EVERYTHING,
    EXECUTE,
    LIST_DIRECTORY,
    READ_DATA,
    WRITE_DATA,
    Level,
    may_delete,
)
from yardgate.core.share import Over
from yardgate.core.storage import Laying, lay
from yardgate.core.ways import explain_over, inside


@dataclass(frozen=True, slots=True)
class Visit:
    """One place, as somebody finds it who came in over a share.

    shown: its name stands in the listing of the folder above (at the top: the share can be connected to). enters: it opens.
    lists: the names in it are shown. reads, changes, deletes: an ordinary file in it. adds: a new file in it.
    gate: what brings it down to this level.
    """

    place: str
    level: Level
    shown: bool
    enters: bool
    lists: bool
    reads: bool
    changes: bool
    adds: bool
    deletes: bool
    gate: Gate


def walk(plan: Plan, subject: str, over: Over, on: date, laying: Laying | None = None) -> tuple[Visit, ...]:
    """Every place of a share as a user, a group's member or the guest finds it, each after the one above."""
    laying = lay(plan, count(plan, on)) if laying is None else laying
    share = plan.shares[over.share]
    found: dict[str, Visit] = {}
    for place in inside(plan, share):
        above = found.get(plan.places[place].parent or "")
        found[place] = _visit(plan, subject, place, over, on, laying, above)
    return tuple(found.values())


def _visit(plan: Plan, subject: str, place: str, over: Over, on: date, laying: Laying, above: Visit | None) -> Visit:
    reason = explain_over(plan, subject, place, over, on, laying)
    let_in = min(gate.level for gate in reason.gates if gate.kind in ("account", "service", "share"))
    open_ = all(gate.level > Level.NA for gate in reason.gates if gate.kind == "way")
    rights = reason.rights if reason.rights is not None else EVERYTHING
    asked = plan.target.entering == "asked"
    enters = let_in > Level.NA and open_ and bool(rights.folder & EXECUTE or not asked)
    writes = enters and let_in == Level.RW
    shown = let_in > Level.NA if above is None else above.lists
    if above is not None and plan.shares[over.share].hide_unreadable:
        shown = shown and bool(rights.folder & LIST_DIRECTORY)
    return Visit(
        place,
        reason.level,
        shown,
        enters,
        enters and bool(rights.folder & LIST_DIRECTORY),
        enters and bool(rights.file & READ_DATA),
        writes and bool(rights.file & WRITE_DATA),
        writes and bool(rights.folder & ADD_FILE),
        writes and may_delete(rights),
        next(gate for gate in reason.gates if gate.decides),
    )
