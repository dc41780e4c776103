"""What is worked out of each plan, kept as it was last, so that an edit resolves only what it touched; and what all who ask share."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date
from threading import BoundedSemaphore, Lock

from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.comparison import Comparison, gets
from yardgate.core.access.outcome import Outcome, outcome
from yardgate.core.policy.compliance import Compliance, keep
from yardgate.core.policy.findings import find
from yardgate.core.policy.findings.case import Case, Finding
from yardgate.jobs.directory_readings import DirectoryReadings
from yardgate.jobs.push_downs import PushDownJobs
from yardgate.jobs.rollouts import RolloutJobs
from yardgate.memory import give_back
from yardgate.services.events import News
from yardgate.services.presence import Presence
from yardgate.services.simulated import SimulatedAppliances
from yardgate.store import Opened, Plans, Store
from yardgate.store.accounts import Accounts
from yardgate.store.audit import Audit
from yardgate.store.copies import Copies
from yardgate.store.directory_servers import Servers
from yardgate.store.plans import OPENED
from yardgate.store.rollouts import Rollouts

DerivedKey = tuple[int, date, int | None]
"""What is found depends on: the plan's revision, the day, and the revision that the appliance has."""
HOSTS, WAIT = 2, 3.0  # hosts that are read at once for requests, and the seconds that a further one waits


class Crowded(Exception):
    """Too many do this at once; it can be tried again in half a minute."""


@dataclass(eq=False)
class Derived:
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
    kept: Compliance | None = None
    in_force: tuple[int, Outcome] | None = None
    gets: Comparison | None = None
    found: tuple[DerivedKey, tuple[Finding, ...]] | None = None
    answer: tuple[DerivedKey, bytes] | None = None


class Services:
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
        self.presence = Presence()
        self.simulated = SimulatedAppliances(store.path.parent / "simulated")
        self.readings = DirectoryReadings()
        self.rolling = RolloutJobs(store)
        self.pushing = PushDownJobs(store)
        self._worked: dict[str, Derived] = {}
        self._lock = Lock()
        self._hosts = BoundedSemaphore(HOSTS)

    @contextmanager
    def reading_hosts(self) -> Iterator[None]:
        """One's turn at reading a host while somebody waits for the answer: few at once, so that others' requests are not held up.

        Raises Crowded, where none came.
        """
        if not self._hosts.acquire(timeout=WAIT):
            raise Crowded("Other hosts are being read; try again in a minute")
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

    def gets(self, opened: Opened) -> Comparison:
        """That, beside what is granted."""
        found, of = self.outcome(opened), self._of(opened)
        with of.comparing:
            last = of.gets
            if last is None or last.outcome is not found:
                last = gets(found, last)
                of.gets = last
            return last

    def kept(self, opened: Opened) -> Compliance:
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

    def _at(self, opened: Opened) -> DerivedKey:
        return opened.revision, date.today(), self.rollouts.revision_in_force(opened.id)

    def _of(self, opened: Opened) -> "Derived":
        with self._lock:
            of = self._worked.pop(opened.id, None) or Derived()
            self._worked[opened.id] = of
            for old in list(self._worked)[:-OPENED]:  # whoever works on one has it still
                del self._worked[old]
            return of

    def case(self, opened: Opened) -> Case:
        """What findings are looked for in."""
        there = self.in_force(opened)
        return Case(self.outcome(opened), there.matrix.plan if there is not None else None)
