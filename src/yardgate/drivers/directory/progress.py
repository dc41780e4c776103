"""The steps of reading a directory, and how they end. Apart from `ldap`, so that a server starts without what only reading needs."""

from dataclasses import dataclass
from typing import Literal

ProgressStep = Literal["controller", "port", "tls", "sign-in", "clock", "base", "read", "paging"]


class DirectoryError(Exception):
    """A directory cannot be read. step: where it failed. The words never contain the password."""

    def __init__(self, step: ProgressStep, words: str):
        self.step, self.words = step, words
        super().__init__(words)


class Cancelled(Exception):
    """Reading was given up because the caller wanted it."""


@dataclass(frozen=True, slots=True)
class Certificate:
    """What a server shows of itself: the SHA-256 of its certificate, and why the system does not trust it, if so."""

    fingerprint: str
    distrust: str | None


@dataclass(frozen=True, slots=True)
class Passed:
    """A step that went well, and what was found."""

    step: ProgressStep
    words: str


@dataclass(slots=True)
class Progress:
    """How far a reading is. `cancel` may be set by another thread."""

    phase: str = "connecting"
    done: int = 0
    cancel: bool = False

    def at(self, phase: str, done: int) -> None:
        self.phase, self.done = phase, done
        if self.cancel:
            raise Cancelled
