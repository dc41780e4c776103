"""Taking back a step that is not the last one: what it changed becomes what it was, and what others changed since stays.

Records are merged field by field. Where somebody changed since just what the step had changed, it cannot be taken back, and that is said.
"""

from collections.abc import Iterator, Mapping
from dataclasses import fields, replace
from typing import Any

from yardgate.core.acl.rights import Level
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import Edit
from yardgate.core.model.checks import PlanError, Trouble
from yardgate.core.model.kinds import KINDS, Kind
from yardgate.core.model.plan import Plan


def taken_back(before: Plan, after: Plan, now: Plan) -> tuple[Edit, ...]:
    """The edits that take back the step from `before` to `after` in the plan as it is now. Raises PlanError where it was overtaken."""
    parts: dict[str, Any] = {kind.part: dict(_merged(kind, before, after, now)) for kind in KINDS}
    grants = {
        place: lines
        for place in parts["places"]
        if (lines := _lines(now, place, *(plan.grants.get(place, {}) for plan in (before, after, now))))
    }
    title = {name: _field(now.name, "the plan", name, before, after, now) for name in ("name", "office", "purpose")}
    target = replace(
        now.target,
        **{
            field.name: _field("", "what the appliance does", field.name, before.target, after.target, now.target)
            for field in fields(now.target)
        },
    )
    return difference(now, replace(now, **parts, grants=grants, target=target, **title))


def _merged(kind: Kind, before: Plan, after: Plan, now: Plan) -> Iterator[tuple[str, Any]]:
    was, made, here = kind.of(before), kind.of(after), kind.of(now)
    for key in {**here, **was}:
        old, new, present = was.get(key), made.get(key), here.get(key)
        if old == new or present == old:
            found = present
        elif present == new:
            found = old
        elif old is None or new is None or present is None:
            raise _overtaken(key, f"{kind.one} {getattr(old or new, 'name', key)}")
        else:
            what = f"{kind.one} {getattr(old, 'name', key)}"
            changes = {field.name: _field(key, what, field.name, old, new, present) for field in fields(present)}
            found = replace(present, **changes)
        if found is not None:
            yield key, found


def _field(key: str, what: str, name: str, before: Any, after: Any, now: Any) -> Any:
    old, new, present = (getattr(one, name) for one in (before, after, now))
    if old == new or present == old:
        return present
    if present == new:
        return old
    if name == "members":
        return (present - (new - old)) | (old - new)
    raise _overtaken(key, f"{what}, {name.replace('_', ' ')}")


def _lines(
    now: Plan, place: str, before: Mapping[str, Level], after: Mapping[str, Level], here: Mapping[str, Level]
) -> Mapping[str, Level]:
    """The grants on a place, in order: as they were, where nobody touched them since; else those that the step changed alone."""
    if list(here.items()) == list(after.items()):
        return before
    found = dict(here)
    for who in {**before, **after}:
        old, new, present = before.get(who), after.get(who), here.get(who)
        if old == new or present == old:
            continue
        if present != new:
            raise _overtaken(place, f"the grant to {now.named(who)} on {now.path_name(place)}")
        if old is None:
            found.pop(who)
        else:
            found[who] = old
    return found


def _overtaken(key: str, what: str) -> PlanError:
    return PlanError(
        (Trouble(key or "plan", f"{what} was changed since, so this step cannot be taken back by itself"),)
    )
