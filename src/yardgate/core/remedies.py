"""Other edits that would do the same."""

from dataclasses import dataclass

from yardgate.core.edit import SetGrant, apply
from yardgate.core.membership import token
from yardgate.core.plan import EVERYONE
from yardgate.core.resolve import Change, Matrix, changes, resolve
from yardgate.core.rights import Level


@dataclass(frozen=True, slots=True)
class Instead:
    """A grant to a group that gives one user the level wanted; `others`: the cells of other users that change with it."""

    edit: SetGrant
    others: tuple[Change, ...]


def group_instead(now: Matrix, place: str, user: str, level: Level) -> tuple[Instead, ...]:
    """Grants to one of the user's groups that come out as `level` for the user in the place, fewest other changes first."""
    plan = now.plan
    without, before = plan, now
    if user in plan.grants.get(place, {}):
        without = apply(plan, [SetGrant(place, user, None)])[0]
        before = resolve(without, now.on, now)
    found = []
    for group in token(plan, user):
        if group in (user, EVERYONE):
            continue
        edit = SetGrant(place, group, level)
        after = resolve(apply(without, [edit])[0], now.on, before)
        if after.level(user, place) == level:
            others = tuple(c for c in changes(now, after) if c.subject in plan.users and c.subject != user)
            found.append(Instead(edit, others))
    return tuple(sorted(found, key=lambda instead: (len(instead.others), instead.edit.who)))
