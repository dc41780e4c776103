"""What the routers share: the store, and the newest matrix of each plan, so that an edit resolves only what it touched."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date
from threading import BoundedSemaphore, Lock

import numpy as np
from fastapi import HTTPException, Response
from numpy.typing import NDArray

from yardgate.api.news import News
from yardgate.api.pushing import Pushers
from yardgate.api.readings import Readings
from yardgate.api.rolling import Rolling
from yardgate.api.schemas import CellChange, Changed, Column, EntryOut, GrantOut, ReasonOut, Step
from yardgate.core.findings import find
from yardgate.core.findings.case import Case, Finding
from yardgate.core.gets import Gets, View, column, gets, stands
from yardgate.core.keeping import Kept, keep
from yardgate.core.outcome import Outcome, Shift, outcome
from yardgate.core.plan import Plan
from yardgate.core.reason import Reason
from yardgate.core.resolve import Matrix, detail, resolve
from yardgate.memory import give_back
from yardgate.store import Entry, Opened, Plans, Store
from yardgate.store.accounts import Accounts
from yardgate.store.audit import Audit
from yardgate.store.copies import Copies
from yardgate.store.plans import OPENED
from yardgate.store.rollouts import Rollouts
from yardgate.store.servers import Servers

LEVEL_LETTERS = np.frombuffer(b"NPRW", dtype=np.uint8)
SOURCE_LETTERS = np.frombuffer(b"-ogaAxwli", dtype=np.uint8)
OF_THE_WAY = np.uint8(8)  # its number among them: it is the way in that gives, or leaves, something else
STATE_LETTERS = np.frombuffer(b"=s.u+<", dtype=np.uint8)
LISTED = 500
At = tuple[int, date, int | None]
"""What is found depends on: the plan's revision, the day, and the revision that the appliance has."""
HOSTS, WAIT = 2, 3.0  # hosts that are read at once for requests, and the seconds that a further one waits


@dataclass(eq=False)
class Worked:
    """What is worked out of one plan, as it was last, each under a lock of its own: whoever asks while it is worked out waits for just that."""

    resolving: Lock = field(default_factory=Lock)
    coming_out: Lock = field(default_factory=Lock)
    keeping: Lock = field(default_factory=Lock)
    forcing: Lock = field(default_factory=Lock)
    comparing: Lock = field(default_factory=Lock)
    finding: Lock = field(default_factory=Lock)
    answering: Lock = field(default_factory=Lock)
    matrix: Matrix | None = None
    outcome: Outcome | None = None
    kept: Kept | None = None
    in_force: tuple[int, Outcome] | None = None
    gets: Gets | None = None
    found: tuple[At, tuple[Finding, ...]] | None = None
    answer: tuple[At, bytes] | None = None


class Desk:
    """this_host: whether plans may be rolled out on the machine that this runs on."""

    def __init__(self, store: Store, *, this_host: bool = False):
        self.store, self.this_host = store, this_host
        self.plans = Plans(store)
        self.accounts = Accounts(store)
        self.audit = Audit(store)
        self.copies = Copies(store)
        self.servers = Servers(store)
        self.rollouts = Rollouts(store)
        self.news = News(store, lambda token: self.accounts.whose(token) is not None)
        self.readings = Readings()
        self.rolling = Rolling(store)
        self.pushing = Pushers(store)
        self._worked: dict[str, Worked] = {}
        self._lock = Lock()
        self._hosts = BoundedSemaphore(HOSTS)

    @contextmanager
    def reading_hosts(self) -> Iterator[None]:
        """One's turn at reading a host while somebody waits for the answer: few at once, so that others' requests are not held up.

        Raises HTTPException, where none came.
        """
        if not self._hosts.acquire(timeout=WAIT):
            raise HTTPException(503, "Other hosts are being read; try again in a minute", {"Retry-After": "30"})
        try:
            yield
        finally:
            self._hosts.release()

    def matrix(self, opened: Opened) -> Matrix:
        of = self._of(opened)
        with of.resolving:
            last = of.matrix
            if last is None or last.plan is not opened.plan or last.on != date.today():
                last = resolve(opened.plan, date.today(), last)
                of.matrix = last
            return last

    def outcome(self, opened: Opened) -> Outcome:
        """What everybody gets over the ways in."""
        matrix, of = self.matrix(opened), self._of(opened)
        with of.coming_out:
            last = of.outcome
            if last is None or last.matrix is not matrix:
                last = outcome(matrix, last)
                of.outcome = last
            return last

    def gets(self, opened: Opened) -> Gets:
        """That, beside what is granted."""
        found, of = self.outcome(opened), self._of(opened)
        with of.comparing:
            last = of.gets
            if last is None or last.outcome is not found:
                last = gets(found, last)
                of.gets = last
            return last

    def kept(self, opened: Opened) -> Kept:
        """What comes out over the ways in, and how the promises stand."""
        found, of = self.outcome(opened), self._of(opened)
        with of.keeping:
            last = of.kept
            if last is None or last.outcome is not found:
                last = keep(found, last)
                of.kept = last
            return last

    def in_force(self, opened: Opened) -> Outcome | None:
        """The plan that was put on the appliance last, resolved; None where none was. What was left for later then counts as put there."""
        revision = self.rollouts.revision_in_force(opened.id)
        if revision is None:
            return None
        now, of = self.outcome(opened), self._of(opened)
        with of.forcing:
            known = of.in_force
            if known is None or known[0] != revision or known[1].matrix.on != now.matrix.on:
                known = (revision, outcome(resolve(self.plans.at(opened.id, revision), now.matrix.on)))
                of.in_force = known
            return known[1]

    def findings(self, opened: Opened) -> tuple[Finding, ...]:
        """Everything that is found, worked out once for all who ask."""
        key, of = self._at(opened), self._of(opened)
        with of.finding:
            if of.found is None or of.found[0] != key:
                of.found = (key, tuple(find(self.case(opened))))
            return of.found[1]

    def newest(self, plan: str, work: Callable[[Opened], bytes]) -> tuple[str, bytes]:
        """What takes long to work out of a plan, and a tag that says of which revision it is: the newest that there was when one came, or a
        later one. Whoever comes while it is worked out of an older one waits, and all who wait get the next."""
        opened = self.plans.open(plan)
        asked, of = self._at(opened), self._of(opened)
        with of.answering:
            known = of.answer
            if known is None or known[0][1:] != asked[1:] or known[0][0] < asked[0]:
                opened = self.plans.open(plan)
                known = of.answer = (self._at(opened), work(opened))
                give_back()
        return f'W/"{plan}-{"-".join(map(str, known[0]))}"', known[1]

    def _at(self, opened: Opened) -> At:
        return opened.revision, date.today(), self.rollouts.revision_in_force(opened.id)

    def _of(self, opened: Opened) -> "Worked":
        with self._lock:
            of = self._worked.pop(opened.id, None) or Worked()
            self._worked[opened.id] = of
            for old in list(self._worked)[:-OPENED]:  # whoever works on one has it still
                del self._worked[old]
            return of

    def case(self, opened: Opened) -> Case:
        """What findings are looked for in."""
        there = self.in_force(opened)
        return Case(self.outcome(opened), there.matrix.plan if there is not None else None)

    def step(self, opened: Opened, stack: tuple[int, ...]) -> Step | None:
        if not stack:
            return None
        entry = self.plans.history(opened.id, before=stack[-1] + 1, most=1)[0]
        return Step(revision=entry.revision, words=entry.words.removeprefix("undid: ").removeprefix("redid: "))


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
    found: Gets, places: Iterable[str], view: View = None, first: int = 0, count: int | None = None
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


def changed(found: Sequence[Shift], most: int = LISTED) -> Changed:
    return Changed(
        total=len(found),
        people=len({c.subject for c in found}),
        places=len({c.place for c in found}),
        cells=[
            CellChange(subject=c.subject, place=c.place, over=c.over, before=c.before, after=c.after)
            for c in found[:most]
        ],
    )


def grants(plan: Plan, places: Iterable[str]) -> Mapping[str, list[GrantOut]]:
    return {p: [GrantOut(who=who, level=level) for who, level in plan.grants.get(p, {}).items()] for p in places}


def entry_out(entry: Entry) -> EntryOut:
    return EntryOut.model_validate(entry, from_attributes=True)


def told(opened: Opened, found: Reason, subject: str) -> ReasonOut:
    granted = {who for gate in found.gates for line in gate.lines for who in (line.who, *line.way)}
    listed = {who for gate in found.gates for line in gate.entries for who in (line.who, *line.way) if who}
    mentioned = granted | listed | {subject}
    names = {who: opened.plan.named(who) for who in sorted(mentioned)}
    return ReasonOut(revision=opened.revision, reason=found, names=names)
