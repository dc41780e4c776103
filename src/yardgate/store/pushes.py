"""What is done with what lies in folders: lists pushed down over it, and datasets going back to a snapshot; how far each is, and what was there
before, so that it can be put back."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from pydantic import TypeAdapter
from sqlalchemy import Row, Select, delete, func, insert, select, update

from yardgate.core.host.contents import Thing
from yardgate.core.host.going_back import Differing, Since
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now
from yardgate.store.runs import free

PushDoes = Literal["look", "push", "put back", "compare", "go back"]
PushState = Literal["under way", "stopped", "done", "failed"]
_SYSTEM, _DESTINATION, _THINGS = TypeAdapter(System), TypeAdapter(Destination), TypeAdapter(tuple[Thing, ...])


@dataclass(frozen=True, slots=True)
class Counted:
    """What a folder holds. otherwise: things that have something else than its list gives; changed: those that were given it, or what
    they had before; kept: those that could not be; linked: those left alone, since they have a second name. some: a few of them, with what is
    otherwise. since: of a dataset, what is otherwise than in the snapshot, or what went back so far; things and seen are names at its top then."""

    things: int = 0
    seen: int = 0
    otherwise: int = 0
    changed: int = 0
    kept: int = 0
    linked: int = 0
    some: tuple[tuple[str, str], ...] = ()
    since: Since = field(default_factory=Since)


@dataclass(frozen=True, slots=True)
class Pushing:
    """A look into folders, and what was done then. there: the folders that are planned, and the datasets, as the appliance has them.
    snapshots: of which datasets any were made before anything was changed, and their names. back_to: the snapshot of the one folder, a dataset,
    with which it is compared, and to which it goes back."""

    plan: str
    number: int
    at: str
    by: str
    destination: Destination
    there: System
    folders: tuple[str, ...]
    does: PushDoes
    state: PushState
    counts: Mapping[str, Counted]
    trouble: str
    snapshots: tuple[str, ...] = ()
    back_to: str = ""


class Pushes:
    """Those of all plans."""

    def __init__(self, store: Store):
        self.store = store

    def begin(
        self,
        plan: str,
        by: str,
        destination: Destination,
        there: System,
        folders: Sequence[str],
        back_to: str = "",
    ) -> Pushing:
        """Begin with a look, or with comparing. Raises UnderWay."""
        does: PushDoes = "compare" if back_to else "look"
        pushes = tables.pushes.c
        with self.store.writing() as connection:
            free(connection, plan)
            last = connection.scalar(select(func.max(pushes.number)).where(pushes.plan == plan)) or 0
            begun = Pushing(
                plan, last + 1, now(), by, destination, there, tuple(folders), does, "under way", {}, "", (), back_to
            )
            connection.execute(
                insert(tables.pushes).values(
                    plan=plan,
                    number=begun.number,
                    at=begun.at,
                    by=by,
                    destination=_DESTINATION.dump_python(destination),
                    there=_SYSTEM.dump_json(there, exclude_defaults=True).decode(),
                    folders=list(folders),
                    does=does,
                    state="under way",
                    counts={},
                    trouble="",
                    back_to=back_to,
                )
            )
        return begun

    def go_on(self, one: Pushing, does: PushDoes) -> Pushing:
        """Begin with something else, or again. Raises UnderWay."""
        pushes = tables.pushes.c
        with self.store.writing() as connection:
            free(connection, one.plan)
            here = (pushes.plan == one.plan) & (pushes.number == one.number)
            values = {"does": does, "state": "under way", "trouble": ""}
            row = connection.execute(update(tables.pushes).where(here).values(**values).returning(tables.pushes)).one()
            return _pushing(row)

    def set(self, one: Pushing, state: PushState, counts: Mapping[str, Counted], trouble: str = "") -> None:
        pushes = tables.pushes.c
        said = {folder: asdict(counted) for folder, counted in counts.items()}
        with self.store.writing() as connection:
            here = (pushes.plan == one.plan) & (pushes.number == one.number)
            connection.execute(update(tables.pushes).where(here).values(state=state, counts=said, trouble=trouble))

    def keep_snapshots(self, one: Pushing, snapshots: Sequence[str]) -> None:
        """Write down which snapshots were made before; those from before a stop stay."""
        pushes = tables.pushes.c
        with self.store.writing() as connection:
            here = (pushes.plan == one.plan) & (pushes.number == one.number)
            first = connection.scalar(select(pushes.snapshots).where(here)) or []
            connection.execute(update(tables.pushes).where(here).values(snapshots=first or list(snapshots)))

    def keep(self, plan: str, folder: str, things: Sequence[Thing]) -> None:
        """Write down what things in a folder are before they are given something else."""
        parts = tables.push_parts.c
        text = json.dumps(
            _THINGS.dump_python(tuple(things), mode="python", exclude_defaults=True)
        )  # any name, even no UTF-8
        with self.store.writing() as connection:
            last = connection.scalar(select(func.max(parts.number)).where(parts.plan == plan)) or 0
            row = {"plan": plan, "number": last + 1, "folder": folder, "things": text}
            connection.execute(insert(tables.push_parts).values(**row))

    def before(self, plan: str, folder: str) -> list[Thing]:
        """What things in a folder were before they were given something else, each as it was first."""
        parts = tables.push_parts.c
        with self.store.reading() as connection:
            query = select(parts.things).where(parts.plan == plan, parts.folder == folder).order_by(parts.number)
            texts = list(connection.scalars(query))
        found: dict[str, Thing] = {}
        for text in texts:
            for thing in _THINGS.validate_python(json.loads(text), strict=False):
                found.setdefault(thing.name, thing)
        return list(found.values())

    def forget(self, plan: str, folder: str) -> None:
        """What things in a folder were before is no longer needed: they are so again."""
        parts = tables.push_parts.c
        with self.store.writing() as connection:
            connection.execute(delete(tables.push_parts).where(parts.plan == plan, parts.folder == folder))

    def pushed(self, plan: str) -> frozenset[str]:
        """The folders in which something can be put back."""
        parts = tables.push_parts.c
        with self.store.reading() as connection:
            return frozenset(connection.scalars(select(parts.folder).where(parts.plan == plan).distinct()))

    def one(self, plan: str, number: int) -> Pushing | None:
        pushes = tables.pushes.c
        return self._first(select(tables.pushes).where(pushes.plan == plan, pushes.number == number))

    def newest(self, plan: str, *, back: bool = False) -> Pushing | None:
        """The last look of a plan into folders; `back`: the last comparing with a snapshot."""
        pushes = tables.pushes.c
        here = (pushes.plan == plan) & ((pushes.back_to != "") if back else (pushes.back_to == ""))
        return self._first(select(tables.pushes).where(here).order_by(pushes.number.desc()).limit(1))

    def _first(self, query: Select[Any]) -> Pushing | None:
        with self.store.reading() as connection:
            row = connection.execute(query).first()
        return None if row is None else _pushing(row)

    def unfinished(self) -> list[Pushing]:
        with self.store.reading() as connection:
            query = select(tables.pushes).where(tables.pushes.c.state == "under way")
            return [_pushing(row) for row in connection.execute(query)]


def _pushing(row: Row[Any]) -> Pushing:
    counts = {
        folder: Counted(
            **{**said, "some": tuple((name, words) for name, words in said["some"]), "since": _since(said.get("since"))}
        )
        for folder, said in row.counts.items()
    }
    return Pushing(
        row.plan,
        row.number,
        row.at,
        row.by,
        _DESTINATION.validate_python(row.destination),
        _SYSTEM.validate_json(row.there),
        tuple(row.folders),
        row.does,
        row.state,
        counts,
        row.trouble,
        tuple(row.snapshots),
        row.back_to,
    )


def _since(said: Mapping[str, Any] | None) -> Since:
    return Since(**{**said, "some": tuple(Differing(*one) for one in said["some"])}) if said else Since()
