"""One user, one place, explained gate by gate. The readable reference: `resolve` must give the same for every cell."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Literal

from yardgate.core.clash import WITHIN_WORDS, Part, Verdict, decide
from yardgate.core.membership import Tier, tier, token
from yardgate.core.plan import EVERYONE, Plan
from yardgate.core.rights import Level

Source = Literal["nothing", "own", "group", "all", "admin", "account"]


@dataclass(frozen=True, slots=True)
class Line:
    """A grant that took part. `way` leads from the one asked about to the one granted: ids, both ends included."""

    who: str
    level: Level
    tier: Tier | Literal["admin"]
    verdict: Verdict
    way: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Gate:
    """One of the gates in a row; the result is the lowest level that any of them lets through."""

    kind: Literal["account", "share"]
    title: str
    level: Level
    decides: bool
    sentence: str
    lines: tuple[Line, ...] = ()


@dataclass(frozen=True, slots=True)
class Reason:
    """Why `subject` gets `level` in `place`. `clash`: another clash rule would give another level."""

    subject: str
    place: str
    level: Level
    source: Source
    clash: bool
    gates: tuple[Gate, ...]


def explain(
    plan: Plan, subject: str, place: str, on: date, above: Mapping[str, tuple[str, ...]] | None = None
) -> Reason:
    """The reason for one cell on one day. `subject`: a user, or a group (then: somebody who is in this group alone).

    `above`: `membership.containers(plan)`, where the caller has it. Raises KeyError for an id that is not in the plan.
    """
    if subject not in plan.users and subject not in plan.groups:
        raise KeyError(subject)
    account = _account(plan, subject, on)
    share = _share(plan, subject, plan.places[place].id, above)
    level = min(account.level, share.level)
    shut = account.level == Level.NA
    gates = (
        Gate(account.kind, account.title, account.level, shut, account.sentence),
        Gate(share.kind, share.title, share.level, not shut, share.sentence, share.lines),
    )
    return Reason(subject, place, level, "account" if shut else _source(share), not shut and _clash(share), gates)


def _account(plan: Plan, subject: str, on: date) -> Gate:
    user = plan.users.get(subject)
    if user is None:
        name = plan.groups[subject].name
        return Gate(
            "account", "Account", Level.RW, False, f"Asked for somebody who is in {name} and in no other group."
        )
    if not user.enabled:
        return Gate(
            "account", "Account", Level.NA, True, f"{plan.named(subject)} is disabled and gets nothing anywhere."
        )
    if not user.active(on):
        return Gate(
            "account",
            "Account",
            Level.NA,
            True,
            f"{plan.named(subject)} expired on {user.expires} and gets nothing anywhere.",
        )
    return Gate("account", "Account", Level.RW, False, f"{plan.named(subject)} may sign in.")


def _share(plan: Plan, subject: str, place: str, above: Mapping[str, tuple[str, ...]] | None) -> Gate:
    """The grants on the place, weighed by the clash rule; the administrators setting goes before it."""
    title = f"Grants on {plan.places[place].name}"
    ways = token(plan, subject, above)
    concerned = [(who, level) for who, level in plan.grants.get(place, {}).items() if who in ways]
    parts = [Part(tier(plan, subject, who), level) for who, level in concerned]
    level, verdicts = decide(plan.target, parts)
    lines = tuple(
        Line(who, part.level, part.tier, verdict, ways[who])
        for (who, _), part, verdict in zip(concerned, parts, verdicts, strict=True)
    )
    boss = plan.target.administrators
    if boss is not None and boss in ways:
        overruled = tuple(Line(line.who, line.level, line.tier, "outranked", line.way) for line in lines)
        first = Line(boss, Level.RW, "admin", "decides", ways[boss])
        sentence = (
            f"Members of {plan.named(boss)} always get read-write here; the grants below change nothing for them."
        )
        return Gate("share", title, Level.RW, False, sentence, (first, *overruled))
    return Gate("share", title, level, False, _sentence(plan, subject, place, level, lines), lines)


def _sentence(plan: Plan, subject: str, place: str, level: Level, lines: tuple[Line, ...]) -> str:
    if not lines:
        others = len(plan.grants.get(place, {}))
        said = "Nothing is granted here at all" if not others else "No grant here concerns them"
        return f"{said}, and nothing said gives no access."
    names = " and ".join(_grantee(plan, subject, line) for line in lines if line.verdict == "decides")
    if len({line.level for line in lines}) == 1:
        return f"{names}: {level.words}. The grants agree." if len(lines) > 1 else f"{names}: {level.words}."
    if any(line.verdict == "farther" for line in lines):
        return f"{names}: {level.words}. The nearest grants decide, so farther ones do not count."
    if plan.target.within == "refusal" and level != Level.NA:
        return f"{names}: {level.words}. Nobody refuses, so the widest counts."
    return f"{names}: {level.words}. {WITHIN_WORDS[plan.target.within].capitalize()}."


def _grantee(plan: Plan, subject: str, line: Line) -> str:
    if line.who == EVERYONE:
        return "Everyone"
    return "Their own grant" if line.who == subject and subject in plan.users else plan.named(line.who)


def _source(share: Gate) -> Source:
    deciding = {line.tier for line in share.lines if line.verdict == "decides"}
    for near in ("admin", "own", "group", "all"):
        if near in deciding:
            return near
    return "nothing"


def _clash(share: Gate) -> bool:
    """Grants that disagree come out differently under another rule (widest against narrowest, all counting together)."""
    return len({line.level for line in share.lines}) > 1 and all(line.tier != "admin" for line in share.lines)
