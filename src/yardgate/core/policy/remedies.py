"""Edits that would give somebody the level that is wanted, the smallest with the fewest other changes first.

A search over the plan, led by the gates: where somebody gets too little over a way in, whatever the first gate that stops them
could be told is tried; where they get too much, whatever lets them through. What comes of it is looked at again the same way,
until the level is as wanted. Each remedy says exactly what else it changes, because all of the plan is worked out anew for it.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from itertools import chain

from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import Outcome
from yardgate.core.access.paths import PROTOCOLS, explain_over, is_on, offered
from yardgate.core.access.spec.explain import Gate, Reason, explain, grants_gate
from yardgate.core.access.storage import StorageState, storage_state
from yardgate.core.access.walk import walk
from yardgate.core.acl import Mode, Posix
from yardgate.core.acl.mode import STICKY
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import proposal
from yardgate.core.edits.list_edits import by_hand, let_through, without_lines
from yardgate.core.edits.records import (
    Edit,
    Join,
    Leave,
    PutGroup,
    PutPlace,
    PutService,
    PutShare,
    PutUser,
    SetGrant,
    SetTarget,
)
from yardgate.core.edits.transforms import planned, restyle, style_of
from yardgate.core.model.checks import PlanError
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import EVERYONE, GUEST, LOCAL, Plan
from yardgate.core.model.share import HostRule, Over, Protocol, Share, share_name_trouble
from yardgate.core.policy.compliance import Compliance
from yardgate.core.policy.impact import Effect, effect
from yardgate.core.suggest.asked import CODE_OF, LEVEL_OF, asked
from yardgate.core.suggest.made import NewGroups

MOST_STEPS = 6
MOST_WEIGHED, MOST_REGROUPED = 8, 3  # remedies worked out for the whole plan, and of these with other memberships
MOST_JOINED = 4  # groups to join that are tried: those that are granted least
MOST_TRIED = 400


@dataclass(frozen=True, slots=True)
class Want:
    """Somebody (a user or the guest) shall get at least `low` and at most `high` in a place, over a protocol or any way in.

    seen: whether they shall learn of the place at all (see `seeing`); None: no matter.
    """

    subject: str
    place: str
    low: Level
    high: Level
    over: Protocol | None = None
    seen: bool | None = None

    def met(self, level: Level, seen: bool | None = None) -> bool:
        return self.low <= level <= self.high and self.seen in (None, seen)


@dataclass(frozen=True, slots=True)
class Remedy:
    """Edits after which it is as wanted. words: each of them in a line. effect: all that comes of them, the wanted cell included.

    mended: of the other cells that change, those for which a promise was broken, or something was needed and not had, and is not any more.
    """

    edits: tuple[Edit, ...]
    words: tuple[str, ...]
    effect: Effect
    mended: int = 0

    def free(self, want: Want) -> bool:
        """Whether nobody else gets more or less than is granted to them now, and no host than its rules gave it."""
        price = self.effect.price
        others = any((one.subject, one.place) != (want.subject, want.place) for one in (*price.gives, *price.takes))
        return not others and not any(shift.costs for shift in price.hosts)

    def cost(self, want: Want) -> tuple[int, bool, int, int, int, int]:
        """Fewer promises broken, nobody who gets more or less than is granted, fewer other cells (those that mend a promise aside), more mended,
        fewer edits; of the like, what is easier to live with."""
        others = sum((shift.subject, shift.place) != (want.subject, want.place) for shift in self.effect.shifts)
        burden = sum(map(_burden, self.edits))
        paid = not self.free(want)
        return len(self.effect.breaks), paid, others - self.mended, -len(self.effect.mends), len(self.edits), burden


def _burden(edit: Edit) -> int:
    """What a planner will have of an edit in years to come: memberships and group grants are easier to live with than personal ones."""
    match edit:
        case Join() | Leave():
            return 0
        case SetGrant(_, _, None):
            return 0
        case SetGrant():
            return 1
        case _:
            return 2


@dataclass(frozen=True, slots=True)
class _Try:
    """A plan on the way to a remedy. shown: the ways in over which the place is learned of, where that was asked."""

    steps: tuple[tuple[Edit, ...], ...]
    plan: Plan
    storage: StorageState
    reasons: tuple[tuple[Over | None, Reason], ...]
    shown: tuple[Over | None, ...] = ()

    @property
    def edits(self) -> tuple[Edit, ...]:
        return tuple(edit for step in self.steps for edit in step)

    @property
    def level(self) -> Level:
        return max((reason.level for _, reason in self.reasons), default=Level.NA)


def remedies(now: Compliance, want: Want, most: int = 5) -> tuple[Remedy, ...]:
    """Up to `most` remedies, best first; none where it is as wanted already, or where nothing that was tried helps."""
    matrix = now.outcome.matrix
    start = _look(matrix.on, want, (), matrix.plan, matrix.storage)
    if want.met(start.level, bool(start.shown)):
        return ()
    found: list[_Try] = []
    front, looked_at, seen = [start], 0, {_progress(start)}
    while front and looked_at < MOST_TRIED and len(front[0].steps) < MOST_STEPS:
        following: list[_Try] = []
        for here in front:
            ideas = _ideas(here, want) if here.steps else chain(_ideas(here, want), _with_others(now.outcome, want))
            for edits in _unique(ideas):
                looked_at += 1
                there = _then(matrix, want, here, edits) if looked_at <= MOST_TRIED else None
                if there is None:
                    continue
                if want.met(there.level, bool(there.shown)):
                    found.append(there)
                elif _progress(there) not in seen:
                    seen.add(_progress(there))
                    following.append(there)
        if found:
            break
        front = following
    weighed = [_remedy(now, want, there) for there in _few(matrix.plan, found)]
    return tuple(sorted(weighed, key=lambda remedy: remedy.cost(want))[:most])


def _few(plan: Plan, found: Sequence[_Try]) -> Iterator[_Try]:
    """Those worth working out for the whole plan: of changed memberships fewer, since they make everything be worked out anew."""
    kept = {True: 0, False: 0}
    for there in sorted(found, key=lambda there: (len(there.edits), sum(map(_burden, there.edits)))):
        same_people = there.plan.users is plan.users and there.plan.groups is plan.groups
        if kept[same_people] < (MOST_WEIGHED if same_people else MOST_REGROUPED):
            kept[same_people] += 1
            yield there


def _look(on: date, want: Want, steps: tuple[tuple[Edit, ...], ...], plan: Plan, storage: StorageState) -> _Try:
    place, path = want.place, plan.path(want.place)
    if not plan.shares:
        alone = [(None, explain(plan, want.subject, place, on, storage))] if want.subject != GUEST else []
        return _Try(
            steps, plan, storage, tuple(alone), (None,) if any(one.level > Level.NA for _, one in alone) else ()
        )
    ways = [w for w in offered(plan) if want.over in (None, w.protocol) and plan.shares[w.share].place in path]
    reasons = tuple((way, explain_over(plan, want.subject, place, way, on, storage)) for way in ways)
    shown: list[Over] = []
    for way, reason in reasons if want.seen is not None else ():
        if reason.level > Level.NA or walk(plan, want.subject, way, on, storage, to=place)[-1].shown:
            shown.append(way)
    return _Try(steps, plan, storage, reasons, tuple(shown))


def _then(first: Matrix, want: Want, here: _Try, edits: Sequence[Edit]) -> _Try | None:
    """The plan after some more edits, its storage worked out on the way to the place; None where they cannot be made."""
    try:
        plan, _ = apply(here.plan, edits)
    except PlanError:
        return None
    same_people = plan.users is first.plan.users and plan.groups is first.plan.groups
    if same_people and plan.target is first.plan.target:
        counting, before = first.counting, (first.plan, first.storage)
    else:
        counting, before = count(plan, first.on), None
    storage = storage_state(plan, counting, before, to=want.place)
    return _look(first.on, want, (*here.steps, tuple(edits)), plan, storage)


def _progress(here: _Try) -> tuple[object, ...]:
    """Where the gates stand: a try is only worth going on from where they stand as in no other."""
    return here.shown, tuple(
        (way, tuple((gate.kind, gate.level, gate.sentence) for gate in reason.gates)) for way, reason in here.reasons
    )


def _unique(ideas: Iterable[tuple[Edit, ...]]) -> Iterator[tuple[Edit, ...]]:
    seen: list[tuple[Edit, ...]] = []
    for idea in ideas:
        if idea and idea not in seen:
            seen.append(idea)
            yield idea


def _remedy(now: Compliance, want: Want, there: _Try) -> Remedy:
    before = now.outcome.matrix
    then = effect(now, there.edits, resolve(there.plan, before.on, before))
    words = tuple(proposal(before.plan, there.plan, edit) for edit in there.edits)
    mended = _breached(now) - _breached(then.after)
    mended |= {
        (one, want.place) for one in _unmet(now.outcome, want.place).keys() - _unmet(then.after.outcome, want.place)
    }
    mended -= {(want.subject, want.place)}
    shifted = {(shift.subject, shift.place) for shift in then.shifts}
    return Remedy(there.edits, words, then, len(mended & shifted))


def _breached(kept: Compliance) -> set[tuple[str, str]]:
    return {(breach.subject, keeping.promise.place) for keeping in kept.broken for breach in keeping.breaches}


# --- what to try ------------------------------------------------------------------------------------------------------


def _ideas(here: _Try, want: Want) -> Iterator[tuple[Edit, ...]]:
    if want.seen and not here.shown:
        yield from _hiding(here, want, [way for way, _ in here.reasons], hide=False)
        want = replace(want, low=max(want.low, Level.RO))
    if want.seen is False and here.level <= want.high:
        yield from _hiding(here, want, here.shown, hide=True)
        return
    if here.level < want.low:
        for way, reason in here.reasons:
            gate = next((gate for gate in reason.gates if gate.level < want.low), None)
            if gate is not None:
                yield from _opened(here, want, way, reason, gate)
        if here.plan.shares:
            yield from _new_ways(here.plan, want)
        return
    for way, reason in here.reasons:
        if reason.level > want.high:
            yield from _closed(here, want, way, reason)
            return  # the other ways in have their turn when this one is closed


def _opened(here: _Try, want: Want, way: Over | None, reason: Reason, gate: Gate) -> Iterator[tuple[Edit, ...]]:
    """What would let somebody through a gate that stops them."""
    plan, who = here.plan, want.subject
    share = plan.shares[way.share] if way is not None else None
    user = plan.users.get(who)
    match gate.kind:
        case "account" if user is not None and not user.gone:
            yield (PutUser(replace(user, enabled=True, expires=None)),)
        case "service" if way is not None and way.protocol in plan.services:
            service = plan.services[way.protocol]
            for one in _speaking_for(plan, who) if who != GUEST else ():
                yield (PutService(replace(service, allowed=(service.allowed or frozenset()) | {one})),)
            yield (PutService(replace(service, allowed=None)),)
        case "share" if share is not None and way is not None:
            yield from _lists(here, want)
            if share.read_only and want.low > Level.RO:
                yield (PutShare(replace(share, read_only=False)),)
            if way.protocol == "nfs":
                rules = tuple(replace(rule, level=max(rule.level, want.low)) for rule in share.hosts)
                if rules != share.hosts:
                    yield (PutShare(replace(share, hosts=rules)),)
            elif who == GUEST:
                yield (PutShare(replace(share, guests=want.low)),)
            elif share.grants is not None:
                yield from _own_list(plan, share, share.grants, who, want.low, gate)
            else:
                yield from _grants(here, want, share.place, want.low, gate)
        case "share":
            yield from _grants(here, want, want.place, want.low, gate)
        case "way":
            acting, ideas = _acting(want, way, share)
            yield from ideas
            for step in (step.place for step in gate.steps if not step.enters):
                for one in _speaking_for(plan, acting.subject):
                    yield let_through(plan, here.storage, step, [one])
        case "list":
            acting, ideas = _acting(want, way, share)
            yield from ideas
            yield from _list_opened(here, acting, reason)
        case _:
            pass


def _lists(here: _Try, want: Want) -> Iterator[tuple[Edit, ...]]:
    """Lists planned where there are none, so that grants hold there: for the place, or for all of its pool."""
    for top in (want.place, here.plan.path(want.place)[0]):
        yield from (edits for _, edits in planned(here.plan, here.storage, top))


def _granted(here: _Try, want: Want) -> Gate:
    """The grants that count on the place itself."""
    guest = {GUEST: (GUEST,), EVERYONE: (GUEST, EVERYONE)}
    ways = guest if want.subject == GUEST else token(here.plan, want.subject)
    return grants_gate(here.plan, want.place, here.storage.get(want.place), ways)


def _speaking_for(plan: Plan, who: str) -> Iterator[str]:
    """Somebody, and the groups that they are in; everyone for the guest."""
    if who == GUEST:
        yield EVERYONE
        return
    yield from (one for one in token(plan, who) if one not in (EVERYONE, plan.target.baseline))


def _acting(want: Want, way: Over | None, share: Share | None) -> tuple[Want, Iterator[tuple[Edit, ...]]]:
    """What is wanted of whom storage sees in somebody's place over SMB, and what lets them act as themselves."""
    if share is None or not share.acts or way is None or way.protocol != "smb":
        return want, iter(())
    return replace(want, subject=share.acts_as or want.subject), _as_themselves(share)


def _as_themselves(share: Share) -> Iterator[tuple[Edit, ...]]:
    """A share in which all act as themselves, and in no group besides their own."""
    if share.acts_as is not None:
        yield (PutShare(replace(share, acts_as=None)),)
    if share.acts_as_group is not None:
        yield (PutShare(replace(share, acts_as_group=None)),)


def _own_list(
    plan: Plan, share: Share, own: Mapping[str, Level], who: str, level: Level, gate: Gate
) -> Iterator[tuple[Edit, ...]]:
    """What brings somebody up or down to a level in the list that a share has of its own; or no such list."""
    yield (PutShare(replace(share, grants=None)),)
    for line in gate.lines:
        if line.verdict == "decides" and line.tier != "admin" and line.level != level:
            yield (PutShare(replace(share, grants={one: said for one, said in own.items() if one != line.who})),)
            yield (PutShare(replace(share, grants={**own, line.who: level})),)
            by = plan.groups.get(line.way[1]) if len(line.way) > 1 else None
            if by is not None and who in by.members:
                yield (Leave(by.id, who),)
    for one in _speaking_for(plan, who):
        rest = {other: said for other, said in own.items() if other != one}
        first = plan.target.combining == "first"
        yield (PutShare(replace(share, grants={one: level, **rest} if first else {**rest, one: level})),)


def _grants(here: _Try, want: Want, place: str, level: Level, gate: Gate) -> Iterator[tuple[Edit, ...]]:
    """Grants on a place, and memberships, that bring somebody up or down to a level."""
    plan, who = here.plan, want.subject
    first = 0 if plan.target.combining == "first" else None
    for line in gate.lines:
        if line.verdict == "decides" and line.tier != "admin" and line.level != level:
            yield (SetGrant(line.said_on, line.who, None),)
            yield (SetGrant(line.said_on, line.who, level),)
            by = plan.groups.get(line.way[1]) if len(line.way) > 1 else None
            if by is not None and who in by.members:
                yield (Leave(by.id, who),)
    for one in _speaking_for(plan, who):
        yield (SetGrant(place, one, level, first),)
    if who in plan.users and level > Level.NA:
        counted = here.storage[place].grants if place in here.storage else ()
        said = {grant.who: grant.level for grant in counted} or plan.grants.get(place, {})
        fitting = [
            g for g, given in said.items() if given == level and g in plan.groups and plan.groups[g].origin == LOCAL
        ]
        granted_on = {group: sum(group in grants for grants in plan.grants.values()) for group in fitting}
        yield from ((Join(group, who),) for group in sorted(fitting, key=granted_on.__getitem__)[:MOST_JOINED])


def _with_others(now: Outcome, want: Want) -> Iterator[tuple[Edit, ...]]:
    """A new group of all who need as much in a place as is wanted, and do not get it: where there are several, it spares a grant for each."""
    plan = now.matrix.plan
    who = tuple(one for one, low in _unmet(now, want.place).items() if low == want.low)
    if len(who) > 1 and want.subject in who:
        made = NewGroups(plan).of(frozenset(who), want.place, int(CODE_OF[want.low.code]))
        yield PutGroup(made), SetGrant(want.place, made.id, want.low, 0 if plan.target.combining == "first" else None)


def _unmet(now: Outcome, place: str) -> Mapping[str, Level]:
    """Who needs something in a place and does not get it, and what."""
    plan = now.matrix.plan
    needs = [need for need in plan.needs.values() if need.place == place]
    if not needs:
        return {}
    demand = asked(plan, needs, now.matrix.on)
    wanted = {
        one: LEVEL_OF.get(int(code), Level.NA) for one, code in zip(demand.people, demand.least[:, 0], strict=True)
    }
    return {one: low for one, low in wanted.items() if now.level(one, place) < low}


def _list_opened(here: _Try, want: Want, reason: Reason) -> Iterator[tuple[Edit, ...]]:
    plan, place, who = here.plan, want.place, want.subject
    stored = here.storage[place]
    if stored.enforced_by != "share":
        yield from _grants(here, want, place, want.low, _granted(here, want))
    else:
        yield (PutPlace(replace(plan.places[place], enforced_by="both")),)
        for one in _speaking_for(plan, who):
            yield by_hand(plan, here.storage, place, one, want.low)
    yield from _hand_lines_gone(here, reason)
    if want.low == Level.RW:
        yield from _unstuck(plan, place)
    if who in plan.users and stored.group in plan.groups:
        yield (Join(stored.group, who),)
    if style_of(plan, place) == "mode":
        yield from _named_instead(here, want)


def _named_instead(here: _Try, want: Want) -> Iterator[tuple[Edit, ...]]:
    """A POSIX list in place of mode bits, which can name somebody: with what the bits gave, or made of the grants alone."""
    plan, place = here.plan, want.place
    styled = next(step for step in reversed(plan.path(place)) if plan.places[step].acl is not None)
    another = restyle(plan, styled, "posix").edits
    put = {edit.place.id: edit.place for edit in another if isinstance(edit, PutPlace)}
    rest = tuple(edit for edit in another if not isinstance(edit, PutPlace))
    if here.storage[place].enforced_by == "share":
        put[place] = replace(put.get(place, plan.places[place]), enforced_by="both")
    bare = {**put, styled: replace(put.get(styled, plan.places[styled]), acl=Posix())}
    for some in (put, bare):
        for one in _speaking_for(plan, want.subject):
            yield (*rest, *map(PutPlace, some.values()), SetGrant(place, one, want.low))


def _unstuck(plan: Plan, place: str) -> Iterator[tuple[Edit, ...]]:
    """The sticky bit taken away, by which nobody but a thing's owner can delete it."""
    here = plan.places[place]
    match here.acl:
        case Posix(sticky=True) as own:
            yield (PutPlace(replace(here, acl=replace(own, sticky=False))),)
        case Mode(bits=int(bits)) if bits & STICKY:
            yield (PutPlace(replace(here, acl=Mode(bits & ~STICKY))),)


def _hand_lines_gone(here: _Try, reason: Reason) -> Iterator[tuple[Edit, ...]]:
    """Lines by hand that decide, taken away where they were said."""
    for gate in reason.gates:
        for line in gate.entries:
            if line.made == "hand" and line.verdict == "decides" and line.said_on in here.plan.places:
                yield without_lines(here.plan, line.said_on, line.who)


def _hiding(here: _Try, want: Want, ways: Iterable[Over | None], *, hide: bool) -> Iterator[tuple[Edit, ...]]:
    """Shares that hide what one cannot read, or show it. A share's own top is hidden where the share itself asks for the grants;
    NFS hides nothing."""
    for way in ways:
        share = here.plan.shares[way.share] if way is not None else None
        if share is None or way is None:
            continue
        if way.protocol == "smb" and share.hide_unreadable != hide:
            yield (PutShare(replace(share, hide_unreadable=hide)),)
        place = here.plan.places[want.place]
        if hide and share.place == want.place and here.storage and here.storage[want.place].enforced_by == "storage":
            yield (PutPlace(replace(place, enforced_by="both")),)
        if hide and share.place == want.place and way.protocol == "smb" and want.subject == GUEST:
            yield (PutShare(replace(share, guests=Level.NA)),)
        if hide and way.protocol == "nfs":
            yield (PutShare(replace(share, nfs=False)),)


def _new_ways(plan: Plan, want: Want) -> Iterator[tuple[Edit, ...]]:
    """Services switched on, shares offered over one more protocol, or a share of its own for the place."""
    path = plan.path(want.place)
    protocols = PROTOCOLS if want.over is None else (want.over,)
    reaching = [share for share in plan.shares.values() if share.place in path]
    for protocol in protocols:
        on = _switched_on(plan, protocol)
        if on and any(share.over(protocol) for share in reaching):
            yield on
        if protocol == "smb" or want.over == "nfs":
            for share in reaching:
                if not share.over(protocol):
                    smb, nfs = share.smb or protocol == "smb", share.nfs or protocol == "nfs"
                    yield (*on, PutShare(replace(share, smb=smb, nfs=nfs)))
    if not any(share.over(protocol) for share in reaching for protocol in protocols) and want.over != "nfs":
        name = _free_name(plan, plan.places[want.place].name)
        if name is not None:
            made = Share(id=fresh_id(f"share {name}", plan.shares), name=name, place=want.place)
            yield (*_switched_on(plan, "smb"), PutShare(made))


def _switched_on(plan: Plan, protocol: Protocol) -> tuple[Edit, ...]:
    """What switches a service on; nothing where it is."""
    return () if is_on(plan, protocol) else (PutService(replace(plan.services[protocol], on=True)),)


def _free_name(plan: Plan, name: str) -> str | None:
    taken = {fold(share.name) for share in plan.shares.values()}
    names = (name, *(f"{name}-{number}" for number in range(2, len(taken) + 3)))
    return next((one for one in names if fold(one) not in taken and share_name_trouble(one) is None), None)


def _closed(here: _Try, want: Want, way: Over | None, reason: Reason) -> Iterator[tuple[Edit, ...]]:
    """What would keep somebody from more than is wanted over a way in."""
    plan, who, place = here.plan, want.subject, want.place
    high = Level.NA if want.high == Level.PT else want.high
    share = plan.shares[way.share] if way is not None else None
    granted = _granted(here, want)
    stored = here.storage.get(place)
    if stored is not None and stored.list is not None:
        if stored.enforced_by != "share":
            yield from _grants(here, want, place, high, granted)
        elif who != GUEST:
            yield from (by_hand(plan, here.storage, place, one, high) for one in _speaking_for(plan, who))
        yield from _hand_lines_gone(here, reason)
    elif way is None:
        yield from _grants(here, want, place, high, granted)
    else:
        yield from _lists(here, want)
    if share is None or way is None:
        return
    if way.protocol == "nfs":
        lower = tuple(HostRule(hosts=rule.hosts, level=min(rule.level, high)) for rule in share.hosts)
        yield (PutShare(replace(share, hosts=lower)),)
        yield (PutShare(replace(share, nfs=False)),)
        yield (PutShare(replace(share, squash="all")),)
        return
    if who == GUEST:
        yield (PutShare(replace(share, guests=high)),)
        return
    if share.administrator is not None and share.administrator in token(plan, who):
        yield (PutShare(replace(share, administrator=None)),)
    at_share = next(gate for gate in reason.gates if gate.kind == "share")
    if share.grants is not None:
        yield from _own_list(plan, share, share.grants, who, high, at_share)
    else:
        yield from _grants(here, want, share.place, high, at_share)
    yield from _as_themselves(share)
    service = plan.services.get("smb")
    if high == Level.NA and service is not None and service.allowed:
        yield from (
            (PutService(replace(service, allowed=service.allowed - {one})),)
            for one in token(plan, who)
            if one in service.allowed
        )
    yield from _no_administrator(plan, who)
    if high == Level.RO:
        yield (PutShare(replace(share, read_only=True)),)


def _no_administrator(plan: Plan, who: str) -> Iterator[tuple[Edit, ...]]:
    """What keeps somebody from counting as one of the administrators, whom no grant stops."""
    boss, counted = plan.target.administrators, token(plan, who)
    if boss is None or boss not in counted:
        return
    user = plan.users.get(who)
    first = counted[boss][1]
    if who in plan.groups[first].members:
        yield (Leave(first, who),)
    yield tuple(Leave(boss, member) for member in sorted(plan.groups[boss].members) if member in counted)
    if user is not None and user.primary_group == first:
        yield (PutUser(replace(user, primary_group=None)),)
    yield (SetTarget(replace(plan.target, administrators=None)),)
