"""What people agreed on: promises that must stay true, and findings that they accept for a time."""

from dataclasses import dataclass
from datetime import date
from typing import Literal

from yardgate.core.acl.rights import STRICT, Level
from yardgate.core.model.share import Protocol

Act = Literal["see", "read", "write"]
LEAST: dict[Act, Level] = {"see": Level.PT, "read": Level.RO, "write": Level.RW}
"""The lowest level with which somebody can do it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Promise:
    """A sentence that must stay true: who must, or must not, be able to see, read or write a place.

    who: a user, a group (all who are in it), everyone, or the guest; except_for: users and groups of whom it does not speak.
    Of a group, and of everyone, those are meant whose account is open; `must not` to everyone speaks of the guest, too.
    protocol: over this one; None: over any way in.
    """

    __pydantic_config__ = STRICT
    id: str
    who: str
    must: bool
    act: Act
    place: str
    except_for: frozenset[str] = frozenset()
    protocol: Protocol | None = None
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Accepted:
    """A finding that somebody accepts, why, and the day on which to look at it again (None: not again)."""

    __pydantic_config__ = STRICT
    id: str
    reason: str
    until: date | None = None

    def holds(self, on: date) -> bool:
        return self.until is None or on < self.until
