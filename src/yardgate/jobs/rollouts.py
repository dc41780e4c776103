"""Rollouts that are under way, each carried out by a thread of its own. All that it did is written down first, so that one that was
broken off, by a restart or a lost connection, is gone on with: forth, or back."""

import logging
import shlex
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from threading import Event, Lock, RLock, Thread
from typing import Literal

from yardgate.core.host.probe import Abilities, Question, differs
from yardgate.core.host.sign_in import outlasting
from yardgate.core.host.state import Dataset, Folder, System, asked
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Step, after
from yardgate.drivers.appliance import Appliance, ApplianceError, TooLate, Unreachable
from yardgate.drivers.connect import Connection, reached
from yardgate.drivers.linux.apply import Carried, carry_out, put_back
from yardgate.drivers.linux.command import Command, Done
from yardgate.log import about
from yardgate.store import Plans, Store
from yardgate.store.audit import Audit
from yardgate.store.rollouts import RolloutKind, Rollouts
from yardgate.store.runs import ENDED, Run, Runs, RunState, marked_done

log = logging.getLogger(__name__)
Instruction = Literal["go on", "confirm", "roll back"]
AGAIN = 3.0  # seconds between tries to reach an appliance that was lost
TRIES = 5  # how often it may be lost, and be reached again, before the next step is done
EARLY = 3  # seconds before the appliance would roll back by itself that Yard Gate does


_KINDS: dict[RunState, RolloutKind] = {
    RunState.COMMITTED: "applied",
    RunState.ROLLED_BACK: "rolled-back",
    RunState.PARTLY_ROLLED_BACK: "partly-rolled-back",
    RunState.ABANDONED: "abandoned",
}
BUSY = (RunState.APPLYING, RunState.VERIFYING, RunState.ROLLING_BACK)
UNDER_WAY: dict[RunState, str] = {
    RunState.PENDING: "it began",
    RunState.APPLYING: "steps were done",
    RunState.VERIFYING: "it was verified",
    RunState.AWAITING_CONFIRMATION: "it waited to be confirmed",
    RunState.CONFIRMING: "it was being confirmed",
    RunState.ROLLING_BACK: "it was rolled back",
    RunState.HOST_ROLLING_BACK: "the appliance was to roll it back",
}


class _Stopped(Exception):
    """Somebody wants everything rolled back."""


class RolloutJobs:
    """All rollouts under way, at most one of a plan."""

    def __init__(self, store: Store, reach: Connection = reached):
        self.store, self.runs, self.rollouts, self.reach = store, Runs(store), Rollouts(store), reach
        self.audit = Audit(store)
        self._working: dict[str, Worker] = {}
        self._lock = Lock()

    def resume(self) -> None:
        """Go on with what a restart broke off."""
        for run in self.runs.unfinished():
            self.runs.say(run, "note", 0, "Yard Gate was started again, and goes on")
            self.start(run)

    def start(self, run: Run) -> None:
        """Carry out what was begun in the store."""
        worker = Worker(self, run)
        with self._lock:
            self._working[run.plan] = worker
        Thread(target=worker.work, daemon=True, name=f"rollout of {run.plan}").start()

    def end_by_hand(self, run: Run, by: str) -> None:
        """From now on the appliance has what the steps that were marked as done make; the others are to be done still."""
        said = marked_done(self.runs.lines(run.plan, run.number))
        done = tuple(step for place, step in enumerate(run.steps) if place in said)
        if done:
            told = tuple(words(step) for step in done)
            self.rollouts.made(run.plan, done, by)
            self.rollouts.keep(
                run.plan,
                "by-hand",
                by,
                run.revision,
                run.top,
                told,
                after(run.before, done),
                run.number,
                run.destination.appliance,
            )
        self.runs.set(
            run, RunState.COMMITTED if done else RunState.ROLLED_BACK, "" if done else "nothing was marked as done"
        )

    def abandon(self, run: Run, by: str) -> bool:
        """End a run whatever stands at the appliance; whether it was under way still. The appliance's own watch goes on."""
        with self._lock:
            worker = self._working.get(run.plan)
        return worker is not None and worker.run.number == run.number and worker.abandon(by)

    def tell(self, plan: str, what: Instruction, by: str) -> bool:
        """Say what shall become of it; whether there is one under way that can still be told so."""
        with self._lock:
            worker = self._working.get(plan)
        return worker is not None and worker.tell(what, by)


class Worker:
    def __init__(self, rolling: RolloutJobs, run: Run):
        self.runs, self.rollouts, self.reach = rolling.runs, rolling.rollouts, rolling.reach
        self.audit = rolling.audit
        self.plan = Plans(rolling.store).at(run.plan, run.revision)
        self.run, self.state, self.until = run, run.state, run.until
        lines = self.runs.lines(run.plan, run.number)
        self.done = sum(line.kind == "step" and not line.said for line in lines)
        self.tried = {line.number for line in lines if line.kind == "tried"}
        self.noted = {said for line in lines if line.kind == "note" for said in line.said}
        whole = run.state in (RunState.PENDING, RunState.AWAITING_CONFIRMATION)
        self.half = run.trouble != "" or not whole  # the step after those may be half done
        self.back = {line.number for line in lines if line.kind == "back" and not line.said}
        self.wanted: Instruction = "go on"
        self.told = Event()
        self._turn = RLock()

    def tell(self, what: Instruction, by: str) -> bool:
        if self.state in (*ENDED, RunState.ROLLING_BACK, RunState.HOST_ROLLING_BACK, RunState.CONFIRMING):
            return False
        if what == "confirm" and self.state != RunState.AWAITING_CONFIRMATION:
            return False
        self.wanted = what
        self.runs.say(
            self.run, "note", 0, f"{by} wants {'it confirmed' if what == 'confirm' else 'everything rolled back'}"
        )
        self.told.set()
        return True

    def abandon(self, by: str) -> bool:
        with self._turn:
            if self.state in ENDED:
                return False
            armed = self.state not in (RunState.PENDING, RunState.CONFIRMING)
            watches = (
                f"; if it still watches, it rolls everything back by itself within {self.run.seconds} s"
                if armed
                else ""
            )
            trouble = (
                f"ended by {by} while {UNDER_WAY.get(self.state, 'it was under way')}: {self.done} of {len(self.run.steps)} steps were "
                f"done and read back, {len(self.back) or 'none'} of them rolled back. What the appliance has now is not known{watches}. "
                "Look at it before the next rollout"
            )
            self._end(RunState.ABANDONED, after(self.run.before, self.run.steps[: self.done]), trouble)
            self.told.set()
            return True

    def work(self) -> None:
        """Until it has ended, whatever happens on the way."""
        with about(plan=self.run.plan, run=self.run.number):
            self._until_ended()

    def _until_ended(self) -> None:
        lost, tries = "", 0
        stood: tuple[object, ...] = ()
        while self.state not in ENDED:
            reached_it = False
            try:
                with self.reach(self.run.destination, record=self._ran) as at:
                    self._look_again(at)
                    reached_it = True
                    if lost:
                        self.runs.say(self.run, "note", 0, f"{at.name} is reached again")
                        lost = ""
                    with beating(at, self.run.seconds, lambda: self.state in BUSY):
                        while self.state not in ENDED:
                            self._go_on(at)
            except TooLate:
                self._be(RunState.HOST_ROLLING_BACK)
            except Unreachable as error:
                if str(error) != lost:
                    lost = str(error)
                    self.runs.say(self.run, "note", 0, f"{lost}; trying again")
                stands = (self.state, self.done, len(self.back), len(self.tried))
                tries = tries + 1 if reached_it and stands == stood else tries if not reached_it else 1
                stood = stands
                if tries >= TRIES and self.state in BUSY:
                    self.runs.say(self.run, "note", 0, f"lost {tries} times at the same step: left to the appliance")
                    self._be(RunState.HOST_ROLLING_BACK, f"{lost}, {tries} times at the same step")
                self._pause(AGAIN)
            except _Stopped:  # an administrator ended it
                continue
            except Exception as error:
                log.exception("a rollout broke off")
                trouble = str(error) if isinstance(error, ApplianceError) else f"something unexpected: {error!r}"
                if self.state == RunState.PENDING:
                    self._be(RunState.ROLLED_BACK, trouble)
                elif self.state in (RunState.APPLYING, RunState.VERIFYING, RunState.AWAITING_CONFIRMATION):
                    self.half = True
                    self._be(RunState.ROLLING_BACK, trouble)
                elif self.state in (RunState.CONFIRMING, RunState.HOST_ROLLING_BACK) and isinstance(
                    error, ApplianceError
                ):
                    self.runs.say(self.run, "note", 0, f"{trouble}; trying again")
                    self._pause(AGAIN)
                else:
                    self._end(RunState.PARTLY_ROLLED_BACK, self.run.before, trouble)

    def _pause(self, seconds: float) -> None:
        """Wait, but no longer than until somebody says what they want."""
        self.told.wait(seconds)
        self.told.clear()

    def _ran(self, host: str, command: Command, done: Done) -> None:
        text, said = shlex.join(command.argv), done.err.strip() or done.out.strip()
        self.audit.ran(self.run.plan, self.run.number, host, command.why, command.shown or text, done.code, said)

    def _be(self, state: RunState, trouble: str | None = None, until: str | None = None) -> None:
        with self._turn:
            if self.state not in ENDED:
                self.runs.set(self.run, state, trouble, until)
                self.state, self.until = state, until

    def _look_again(self, at: Appliance) -> None:
        """What became of it since it was last reached."""
        if self.state == RunState.PENDING:
            return
        match at.watching():
            case "rolling back" | "rolled back" | "partly rolled back":
                self._be(RunState.HOST_ROLLING_BACK)
            case "nothing" if self.state == RunState.CONFIRMING:
                self._committed()
            case "nothing" if self.state == RunState.ROLLING_BACK and self.back >= set(range(self.done)):
                self._end(
                    RunState.ROLLED_BACK, self._there(at), self.run.trouble
                )  # it was told so, and this side ended before it wrote it down
            case "nothing" if self.state in (RunState.APPLYING, RunState.VERIFYING, RunState.AWAITING_CONFIRMATION):
                at.arm(self.run.before, self.run.steps, self.run.seconds)

    def _go_on(self, at: Appliance) -> None:
        match self.state:
            case RunState.PENDING:
                begun = any(line.kind != "end-sessions" for line in self.runs.lines(self.run.plan, self.run.number))
                if not begun:
                    self._keep_as_it_is(at)
                if not begun or at.watching() != "armed":
                    at.arm(self.run.before, self.run.steps, self.run.seconds)
                self._be(RunState.APPLYING)
            case RunState.APPLYING:
                self._do(at)
            case RunState.VERIFYING:
                self._end_sessions(at)
                self._try(at)
                at.alive()
                until = datetime.now(UTC) + timedelta(seconds=self.run.seconds)
                self._be(RunState.AWAITING_CONFIRMATION, until=until.isoformat(timespec="seconds"))
            case RunState.AWAITING_CONFIRMATION:
                self._wait()
            case RunState.CONFIRMING:
                at.end()
                self._committed()
            case RunState.ROLLING_BACK:
                self._roll_back(at)
            case RunState.HOST_ROLLING_BACK:
                self._see_it_back(at)

    def _keep_as_it_is(self, at: Appliance) -> None:
        """A snapshot of each dataset in which something is changed. Where it cannot be made that is said; the rollout can be rolled back without."""
        changed = [step.before.name for step in self.run.steps if isinstance(step.before, Dataset | Folder)]
        for dataset in self.run.before.holding(changed):
            try:
                self.runs.say(self.run, "snapshot", 0, f"{dataset} {at.snapshot(dataset)}")
            except Unreachable:
                raise
            except ApplianceError as error:
                self.runs.say(self.run, "note", 0, f"no snapshot of {dataset} before: {error}")

    def _do(self, at: Appliance) -> None:
        steps, done = self.run.steps, self.done

        def tell(_step: Step, word: str) -> None:
            if word == "doing":
                if self.wanted == "roll back" or self.state in ENDED:
                    raise _Stopped
                return
            self.runs.say(self.run, "step", self.done, *([] if word == "done" else [word]))
            if word == "done":
                self.done += 1

        self.half = False
        now = after(self.run.before, steps[:done])
        try:
            carried = carry_out(at, now, steps[done:], tell)
        except _Stopped:
            self._be(RunState.ROLLING_BACK, "it was stopped")
            return
        except Unreachable:
            self.half = True
            raise
        if carried.failed is not None:
            self.half = True
            self._be(RunState.ROLLING_BACK, f"{words(carried.failed)}: {carried.why}")
        else:
            self._be(RunState.VERIFYING)

    def _end_sessions(self, at: Appliance) -> None:
        """End those that would keep what they were, if somebody wants it. Where it cannot be done that is said, and no reason to roll anything back."""
        if all(line.kind != "end-sessions" for line in self.runs.lines(self.run.plan, self.run.number)):
            return
        try:
            stale = outlasting(self.run.steps, at.sessions())
            ended = at.end_sessions({one.account for one in stale}) if stale else ()
        except Unreachable:
            raise
        except ApplianceError as error:
            self.runs.say(self.run, "note", 0, f"open sessions were not ended: {error}")
            return
        said = (f"ended the open session of {one.account} at {one.machine}" for one in ended)
        self.runs.say(self.run, "note", 0, *(said if ended else ("no open session was to be ended",)))

    def _try(self, at: Appliance) -> None:
        """Go in as the people whom the questions name. What cannot be tried is said, and is no reason to roll anything back."""
        asked = tuple(enumerate(self.run.questions))
        over_smb = [(number, one) for number, one in asked if one.protocol == "smb"]
        accounts = {one.account for _, one in over_smb if one.account}
        if accounts:
            try:
                with at.trial(accounts) as trial:
                    for number, one in over_smb:
                        name = self.plan.shares[one.share].name
                        self._visit(number, one, partial(trial.enter, one.account, name, one.folders))
            except Unreachable:
                raise
            except ApplianceError as error:
                self.runs.say(self.run, "note", 0, f"nothing was verified for real over SMB: {error}")
        for number, one in asked:
            if one.protocol == "nfs":
                come = partial(at.enter_over_nfs, one.account, one.exported, one.folders, one.address)
                self._visit(number, one, come)
        self._look_for_firewall(at)

    def _look_for_firewall(self, at: Appliance) -> None:
        """Those who go in come from the appliance itself; what keeps others out is told."""
        for protocol in sorted({one.protocol for one in self.run.questions}):
            said = at.shut(protocol)
            if said and said not in self.noted:
                self.runs.say(self.run, "note", 0, said)
                self.noted.add(said)

    def _visit(self, number: int, question: Question, enter: Callable[[], list[Abilities] | None]) -> None:
        if self.wanted == "roll back" or number in self.tried:
            return
        try:
            found = enter()
        except Unreachable:
            raise
        except ApplianceError as error:
            note = f"not verified: {error}"
            if note not in self.noted:
                self.runs.say(self.run, "note", number, note)
            self.noted.add(note)
            return
        self.runs.say(self.run, "tried", number, *differs(self.plan, question, found))
        self.tried.add(number)

    def _wait(self) -> None:
        assert self.until is not None
        left = (datetime.fromisoformat(self.until) - datetime.now(UTC)).total_seconds() - EARLY
        if self.wanted == "confirm":
            self._be(RunState.CONFIRMING)
        elif self.wanted == "roll back":
            self._be(RunState.ROLLING_BACK, "it was not confirmed")
        elif left <= 0:
            self._be(RunState.ROLLING_BACK, "nobody confirmed it in time")
        else:
            self._pause(min(left, 30))

    def _roll_back(self, at: Appliance) -> None:
        """All that was done, again from the latest where it was broken off: doing so twice does no harm."""
        at.alive()
        steps, done = self.run.steps, self.run.steps[: self.done]
        failed = steps[len(done)] if self.half and len(done) < len(steps) else None
        behind = iter((*((len(done),) if failed is not None else ()), *reversed(range(len(done)))))

        def tell(_step: Step, word: str) -> None:
            if self.state in ENDED:
                raise _Stopped
            if word != "doing":
                number = next(behind)
                self.runs.say(self.run, "back", number, *([] if word == "done" else [word]))
                self.back |= {number} if word == "done" else set()

        undone = put_back(at, after(self.run.before, done), Carried(done, failed), tell)
        with_what = self._there(at)
        at.end()
        if undone.failed is None:
            self._end(RunState.ROLLED_BACK, with_what)
        else:
            self._end(RunState.PARTLY_ROLLED_BACK, with_what, undone.why)

    def _see_it_back(self, at: Appliance) -> None:
        match at.watching():
            case "rolled back":
                self.runs.say(self.run, "note", 0, f"{at.name} rolled everything back by itself")
                self._end(RunState.ROLLED_BACK, self._there(at))
            case "partly rolled back":
                self._end(
                    RunState.PARTLY_ROLLED_BACK, self._there(at), f"{at.name} could not roll everything back by itself"
                )
            case "nothing":
                self._end(RunState.PARTLY_ROLLED_BACK, self._there(at), f"{at.name} no longer knows of this rollout")
            case _:
                self._pause(1)

    def _there(self, at: Appliance) -> System:
        return at.read(asked(self.run.before, after(self.run.before, self.run.steps)))

    def _committed(self) -> None:
        self._end(RunState.COMMITTED, after(self.run.before, self.run.steps))

    def _end(self, state: RunState, system: System, trouble: str | None = None) -> None:
        told = tuple(words(step) for step in self.run.steps)
        r = self.run
        with self._turn:
            if self.state in ENDED:  # somebody ended it meanwhile
                return
            stand = {RunState.COMMITTED: r.steps, RunState.ROLLED_BACK: ()}.get(state, r.steps[: self.done])
            removed = state == RunState.COMMITTED
            self.rollouts.made(r.plan, (one for one in stand if one.does != "remove" or removed), r.by)
            if all(
                past.run != r.number for past in self.rollouts.history(r.plan, most=3)
            ):  # or a restart came in between
                self.rollouts.keep(
                    r.plan, _KINDS[state], r.by, r.revision, r.top, told, system, r.number, r.destination.appliance
                )
            self._be(state, trouble)


@contextmanager
def beating(at: Appliance, seconds: int, busy: Callable[[], bool]) -> Iterator[None]:
    """Wind the appliance's watch up anew as long as this side is at work."""
    over = Event()

    def beat() -> None:
        while not over.wait(min(seconds / 4, 30)):
            if busy():
                try:
                    at.alive()
                except ApplianceError:
                    return  # whoever is at work finds out by itself

    thread = Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join(5)
