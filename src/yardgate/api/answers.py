"""Answers as the API gives them, made of what the core and the store say."""

import re
from collections.abc import Iterable, Mapping, Sequence
from itertools import chain
from typing import Literal

import numpy as np
from fastapi import Response
from numpy.typing import NDArray

from yardgate.api.schemas import (
    Around,
    CellChange,
    Changed,
    Column,
    EntryOut,
    GrantOut,
    HistoryStep,
    OffCell,
    ReasonOut,
    SinceOut,
    Stands,
)
from yardgate.core.access.batch.resolve import Matrix, detail
from yardgate.core.access.comparison import Comparison, View, column, stands
from yardgate.core.access.outcome import Outcome, Shift, Shifted, shifted
from yardgate.core.access.spec.explain import Reason
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Plan
from yardgate.services.derived import Services
from yardgate.store import JournalEntry, Opened, Plans

LEVEL_LETTERS = np.frombuffer(b"NPRW", dtype=np.uint8)
SOURCE_LETTERS = np.frombuffer(b"-ogaAxwli", dtype=np.uint8)
OF_THE_WAY = np.uint8(8)  # its number among them: it is the way in that gives, or leaves, something else
STATE_LETTERS = np.frombuffer(b"=s.u+<", dtype=np.uint8)
LISTED = 500
CELLS_LISTED = 2000


def file_name(opened: Opened, ending: str) -> str:
    """What a file about a plan is called: after the plan, with its revision."""
    name = re.sub(r"[^A-Za-z0-9._-]+", "-", opened.plan.name).strip("-.") or "plan"
    return f"{name}-r{opened.revision}-{ending}"


def attached(text: str | bytes, opened: Opened, ending: str, media: str = "text/plain; charset=utf-8") -> Response:
    """A file about a plan, to be kept rather than shown."""
    disposition = f'attachment; filename="{file_name(opened, ending)}"'
    return Response(
        text.encode() if isinstance(text, str) else text, media_type=media, headers={"Content-Disposition": disposition}
    )


def order(matrix: Matrix) -> NDArray[np.intp]:
    """Numbers of the subjects in the order of the API: users by id, then groups by id."""
    counting = matrix.counting
    users, groups = counting.subjects[: counting.users], counting.subjects[counting.users :]
    return np.array([counting.number[subject] for subject in (*sorted(users), *sorted(groups))], dtype=np.intp)


def columns(
    found: Comparison, places: Iterable[str], view: View = None, first: int = 0, count: int | None = None
) -> dict[str, Column]:
    """The columns of the board as they come out."""
    here, matrix = found.outcome, found.outcome.matrix
    wanted = [place for place in places if place in matrix.rows]
    shown = order(matrix)[first : None if count is None else first + count]
    details = detail(matrix, wanted)

    def letters(alphabet: NDArray[np.uint8], codes: NDArray[np.uint8]) -> str:
        return alphabet[codes[shown]].tobytes().decode("ascii")

    result = {}
    for place in wanted:
        comes, source = column(here, place, view), details[place].source
        told = found.places[place] if view is None else stands(here, place, view)
        elsewhere = comes[:-1] != matrix.rows[place]
        result[place] = Column(
            levels=letters(LEVEL_LETTERS, comes),
            sources=letters(SOURCE_LETTERS, np.where(elsewhere, OF_THE_WAY, source)),
            granted=letters(LEVEL_LETTERS, told.granted),
            states=letters(STATE_LETTERS, told.state),
        )
    return result


def changed(found: Shifted | Sequence[Shift]) -> Changed:
    told = found if isinstance(found, Shifted) else Shifted.of(found, LISTED)
    return Changed(
        total=told.total,
        people=told.people,
        places=told.places,
        cells=[
            CellChange(subject=c.subject, place=c.place, over=c.over, before=c.before, after=c.after)
            for c in told.cells
        ],
    )


def changes(before: Outcome, after: Outcome) -> Changed:
    """What comes out differently."""
    return changed(shifted(before, after, LISTED))


def off(found: Comparison, opened: Opened, what: Literal["off", "settled"] = "off") -> Stands:
    """Who gets more or less than is granted, or where grants differ and the rule settled it."""
    cells = chain(found.off("more"), found.off("less")) if what == "off" else found.off("settled")
    order = sorted(cells, key=lambda cell: (fold(opened.plan.path_name(cell.place)), cell.place, cell.subject))
    return Stands(
        revision=opened.revision,
        more=found.count("more"),
        less=found.count("less"),
        settled=found.count("settled"),
        cells=[
            OffCell(subject=cell.subject, place=cell.place, granted=cell.granted, gets=cell.gets)
            for cell in order[:CELLS_LISTED]
        ],
    )


def since(services: Services, opened: Opened) -> SinceOut:
    """The cells that come out otherwise than on the appliance."""
    there = services.in_force(opened)
    found = changes(there, services.outcome(opened)) if there is not None else changed(())
    return SinceOut(revision=services.rollouts.revision_in_force(opened.id), changed=found)


def around(services: Services, opened: Opened, last: JournalEntry) -> Around:
    return Around(
        stands=off(services.gets(opened), opened),
        since=since(services, opened),
        last=entry_out(last),
    )


def grants(plan: Plan, places: Iterable[str]) -> Mapping[str, list[GrantOut]]:
    return {p: [GrantOut(who=who, level=level) for who, level in plan.grants.get(p, {}).items()] for p in places}


def entry_out(entry: JournalEntry) -> EntryOut:
    return EntryOut.model_validate(entry, from_attributes=True)


def told(opened: Opened, found: Reason, subject: str) -> ReasonOut:
    granted = {who for gate in found.gates for line in gate.lines for who in (line.who, *line.way)}
    listed = {who for gate in found.gates for line in gate.entries for who in (line.who, *line.way) if who}
    mentioned = granted | listed | {subject}
    names = {who: opened.plan.named(who) for who in sorted(mentioned)}
    return ReasonOut(revision=opened.revision, reason=found, names=names)


def step(plans: Plans, opened: Opened, stack: tuple[int, ...]) -> HistoryStep | None:
    """What would be undone, or done again, next."""
    if not stack:
        return None
    entry = plans.history(opened.id, before=stack[-1] + 1, most=1)[0]
    words = entry.words.removeprefix("undid: ").removeprefix("redid: ")
    return HistoryStep.model_validate({"revision": entry.revision, "words": words, "by": entry.by, "at": entry.at})
