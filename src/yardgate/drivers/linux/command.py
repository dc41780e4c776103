"""A command on a Linux host, what it said, and who runs it; where the host keeps what a rollout writes."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import NamedTuple

from yardgate.drivers.appliance import ApplianceError

LANGUAGE = "LC_ALL=C.UTF-8"  # in which commands speak, so that what they say is understood
LONG = 12 * 3600.0  # seconds


@dataclass(frozen=True, slots=True)
class Command:
    """A program with its arguments, and what it reads. why: what it is for, in a few words. changes: whether it changes anything.

    shown: the same as a person would type it, where that is shorter. by_hand: the same in a runbook, by one of the `helpers` that stand at its
    head, and what that reads, if anything. root: whether only root may do it. long: whether it may take as long as there are files.
    """

    argv: tuple[str, ...]
    why: str
    given: str = ""
    changes: bool = True
    shown: str = ""
    by_hand: tuple[str, str | None] | None = None
    root: bool = True
    long: bool = False

    def patience(self, seconds: float) -> float:
        """How many seconds it may take, where others may take so many."""
        return LONG if self.long else seconds


class Done(NamedTuple):
    code: int
    out: str
    err: str

    def needed(self, why: str) -> str:
        """What it said, of what must not fail. Raises ApplianceError."""
        if self.code:
            raise ApplianceError(f"could not {why}: {self.err.strip() or self.out.strip()}")
        return self.out


Runner = Callable[[Command], Done]
NOT_AS_DESCRIBED = (ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError, RecursionError)
"""What comes of reading an answer that is otherwise than its program's manual says."""


@contextmanager
def understood(why: str) -> Iterator[None]:
    """Read what a host said to a command. Raises ApplianceError, where it is otherwise than described."""
    try:
        yield
    except NOT_AS_DESCRIBED as error:
        raise ApplianceError(f"could not {why}: what the host says is not understood ({error!r})") from None


@dataclass(frozen=True, slots=True)
class Files:
    """Where the host keeps what a rollout writes. smb: the file that the SMB server's configuration includes; users: its username map. snapshots: of which
    datasets how many are kept, the program that keeps them, and the crontab(5) that calls it."""

    smb: str = "/etc/samba/yardgate.conf"
    users: str = "/etc/samba/yardgate.users"
    smb_main: str = "/etc/samba/smb.conf"
    exports: str = "/etc/exports.d/yardgate.exports"
    snapshots: str = "/etc/yardgate-snapshots"
    snapshots_program: str = "/usr/local/sbin/yardgate-snapshots"
    snapshots_timer: str = "/etc/cron.d/yardgate-snapshots"


FILES = Files()
IN = """cd -P -- "$1" && test "$PWD" = "$1" || { echo "no folder of its own, or behind a link: $1" >&2; exit 1; }
"""
"""Go into a folder and look where one is then. From there it is named `.`: whatever its path leads to by now, nothing else is touched."""
