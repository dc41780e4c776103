"""Walking through a share as somebody: what is shown, what opens, what can be saved, place by place."""

from dataclasses import dataclass
from datetime import date

from yardgate.core.access.bitsets import count
from yardgate.core.access.paths import explain_over, identity, inside
from yardgate.core.access.spec.explain import Gate
from yardgate.core.access.storage import StorageState, shown_on, storage_state
from yardgate.core.acl.rights import (
    ADD_FILE,
    EVERYTHING,
    EXECUTE,
    LIST_DIRECTORY,
    READ_DATA,
    WRITE_DATA,
    Level,
    Rights,
    may_delete,
)
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Over


@dataclass(frozen=True, slots=True)
class Visit:
    """One place, as somebody finds it who came in over a share.

    shown: its name stands in the listing of the folder above (at the top: the share can be connected to, or mounted). enters: it opens.
    looks: the names in it may be asked for. lists: those of the files in it are shown. reads, changes, deletes: an ordinary file in it. adds: a new file in it.
    gate: what brings it down to this level.
    """

    place: str
    level: Level
    shown: bool
    enters: bool
    looks: bool
    lists: bool
    reads: bool
    changes: bool
    adds: bool
    deletes: bool
    gate: Gate


def walk(
    plan: Plan, subject: str, over: Over, on: date, storage: StorageState | None = None, to: str | None = None
) -> tuple[Visit, ...]:
    """Every place of a share as a user, a group's member or the guest finds it, each after the one above.

    to: only the places on the way there, itself included.
    """
    storage = storage_state(plan, count(plan, on)) if storage is None else storage
    share = plan.shares[over.share]
    found: list[Visit] = []
    listing: dict[str, bool] = {}  # place -> whether the names in it can be asked for
    path = plan.path(to) if to is not None else ()
    for place in inside(plan, share) if to is None else path[path.index(share.place) :]:
        reason = explain_over(plan, subject, place, over, on, storage)
        let_in = min(gate.level for gate in reason.gates if gate.kind in ("account", "service", "share"))
        open_ = all(gate.level > Level.NA for gate in reason.gates if gate.kind == "way")
        rights = reason.rights if reason.rights is not None else EVERYTHING
        enters = let_in > Level.NA and open_ and bool(rights.folder & EXECUTE or plan.target.traverse == "bypassed")
        opens = enters or (
            over.protocol == "nfs" and let_in > Level.NA and open_
        )  # READDIR asks nothing but LIST_DIRECTORY
        listing[place] = opens and bool(rights.folder & LIST_DIRECTORY)
        folder_shown, files_shown = _not_hidden(plan, subject, place, over, storage, rights)
        above = plan.places[place].parent
        writes = enters and let_in == Level.RW
        found.append(
            Visit(
                place,
                reason.level,
                let_in > Level.NA and (over.protocol == "smb" or open_)
                if place == share.place
                else listing[above or ""] and folder_shown,
                enters,
                listing[place],
                listing[place] and files_shown,
                enters and bool(rights.file & READ_DATA),
                writes and bool(rights.file & WRITE_DATA),
                writes and bool(rights.folder & ADD_FILE),
                writes and may_delete(rights),
                next(gate for gate in reason.gates if gate.decides),
            )
        )
    return tuple(found)


def _not_hidden(
    plan: Plan, subject: str, place: str, over: Over, storage: StorageState, rights: Rights
) -> tuple[bool, bool]:
    """Whether the share shows somebody a folder, and an ordinary file in it. NFS hides nothing."""
    stored = storage.get(place)
    if over.protocol == "nfs" or not plan.shares[over.share].hide_unreadable or stored is None or rights == EVERYTHING:
        return True, True
    return shown_on(plan, stored, *identity(plan, subject, over))
