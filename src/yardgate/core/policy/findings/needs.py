"""Findings about needs: what people should be able to do, beside what they can do over all ways in."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.bitsets import unpack
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings
from yardgate.core.suggest.asked import CODE_OF


def need_unmet(case: Case) -> Findings:
    """Somebody cannot do in a place what they need to do there.

    Look at the cell on the board: its reason says which step keeps them out, and the remedies what would let them in. If it is not needed any
    more, take the need away."""
    for place, cells in _of("need-unmet", case):
        said = f"Needed in {case.path(place)} and not had: {case.names(who for who, _ in cells)}."
        yield Finding("need-unmet", "consider", (place,), said, cells)


def need_forbidden(case: Case) -> Findings:
    """Somebody must not get to a place, and can read it.

    Look at the cell on the board: its reason says by which grant, list or share. Take them out of the group, or take the grant away."""
    for place, cells in _of("need-forbidden", case):
        said = f"Must not get to {case.path(place)}, and can read it: {case.names(who for who, _ in cells)}."
        yield Finding("need-forbidden", "serious", (place,), said, cells)


def need_exceeded(case: Case) -> Findings:
    """Somebody can do more in a place than they need; found only where needs speak of the place at all.

    If it is right, say that they need it; else take it away. Groups that give just what is needed are worked out by `yardgate suggest`."""
    for place, cells in _of("need-exceeded", case):
        said = f"Had in {case.path(place)} and not needed: {case.names(who for who, _ in cells)}."
        yield Finding("need-exceeded", "note", (place,), said, cells)


def _of(kind: str, case: Case) -> Iterator[tuple[str, tuple[CellKey, ...]]]:
    """The cells of one kind, place by place."""
    return ((cells[0][1], cells) for one, cells in beside(case) if one == kind)


def beside(case: Case) -> Iterator[tuple[str, tuple[CellKey, ...]]]:
    """Where something else comes out than is needed: the kind of finding, and the cells of one place, of people whose account is open."""
    if not case.plan.needs:
        return
    demand, counting = case.demand, case.matrix.counting
    rows = [counting.number[person] for person in demand.people]
    active = unpack(counting.active, counting.users)[rows]

    def cells(place: str, flags: NDArray[np.bool_]) -> tuple[CellKey, ...]:
        return tuple((demand.people[number], place) for number in np.flatnonzero(flags & active))

    for column, place in enumerate(demand.places):
        got = CODE_OF[case.outcome.best[None][place][rows]]
        least, most, never = demand.least[:, column], demand.most[:, column], demand.never[:, column]
        for kind, flags in (
            ("need-forbidden", never & (got > 0)),
            ("need-unmet", got < least),
            ("need-exceeded", (got > most) & ~never),
        ):
            if found := cells(place, flags):
                yield kind, found


CHECKS = (
    Check("need-forbidden", "serious", "Somebody can read what they must not", need_forbidden),
    Check("need-unmet", "consider", "Somebody does not get what they need", need_unmet),
    Check("need-exceeded", "note", "Somebody gets more than they need", need_exceeded),
)
