"""News of plans for everybody who listens: one look at the database for all of them, not one for each.

SQLite says by a number whether anybody has written (PRAGMA data_version): only then it is asked which plans have a new revision, and
whether those who listen may still do so.
"""

import asyncio
import sqlite3
import time
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field

from anyio.to_thread import run_sync

from yardgate.store import Store

LOOK = 0.25  # seconds between two looks
SIGN = 15.0  # seconds after which a sign of life is sent where there is no news
MOST, EACH = 300, 24  # listeners at once, and of one account


@dataclass(eq=False)
class Listener:
    plan: str
    account: str
    token: str
    told: int = -1
    woken: asyncio.Event = field(default_factory=asyncio.Event)
    ended: bool = False


class News:
    """may: whether a session's token still counts."""

    def __init__(self, store: Store, may: Callable[[str], bool]):
        self.store, self.may = store, may
        self.listeners: set[Listener] = set()
        self.revisions: dict[str, int] = {}
        self._looking: dict[asyncio.AbstractEventLoop, asyncio.Task[None]] = {}

    def room(self, account: str) -> bool:
        """Whether one more may listen."""
        return len(self.listeners) < MOST and sum(one.account == account for one in self.listeners) < EACH

    async def follow(self, plan: str, account: str, token: str) -> AsyncIterator[int | None]:
        """The plan's revision at once and whenever it has a new one; None now and then, where it has none."""
        listener = Listener(plan, account, token)
        self.listeners.add(listener)
        loop = asyncio.get_running_loop()
        try:
            if loop not in self._looking or self._looking[loop].done():
                self._looking[loop] = asyncio.create_task(self._look(loop))
            quiet = time.monotonic()
            while not listener.ended:
                revision = self.revisions.get(listener.plan, -1)
                if revision > listener.told:
                    listener.told, quiet = revision, time.monotonic()
                    yield revision
                elif time.monotonic() - quiet >= SIGN:
                    quiet = time.monotonic()
                    yield None
                listener.woken.clear()
                try:
                    await asyncio.wait_for(listener.woken.wait(), SIGN)
                except TimeoutError:
                    continue
        finally:
            self.listeners.discard(listener)

    async def _look(self, loop: asyncio.AbstractEventLoop) -> None:
        connection = await run_sync(self._connect)
        seen, checked = -1, time.monotonic()
        known: frozenset[Listener] = frozenset()
        try:
            while self.listeners:
                version = (await run_sync(connection.execute, "PRAGMA data_version")).fetchone()[0]
                now = frozenset(self.listeners)
                if version != seen or now != known or time.monotonic() - checked > 60:
                    seen, known, checked = version, now, time.monotonic()
                    await run_sync(self._ask, connection, now)
                    for listener in now:
                        if listener.ended or self.revisions.get(listener.plan, -1) > listener.told:
                            listener.woken.set()
                await asyncio.sleep(LOOK)
        finally:
            connection.close()
            self._looking.pop(loop, None)

    def _connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self.store.path, timeout=30, check_same_thread=False, isolation_level=None)

    def _ask(self, connection: sqlite3.Connection, now: frozenset[Listener]) -> None:
        self.revisions = dict(connection.execute("SELECT id, revision FROM plans"))
        may = {token: self.may(token) for token in {listener.token for listener in now}}
        for listener in now:
            if not may[listener.token] or listener.plan not in self.revisions:
                listener.ended = True
