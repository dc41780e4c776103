"""What some edits would do: the cells that come out differently, and the promises that they break or mend."""

from collections.abc import Sequence
from dataclasses import dataclass

from yardgate.core.agreed import Promise
from yardgate.core.edit import Edit, apply
from yardgate.core.keeping import keep
from yardgate.core.outcome import Outcome, Shift, outcome, shifts
from yardgate.core.resolve import resolve


@dataclass(frozen=True, slots=True)
class Effect:
    """after: what comes out then. breaks, mends: promises that are kept now and not then, and the other way round."""

    edits: tuple[Edit, ...]
    after: Outcome
    shifts: tuple[Shift, ...]
    breaks: tuple[Promise, ...]
    mends: tuple[Promise, ...]


def tried(now: Outcome, edits: Sequence[Edit]) -> Outcome:
    """What comes out after some edits. Raises PlanError."""
    plan, _ = apply(now.matrix.plan, edits)
    return outcome(resolve(plan, now.matrix.on, now.matrix), now)


def effect(now: Outcome, edits: Sequence[Edit], after: Outcome | None = None) -> Effect:
    """after: what `tried` found, where the caller has it. Raises PlanError."""
    after = tried(now, edits) if after is None else after
    broken_now = {keeping.promise.id for keeping in keep(now) if not keeping.kept}
    then = keep(after)
    breaks = tuple(keeping.promise for keeping in then if not keeping.kept and keeping.promise.id not in broken_now)
    mends = tuple(keeping.promise for keeping in then if keeping.kept and keeping.promise.id in broken_now)
    return Effect(tuple(edits), after, tuple(shifts(now, after)), breaks, mends)
