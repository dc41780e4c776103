"""In place of a personal grant: grants to a group that do the same for somebody."""

from dataclasses import dataclass

from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import Outcome, Shift, outcome, outcome_of, shifts
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.plan import EVERYONE


@dataclass(frozen=True, slots=True)
class Instead:
    """A grant to a group that gives one user the level wanted; `others`: the cells of other users that change with it."""

    edit: SetGrant
    others: tuple[Shift, ...]


def group_instead(now: Outcome, place: str, user: str, level: Level) -> tuple[Instead, ...]:
    """Grants to one of the user's groups that give the user the level, or what a grant of their own would give; fewest other changes first."""
    plan, on = now.matrix.plan, now.matrix.on
    by_own = outcome_of(apply(plan, [SetGrant(place, user, level)])[0], now)
    without, before = plan, now.matrix
    if user in plan.grants.get(place, {}):
        without = apply(plan, [SetGrant(place, user, None)])[0]
        before = resolve(without, on, before)
    found = []
    for group in token(plan, user):
        if group in (user, EVERYONE):
            continue
        edit = SetGrant(place, group, level)
        matrix = resolve(apply(without, [edit])[0], on, before)
        if matrix.level(user, place) == level:
            then = outcome(matrix, now)
            if then.level(user, place) in (level, by_own.level(user, place)):
                found.append(Instead(edit, tuple(cell for cell in shifts(now, then) if cell.subject != user)))
    return tuple(sorted(found, key=lambda instead: (len(instead.others), instead.edit.who)))
