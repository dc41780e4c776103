"""What to try for real after a rollout: people at shares, with what the plan says they find; and what differs.

All of whom promises speak go where these speak of; others go in as often as there is room, every share and every person in turn. Over NFS
the host asks its own server, from an address of its own that a share's rules let in, since it is a client like another.
"""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import ip_address
from itertools import cycle, islice
from typing import NamedTuple

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import STRICT, Level
from yardgate.core.host.compiled import is_exported
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Address, Over, Protocol, Share, hosts, in_order
from yardgate.core.policy.compliance import Compliance, meant

PAIRS = 120
PLACES = 40  # of one share


class Abilities(NamedTuple):
    """What a folder lets somebody do: name what is in it, make a file in it."""

    lists: bool
    adds: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """Somebody at a share. account: as the host calls them, nothing for a guest. folders: paths in the share, the top first. expected: what
    each does; None: they may not connect. promises: ids of those that it is asked for. address, exported: over NFS, the host's own address
    that it is asked from, and the share's folder on the host; nothing over SMB."""

    __pydantic_config__ = STRICT
    subject: str
    account: str
    share: str
    folders: tuple[str, ...]
    expected: tuple[Abilities, ...] | None
    promises: tuple[str, ...] = ()
    address: str = ""
    exported: str = ""

    @property
    def protocol(self) -> Protocol:
        return "nfs" if self.address else "smb"


def questions(
    kept: Compliance, named: Mapping[str, str], there: Collection[str], most: int = PAIRS
) -> tuple[Question, ...]:
    """What to try. named: account id -> its name on the host. there: ids of those that can be tried; `most`: pairs of one and a share."""
    matrix = kept.outcome.matrix
    plan = matrix.plan
    shares = sorted((share for share in plan.shares.values() if share.smb), key=lambda share: share.name)
    who = [*sorted(subject for subject in there if subject in plan.users), GUEST]
    asked: dict[tuple[str, str], list[str]] = {}
    for promise, pairs in _promised(kept, who):
        for pair in pairs:
            asked.setdefault(pair, []).append(promise)
    spread = (
        (who[(start + step) % len(who)], share.id) for step in range(len(who)) for start, share in enumerate(shares)
    )
    for pair in spread if shares else ():
        if len(asked) >= most:
            break
        asked.setdefault(pair, [])
    return tuple(
        _question(matrix, who, Over(share, "smb"), named, promises)
        for (who, share), promises in islice(asked.items(), most)
    )


def over_nfs(
    kept: Compliance,
    named: Mapping[str, str],
    there: Collection[str],
    addresses: Sequence[str],
    where: Mapping[str, str],
    most: int = PAIRS,
) -> tuple[Question, ...]:
    """What to try over NFS. addresses: the host's own. where: place id -> its folder on the host. At a share that lets none of these in, one
    is enough: all are refused there alike."""
    matrix = kept.outcome.matrix
    who, found = sorted(there), list[Question]()
    for share in sorted(matrix.plan.shares.values(), key=lambda share: share.name):
        own = _own_address(matrix.plan, share, addresses) if stands_alone(matrix.plan, share) else None
        if own is None:
            continue
        over = Over(share.id, "nfs", ip_address(own[0]))
        for subject in who if own[1] > Level.NA else who[:1]:
            asked = _question(matrix, subject, over, named, ())
            found.append(replace(asked, address=own[0], exported=where[share.place]))
    by_turns = sorted(range(len(found)), key=lambda n: (who.index(found[n].subject), n))
    return tuple(found[n] for n in sorted(by_turns[:most]))


def stands_alone(plan: Plan, share: Share) -> bool:
    """Whether a share is offered over NFS, and neither lies in another nor has one in it: then what a host finds there comes by no other way."""
    if not is_exported(plan, share):
        return False
    others = [plan.path(one.place) for one in plan.shares.values() if one.id != share.id and is_exported(plan, one)]
    mine = plan.path(share.place)
    return all(mine[: len(path)] != path and path[: len(mine)] != mine for path in others)


def _own_address(plan: Plan, share: Share, addresses: Iterable[str]) -> tuple[str, Level] | None:
    """The one of a host's own addresses that gets most at a share; none where a name decides, since which names it has is not known."""
    known = [(one, level) for one in addresses if (level := _level_from(plan, share, ip_address(one))) is not None]
    return max(known, key=lambda one: one[1], default=None)


def _level_from(plan: Plan, share: Share, address: Address) -> Level | None:
    for rule in in_order(share.hosts, plan.target.host_rules):
        read = hosts(rule.hosts)
        if read.kind in ("name", "pattern"):
            return None
        if read.take_in(address):
            return rule.level
    return Level.NA


def _promised(kept: Compliance, who: Sequence[str]) -> Iterator[tuple[str, list[tuple[str, str]]]]:
    """For each promise, one after the other as long as any has more: somebody of whom it speaks, at a share that leads there."""
    matrix = kept.outcome.matrix
    waiting = {}
    for keeping in kept.keepings.values():
        spoken = meant(matrix, keeping.promise)
        meant_by_it = [one for one in who if spoken[kept.outcome.number(one)]]
        ways = kept.outcome.ways_to(keeping.promise.place, "smb") if keeping.promise.protocol != "nfs" else ()
        waiting[keeping.promise.id] = iter([(one, way.share) for way in ways for one in meant_by_it])
    for promise in cycle(tuple(waiting)) if waiting else ():
        if not waiting:
            return
        pair = next(waiting[promise], None) if promise in waiting else None
        if pair is not None:
            yield promise, [pair]
        else:
            waiting.pop(promise, None)


def _question(matrix: Matrix, subject: str, over: Over, named: Mapping[str, str], promises: Sequence[str]) -> Question:
    plan = matrix.plan
    visits = walk(plan, subject, over, matrix.on, matrix.storage)[:PLACES]
    top = plan.shares[over.share].place
    return Question(
        subject=subject,
        account="" if subject == GUEST else named[subject],
        share=over.share,
        folders=tuple(_within(plan, top, visit.place) for visit in visits),
        expected=tuple(Abilities(visit.looks, visit.adds) for visit in visits) if visits[0].shown else None,
        promises=tuple(promises),
    )


def _within(plan: Plan, top: str, place: str) -> str:
    path = plan.path(place)
    return "/".join(plan.places[one].name for one in path[path.index(top) + 1 :])


def differs(plan: Plan, question: Question, found: Sequence[Abilities] | None) -> tuple[str, ...]:
    """What somebody found otherwise than the plan says, in words."""
    name, share = plan.named(question.subject), plan.shares[question.share].name
    over = f" over NFS from {question.address}" if question.protocol == "nfs" else ""
    if found is None or question.expected is None:
        does = f"{name} {'may not connect' if found is None else 'connects'} to {share}{over}; the plan says otherwise"
        return (does,) if found != question.expected else ()
    said = []
    for folder, is_so, shall in zip(question.folders, found, question.expected, strict=True):
        where = f"{share}/{folder}" if folder else share
        for does, what in (("lists", "list what is in"), ("adds", "save in")):
            if getattr(is_so, does) != getattr(shall, does):
                said.append(
                    f"{name} {'can' if getattr(is_so, does) else 'cannot'} {what} {where}{over}; the plan says otherwise"
                )
    return tuple(said)
