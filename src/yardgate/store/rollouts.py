"""What was put on the appliance of each plan, or read from it, and what it has since then."""

from dataclasses import dataclass
from typing import Literal

from pydantic import TypeAdapter
from sqlalchemy import delete, func, insert, select

from yardgate.core.rollout import Destination
from yardgate.core.system import System
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

RolloutKind = Literal["done", "read", "applied", "put back", "not all put back", "given up"]
_SYSTEM = TypeAdapter(System)
_DESTINATION = TypeAdapter(Destination)


@dataclass(frozen=True, slots=True)
class RolledOut:
    """One rollout: who did which steps when, of which revision of the plan; or a reading, with what was changed behind the plan's
    back. top: the folder in which the pools lie. run: the number of the run that carried it out, where one did."""

    number: int
    kind: RolloutKind
    at: str
    by: str
    revision: int
    top: str
    steps: tuple[str, ...]
    run: int | None = None


class Rollouts:
    """The rollouts of all plans."""

    def __init__(self, store: Store):
        self.store = store

    def keep(
        self,
        plan: str,
        kind: RolloutKind,
        by: str,
        revision: int,
        top: str,
        steps: tuple[str, ...],
        system: System,
        run: int | None = None,
    ) -> RolledOut:
        """system: what the appliance has after it."""
        rollouts = tables.rollouts.c
        with self.store.writing() as connection:
            last = connection.scalar(select(func.max(rollouts.number)).where(rollouts.plan == plan)) or 0
            kept = RolledOut(last + 1, kind, now(), by, revision, top, steps, run)
            row = {name: getattr(kept, name) for name in ("number", "kind", "at", "by", "revision", "top", "run")}
            text = _SYSTEM.dump_json(system, exclude_defaults=True).decode()
            connection.execute(insert(tables.rollouts).values(**row, plan=plan, steps=list(steps), system=text))
        return kept

    def in_force(self, plan: str) -> System:
        """What the appliance has since the last rollout; nothing before the first."""
        rollouts = tables.rollouts.c
        with self.store.reading() as connection:
            query = select(rollouts.system).where(rollouts.plan == plan).order_by(rollouts.number.desc()).limit(1)
            text = connection.scalar(query)
        return System() if text is None else _SYSTEM.validate_json(text)

    def revision_in_force(self, plan: str) -> int | None:
        """The revision of the plan that was put on the appliance last; None before the first."""
        rollouts = tables.rollouts.c
        there: tuple[RolloutKind, ...] = ("applied", "done")
        with self.store.reading() as connection:
            query = select(rollouts.revision).where(rollouts.plan == plan, rollouts.kind.in_(there))
            found: int | None = connection.scalar(query.order_by(rollouts.number.desc()).limit(1))
        return found

    def system(self, plan: str, number: int) -> System | None:
        """What the appliance had after one of the rollouts."""
        rollouts = tables.rollouts.c
        with self.store.reading() as connection:
            query = select(rollouts.system).where(rollouts.plan == plan, rollouts.number == number)
            text = connection.scalar(query)
        return None if text is None else _SYSTEM.validate_json(text)

    def destination(self, plan: str) -> Destination:
        column = tables.destinations.c
        with self.store.reading() as connection:
            said = connection.scalar(select(column.destination).where(column.plan == plan))
        return Destination() if said is None else _DESTINATION.validate_python(said)

    def send_to(self, plan: str, destination: Destination) -> None:
        """Say where a plan goes from now on."""
        row = {"plan": plan, "destination": _DESTINATION.dump_python(destination)}
        with self.store.writing() as connection:
            connection.execute(delete(tables.destinations).where(tables.destinations.c.plan == plan))
            connection.execute(insert(tables.destinations).values(**row))

    def history(self, plan: str, most: int = 100) -> list[RolledOut]:
        """Newest first."""
        rollouts = tables.rollouts.c
        with self.store.reading() as connection:
            query = select(tables.rollouts).where(rollouts.plan == plan).order_by(rollouts.number.desc()).limit(most)
            return [
                RolledOut(row.number, row.kind, row.at, row.by, row.revision, row.top, tuple(row.steps), row.run)
                for row in connection.execute(query)
            ]
