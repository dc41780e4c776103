"""Looking what lies in folders, pushing their lists down over it, and putting back: each by a thread of its own, in batches that are
written down before and read back after. So are datasets compared with their snapshots, and go back to them. What is stopped, or broken
off by a restart, goes on by looking again."""

import logging
import shlex
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import replace
from threading import Event, Lock, Thread
from typing import TypeVar

from yardgate.core.host.contents import Correction, alike, apart, pushes, words
from yardgate.drivers.appliance import Appliance, ApplianceError, Unreachable
from yardgate.drivers.connect import Connection, reached
from yardgate.drivers.linux.command import Command, Done
from yardgate.log import about
from yardgate.store import Store
from yardgate.store.audit import Audit
from yardgate.store.pushes import Counted, Pushes, Pushing, PushState

log = logging.getLogger(__name__)
AGAIN = 3.0  # seconds between tries to reach an appliance that was lost
BATCH = 250  # things that are given something else before a stop is heeded
SOME = 20  # things of a folder that are shown
T = TypeVar("T")


class Stopped(Exception):
    """Somebody wants it to stop."""


class PushDownJobs:
    """All that is pushed down now, at most one of a plan."""

    def __init__(self, store: Store, reach: Connection = reached):
        self.pushes, self.audit, self.reach = Pushes(store), Audit(store), reach
        self._working: dict[str, Pusher] = {}
        self._lock = Lock()

    def resume(self) -> None:
        """Go on with what a restart broke off."""
        for one in self.pushes.unfinished():
            self.start(one)

    def start(self, one: Pushing) -> None:
        """Do what was begun in the store."""
        pusher = Pusher(self.pushes, self.audit, self.reach, one)
        with self._lock:
            self._working[one.plan] = pusher
        Thread(target=pusher.work, daemon=True, name=f"pushing down of {one.plan}").start()

    def stop(self, plan: str) -> None:
        with self._lock:
            pusher = self._working.get(plan)
        if pusher is not None:
            pusher.stopped.set()


class Pusher:
    def __init__(self, pushes: Pushes, audit: Audit, reach: Connection, one: Pushing):
        self.pushes, self.audit, self.reach, self.one = pushes, audit, reach, one
        self.stopped = Event()
        self.counts: dict[str, Counted] = {}

    def work(self) -> None:
        """Until it is done, stopped, or cannot be done."""
        with about(plan=self.one.plan, push_down=self.one.number):
            self._until_ended()

    def _until_ended(self) -> None:
        while True:
            self.counts = {folder: Counted(things=counted.things) for folder, counted in self.one.counts.items()}
            try:
                with self.reach(self.one.destination, record=self._ran) as at:
                    self._work(at)
                self._say("done")
                return
            except Stopped:
                self._say("stopped")
                return
            except Unreachable as error:
                self._say("under way", f"{error}; trying again")
                if self.stopped.wait(AGAIN):
                    self._say("stopped", str(error))
                    return
            except Exception as error:
                if not isinstance(error, ApplianceError):
                    log.exception("pushing down broke off")
                self._say(
                    "failed", str(error) if isinstance(error, ApplianceError) else f"something unexpected: {error!r}"
                )
                return

    def _ran(self, host: str, command: Command, done: Done) -> None:
        said = done.err.strip() or done.out.strip()
        self.audit.ran(self.one.plan, None, host, command.why, shlex.join(command.argv[:1]), done.code, said)

    def _say(self, state: PushState, trouble: str = "") -> None:
        self.pushes.set(self.one, state, self.counts, trouble)

    def _work(self, at: Appliance) -> None:
        if self.one.does == "put back":
            self._put_back(at)
            return
        if self.one.does in ("push", "go back") and not self.one.snapshots:
            self.pushes.keep_snapshots(
                self.one, [f"{one} {at.snapshot(one)}" for one in self.one.there.holding(self.one.folders)]
            )
        if self.one.back_to:
            self._go_back(at)
            return
        for name in self.one.folders:
            folder = self.one.there.folders[name]
            for total, things in at.inside(name, apart(self.one.there, name)):
                found = list(pushes(folder, things))
                linked = sum(thing.linked for thing in things)
                self._count(name, things=total, otherwise=len(found), some=found, linked=linked)
                if self.one.does == "push":
                    for batch in _batches(found):
                        self.pushes.keep(self.one.plan, name, [push.was for push in batch])
                        self._give(at, name, batch)
                self._count(name, seen=len(things))
                self._heed()

    def _go_back(self, at: Appliance) -> None:
        """Compare a dataset with its snapshot, or let it be so again."""
        (dataset,) = self.one.folders
        does = at.since if self.one.does == "compare" else at.go_back
        with closing(does(dataset, self.one.back_to)) as portions:
            for seen, total, part in portions:
                whole = self.counts.get(dataset, Counted()).since.plus(part)
                self.counts[dataset] = Counted(things=total, seen=seen, since=whole)
                self._say("under way")
                self._heed()

    def _put_back(self, at: Appliance) -> None:
        for name in self.one.folders:
            mine = self.pushes.before(self.one.plan, name)
            self._count(name, things=len(mine))
            for some in _batches(mine):
                there = {thing.name: thing for thing in at.things({thing.name: thing.folder for thing in some})}
                found = [Correction(there[was.name], was) for was in some if was.name in there]
                found = [push for push in found if push.was != push.then]
                self._count(name, otherwise=len(found))
                self._give(at, name, found)
                self._count(name, seen=len(some))
                self._heed()
            if self.counts[name].kept == 0:
                self.pushes.forget(self.one.plan, name)

    def _give(self, at: Appliance, folder: str, batch: Sequence[Correction]) -> None:
        """Let things have what they shall have, and look whether they have."""
        if not batch:
            return
        self._heed()
        at.give([push.then for push in batch])
        there = {thing.name: thing for thing in at.things({push.then.name: push.then.folder for push in batch})}
        kept = [push for push in batch if push.then.name in there and not alike(there[push.then.name], push.then)]
        self._count(folder, changed=len(batch) - len(kept), kept=len(kept))

    def _count(self, folder: str, things: int | None = None, some: Sequence[Correction] = (), **more: int) -> None:
        old = self.counts.get(folder, Counted())
        new = {name: getattr(old, name) + number for name, number in more.items()}
        shown = (*old.some, *((push.was.name, words(push)) for push in some[: SOME - len(old.some)]))
        self.counts[folder] = replace(old, things=old.things if things is None else things, some=shown, **new)
        self._say("under way")

    def _heed(self) -> None:
        if self.stopped.is_set():
            raise Stopped


def _batches(found: Sequence[T]) -> Iterator[Sequence[T]]:
    for start in range(0, len(found), BATCH):
        yield found[start : start + BATCH]
