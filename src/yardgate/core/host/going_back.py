"""Going back to a snapshot of a dataset: what is otherwise now than it was then, and so would go back with it.

A snapshot knows no difference between the harm that somebody wants undone and the work that was done since. So what goes back is told
first, by sort and by whose it is; and a snapshot of now is made before, by which the going back itself can be undone.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Literal, NamedTuple

Sort = Literal["changed", "new", "gone", "rights", "left"]
SOME = 20  # of what differs, that are shown
_NAME = re.compile(r"@GMT-(\d{4})\.(\d\d)\.(\d\d)-(\d\d)\.(\d\d)\.(\d\d)")


class Differing(NamedTuple):
    """A thing that is otherwise. name: its path in the dataset, none for the dataset itself. words: why it was left, where it was."""

    sort: Sort
    name: str
    words: str = ""


@dataclass(frozen=True, slots=True)
class Since:
    """What is otherwise than in a snapshot, in a part of a dataset or all of it. things: files and folders that were looked at.

    changed: files with other contents, or something else under the same name; new: made since, so they would go; gone: deleted since, so
    they would come back; rights: with another owner, group, mode or list, and the same contents; left: what cannot be made so. people: of how
    many changed and new files each account is the owner. latest: when the last of these was written, in seconds since 1970, or 0.
    """

    things: int = 0
    changed: int = 0
    new: int = 0
    gone: int = 0
    rights: int = 0
    left: int = 0
    people: Mapping[str, int] = field(default_factory=dict)
    latest: int = 0
    some: tuple[Differing, ...] = ()

    @property
    def otherwise(self) -> int:
        return self.changed + self.new + self.gone + self.rights

    def plus(self, more: "Since") -> "Since":
        """Both parts. What could not be made so is shown first."""
        some = sorted((*self.some, *more.some), key=lambda one: one.sort != "left")
        return Since(
            self.things + more.things,
            self.changed + more.changed,
            self.new + more.new,
            self.gone + more.gone,
            self.rights + more.rights,
            self.left + more.left,
            {who: self.people.get(who, 0) + more.people.get(who, 0) for who in (*self.people, *more.people)},
            max(self.latest, more.latest),
            tuple(some[:SOME]),
        )


def named(at: datetime) -> str:
    """The name of a snapshot that is made at a time."""
    return at.astimezone(UTC).strftime("@GMT-%Y.%m.%d-%H.%M.%S")


def made_at(snapshot: str) -> datetime | None:
    """When a snapshot was made, by its name; None for another's name."""
    found = _NAME.fullmatch(snapshot)
    try:
        return None if found is None else datetime(*map(int, found.groups()), tzinfo=UTC)  # type: ignore[misc, arg-type]
    except ValueError:
        return None
