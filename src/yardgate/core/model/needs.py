"""Needs: what somebody should be able to do in a place, whatever the plan gives them."""

from dataclasses import dataclass
from typing import Literal, get_args

from yardgate.core.acl.rights import STRICT

Wish = Literal["change", "read", "must not", "any"]
"""What is needed; `must not`: never to read it, by whatever group; `any`: it does not matter. Where nothing is said, nothing is needed."""
WISHES: tuple[Wish, ...] = get_args(Wish)


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """What a user, or everybody in a group, needs in a place; asked_by: who asked for it. A user's own need counts before those of groups."""

    __pydantic_config__ = STRICT
    id: str
    who: str
    place: str
    wish: Wish
    asked_by: str = ""
    note: str = ""

    @classmethod
    def of(cls, who: str, place: str, wish: Wish, asked_by: str = "", note: str = "") -> "Need":
        """The one need that somebody has in a place."""
        return cls(id=need_id(who, place), who=who, place=place, wish=wish, asked_by=asked_by, note=note)


def need_id(who: str, place: str) -> str:
    """The id that says whose need it is and where: there can be one only."""
    return f"{who} @ {place}"
