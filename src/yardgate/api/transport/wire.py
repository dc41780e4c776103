"""Connections: how many there may be, and how long one may keep quiet in the middle of what it says.

A request whose head does not come in time, or that comes when there are too many already, costs no more than its own connection.
"""

import logging
import time
from asyncio import TimerHandle, Transport

from uvicorn.protocols.http.auto import AutoHTTPProtocol

log = logging.getLogger("yardgate.wire")
MOST = 400  # connections at once
HEAD = 10.0  # seconds in which a request's head has to be there
SAYING = 60.0  # seconds between two lines of the log about the same


class Sparing(logging.Filter):
    """Lets the same line into a log but once a while: what anybody can cause from outside must not fill it."""

    def __init__(self) -> None:
        super().__init__()
        self.last: dict[str, float] = {}

    def filter(self, record: logging.LogRecord) -> bool:
        key, now = str(record.msg)[:200], time.monotonic()
        if now - self.last.get(key, float("-inf")) < SAYING:
            return False
        if len(self.last) > 1000:
            self.last.clear()
        self.last[key] = now
        return True


class Patient(AutoHTTPProtocol):  # type: ignore[misc, valid-type]
    """uvicorn's own, with limits."""

    _late: TimerHandle | None = None
    _said = float("-inf")

    def connection_made(self, transport: Transport) -> None:
        if len(self.connections) >= MOST and not self._room():
            self._say(f"more than {MOST} connections at once: further ones are closed")
            transport.abort()
            return
        super().connection_made(transport)
        self._wait_for_head()

    def data_received(self, data: bytes) -> None:
        if self.transport is None:  # it was closed at once
            return
        super().data_received(data)
        if self._asked():
            self._stop_waiting()
        elif self._late is None:
            self._wait_for_head()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_waiting()
        if self.transport is not None:
            super().connection_lost(exc)

    def _asked(self) -> bool:
        """Whether there is a request that is answered now."""
        return self.cycle is not None and not self.cycle.response_complete

    def _room(self) -> bool:
        """Close the connection that has waited longest without asking for anything; whether there was one."""
        quiet = [one for one in self.connections if isinstance(one, Patient) and not one._asked()]
        if not quiet:
            return False
        oldest = min(quiet, key=lambda one: one._late.when() if one._late is not None else 0.0)
        oldest.transport.abort()
        self.connections.discard(oldest)
        return True

    def _wait_for_head(self) -> None:
        self._stop_waiting()
        self._late = self.loop.call_later(HEAD, self._too_late)

    def _stop_waiting(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _too_late(self) -> None:
        self._late = None
        if not self._asked() and not self.transport.is_closing():
            self.transport.abort()

    @classmethod
    def _say(cls, words: str) -> None:
        if time.monotonic() - Patient._said >= SAYING:
            Patient._said = time.monotonic()
            log.warning(words)
