"""What a check is given, and what it finds."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property
from itertools import chain
from typing import Literal, NamedTuple

import numpy as np

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.access.bitsets import Bits, unpack
from yardgate.core.access.comparison import Comparison, Off, Price, gets, price
from yardgate.core.access.outcome import Outcome, Shift, outcome_of, shifts
from yardgate.core.access.paths import inside
from yardgate.core.access.storage import StorageState
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Share
from yardgate.core.suggest.asked import Demand, asked

Severity = Literal["serious", "consider", "note"]
CellKey = tuple[str, str]
"""Who (a user, or the guest), and where (a place)."""


class Repair(NamedTuple):
    """Edits that remove a finding, and what they do in words; none where only a person can say what is right."""

    edits: tuple[Edit, ...] = ()
    does: str = ""


@dataclass(frozen=True)
class Finding:
    """One thing found. about: ids of what it concerns, the one to look at first. cells: whom it touches, and where.

    fix, does: the edits that remove it, and what they do, where they are known at once. search: looks for them, where that takes
    trying on the whole plan. Who wants either asks `repair`.
    """

    kind: str
    severity: Severity
    about: tuple[str, ...]
    sentence: str
    cells: tuple[CellKey, ...] = ()
    fix: tuple[Edit, ...] = ()
    does: str = ""
    search: Callable[[], Repair] | None = field(default=None, compare=False, repr=False)

    @cached_property
    def repair(self) -> Repair:
        return Repair(self.fix, self.does) if self.search is None else self.search()

    @property
    def id(self) -> str:
        """The same as long as the same is found at the same things."""
        return ":".join((self.kind, *self.about))


@dataclass(frozen=True)
class Case:
    """A plan and all that comes out of it. in_force: the plan that the appliance has now, where that is known."""

    outcome: Outcome
    in_force: Plan | None = None

    @property
    def matrix(self) -> Matrix:
        return self.outcome.matrix

    @property
    def plan(self) -> Plan:
        return self.matrix.plan

    @property
    def on(self) -> date:
        return self.matrix.on

    @property
    def storage(self) -> StorageState:
        return self.matrix.storage

    def trial(self, edits: Sequence[Edit]) -> tuple[Shift, ...]:
        """What would come out differently over the ways in, after some edits."""
        if not edits:
            return ()
        return tuple(shifts(self.outcome, self.after(edits)))

    def after(self, edits: Sequence[Edit]) -> Outcome:
        """Raises PlanError."""
        return outcome_of(apply(self.plan, edits)[0], self.outcome)

    def price(self, edits: Sequence[Edit]) -> Price:
        """Who would get more or less than is granted to them by some edits."""
        return self.costs(self.after(edits))

    def costs(self, after: Outcome) -> Price:
        return price(self.outcome, after, self.gets.places)

    @cached_property
    def gets(self) -> Comparison:
        return gets(self.outcome)

    @cached_property
    def off(self) -> Mapping[CellKey, Off]:
        """Who gets more or less than is granted, and where."""
        found = self.gets
        return {(one.subject, one.place): one for one in chain(found.off("more"), found.off("less"))}

    def users(self, plane: Bits, at: tuple[str, Level] | None = None) -> tuple[str, ...]:
        """Ids of the users of a bit plane (words,) who may sign in. at: those who by grants and storage get this level in this place."""
        counting = self.matrix.counting
        here = unpack(plane & counting.active, counting.users)
        if at is not None:
            here = here & (self.matrix.rows[at[0]][: counting.users] == at[1].code)
        return tuple(map(counting.subjects.__getitem__, np.flatnonzero(here).tolist()))

    def level(self, who: str, place: str) -> Level:
        return self.outcome.level(who, place)

    def reaching(self, place: str, level: Level = Level.RO) -> tuple[str, ...]:
        """The users, and the guest, who get at least a level in a place over any way in."""
        column, counting = self.outcome.best[None][place], self.matrix.counting
        users = [counting.subjects[n] for n in np.flatnonzero(column[: counting.users] >= level.code).tolist()]
        return (*users, GUEST) if LEVELS[column[-1]] >= level else tuple(users)

    @cached_property
    def handed_down(self) -> Mapping[CellKey, Sequence[str]]:
        """Who is granted something, and where it is said -> the places where that counts, where storage is planned."""
        found: dict[CellKey, list[str]] = {}
        for place, stored in self.storage.items():
            for grant in stored.grants:
                found.setdefault((grant.who, grant.said_on), []).append(place)
        return found

    @cached_property
    def shared(self) -> Mapping[str, Sequence[Share]]:
        """Place -> the shares that reach it, switched on or not."""
        found: dict[str, list[Share]] = {}
        for share in self.plan.shares.values():
            for place in inside(self.plan, share):
                found.setdefault(place, []).append(share)
        return found

    @cached_property
    def demand(self) -> Demand:
        """What is needed, of all people and places."""
        return asked(self.plan, self.plan.needs.values(), self.on)

    def names(self, whos: Iterable[str], most: int = 3) -> str:
        """Some people in a sentence: the first few by name, the rest by number."""
        all_ = tuple(whos)
        shown = all_ if len(all_) <= most + 1 else all_[:most]
        listed = [self.plan.named(who) for who in shown]
        if len(shown) < len(all_):
            return f"{', '.join(listed)} and {len(all_) - most} others"
        return " and ".join([", ".join(listed[:-1]), listed[-1]] if len(listed) > 1 else listed)

    def path(self, place: str) -> str:
        return self.plan.path_name(place)


@dataclass(frozen=True, slots=True)
class Check:
    """A kind of finding: its title, and the function that finds it, whose docstring says what it means and what to do."""

    kind: str
    severity: Severity
    title: str
    run: Callable[[Case], Iterator[Finding]] = field(repr=False)


Findings = Iterator[Finding]
