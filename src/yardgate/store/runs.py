"""What is carried out on appliances, written down before and after each step, so that a restart knows how far it was."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from typing import Any, Literal

from pydantic import TypeAdapter
from sqlalchemy import Connection, Row, func, insert, select, update

from yardgate.core.host.probe import Question
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination, Step
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now


class RunState(StrEnum):
    """How far a run is. Each leads to those below it, or to one of the last four, which end it."""

    PENDING = "pending"  # not watched over yet
    BY_HAND = "by-hand"  # somebody works through it at the appliance, and marks what is done
    APPLYING = "applying"
    VERIFYING = "verifying"
    AWAITING_CONFIRMATION = "awaiting-confirmation"  # everything is done and verified
    CONFIRMING = "confirming"
    ROLLING_BACK = "rolling-back"
    HOST_ROLLING_BACK = "host-rolling-back"  # by itself, since nobody told it to keep
    COMMITTED = "committed"
    ROLLED_BACK = "rolled-back"
    PARTLY_ROLLED_BACK = "partly-rolled-back"
    ABANDONED = "abandoned"  # an administrator ended it, whatever stands there


ENDED = (RunState.COMMITTED, RunState.ROLLED_BACK, RunState.PARTLY_ROLLED_BACK, RunState.ABANDONED)
LineKind = Literal["step", "back", "tried", "note", "snapshot", "marked", "unmarked", "end-sessions"]
_SYSTEM, _STEPS = TypeAdapter(System), TypeAdapter(tuple[Step, ...])
_QUESTIONS, _DESTINATION = TypeAdapter(tuple[Question, ...]), TypeAdapter(Destination)


class UnderWay(Exception):
    """A plan is rolled out already, or lists are pushed down."""


@dataclass(frozen=True, slots=True)
class RunLine:
    """Something that was done, and what came of it. step, back: number of the step, and why it could not be done; tried: number of
    the question, and what was otherwise than the plan says; note: what happened, in words; snapshot: of which dataset one was made before anything was changed, and its
    name; marked, unmarked: number of the step, and who said so;
    end-sessions: who wants those ended that would keep what they were."""

    kind: LineKind
    at: str
    number: int
    said: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Run:
    """A rollout that is carried out, or was. before: what the appliance had. until: when it puts back by itself (UTC)."""

    plan: str
    number: int
    at: str
    by: str
    revision: int
    top: str
    destination: Destination
    seconds: int
    before: System
    steps: tuple[Step, ...]
    questions: tuple[Question, ...]
    state: RunState
    trouble: str
    until: str | None
    ended: str | None


def free(connection: Connection, plan: str) -> None:
    """Raises UnderWay where something is done on the appliance of a plan."""
    runs, pushes = tables.runs.c, tables.pushes.c
    for busy in (
        select(runs.number).where(runs.plan == plan, runs.state.not_in(ENDED)),
        select(pushes.number).where(pushes.plan == plan, pushes.state == "under way"),
    ):
        if connection.scalar(busy) is not None:
            raise UnderWay


def marked_done(lines: Iterable[RunLine]) -> dict[int, RunLine]:
    """The places of the steps that somebody says to have done by hand, each with the line that says so."""
    last = {line.number: line for line in lines if line.kind in ("marked", "unmarked")}
    return {number: line for number, line in last.items() if line.kind == "marked"}


class Runs:
    """The runs of all plans."""

    def __init__(self, store: Store):
        self.store = store

    def begin(
        self,
        plan: str,
        by: str,
        revision: int,
        top: str,
        destination: Destination,
        seconds: int,
        before: System,
        steps: tuple[Step, ...],
        questions: tuple[Question, ...],
        state: RunState = RunState.PENDING,
    ) -> Run:
        """Raises UnderWay."""
        runs = tables.runs.c
        with self.store.writing() as connection:
            free(connection, plan)
            last = connection.scalar(select(func.max(runs.number)).where(runs.plan == plan)) or 0
            at = now()
            row = {
                "plan": plan, "number": last + 1, "at": at, "by": by, "revision": revision, "top": top,
                "destination": _DESTINATION.dump_python(destination), "seconds": seconds,
                "before": _SYSTEM.dump_json(before, exclude_defaults=True).decode(),
                "steps": _STEPS.dump_json(steps).decode(), "questions": _QUESTIONS.dump_json(questions).decode(),
                "state": state.value, "trouble": "", "until": None, "ended": None,
            }  # fmt: skip
            connection.execute(insert(tables.runs).values(**row))
        return Run(
            plan,
            last + 1,
            at,
            by,
            revision,
            top,
            destination,
            seconds,
            before,
            steps,
            questions,
            state,
            "",
            None,
            None,
        )

    def set(self, run: Run, state: RunState, trouble: str | None = None, until: str | None = None) -> None:
        """trouble None: as it was."""
        values: dict[str, Any] = {"state": state.value, "until": until, "ended": now() if state in ENDED else None}
        if trouble is not None:
            values["trouble"] = trouble
        with self.store.writing() as connection:
            runs = tables.runs.c
            here = (runs.plan == run.plan) & (runs.number == run.number)
            connection.execute(update(tables.runs).where(here).values(**values))

    def say(self, run: Run, kind: LineKind, number: int, *said: str) -> None:
        lines = tables.run_lines.c
        with self.store.writing() as connection:
            here = (lines.plan == run.plan) & (lines.run == run.number)
            last = connection.scalar(select(func.max(lines.number)).where(here)) or 0
            row = {"plan": run.plan, "run": run.number, "number": last + 1, "kind": kind, "at": now()}
            connection.execute(insert(tables.run_lines).values(**row, said={"of": number, "said": list(said)}))

    def lines(self, plan: str, number: int) -> tuple[RunLine, ...]:
        """In the order in which they were said."""
        lines = tables.run_lines.c
        with self.store.reading() as connection:
            query = select(tables.run_lines).where(lines.plan == plan, lines.run == number).order_by(lines.number)
            return tuple(
                RunLine(row.kind, row.at, row.said["of"], tuple(row.said["said"])) for row in connection.execute(query)
            )

    def run(self, plan: str, number: int | None = None) -> Run | None:
        """One of a plan; the newest where no number is said."""
        runs = tables.runs.c
        query = select(tables.runs).where(runs.plan == plan).order_by(runs.number.desc()).limit(1)
        if number is not None:
            query = query.where(runs.number == number)
        with self.store.reading() as connection:
            row = connection.execute(query).first()
        return None if row is None else _run(row)

    def unfinished(self) -> list[Run]:
        """Those that are carried out, and have not ended."""
        with self.store.reading() as connection:
            query = select(tables.runs).where(tables.runs.c.state.not_in((*ENDED, RunState.BY_HAND)))
            return [_run(row) for row in connection.execute(query)]


_parsed = lru_cache(maxsize=12)(
    TypeAdapter.validate_json
)  # a run under way is looked at again and again, and all this stays as it is


def _run(row: Row[Any]) -> Run:
    return Run(
        row.plan,
        row.number,
        row.at,
        row.by,
        row.revision,
        row.top,
        _DESTINATION.validate_python(row.destination),
        row.seconds,
        _parsed(_SYSTEM, row.before),
        _parsed(_STEPS, row.steps),
        _parsed(_QUESTIONS, row.questions),
        RunState(row.state),
        row.trouble,
        row.until,
        row.ended,
    )
