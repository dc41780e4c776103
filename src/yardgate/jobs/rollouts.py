"""Rollouts that are under way, each carried out by a thread of its own. All that it did is written down first, so that one that was
broken off, by a restart or a lost connection, is gone on with: forth, or back."""

import logging
import shlex
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from threading import Event, Lock, RLock, Thread
from typing import Literal

from yardgate.core.host.probe import differs
from yardgate.core.host.state import System, asked
from yardgate.core.host.steps import Step, after, words
from yardgate.drivers.appliance import Appliance, ApplianceError, TooLate, Unreachable
from yardgate.drivers.connect import Connection, reached
from yardgate.drivers.linux.apply import Carried, carry_out, put_back
from yardgate.drivers.linux.commands import Command, Done
from yardgate.log import about
from yardgate.store import Plans, Store
from yardgate.store.audit import Audit
from yardgate.store.rollouts import RolloutKind, Rollouts
from yardgate.store.runs import ENDED, Run, Runs, RunState, ticked

log = logging.getLogger(__name__)
Instruction = Literal["go on", "keep", "put back"]
AGAIN = 3.0  # seconds between tries to reach an appliance that was lost
TRIES = 5  # how often it may be lost, and be reached again, before the next step is done
EARLY = 3  # seconds before the appliance would put back by itself that Yard Gate does


UNDER_WAY: dict[RunState, str] = {
    "begun": "it began",
    "doing": "steps were done",
    "trying": "it was tried",
    "waiting": "it waited to be kept",
    "keeping": "it was being kept",
    "putting back": "it was put back",
    "host puts back": "the appliance was to put it back",
}


class _Stopped(Exception):
    """Somebody wants everything put back."""


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
        """From now on the appliance has what the steps that were ticked off make; the others are to be done still."""
        said = ticked(self.runs.lines(run.plan, run.number))
        done = tuple(step for place, step in enumerate(run.steps) if place in said)
        if done:
            told = tuple(words(step) for step in done)
            self.rollouts.made(run.plan, done, by)
            self.rollouts.keep(run.plan, "done", by, run.revision, run.top, told, after(run.before, done), run.number)
        self.runs.set(run, "kept" if done else "put back", "" if done else "nothing was ticked off")

    def give_up(self, run: Run, by: str) -> bool:
        """End a run whatever stands at the appliance; whether it was under way still. The appliance's own watch goes on."""
        with self._lock:
            worker = self._working.get(run.plan)
        return worker is not None and worker.run.number == run.number and worker.give_up(by)

    def wish(self, plan: str, wish: Instruction, by: str) -> bool:
        """Say what shall become of it; whether there is one under way that can still be told so."""
        with self._lock:
            worker = self._working.get(plan)
        return worker is not None and worker.tell(wish, by)


class Worker:
    def __init__(self, rolling: RolloutJobs, run: Run):
        self.runs, self.rollouts, self.reach = rolling.runs, rolling.rollouts, rolling.reach
        self.audit = rolling.audit
        self.plan = Plans(rolling.store).at(run.plan, run.revision)
        self.run, self.state, self.until = run, run.state, run.until
        lines = self.runs.lines(run.plan, run.number)
        self.done = sum(line.kind == "step" and not line.said for line in lines)
        self.tried = {line.number for line in lines if line.kind == "tried"}
        self.half = run.trouble != "" or run.state not in ("begun", "waiting")  # the step after those may be half done
        self.back = {line.number for line in lines if line.kind == "back" and not line.said}
        self.wanted: Instruction = "go on"
        self.told = Event()
        self._turn = RLock()

    def tell(self, wish: Instruction, by: str) -> bool:
        if self.state in ENDED or self.state in ("putting back", "host puts back", "keeping"):
            return False
        if wish == "keep" and self.state != "waiting":
            return False
        self.wanted = wish
        self.runs.say(self.run, "note", 0, f"{by} wants {'it kept' if wish == 'keep' else 'everything put back'}")
        self.told.set()
        return True

    def give_up(self, by: str) -> bool:
        with self._turn:
            if self.state in ENDED:
                return False
            armed = self.state not in ("begun", "keeping")
            watches = (
                f"; if it still watches, it puts everything back by itself within {self.run.seconds} s" if armed else ""
            )
            trouble = (
                f"ended by {by} while {UNDER_WAY.get(self.state, 'it was under way')}: {self.done} of {len(self.run.steps)} steps were "
                f"done and read back, {len(self.back) or 'none'} of them put back. What the appliance has now is not known{watches}. "
                "Look at it before the next rollout"
            )
            self._end("given up", after(self.run.before, self.run.steps[: self.done]), trouble)
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
                    with beating(at, self.run.seconds, lambda: self.state in ("doing", "trying", "putting back")):
                        while self.state not in ENDED:
                            self._go_on(at)
            except TooLate:
                self._be("host puts back")
            except Unreachable as error:
                if str(error) != lost:
                    lost = str(error)
                    self.runs.say(self.run, "note", 0, f"{lost}; trying again")
                stands = (self.state, self.done, len(self.back), len(self.tried))
                tries = tries + 1 if reached_it and stands == stood else tries if not reached_it else 1
                stood = stands
                if tries >= TRIES and self.state in ("doing", "trying", "putting back"):
                    self.runs.say(self.run, "note", 0, f"lost {tries} times at the same step: left to the appliance")
                    self._be("host puts back", f"{lost}, {tries} times at the same step")
                self._pause(AGAIN)
            except _Stopped:  # an administrator ended it
                continue
            except Exception as error:
                log.exception("a rollout broke off")
                trouble = str(error) if isinstance(error, ApplianceError) else f"something unforeseen: {error!r}"
                if self.state == "begun":
                    self._be("put back", trouble)
                elif self.state in ("doing", "trying", "waiting"):
                    self.half = True
                    self._be("putting back", trouble)
                elif self.state in ("keeping", "host puts back") and isinstance(error, ApplianceError):
                    self.runs.say(self.run, "note", 0, f"{trouble}; trying again")
                    self._pause(AGAIN)
                else:
                    self._end("not all put back", self.run.before, trouble)

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
        if self.state == "begun":
            return
        match at.watching():
            case "putting back" | "put back" | "not all put back":
                self._be("host puts back")
            case "nothing" if self.state == "keeping":
                self._keep_record()
            case "nothing" if self.state == "putting back" and self.back >= set(range(self.done)):
                self._end(
                    "put back", self._there(at), self.run.trouble
                )  # it was told so, and this side ended before it wrote it down
            case "nothing" if self.state in ("doing", "trying", "waiting"):
                at.arm(self.run.before, self.run.steps, self.run.seconds)

    def _go_on(self, at: Appliance) -> None:
        match self.state:
            case "begun":
                if at.watching() != "armed" or not self.runs.lines(self.run.plan, self.run.number):
                    at.arm(self.run.before, self.run.steps, self.run.seconds)
                self._be("doing")
            case "doing":
                self._do(at)
            case "trying":
                self._try(at)
                at.alive()
                until = datetime.now(UTC) + timedelta(seconds=self.run.seconds)
                self._be("waiting", until=until.isoformat(timespec="seconds"))
            case "waiting":
                self._wait()
            case "keeping":
                at.end()
                self._keep_record()
            case "putting back":
                self._put_back(at)
            case "host puts back":
                self._see_it_back(at)

    def _do(self, at: Appliance) -> None:
        steps, done = self.run.steps, self.done

        def tell(_step: Step, word: str) -> None:
            if word == "doing":
                if self.wanted == "put back" or self.state in ENDED:
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
            self._be("putting back", "it was stopped")
            return
        except Unreachable:
            self.half = True
            raise
        if carried.failed is not None:
            self.half = True
            self._be("putting back", f"{words(carried.failed)}: {carried.why}")
        else:
            self._be("trying")

    def _try(self, at: Appliance) -> None:
        """Go in as the people whom the questions name. What cannot be tried is said, and is no reason to put anything back."""
        accounts = {question.account for question in self.run.questions if question.account}
        if not accounts:
            return
        try:
            with at.trial(accounts) as trial:
                for number, question in enumerate(self.run.questions):
                    if self.wanted == "put back":
                        return
                    if number in self.tried:
                        continue
                    try:
                        found = trial.enter(question.account, self.plan.shares[question.share].name, question.folders)
                    except Unreachable:
                        raise
                    except ApplianceError as error:
                        self.runs.say(self.run, "note", number, f"not tried: {error}")
                        continue
                    self.runs.say(self.run, "tried", number, *differs(self.plan, question, found))
                    self.tried.add(number)
        except Unreachable:
            raise
        except ApplianceError as error:
            self.runs.say(self.run, "note", 0, f"nothing was tried for real: {error}")

    def _wait(self) -> None:
        assert self.until is not None
        left = (datetime.fromisoformat(self.until) - datetime.now(UTC)).total_seconds() - EARLY
        if self.wanted == "keep":
            self._be("keeping")
        elif self.wanted == "put back":
            self._be("putting back", "it was not kept")
        elif left <= 0:
            self._be("putting back", "nobody kept it in time")
        else:
            self._pause(min(left, 30))

    def _put_back(self, at: Appliance) -> None:
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
            self._end("put back", with_what)
        else:
            self._end("not all put back", with_what, undone.why)

    def _see_it_back(self, at: Appliance) -> None:
        match at.watching():
            case "put back":
                self.runs.say(self.run, "note", 0, f"{at.name} put everything back by itself")
                self._end("put back", self._there(at))
            case "not all put back":
                self._end("not all put back", self._there(at), f"{at.name} could not put everything back by itself")
            case "nothing":
                self._end("not all put back", self._there(at), f"{at.name} no longer knows of this rollout")
            case _:
                self._pause(1)

    def _there(self, at: Appliance) -> System:
        return at.read(asked(self.run.before, after(self.run.before, self.run.steps)))

    def _keep_record(self) -> None:
        self._end("kept", after(self.run.before, self.run.steps))

    def _end(self, state: RunState, system: System, trouble: str | None = None) -> None:
        kinds: dict[RunState, RolloutKind] = {
            "kept": "applied",
            "put back": "put back",
            "not all put back": "not all put back",
            "given up": "given up",
        }
        told = tuple(words(step) for step in self.run.steps)
        r = self.run
        with self._turn:
            if self.state in ENDED:  # somebody ended it meanwhile
                return
            stand = r.steps if state == "kept" else () if state == "put back" else r.steps[: self.done]
            self.rollouts.made(r.plan, (one for one in stand if one.does != "remove" or state == "kept"), r.by)
            if all(
                past.run != r.number for past in self.rollouts.history(r.plan, most=3)
            ):  # or a restart came in between
                self.rollouts.keep(r.plan, kinds[state], r.by, r.revision, r.top, told, system, r.number)
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
