"""Slowing down guessing."""

import time
from collections.abc import Callable
from threading import Lock

FREE_TRIES, FREE_OF_ADDRESS, FREE_OF_NAME = 4, 20, 20
LONGEST_WAIT = 60
FORGOTTEN = 900.0  # seconds after the last failure


class Tries:
    """Slows down guessing: after a few failures each further try must wait longer; after a while they are forgotten.

    It counts by name and address, and more patiently by address and by name alone. Whoever shows that this browser signed in as that name
    before is counted for themselves: so nobody can shut another out.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic):
        self.clock = clock
        self._failed: dict[str, tuple[int, float, float]] = {}  # failures, when another may be tried, when the last was
        self._lock = Lock()

    def keys(self, name: str, address: str, known: str | None) -> dict[str, int]:
        """Under which keys a try counts, each with how many failures are free."""
        name = name.casefold()
        if known is not None:
            return {f"known {known}": FREE_TRIES}
        return {f"pair {name} {address}": FREE_TRIES, f"from {address}": FREE_OF_ADDRESS, f"name {name}": FREE_OF_NAME}

    def wait(self, keys: dict[str, int]) -> float:
        """Seconds that must still pass before another try."""
        with self._lock:
            return max(0.0, *(self._of(key)[1] - self.clock() for key in keys))

    def failed(self, keys: dict[str, int]) -> None:
        with self._lock:
            if len(self._failed) > 10_000:
                self._failed = {k: v for k, v in self._failed.items() if self.clock() - v[2] < FORGOTTEN}
            for key, free in keys.items():
                count = self._of(key)[0] + 1
                pause = 0 if count <= free else min(LONGEST_WAIT, 2 ** (count - free))
                self._failed[key] = (count, self.clock() + pause, self.clock())

    def succeeded(self, keys: dict[str, int]) -> None:
        with self._lock:
            for key in keys:
                if not key.startswith("from "):  # one that is right does not pardon others that were wrong
                    self._failed.pop(key, None)

    def _of(self, key: str) -> tuple[int, float, float]:
        found = self._failed.get(key)
        return (0, 0.0, 0.0) if found is None or self.clock() - found[2] >= FORGOTTEN else found
