"""Clash rules: what several grants on one place add up to, for somebody whom they all concern."""

from collections.abc import Sequence
from typing import Literal, NamedTuple, get_args

from yardgate.core.access.membership import Tier
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Combining, Precedence, Target

LevelSource = Literal["nothing", "own", "group", "all", "admin", "account", "way", "list", "service", "share"]
"""What a level comes from."""
Verdict = Literal["decides", "outranked", "farther", "too late"]
NEARNESS: tuple[Tier, ...] = ("own", "group", "all")
RULES: tuple[tuple[Precedence, Combining], ...] = tuple(
    (t, w) for t in get_args(Precedence) for w in get_args(Combining)
)

WITHIN_WORDS: dict[Combining, str] = {
    "refusal": "a refusal wins",
    "widest": "the widest wins",
    "narrowest": "the narrowest wins",
    "first": "the first line wins",
}


class TieredGrant(NamedTuple):
    """A grant that concerns somebody: how near it is to them, and what it says."""

    tier: Tier
    level: Level


def rule_words(target: Target) -> str:
    """The clash rule as people say it; that all grants count together goes without saying."""
    within = WITHIN_WORDS[target.combining]
    return within if target.precedence == "pooled" else f"nearest first, then {within}"


def decide(target: Target, parts: Sequence[TieredGrant]) -> tuple[Level, tuple[Verdict, ...]]:
    """What the grants, in list order, add up to, and each one's part in it. No grants at all give NA."""
    if not parts:
        return Level.NA, ()
    counted = parts
    if target.precedence == "nearest":
        nearest = min(parts, key=lambda part: NEARNESS.index(part.tier)).tier
        counted = [part for part in parts if part.tier == nearest]
    result = _within(target.combining, [part.level for part in counted])

    def verdict(number: int, part: TieredGrant) -> Verdict:
        if target.precedence == "nearest" and part.tier != nearest:
            return "farther"
        if target.combining == "first" and any(earlier in counted for earlier in parts[:number]):
            return "too late"
        return "decides" if part.level == result else "outranked"

    return result, tuple(verdict(number, part) for number, part in enumerate(parts))


def _within(within: Combining, levels: Sequence[Level]) -> Level:
    match within:
        case "refusal":
            return Level.NA if Level.NA in levels else max(levels)
        case "widest":
            return max(levels)
        case "narrowest":
            return min(levels)
        case "first":
            return levels[0]
