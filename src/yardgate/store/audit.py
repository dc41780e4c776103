"""What was done in this installation besides plans, which have journals of their own: who signed in and who could not, accounts, where plans
go, what was read from hosts and what was run on them. Rows are added, and never changed or taken away."""

import logging
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import Row, insert, select

from yardgate.log import one_line, told
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import NEWEST, now

log = logging.getLogger("yardgate.audit")
SAID, COMMAND = 500, 2000  # characters that are kept of what a command said, and of itself


@dataclass(frozen=True, slots=True)
class Happened:
    """by: whoever did it, by name as it was then; address: from where. about: whom or what it concerns. plan: its id, where it concerns one."""

    number: int
    at: str
    by: str
    address: str
    what: str
    about: str
    plan: str | None


class Ran(NamedTuple):
    """A command that was run on a host. code: what it ended with; said: the end of what it said of what went wrong."""

    number: int
    at: str
    plan: str | None
    run: int | None
    host: str
    why: str
    command: str
    code: int
    said: str


class Audit:
    def __init__(self, store: Store):
        self.store = store

    def say(self, what: str, by: str, about: str = "", address: str = "", plan: str | None = None) -> None:
        row = {"at": now(), "by": by[:255], "address": address[:100], "what": what, "about": about[:1000], "plan": plan}
        with self.store.writing() as connection:
            connection.execute(insert(tables.audit).values(row))
        log.info("%s", what, extra=told(by=by, address=address or "here", plan=plan or "", about=about[:1000]))

    def past(self, before: int = NEWEST, most: int = 200) -> list[Happened]:
        """Newest first."""
        a = tables.audit.c
        with self.store.reading() as connection:
            rows = connection.execute(
                select(tables.audit).where(a.number < before).order_by(a.number.desc()).limit(most)
            )
            return [_happened(row) for row in rows]

    def ran(self, plan: str | None, run: int | None, host: str, why: str, command: str, code: int, said: str) -> None:
        row = {
            "at": now(), "plan": plan, "run": run, "host": host, "why": why, "command": one_line(command)[:COMMAND], "code": code,
            "said": one_line(said)[-SAID:],
        }  # fmt: skip
        with self.store.writing() as connection:
            connection.execute(insert(tables.commands).values(row))

    def commands(self, plan: str, run: int | None = None, before: int = NEWEST, most: int = 500) -> list[Ran]:
        """What was run for a plan, or for one of its runs; newest first."""
        c = tables.commands.c
        which = [c.plan == plan, c.number < before, *([c.run == run] if run is not None else [])]
        with self.store.reading() as connection:
            rows = connection.execute(select(tables.commands).where(*which).order_by(c.number.desc()).limit(most))
            return [Ran(*row) for row in rows]


def _happened(row: Row[Any]) -> Happened:
    return Happened(row.number, row.at, row.by, row.address, row.what, row.about, row.plan)
