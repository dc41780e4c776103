"""What a rollout asks of an appliance, whichever it is."""

from collections.abc import Collection, Generator, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Literal, Protocol

from yardgate.core.host.bounds import HostAccounts
from yardgate.core.host.contents import Handed, Owned, Thing
from yardgate.core.host.diagnosis import Asked, Facts
from yardgate.core.host.going_back import Since
from yardgate.core.host.probe import Abilities
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import PARTS, RecordKind, System
from yardgate.core.host.steps import Step
from yardgate.core.model import share


class ApplianceError(Exception):
    """The appliance did not do, or does not have, what it should; in words for a person."""


class Unreachable(ApplianceError):
    """It cannot be reached: whether what was asked of it last was done is not known."""


class RolloutUnderWay(ApplianceError):
    """Another rollout is under way there."""


class TooLate(ApplianceError):
    """It is putting everything back by itself, or has."""


Watching = Literal["nothing", "armed", "rolling back", "rolled back", "partly rolled back"]
"""What the appliance watches over: nothing, a rollout that it would put back, or how the last one that it put back ended."""


class Trial(Protocol):
    def enter(self, account: str, share: str, folders: Sequence[str]) -> list[Abilities] | None:
        """What an account finds in folders of a share, by their paths in it; None where it may not even connect. account: none for a guest.
        Raises ApplianceError, where it cannot be tried."""


class Appliance(Protocol):
    """`arm` begins a watch on the appliance itself, `alive` winds it up anew, `end` ends it: what is not ended puts everything back,
    `seconds` after it was wound up last, whatever becomes of whoever began it."""

    @property
    def name(self) -> str: ...

    def read(self, asked: System, parts: Collection[RecordKind] = PARTS) -> System:
        """What it has of what is asked about. Raises ApplianceError."""

    def about(self) -> HostAccounts:
        """All accounts and groups that it has. Raises ApplianceError."""

    def do(self, step: Step, now: System, /) -> None:
        """Do a step, where it has `now`. Raises ApplianceError."""

    def shown(self, step: Step, now: System, /) -> list[str]:
        """How a step is done, in lines to be read. Raises FormatError for what cannot be done there."""

    def arm(self, now: System, found: Sequence[Step], seconds: int, /) -> None:
        """Raises Busy."""

    def alive(self) -> None:
        """Raises TooLate."""

    def end(self) -> None:
        """Raises TooLate."""

    def watching(self) -> Watching:
        """Raises Unreachable."""

    def inside(self, folder: str, apart: Collection[str], /) -> Iterator[tuple[int, list[Thing]]]:
        """The files and folders in a folder, but those `apart` and what is in them: in portions, each with the number of all. Raises ApplianceError."""

    def things(self, paths: Mapping[str, bool], /) -> list[Thing]:
        """What is there of some paths -> whether they are folders'. Raises ApplianceError."""

    def snapshot(self, dataset: str, /) -> str:
        """Make a snapshot of one now, and say its name. Raises ApplianceError."""

    def snapshots(self, datasets: Sequence[str], /) -> Mapping[str, tuple[str, ...]]:
        """The names of those that there are, the newest first, of each dataset that is there. Raises ApplianceError."""

    def since(self, dataset: str, snapshot: str, /) -> Generator[tuple[int, int, Since]]:
        """What of it is otherwise than in a snapshot: in portions, each with how far it is, and of how much. Raises ApplianceError."""

    def go_back(self, dataset: str, snapshot: str, /) -> Generator[tuple[int, int, Since]]:
        """Let all in it be what it was in a snapshot, in portions likewise. Datasets below stay as they are. Raises ApplianceError."""

    def give(self, wanted: Sequence[Thing], /) -> None:
        """Let things have the group and list that they have here; what cannot be set is found by reading back. Raises ApplianceError."""

    def owned(self, account: str, folders: Sequence[str], /) -> tuple[Owned, ...]:
        """What an account owns below some folders that are there. Raises ApplianceError."""

    def hand_over(self, account: str, to: str, folders: Sequence[str], /) -> Handed:
        """Give what an account owns below some folders to another. Raises ApplianceError."""

    def addresses(self) -> Sequence[str]:
        """Its own, by which clients reach it; that of itself last; none where they are not known."""

    def shut(self, protocol: share.Protocol, machine: str = "", /) -> str:
        """What keeps clients from its server for a protocol, as a firewall of its own, in words; nothing where nothing is known to. machine: from there."""

    def enter_over_nfs(
        self, account: str, exported: str, folders: Sequence[str], address: str, /
    ) -> list[Abilities] | None:
        """What an account finds in folders of one that is exported, from one of the host's own addresses; None where that is not even shown.
        Raises ApplianceError, where it cannot be tried."""

    def trial(self, accounts: Collection[str], /) -> AbstractContextManager[Trial]:
        """Going into its shares as some of its accounts. Raises ApplianceError, where it cannot be tried."""

    def facts(self, asked: Asked, top: str, /) -> Facts:
        """What it says of one account and one thing in a share, whose folder is `top`. Raises ApplianceError."""

    def without_password(self) -> frozenset[str]:
        """The accounts whose password nobody was given since they were made. Raises ApplianceError."""

    def give_passwords(self, passwords: Mapping[str, str], /, *, change: bool) -> None:
        """Let accounts have these; `change`: each has to be changed before anything else. Raises ApplianceError."""

    def sessions(self) -> tuple[OpenSession, ...]:
        """Those that are open now, by account. Raises ApplianceError."""

    def end_sessions(self, accounts: Collection[str], /) -> tuple[OpenSession, ...]:
        """End those of some accounts, and say which. Raises ApplianceError."""
