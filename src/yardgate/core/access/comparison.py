"""What somebody gets in a place, beside what is granted to them there: as granted, more, less, or not at all because nothing leads there.

What is granted is what the grants that count in the place come to by the clash rule. Where storage is not planned and nothing is said on the
place itself, the nearest place above that says something counts, as far up as a share reaches: nobody meant anything else. Where a list is
planned by hand and nothing is granted, there is nothing to compare: the list is what was meant; where the share alone carries the grants and the
place has no list of its own, the share's grants are. A guest is granted what the shares that begin
there let guests do; further down, what is granted to everyone.

To pass through to something deeper is never more than granted: it lets nobody read. An account that is shut gets nothing, and is not short of it.
Root, and who runs a share, pass every list: that is what they are for. As long as a plan has no shares at all, what grants and storage give stands
for what people get (as in `outcome`).
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.combine import parts, weigh
from yardgate.core.access.batch.resolve import Codes, to_codes
from yardgate.core.access.bitsets import Bits, unpack
from yardgate.core.access.outcome import HostShift, LevelColumn, Outcome, host_shifts, in_both, over_ways
from yardgate.core.access.paths import counted_as
from yardgate.core.access.spec.explain import grants_gate
from yardgate.core.access.storage import granted_on
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import EVERYONE, GUEST
from yardgate.core.model.share import Over, Protocol

CellState = Literal["as granted", "settled", "not set", "not shared", "more", "less"]
STATES: tuple[CellState, ...] = ("as granted", "settled", "not set", "not shared", "more", "less")
AS_GRANTED, SETTLED, NOT_SET, NOT_SHARED, MORE, LESS = range(6)

WORDS: Mapping[CellState, str] = {
    "as granted": "as granted",
    "settled": "settled by the rule",
    "not set": "nothing is granted",
    "not shared": "no share leads there",
    "more": "more than granted",
    "less": "less than granted",
}


class PlaceComparison(NamedTuple):
    """One place, for all subjects and the guest behind them: uint8 (subjects + 1,). granted: `Level.code`. state: index into STATES."""

    granted: LevelColumn
    state: Codes


class Off(NamedTuple):
    """Somebody (a user, or the guest) in a place."""

    subject: str
    place: str
    granted: Level
    gets: Level


@dataclass(frozen=True, slots=True)
class Comparison:
    """outcome: what comes out. places: how that stands to what is granted, for each place."""

    outcome: Outcome
    places: Mapping[str, PlaceComparison]

    def off(self, state: CellState) -> Iterator[Off]:
        """The people, and the guest, for whom it stands so."""
        matrix, wanted = self.outcome.matrix, STATES.index(state)
        users = matrix.counting.users
        for place, stands in self.places.items():
            column = self.outcome.best[None][place]
            for number in np.flatnonzero(stands.state == wanted).tolist():
                if number < users or number == len(column) - 1:
                    who = matrix.counting.subjects[number] if number < users else GUEST
                    yield Off(who, place, LEVELS[int(stands.granted[number])], LEVELS[int(column[number])])

    def count(self, state: CellState) -> int:
        """How many people and guests."""
        users, wanted = self.outcome.matrix.counting.users, STATES.index(state)
        return sum(
            int((stands.state[:users] == wanted).sum() + (stands.state[-1] == wanted))
            for stands in self.places.values()
        )


View = Protocol | Literal["storage"] | None
"""Over one protocol, by grants and storage alone, or over any way in."""


def gets(found: Outcome, before: Comparison | None = None) -> Comparison:
    """`before`, of an earlier plan: what stands as it stood is taken over."""
    old = before.places if before is not None else {}
    stale = set(_perhaps_otherwise(before.outcome, found)) if before is not None else set()
    known = {place: old[place] for place in found.matrix.plan.places if place in old and place not in stale}
    new = [place for place in found.matrix.plan.places if place not in known]
    anew = dict(zip(new, compared(found, new), strict=True))
    return Comparison(found, {p: known[p] if p in known else anew[p] for p in found.matrix.plan.places})


def column(found: Outcome, place: str, view: View = None) -> LevelColumn:
    """What comes out: uint8 (subjects + 1,), `Level.code`. By grants and storage alone a guest gets nothing."""
    return np.append(found.matrix.rows[place], np.uint8(0)) if view == "storage" else found.best[view][place]


def said_at(found: Outcome, place: str) -> str | None:
    """The place whose grants are what is granted in a place; None where a list alone says it."""
    matrix = found.matrix
    plan, storage, path = matrix.plan, matrix.storage, matrix.plan.path(place)
    tops = [plan.path(plan.shares[way.share].place) for way in found.ways_to(place)]
    highest = min((len(top) for top in tops), default=len(path)) - 1
    for step in reversed(path[highest:]):
        stored = storage.get(step)
        if granted_on(plan, storage, step):
            return step
        handed_down = stored is not None and stored.enforced_by == "share" and plan.places[step].acl is None
        if stored is not None and stored.list is not None and not handed_down:
            return None
    return place


class Price(NamedTuple):
    """What a change costs. gives: who gets more by it, and more than was granted to them before, or more than is granted to them then, and did not
    before. takes: the same for less. hosts: all that changes for hosts over NFS. granted: what was granted before; where no way in led to a place, what
    is granted there now."""

    gives: tuple[Off, ...]
    takes: tuple[Off, ...]
    hosts: tuple[HostShift, ...]

    @property
    def nothing(self) -> bool:
        """Whether nobody gets more or less than is granted, and no host more or less than the rules gave it."""
        return not (self.gives or self.takes or any(shift.costs for shift in self.hosts))


def price(before: Outcome, after: Outcome, known: Mapping[str, PlaceComparison] | None = None) -> Price:
    """Of users and guests that both plans have, in places that both have. known: how everybody stands before, where that was worked out."""
    who, then, now = in_both(before, after)
    new = after.matrix.counting
    active = np.append(unpack(new.active, len(new.subjects)), True)[now]
    gives: list[Off] = []
    takes: list[Off] = []
    places = list(_perhaps_otherwise(before, after))
    stood = known if known is not None else dict(zip(places, compared(before, places), strict=True))
    stand = dict(zip(places, compared(after, places), strict=True))
    for place in places:
        was, gets_now = over_ways(before, after, place)[then], over_ways(after, before, place)[now]
        one, other = stood[place], stand[place]
        unshared = one.state[then] == NOT_SHARED
        unshared[-1] |= not before.ways_to(place, "smb")  # guests are let in over SMB alone
        granted = np.where(unshared, other.granted[now], one.granted[then])
        passes = _passing(after, after.ways_to(place))[now]
        newly = (one.state[then] != other.state[now]) & ~unshared
        more = (gets_now > was) & _beyond(gets_now, granted) & ~passes | newly & (other.state[now] == MORE)
        less = (gets_now < was) & (gets_now < granted) | newly & (other.state[now] == LESS)
        for found, cells in ((gives, more), (takes, less)):
            for n in np.flatnonzero(cells & active).tolist():
                found.append(Off(who[n], place, LEVELS[int(granted[n])], LEVELS[int(gets_now[n])]))
    return Price(tuple(gives), tuple(takes), tuple(host_shifts(before, after)))


def _perhaps_otherwise(before: Outcome, after: Outcome) -> Iterator[str]:
    """The places that both plans have and where somebody may stand otherwise: all but those of which nothing that counts there is another."""
    old, new = before.matrix, after.matrix
    then, now = old.plan, new.plan
    both = [place for place in now.places if place in then.places]
    offers = then.shares == now.shares and then.services == now.services
    if old.counting is not new.counting or then.target != now.target or not offers:
        yield from both
        return
    changed = {
        place
        for place in both
        if then.grants.get(place) != now.grants.get(place)
        or old.storage.get(place) is not new.storage.get(place)
        or then.places[place] is not now.places[place]
    }
    for place in both:
        if before.best[None][place] is not after.best[None][place] or not changed.isdisjoint(now.path(place)):
            yield place


def stands(found: Outcome, place: str, view: View = None) -> PlaceComparison:
    """How what comes out in one place stands to what is granted there."""
    return next(compared(found, [place], view))


def compared(found: Outcome, places: Sequence[str], view: View = None) -> Iterator[PlaceComparison]:
    """For each of some places, all of whose grants are weighed at once."""
    plan, storage, counting = found.matrix.plan, found.matrix.storage, found.matrix.counting
    at = {place: said_at(found, place) for place in places}
    lists = {place: granted_on(plan, storage, here) for place, here in at.items() if here is not None}
    weighed: dict[str, _Grants] = {}
    if lists:
        said = parts(plan.target, counting, list(lists.values()))
        planes = (*weigh(plan.target, counting, list(lists.values())), said.disagree, said.concerned)
        for number, place in enumerate(lists):
            weighed[place] = _Grants(at[place] or place, *(plane[number] for plane in planes))
    for place in places:
        yield _compared(found, place, weighed.get(place), view)


class _Grants(NamedTuple):
    """What is granted in a place, as bit planes (words,). at: the place whose grants these are."""

    at: str
    high: Bits
    low: Bits
    disagree: Bits
    concerned: Bits


def _compared(found: Outcome, place: str, grants: _Grants | None, view: View) -> PlaceComparison:
    """grants: none, where a list alone says what is granted."""
    matrix = found.matrix
    plan, counting, comes = matrix.plan, matrix.counting, column(found, place, view)
    subjects = len(counting.subjects)
    state = np.full(subjects + 1, AS_GRANTED, dtype=np.uint8)
    granted = comes.copy()
    if grants is None:
        state[comes == Level.NA.code] = NOT_SET
    else:
        granted[:-1] = to_codes(grants.high | counting.boss, grants.low | counting.boss, subjects)
        state[:-1][unpack(grants.disagree & ~counting.boss, subjects)] = SETTLED
        concerned = unpack(grants.concerned | counting.boss, subjects)
        state[:-1][~concerned & (comes[:-1] == Level.NA.code)] = NOT_SET
    granted[-1] = _guest(found, place, grants.at if grants is not None else None).code
    state[-1] = NOT_SET if not granted[-1] and not comes[-1] else AS_GRANTED
    ways = found.ways_to(place, None if view == "storage" else view)
    active = np.append(unpack(counting.active, subjects), True)
    state[_beyond(comes, granted) & active & ~_passing(found, ways)] = MORE
    state[(comes < granted) & active] = LESS
    if not ways and view != "storage" and (plan.shares or view is not None):
        state[:] = NOT_SHARED
    return PlaceComparison(granted, state)


def _beyond(comes: LevelColumn, granted: LevelColumn) -> NDArray[np.bool_]:
    beyond: NDArray[np.bool_] = comes > np.maximum(granted, Level.PT.code)
    return beyond


def _passing(found: Outcome, ways: Iterable[Over]) -> NDArray[np.bool_]:
    """Whom no list stops: root, and over SMB whoever runs a share."""
    matrix = found.matrix
    passing = matrix.counting.root.copy()
    for way in ways:
        runs = matrix.plan.shares[way.share].administrator
        if way.protocol == "smb" and runs is not None:
            passing |= counted_as(matrix, runs)
    return np.append(unpack(passing, len(matrix.counting.subjects)), False)


def _guest(found: Outcome, place: str, at: str | None) -> Level:
    """What is granted to a guest: what the shares that begin at the place that says it, or below, let guests do; further down, what is granted to
    everyone there, as far as the share lets guests in at all."""
    matrix = found.matrix
    plan, path = matrix.plan, matrix.plan.path(place)
    shares = [plan.shares[way.share] for way in found.ways_to(place) if way.protocol == "smb"]
    if at is None:
        return max((share.guests for share in shares), default=Level.NA)
    everyone = grants_gate(plan, at, matrix.storage.get(at), {GUEST: (GUEST,), EVERYONE: (GUEST, EVERYONE)}).level
    below = path[path.index(at) :]
    levels = (share.guests if share.place in below else min(share.guests, everyone) for share in shares)
    return max(levels, default=Level.NA)
