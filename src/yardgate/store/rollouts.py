"""What was put on the appliance of each plan, or read from it, and what it has since then."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from pydantic import TypeAdapter
from sqlalchemy import delete, func, insert, select, update

from yardgate.core.host.bounds import Bounds, HostAccounts, Managed, made
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination, Step
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

RolloutKind = Literal["by-hand", "read", "applied", "rolled-back", "partly-rolled-back", "abandoned"]
_SYSTEM = TypeAdapter(System)
_DESTINATION = TypeAdapter(Destination)
_HOST = TypeAdapter(HostAccounts)


@dataclass(frozen=True, slots=True)
class RolledOut:
    """One rollout: who did which steps when, of which revision of the plan; or a reading, with what was changed behind the plan's
    back. top: the folder in which the pools lie. run: the number of the run that carried it out, where one did. appliance: of which one
    (`Destination.appliance`)."""

    number: int
    kind: RolloutKind
    at: str
    by: str
    revision: int
    top: str
    steps: tuple[str, ...]
    run: int | None = None
    appliance: str = ""


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
        appliance: str | None = None,
    ) -> RolledOut:
        """system: what the appliance has after it. appliance: which one; None: where the plan goes now."""
        rollouts, which = tables.rollouts.c, appliance or self.destination(plan).appliance
        with self.store.writing() as connection:
            last = connection.scalar(select(func.max(rollouts.number)).where(rollouts.plan == plan)) or 0
            kept = RolledOut(last + 1, kind, now(), by, revision, top, steps, run, which)
            row = {n: getattr(kept, n) for n in ("number", "kind", "at", "by", "revision", "top", "run", "appliance")}
            text = _SYSTEM.dump_json(system, exclude_defaults=True).decode()
            connection.execute(insert(tables.rollouts).values(**row, plan=plan, steps=list(steps), system=text))
        return kept

    def in_force(self, plan: str) -> System:
        """What the appliance that the plan goes to has since the last rollout there; nothing before the first."""
        rollouts, which = tables.rollouts.c, self.destination(plan).appliance
        with self.store.reading() as connection:
            here = select(rollouts.system).where(rollouts.plan == plan, rollouts.appliance == which)
            query = here.order_by(rollouts.number.desc()).limit(1)
            text = connection.scalar(query)
        return System() if text is None else _SYSTEM.validate_json(text)

    def revision_in_force(self, plan: str) -> int | None:
        """The revision of the plan that was put on the appliance last; None before the first."""
        rollouts, which = tables.rollouts.c, self.destination(plan).appliance
        there: tuple[RolloutKind, ...] = ("applied", "by-hand")
        with self.store.reading() as connection:
            query = select(rollouts.revision).where(
                rollouts.plan == plan, rollouts.kind.in_(there), rollouts.appliance == which
            )
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
        column, rollouts = tables.destinations.c, tables.rollouts.c
        with self.store.reading() as connection:
            said = connection.scalar(select(column.destination).where(column.plan == plan))
            if said is None or "top" not in said:  # from before an administrator said it
                last = select(rollouts.top).where(rollouts.plan == plan).order_by(rollouts.number.desc()).limit(1)
                top = connection.scalar(last)
                said = {**(said or {}), **({} if top is None else {"top": top})}
        return _DESTINATION.validate_python(said)

    def send_to(self, plan: str, destination: Destination) -> None:
        """Say where a plan goes from now on. To another appliance: what may be changed there, and what it has, is not known yet."""
        there = self.destination(plan).appliance == destination.appliance
        row = {"plan": plan, "destination": _DESTINATION.dump_python(destination)}
        destinations, managed = tables.destinations, tables.managed
        with self.store.writing() as connection:
            host = connection.scalar(select(destinations.c.host).where(destinations.c.plan == plan)) if there else None
            connection.execute(delete(destinations).where(destinations.c.plan == plan))
            connection.execute(insert(destinations).values(**row, host=host))
            if not there:
                connection.execute(delete(managed).where(managed.c.plan == plan))

    def host(self, plan: str) -> HostAccounts:
        """The accounts that the appliance had when it was looked at last; none, where it never was."""
        column = tables.destinations.c
        with self.store.reading() as connection:
            said = connection.scalar(select(column.host).where(column.plan == plan))
        return HostAccounts() if said is None else _HOST.validate_python(said)

    def looked(self, plan: str, host: HostAccounts) -> None:
        """Keep which accounts the appliance has."""
        destination = _DESTINATION.dump_python(self.destination(plan))
        destinations, said = tables.destinations, _HOST.dump_python(host)
        with self.store.writing() as connection:
            done = connection.execute(update(destinations).where(destinations.c.plan == plan).values(host=said))
            if not done.rowcount:
                connection.execute(insert(destinations).values(plan=plan, destination=destination, host=said))

    def bounds(self, plan: str) -> Bounds:
        where = self.destination(plan)
        return Bounds(top=where.top, lowest=where.lowest, highest=where.highest, managed=self.managed(plan))

    def managed(self, plan: str) -> frozenset[Managed]:
        """What may be changed on the plan's host."""
        managed = tables.managed
        with self.store.reading() as connection:
            rows = connection.execute(select(managed.c.part, managed.c.name).where(managed.c.plan == plan))
            return frozenset(Managed(row.part, row.name) for row in rows)

    def manage(self, plan: str, wanted: frozenset[Managed], by: str) -> None:
        """From now on these may be changed there, and no others."""
        before, managed = self.managed(plan), tables.managed
        with self.store.writing() as connection:
            for part, name in sorted(before - wanted):
                c = managed.c
                connection.execute(delete(managed).where(c.plan == plan, c.part == part, c.name == name))
            for part, name in sorted(wanted - before):
                connection.execute(insert(managed).values(plan=plan, part=part, name=name, at=now(), by=by))

    def made(self, plan: str, steps: Iterable[Step], by: str) -> None:
        """Steps were done there: what they made may be changed from now on."""
        self.manage(plan, made(steps, self.managed(plan)), by)

    def history(self, plan: str, most: int = 100, appliance: str | None = None) -> list[RolledOut]:
        """Newest first; of one appliance, or of all that the plan ever went to."""
        r = tables.rollouts.c
        query = select(tables.rollouts).where(r.plan == plan).order_by(r.number.desc()).limit(most)
        if appliance is not None:
            query = query.where(r.appliance == appliance)
        fields = ("number", "kind", "at", "by", "revision", "top", "run", "appliance")
        with self.store.reading() as connection:
            rows = connection.execute(query).mappings()
            return [RolledOut(**{name: row[name] for name in fields}, steps=tuple(row["steps"])) for row in rows]

    def known(self, plan: str) -> RolledOut | None:
        """Since which rollout or reading it is known what the appliance has that the plan goes to; None: it is not."""
        return next(iter(self.history(plan, 1, self.destination(plan).appliance)), None)
