"""What was put on the appliance of each plan, or read from it, and what it has since then."""

from dataclasses import dataclass
from typing import Literal

from pydantic import TypeAdapter
from sqlalchemy import func, insert, select

from yardgate.core.system import System
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

RolloutKind = Literal["done", "read"]
_SYSTEM = TypeAdapter(System)


@dataclass(frozen=True, slots=True)
class RolledOut:
    """One rollout: who did which steps when, of which revision of the plan; or a reading, with what was changed behind the plan's
    back. top: the folder in which the pools lie."""

    number: int
    kind: RolloutKind
    at: str
    by: str
    revision: int
    top: str
    steps: tuple[str, ...]


class Rollouts:
    """The rollouts of all plans."""

    def __init__(self, store: Store):
        self.store = store

    def keep(
        self, plan: str, kind: RolloutKind, by: str, revision: int, top: str, steps: tuple[str, ...], system: System
    ) -> RolledOut:
        """system: what the appliance has after it."""
        rollouts = tables.rollouts.c
        with self.store.writing() as connection:
            last = connection.scalar(select(func.max(rollouts.number)).where(rollouts.plan == plan)) or 0
            kept = RolledOut(last + 1, kind, now(), by, revision, top, steps)
            row = {name: getattr(kept, name) for name in ("number", "kind", "at", "by", "revision", "top")}
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

    def history(self, plan: str, most: int = 100) -> list[RolledOut]:
        """Newest first."""
        rollouts = tables.rollouts.c
        with self.store.reading() as connection:
            query = select(tables.rollouts).where(rollouts.plan == plan).order_by(rollouts.number.desc()).limit(most)
            return [
                RolledOut(row.number, row.kind, row.at, row.by, row.revision, row.top, tuple(row.steps))
                for row in connection.execute(query)
            ]
