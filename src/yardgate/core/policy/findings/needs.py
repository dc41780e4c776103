"""Findings about needs: what people should be able to do, beside what they can do over all ways in."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.bitsets import unpack
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings
from yardgate.core.suggest.asked import Demand, asked
from yardgate.core.suggest.cover import CHANGE, READ

Flags = NDArray[np.bool_]
READS = np.array([READ if level == Level.RO else CHANGE if level == Level.RW else 0 for level in LEVELS], np.uint8)


def need_unmet(case: Case) -> Findings:
    """Somebody cannot do in a place what they need to do there.

    Look at the cell on the board: its reason says which step keeps them out, and the remedies what would let them in. If it is not needed any
    more, take the need away."""
    for place, column, demand, got in _columns(case):
        cells = _cells(case, demand, place, got < demand.least[:, column])
        if cells:
            who = case.names(one for one, _ in cells)
            said = f"Needed in {case.path(place)} and not had: {who}."
            yield Finding("need-unmet", "consider", (place,), said, cells)


def need_forbidden(case: Case) -> Findings:
    """Somebody must not get to a place, and can read it.

    Look at the cell on the board: its reason says by which grant, list or share. Take them out of the group, or take the grant away."""
    for place, column, demand, got in _columns(case):
        cells = _cells(case, demand, place, demand.never[:, column] & (got > 0))
        if cells:
            who = case.names(one for one, _ in cells)
            said = f"Must not get to {case.path(place)}, and can read it: {who}."
            yield Finding("need-forbidden", "serious", (place,), said, cells)


def need_exceeded(case: Case) -> Findings:
    """Somebody can do more in a place than they need; found only where needs speak of the place at all.

    If it is right, say that they need it; else take it away. Groups that give just what is needed are worked out by `yardgate suggest`."""
    for place, column, demand, got in _columns(case):
        more = (got > demand.most[:, column]) & ~demand.never[:, column]
        cells = _cells(case, demand, place, more)
        if cells:
            who = case.names(one for one, _ in cells)
            said = f"Had in {case.path(place)} and not needed: {who}."
            yield Finding("need-exceeded", "note", (place,), said, cells)


def _columns(case: Case) -> Iterator[tuple[str, int, Demand, NDArray[np.uint8]]]:
    """Each place of which a need speaks, its column in the table, the table, and what each person gets over any way in."""
    if not case.plan.needs:
        return
    demand = asked(case.plan, case.plan.needs.values(), case.on)
    rows = [case.matrix.counting.number[person] for person in demand.people]
    for column, place in enumerate(demand.places):
        yield place, column, demand, READS[case.outcome.best[None][place][rows]]


def _cells(case: Case, demand: Demand, place: str, flags: Flags) -> tuple[CellKey, ...]:
    counting = case.matrix.counting
    active = unpack(counting.active, counting.users)
    people = (demand.people[number] for number in np.flatnonzero(flags))
    return tuple((person, place) for person in people if active[counting.number[person]])


CHECKS = (
    Check("need-forbidden", "serious", "Somebody can read what they must not", need_forbidden),
    Check("need-unmet", "consider", "Somebody does not get what they need", need_unmet),
    Check("need-exceeded", "note", "Somebody gets more than they need", need_exceeded),
)
