"""Levels: what a person can do in a place."""

from enum import StrEnum


class Level(StrEnum):
    """NA (may not enter) < PT (may pass through) < RO (may read) < RW (may read and change).

    The letters happen to sort in that order, so comparing levels as text compares what they allow; a test holds it.
    """

    NA = "NA"
    PT = "PT"
    RO = "RO"
    RW = "RW"

    __hash__ = str.__hash__  # an enum's own is slow, and lists of grants are looked up by the ten thousand

    @property
    def code(self) -> int:
        """0 to 3, the value that stands for this level in a matrix of uint8."""
        return LEVELS.index(self)

    @property
    def words(self) -> str:
        return WORDS[self]


LEVELS = (Level.NA, Level.PT, Level.RO, Level.RW)
GRANTABLE = (Level.NA, Level.RO, Level.RW)
WORDS = {Level.NA: "no access", Level.PT: "pass through", Level.RO: "read-only", Level.RW: "read-write"}
