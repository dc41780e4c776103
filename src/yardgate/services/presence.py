"""Who else is at a plan, and at which station: what windows say of themselves now and then, kept for as long as they go on saying it."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from threading import Lock

STAYS = 50.0  # seconds after which a window that says nothing is taken to be gone
MOST = 2000  # windows at once; beyond, the oldest go


@dataclass(frozen=True, slots=True)
class Present:
    account: str
    name: str
    station: str
    at: float


class Presence:
    """now: seconds on a clock that only goes forward."""

    def __init__(self, now: Callable[[], float] = time.monotonic):
        self._now = now
        self._windows: dict[tuple[str, str], Present] = {}
        self._lock = Lock()

    def here(self, plan: str, window: str, account: str, name: str, station: str) -> tuple[Present, ...]:
        """Somebody's window is at a station of a plan. Who else is there: each account once, where it was last, by name."""
        with self._lock:
            now = self._now()
            self._windows = {key: one for key, one in self._windows.items() if now - one.at < STAYS}
            self._windows.pop((plan, window), None)
            self._windows[plan, window] = Present(account, name, station, now)
            while len(self._windows) > MOST:
                self._windows.pop(next(iter(self._windows)))
            others = {
                one.account: one for (at, _), one in self._windows.items() if at == plan and one.account != account
            }
        return tuple(sorted(others.values(), key=lambda one: one.name))
