"""What some edits would do: the cells that come out differently, and the promises that they break or mend."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.comparison import Comparison, Price, price
from yardgate.core.access.outcome import Shift, outcome, people, shifts
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import exactly, in_step
from yardgate.core.edits.records import Edit
from yardgate.core.model.agreements import Promise
from yardgate.core.policy.compliance import Compliance, keep


@dataclass(frozen=True)
class Effect:
    """after: what comes out then. breaks, mends: promises that are kept now and not then, and the other way round.

    along: edits that go with them (see `in_step`). price: what changes for hosts over NFS, and who gets more or less by it than is granted.
    """

    before: Compliance
    edits: tuple[Edit, ...]
    along: tuple[Edit, ...]
    after: Compliance
    breaks: tuple[Promise, ...]
    mends: tuple[Promise, ...]
    price: Price

    @cached_property
    def shifts(self) -> Sequence[Shift]:
        """The cells that come out differently, also of places that go."""
        return shifts(self.before.outcome, self.after.outcome, gone=True)

    @property
    def made(self) -> Iterator[tuple[str, Mapping[Level, int]]]:
        """The places that only the plan then has, and how many users and guests get which level there over any way in."""
        then = self.after.outcome
        for place in then.matrix.plan.places.keys() - self.before.outcome.matrix.plan.places.keys():
            yield place, {level: int((people(then, place) == level.code).sum()) for level in (Level.RW, Level.RO)}


def effect(
    now: Compliance, edits: Sequence[Edit], after: Matrix | None = None, known: Comparison | None = None
) -> Effect:
    """after: the matrix of the plan after the edits, where the caller has it; known: how everybody stands now, where that was worked out. Raises PlanError."""
    whole = in_step(now.outcome.matrix.plan, tuple(edits))
    if after is None:
        plan, _ = exactly(now.outcome.matrix.plan, whole)
        after = resolve(plan, now.outcome.matrix.on, now.outcome.matrix)
    return between(now, keep(outcome(after, now.outcome), now), edits, whole[len(edits) :], known)


def between(
    now: Compliance,
    then: Compliance,
    edits: Sequence[Edit],
    along: tuple[Edit, ...] = (),
    known: Comparison | None = None,
) -> Effect:
    """What is another in one plan than in another that some edits lead to."""
    was_broken = {keeping.promise.id for keeping in now.broken}
    is_broken = {keeping.promise.id for keeping in then.broken}
    breaks = tuple(keeping.promise for keeping in then.broken if keeping.promise.id not in was_broken)
    mends = tuple(k.promise for k in now.broken if k.promise.id in then.keepings and k.promise.id not in is_broken)
    return Effect(
        now,
        tuple(edits),
        along,
        then,
        breaks,
        mends,
        price(now.outcome, then.outcome, known.places if known is not None else None),
    )
