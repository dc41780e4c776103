"""What was changed at an appliance behind the plan's back, as edits that take it into the plan, where a plan can say it so."""

from collections.abc import Iterator, Mapping
from dataclasses import replace

from yardgate.core.edit import Edit, Join, Leave, PutUser
from yardgate.core.plan import LOCAL, Group, Plan, User
from yardgate.core.rollout import Step
from yardgate.core.system import Account, Members


def taken_in(plan: Plan, named: Mapping[str, str], step: Step) -> tuple[Edit, ...]:
    """The edits after which the plan comes to what a step of `drift` made; none where only a person can say what was meant.

    named: account id -> its name on the host. An account that was opened, shut or called otherwise, and who was put into a group or
    taken out, can be taken in; owners, lists, shares and numbers cannot.
    """
    match step.before, step.after:
        case Account() as was, Account() as now:
            return tuple(_account(plan, was, now))
        case (None | Members()) as had, (None | Members()) as has:
            return _members(
                plan, named, step.record.name, *(m.users if m is not None else frozenset() for m in (had, has))
            )
    return ()


def _account(plan: Plan, was: Account, now: Account) -> Iterator[Edit]:
    user = _user(plan, was.name)
    said = replace(was, enabled=now.enabled, expires=now.expires, full_name=now.full_name)
    if user is None or said != now:
        return
    after = replace(user, enabled=now.enabled, full_name=now.full_name)
    if now.enabled:
        after = replace(after, expires=now.expires)
    yield PutUser(after)


def _members(
    plan: Plan, named: Mapping[str, str], name: str, had: frozenset[str], has: frozenset[str]
) -> tuple[Edit, ...]:
    group: Group | None = next((g for g in plan.groups.values() if g.origin == LOCAL and named.get(g.id) == name), None)
    come, gone = ([_user(plan, user) for user in sorted(users)] for users in (has - had, had - has))
    if group is None or None in come or any(user is None or user.id not in group.members for user in gone):
        return ()  # somebody unknown, or somebody who is in it through another group
    joins = (Join(group.id, user.id) for user in come if user is not None)
    return (*joins, *(Leave(group.id, user.id) for user in gone if user is not None))


def _user(plan: Plan, name: str) -> User | None:
    return next((user for user in plan.users.values() if user.origin == LOCAL and user.name == name), None)
