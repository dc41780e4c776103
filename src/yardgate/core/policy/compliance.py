"""Whether promises are kept, by whom they are broken, and which of them cannot both be kept."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.access.bitsets import unpack
from yardgate.core.access.outcome import Outcome
from yardgate.core.access.paths import explain_over, members
from yardgate.core.access.spec.explain import Reason, explain
from yardgate.core.access.storage import alike
from yardgate.core.access.visibility import seen
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.agreements import LEAST, Promise
from yardgate.core.model.plan import EVERYONE, GUEST, Plan
from yardgate.core.model.share import Over, Protocol

Meant = NDArray[np.bool_]
"""Of whom a promise speaks, the guest behind all subjects: bool (subjects + 1,)."""


class Breach(NamedTuple):
    """Somebody for whom a promise does not hold, and what they get instead."""

    subject: str
    level: Level


@dataclass(frozen=True, slots=True)
class Keeping:
    """How a promise stands. meant: of how many it speaks."""

    promise: Promise
    meant: int
    breaches: tuple[Breach, ...]

    @property
    def kept(self) -> bool:
        return not self.breaches


@dataclass(frozen=True, slots=True)
class Compliance:
    """What comes out of a plan, and how its promises stand in it, by their ids."""

    outcome: Outcome
    keepings: Mapping[str, Keeping]

    @property
    def broken(self) -> tuple[Keeping, ...]:
        return tuple(keeping for keeping in self.keepings.values() if not keeping.kept)


def keep(found: Outcome, before: Compliance | None = None) -> Compliance:
    """How the promises of a plan stand. `before`, of an earlier plan: taken over where nothing they hang on is another."""
    known = before if before is not None and before.outcome.matrix.counting is found.matrix.counting else None
    promises = found.matrix.plan.promises
    old = (
        {key: known.keepings[key] for key, p in promises.items() if _stands(found, known, p)}
        if known is not None
        else {}
    )
    fresh = standing(found, [promise for key, promise in promises.items() if key not in old])
    by_id = {keeping.promise.id: keeping for keeping in fresh}
    return Compliance(found, {key: old[key] if key in old else by_id[key] for key in promises})


def _stands(found: Outcome, known: Compliance, promise: Promise) -> bool:
    """Whether a promise stands as it stood, because what it speaks of is the very same."""
    keeping, then = known.keepings.get(promise.id), known.outcome
    if keeping is None or keeping.promise != promise:
        return False
    if found.best[promise.protocol][promise.place] is not then.best[promise.protocol].get(promise.place):
        return False
    if promise.act != "see":
        return True
    ways = found.ways_to(promise.place)
    return ways == then.ways_to(promise.place) and all(_shown_alike(found, then, way, promise.place) for way in ways)


def _shown_alike(found: Outcome, then: Outcome, over: Over, place: str) -> bool:
    """Whether a way in shows a place to whom it did: what lets in, the list above and its own, for some those on the whole way."""
    matrix, was = found.matrix, then.matrix
    share, path = matrix.plan.shares[over.share], matrix.plan.path(place)
    if was.plan.shares[over.share] is not share or not np.array_equal(found.let_in[over], then.let_in[over]):
        return False
    by_users_alone = over.protocol == "smb" and share.guests == Level.NA
    same_way = place not in matrix.ways or matrix.ways[place] is was.ways.get(place)
    return same_way and alike(matrix.storage, was.storage, path[-2:] if by_users_alone else path)


def standing(found: Outcome, promises: Sequence[Promise]) -> tuple[Keeping, ...]:
    """How some promises stand."""
    spoken: dict[tuple[str, bool, frozenset[str]], Meant] = {}
    seeing = seen(found, [(promise.place, promise.protocol) for promise in promises if promise.act == "see"])
    result = []
    for promise in promises:
        key = (promise.who, promise.must, promise.except_for)
        if key not in spoken:
            spoken[key] = meant(found.matrix, promise)
        if promise.act == "see":
            able = seeing[promise.place, promise.protocol]
        else:
            able = found.best[promise.protocol][promise.place] >= LEAST[promise.act].code
        broken = spoken[key] & (~able if promise.must else able)
        result.append(Keeping(promise, int(np.count_nonzero(spoken[key])), _breaches(found, promise, broken)))
    return tuple(result)


def _breaches(found: Outcome, promise: Promise, broken: Meant) -> tuple[Breach, ...]:
    numbers = np.flatnonzero(broken)
    if not len(numbers):
        return ()
    subjects, column = found.matrix.counting.subjects, found.best[promise.protocol][promise.place]
    cells = zip(numbers.tolist(), column[numbers].tolist(), strict=True)
    return tuple(Breach(subjects[n] if n < len(subjects) else GUEST, LEVELS[code]) for n, code in cells)


def meant(matrix: Matrix, promise: Promise) -> Meant:
    """Of whom a promise speaks. Whoever is named in person is meant even where their account is shut."""
    counting = matrix.counting
    size = len(counting.subjects)
    found = np.zeros(size + 1, dtype=np.bool_)
    if promise.who == GUEST:
        found[size] = True
        return found
    if promise.who in matrix.plan.users:
        found[counting.number[promise.who]] = True
    else:
        found[:size] = unpack(counting.active, size)
        if promise.who != EVERYONE:
            found[:size] &= members(matrix, promise.who)
        found[size] = promise.who == EVERYONE and not promise.must
    for who in promise.except_for:
        found[:size] &= ~members(matrix, who)
    found[counting.users : size] = False
    return found


class Contradiction(NamedTuple):
    """Two promises that cannot both be kept, and one of those of whom both speak."""

    one: Promise
    other: Promise
    subject: str


def contradictions(matrix: Matrix, promises: Sequence[Promise] | None = None) -> tuple[Contradiction, ...]:
    """The pairs of promises of which one says that somebody must be able to do what the other says they must not."""
    by_place: dict[str, list[Promise]] = {}
    for promise in matrix.plan.promises.values() if promises is None else promises:
        by_place.setdefault(promise.place, []).append(promise)
    found = []
    for group in by_place.values():
        refused = [promise for promise in group if not promise.must]
        for one in (promise for promise in group if promise.must) if refused else ():
            for other in refused:
                if LEAST[one.act] < LEAST[other.act] or other.protocol not in (None, one.protocol):
                    continue
                both = np.flatnonzero(meant(matrix, one) & meant(matrix, other))
                if len(both):
                    subjects = matrix.counting.subjects
                    who = subjects[both[0]] if both[0] < len(subjects) else GUEST
                    found.append(Contradiction(one, other, who))
    return tuple(found)


# --- why --------------------------------------------------------------------------------------------------------------


def why(found: Outcome, subject: str, place: str, protocol: Protocol | None = None) -> Reason | None:
    """Why somebody gets what they get in a place over the best way in; None for the guest where no way in leads there."""
    matrix = found.matrix
    reasons = [
        explain_over(matrix.plan, subject, place, over, matrix.on, matrix.storage)
        for over in found.ways_to(place, protocol)
    ]
    if reasons:
        return max(reasons, key=lambda reason: reason.level)
    return explain(matrix.plan, subject, place, matrix.on, matrix.storage) if subject != GUEST else None


def sentence(found: Outcome, breach: Breach, promise: Promise) -> str:
    """Why a promise does not hold for somebody, in a line."""
    plan: Plan = found.matrix.plan
    reason = why(found, breach.subject, promise.place, promise.protocol)
    if not found.ways_to(promise.place, promise.protocol) and plan.shares:
        return f"No share leads to {plan.path_name(promise.place)}{'' if promise.protocol is None else ' over ' + promise.protocol.upper()}."
    if reason is None:
        return "No share leads there."
    return next(gate.sentence for gate in reason.gates if gate.decides)
