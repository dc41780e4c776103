"""Readings of directories that are under way or wait to be kept, one for each directory of a plan; and passwords, in memory only."""

from collections.abc import Callable
from dataclasses import dataclass, field
from threading import Lock, Thread
from typing import Literal

from yardgate.core.model.directory import Copy, Directory, Server
from yardgate.drivers.directory.progress import Cancelled, DirectoryError, Progress

ReadingState = Literal["reading", "ready", "failed", "cancelled"]
ReadingKey = tuple[str, str]  # plan, directory


@dataclass(slots=True)
class DirectoryReading:
    """One reading. What it found is kept only when somebody says so."""

    directory: Directory
    progress: Progress = field(default_factory=Progress)
    state: ReadingState = "reading"
    step: str = ""
    words: str = ""
    copy: Copy | None = None


class DirectoryReadings:
    def __init__(self) -> None:
        self._lock = Lock()
        self._of: dict[ReadingKey, DirectoryReading] = {}
        self._passwords: dict[ReadingKey, tuple[Server, str]] = {}

    def password(self, plan: str, directory: Directory) -> str | None:
        """The one that was said for this directory's server, and for no other."""
        server, password = self._passwords.get((plan, directory.id), (None, None))
        return password if server == directory.server else None

    def remember(self, plan: str, directory: Directory, password: str) -> None:
        """Keep a password until the server ends; an empty one forgets it."""
        with self._lock:
            if password:
                self._passwords[plan, directory.id] = (directory.server, password)
            else:
                self._passwords.pop((plan, directory.id), None)

    def of(self, plan: str, directory: str) -> DirectoryReading | None:
        return self._of.get((plan, directory))

    def forget(self, plan: str, directory: str) -> None:
        """Give a reading up, or throw away what it found."""
        with self._lock:
            reading = self._of.pop((plan, directory), None)
        if reading is not None:
            reading.progress.cancel = True

    def found(self, plan: str, directory: Directory, copy: Copy) -> DirectoryReading:
        """A copy that is there already (a file's), to be looked at and kept like one that was read."""
        return self._begin(plan, DirectoryReading(directory, state="ready", copy=copy))

    def start(self, plan: str, directory: Directory, password: str | None, before: Copy | None) -> DirectoryReading:
        """Read in the background: what has changed since `before`, or everything where that is None."""

        def work(reading: DirectoryReading) -> None:
            from yardgate.drivers.directory.ldap import connect, read_all, read_changes  # slow to load

            with connect(directory, password) as reader:
                if before is None:
                    reading.copy = read_all(reader, reading.progress)
                else:
                    reading.copy = read_changes(reader, before, reading.progress)

        reading = self._begin(plan, DirectoryReading(directory))
        Thread(target=_run, args=(reading, work), daemon=True, name=f"reading {directory.name}").start()
        return reading

    def _begin(self, plan: str, reading: DirectoryReading) -> DirectoryReading:
        key = (plan, reading.directory.id)
        with self._lock:
            before = self._of.get(key)
            if before is not None:
                before.progress.cancel = True
            self._of[key] = reading
        return reading


def _run(reading: DirectoryReading, work: Callable[[DirectoryReading], None]) -> None:
    try:
        work(reading)
        reading.state = "ready"
    except Cancelled:
        reading.state = "cancelled"
    except DirectoryError as error:
        reading.step, reading.words, reading.state = error.step, error.words, "failed"
    except Exception as error:
        reading.words, reading.state = f"something unexpected: {type(error).__name__}", "failed"
        raise
