"""Tokens: all that a user counts as. Readable on purpose; `resolve` has its own, packed way of saying the same."""

from collections import deque
from collections.abc import Mapping
from typing import Literal

from yardgate.core.model.plan import EVERYONE, LOCAL, Plan

Tier = Literal["own", "group", "all"]
Token = Mapping[str, tuple[str, ...]]


def in_baseline(plan: Plan, principal: str) -> bool:
    """Whether a user is in the baseline group without being listed; what a group's members are asked as counts as local."""
    if plan.target.baseline is None:
        return False
    user = plan.users.get(principal)
    return user is None or user.origin == LOCAL or plan.target.baseline_covers_directory


def token(plan: Plan, principal: str) -> Token:
    """Everything that `principal` counts as -> the shortest way there, from the principal itself, both ends included.

    For a group, the token is that of somebody who is in this group alone. Nesting may be of any depth and may run in a
    circle: a group already reached is not walked again.
    """
    baseline = plan.target.baseline
    also = (baseline,) if baseline is not None and in_baseline(plan, principal) else ()
    return {**_ways(plan, principal, also), EVERYONE: (principal, EVERYONE)}


def _ways(plan: Plan, principal: str, also: tuple[str, ...]) -> dict[str, tuple[str, ...]]:
    ways: dict[str, tuple[str, ...]] = {principal: (principal,)}
    queue = deque([principal])
    while queue:
        here = queue.popleft()
        outward = plan.containers.get(here, ())
        for group in (*outward, *also) if here == principal else outward:
            if group not in ways:
                ways[group] = (*ways[here], group)
                queue.append(group)
    return ways


def unlisted(plan: Plan, principal: str) -> tuple[str, ...]:
    """The groups that a principal is in without being named there: through another group, or as everybody is in the baseline.

    A group is in the baseline only where some group between names it.
    """
    ways = token(plan, principal) if principal in plan.users else _ways(plan, principal, ())
    named = plan.containers.get(principal, ())
    return tuple(who for who in ways if who in plan.groups and who != principal and who not in named)


def tier(plan: Plan, principal: str, who: str) -> Tier:
    """How near a grant to `who` is to `principal`: their own, a group's, or everyone's (the baseline counts as everyone)."""
    if who in (EVERYONE, plan.target.baseline):
        return "all"
    return "own" if who == principal and who in plan.users else "group"


def cycles(plan: Plan) -> tuple[tuple[str, ...], ...]:
    """Groups that contain each other in a circle, each circle once, in the order of nesting. They do no harm, but say so."""
    found: list[tuple[str, ...]] = []
    settled: set[str] = set()
    for start in sorted(plan.groups):
        trail: list[str] = []
        stack: list[tuple[str, list[str]]] = [(start, _subgroups(plan, start))] if start not in settled else []
        while stack:
            group, rest = stack[-1]
            if group not in trail:
                trail.append(group)
            if not rest:
                stack.pop()
                trail.pop()
                settled.add(group)
                continue
            inner = rest.pop()
            if inner in trail:
                found.append(tuple(trail[trail.index(inner) :]))
            elif inner not in settled:
                stack.append((inner, _subgroups(plan, inner)))
    return tuple(found)


def _subgroups(plan: Plan, group: str) -> list[str]:
    return sorted((member for member in plan.groups[group].members if member in plan.groups), reverse=True)
