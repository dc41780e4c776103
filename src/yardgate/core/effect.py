"""What some edits would do: the cells that come out differently, and the promises that they break or mend."""

from collections.abc import Sequence
from dataclasses import dataclass

from yardgate.core.agreed import Promise
from yardgate.core.edit import Edit, exactly, in_step
from yardgate.core.keeping import Kept, keep
from yardgate.core.outcome import Shift, outcome, shifts
from yardgate.core.resolve import Matrix, resolve


@dataclass(frozen=True, slots=True)
class Effect:
    """after: what comes out then. breaks, mends: promises that are kept now and not then, and the other way round.

    along: edits that go with them (see `in_step`).
    """

    edits: tuple[Edit, ...]
    along: tuple[Edit, ...]
    after: Kept
    shifts: tuple[Shift, ...]
    breaks: tuple[Promise, ...]
    mends: tuple[Promise, ...]


def effect(now: Kept, edits: Sequence[Edit], after: Matrix | None = None) -> Effect:
    """after: the matrix of the plan after the edits, where the caller has it. Raises PlanError."""
    whole = in_step(now.outcome.matrix.plan, tuple(edits))
    if after is None:
        plan, _ = exactly(now.outcome.matrix.plan, whole)
        after = resolve(plan, now.outcome.matrix.on, now.outcome.matrix)
    then = keep(outcome(after, now.outcome), now)
    was_broken = {keeping.promise.id for keeping in now.broken}
    is_broken = {keeping.promise.id for keeping in then.broken}
    breaks = tuple(keeping.promise for keeping in then.broken if keeping.promise.id not in was_broken)
    mends = tuple(k.promise for k in now.broken if k.promise.id in then.keepings and k.promise.id not in is_broken)
    return Effect(tuple(edits), whole[len(edits) :], then, tuple(shifts(now.outcome, then.outcome)), breaks, mends)
