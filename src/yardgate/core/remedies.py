"""Other edits that would do the same."""

from dataclasses import dataclass
from datetime import date

from yardgate.core.edit import SetGrant, apply
from yardgate.core.membership import token
from yardgate.core.plan import EVERYONE, Plan
from yardgate.core.resolve import Change, changes, resolve
from yardgate.core.rights import Level


@dataclass(frozen=True, slots=True)
class Instead:
    """A grant to a group that gives one user the level wanted; `others`: the cells of other users that change with it."""

    edit: SetGrant
    others: tuple[Change, ...]


def group_instead(plan: Plan, place: str, user: str, level: Level, on: date) -> tuple[Instead, ...]:
    """Grants to one of the user's groups that come out as `level` for the user in the place, fewest other changes first."""
    one = Plan(
        target=plan.target,
        users=plan.users,
        groups=plan.groups,
        places={place: plan.places[place]},
        grants={place: plan.grants[place]} if place in plan.grants else {},
    )
    without = apply(one, [SetGrant(place, user, None)])[0] if user in one.grants.get(place, {}) else one
    before = resolve(without, on)
    now = resolve(one, on, before)
    found = []
    for group in token(plan, user):
        if group in (user, EVERYONE):
            continue
        edit = SetGrant(place, group, level)
        after = resolve(apply(without, [edit])[0], on, before)
        if after.level(user, place) == level:
            others = tuple(c for c in changes(now, after) if c.subject in plan.users and c.subject != user)
            found.append(Instead(edit, others))
    return tuple(sorted(found, key=lambda instead: (len(instead.others), instead.edit.who)))
