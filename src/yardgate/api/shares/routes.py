"""Shares: who gets in over each, why, and what somebody finds who walks through them."""

from collections.abc import Iterable
from dataclasses import replace
from datetime import date
from typing import Annotated

import numpy as np
from fastapi import APIRouter, HTTPException, Query
from pydantic import IPvAnyAddress

from yardgate.api.answers import told
from yardgate.api.authentication import Reader, TheServices
from yardgate.api.schemas import Id, OverOut, ReasonOut
from yardgate.api.shares.schemas import (
    AccessOut,
    CardOut,
    EveryoneOut,
    PersonOut,
    ReachOut,
    ReportOut,
    ShareOut,
    SharesOut,
    StretchOut,
    SurpriseOut,
    ThroughOut,
    VisitOut,
    WalkedShare,
    WalkOut,
    WayOut,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Long
from yardgate.core.access.auth_sys import claim, claimed
from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.everyone import everyone
from yardgate.core.access.outcome import outcome
from yardgate.core.access.paths import PROTOCOLS, explain_over, is_on, may_use, resolve_over, unreached
from yardgate.core.access.summary import Stretch, card, everywhere, report, through
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import LEVELS
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Over, Protocol

router = APIRouter(prefix="/plans/{plan}", tags=["shares"], route_class=OffLoop)
long = APIRouter(prefix="/plans/{plan}", tags=["shares"], route_class=Long)
PEOPLE_LISTED, SURPRISES, REPORTED = 200, 300, 1000
HostAddress = Annotated[IPvAnyAddress | None, Query(description="the address of the client, for NFS; none: any host")]
HostName = Annotated[str, Query(description="the host name of the client, for NFS", max_length=253)]


@router.get("/shares")
def shares(plan: str, _: Reader, services: TheServices) -> SharesOut:
    """Who gets in over each share and protocol, and which places no share reaches."""
    opened = services.plans.open(plan)
    matrix = services.matrix(opened)
    found = [
        ShareOut(share=share.id, ways=[_way(matrix, Over(share.id, p)) for p in PROTOCOLS if share.over(p)])
        for share in opened.plan.shares.values()
    ]
    return SharesOut(revision=opened.revision, shares=found, unreached=list(unreached(opened.plan)))


def _way(matrix: Matrix, over: Over) -> WayOut:
    plan, counting = matrix.plan, matrix.counting
    top = plan.shares[over.share].place
    codes = resolve_over(matrix, over, [top])[top][: counting.users]
    people = {level: np.flatnonzero(codes == level.code).tolist() for level in LEVELS}
    return WayOut(
        protocol=over.protocol,
        on=is_on(plan, over.protocol),
        counts={level: len(numbers) for level, numbers in people.items()},
        people={level: [counting.subjects[n] for n in numbers[:PEOPLE_LISTED]] for level, numbers in people.items()},
        guest=explain_over(plan, GUEST, top, over, matrix.on, matrix.storage).level,
    )


def _walker(plan: Plan, who: str, protocol: Protocol) -> tuple[Plan, str]:
    """Who walks, and the plan in which to ask for them."""
    if who == GUEST or who in plan.users or who in plan.groups:
        return plan, who
    try:
        made = claim(who) if protocol == "nfs" else None
    except ValueError as error:
        raise HTTPException(422, str(error)) from None
    if made is None:
        raise HTTPException(404, "This plan has no such person or group any more")
    return claimed(plan, made)


@router.get("/shares/reason")
def reason_over(
    plan: str,
    share: Id,
    _: Reader,
    services: TheServices,
    subject: Id,
    place: Id,
    protocol: Protocol,
    host: HostAddress = None,
    name: HostName = "",
) -> ReasonOut:
    """Why somebody (or `guest`; or, over NFS, who claims `uid:gid,gid,…`) gets what they get in a place over one share and protocol."""
    opened = services.plans.open(plan)
    p, matrix = opened.plan, services.matrix(opened)
    if share not in p.shares or place not in p.places or p.shares[share].place not in p.path(place):
        raise HTTPException(404, "This plan has no such share or place any more, or the share does not reach the place")
    seen, who = _walker(p, subject, protocol)
    found = explain_over(seen, who, place, Over(share, protocol, host, name), matrix.on, matrix.storage)
    return told(replace(opened, plan=seen), found, who)


@router.get("/walk")
def walked(
    plan: str,
    _: Reader,
    services: TheServices,
    who: Id,
    protocol: Protocol,
    host: HostAddress = None,
    name: HostName = "",
) -> WalkOut:
    """What somebody (or `guest`; or, over NFS, who claims `uid:gid,gid,…`) finds who goes through all shares over a protocol, from a host."""
    opened = services.plans.open(plan)
    p, matrix = opened.plan, services.matrix(opened)
    seen, subject = _walker(p, who, protocol)
    shares = sorted((share for share in p.shares.values() if share.over(protocol)), key=lambda share: fold(share.name))
    found = [
        WalkedShare(
            share=share.id,
            listed=not share.hidden,
            visits=[
                VisitOut.model_validate(visit, from_attributes=True)
                for visit in walk(seen, subject, Over(share.id, protocol, host, name), matrix.on, matrix.storage)
            ],
        )
        for share in shares
    ]
    return WalkOut(revision=opened.revision, shares=found)


@long.get("/everyone")
def try_everyone(plan: str, _: Reader, services: TheServices) -> EveryoneOut:
    """All people, all places, all ways in: what in that is surprising."""
    opened = services.plans.open(plan)
    found = everyone(services.gets(opened))
    return EveryoneOut(
        revision=opened.revision,
        tried=found.tried,
        totals={
            "more": len(found.more),
            "less": len(found.less),
            "nowhere": len(found.nowhere),
            "differ": len(found.differ),
            "unwritten": len(found.unwritten),
            "open_to_all": len(found.open_to_all),
        },
        more=[SurpriseOut(**cell._asdict()) for cell in found.more[:SURPRISES]],
        less=[SurpriseOut(**cell._asdict()) for cell in found.less[:SURPRISES]],
        nowhere=list(found.nowhere[:SURPRISES]),
        differ=[SurpriseOut(**cell._asdict()) for cell in found.differ[:SURPRISES]],
        unwritten=list(found.unwritten[:SURPRISES]),
        open_to_all=list(found.open_to_all[:SURPRISES]),
    )


@router.get("/card")
def card_of(plan: str, _: Reader, services: TheServices, who: Id) -> CardOut:
    """What somebody (or `guest`) reaches over every way in, told only where a level differs from the one above."""
    opened = services.plans.open(plan)
    if who != GUEST and who not in opened.plan.users:
        raise HTTPException(404, "This plan has no such person any more")
    found = services.kept(opened).outcome
    reaches = [
        ReachOut(share=reach.over.share, protocol=reach.over.protocol, stretches=_stretches(reach.stretches))
        for reach in card(found, who)
    ]
    pages = who != GUEST and opened.plan.users[who].active(found.matrix.on) and may_use(opened.plan, who, "pages")
    return CardOut(revision=opened.revision, on=found.matrix.on, pages=pages, reaches=reaches)


@long.get("/report")
def access_report(
    plan: str,
    _: Reader,
    services: TheServices,
    day: Annotated[
        date | None, Query(description="as it was at the end of this day (UTC); now, where it is left out")
    ] = None,
) -> ReportOut:
    """Who gets in where and by what, by place and by person; now, or as it was planned on a day."""
    opened = services.plans.open(plan)
    revision, found = opened.revision, services.kept(opened).outcome
    if day is not None and day < date.today():
        revision = services.plans.revision_on(plan, day)
        found = outcome(resolve(services.plans.at(plan, revision), day))
    p = found.matrix.plan
    people = sorted(p.users.values(), key=lambda user: fold(user.full_name or user.name))
    accesses = report(found)
    places = [
        AccessOut(
            place=access.place,
            ways=[OverOut(share=way.share, protocol=way.protocol) for way in access.ways],
            who={level: list(who[:PEOPLE_LISTED]) for level, who in access.who.items()},
            counts={level: len(who) for level, who in access.who.items()},
            through=[
                ThroughOut(level=one.level, by=[p.named(who) for who in one.by], who=list(one.who[:PEOPLE_LISTED]))
                for one in through(found, access)
            ],
            guest=access.guest,
        )
        for access in accesses
    ]
    persons = [PersonOut(who=user.id, stretches=_stretches(everywhere(found, user.id))) for user in people[:REPORTED]]
    return ReportOut(
        revision=revision,
        on=found.matrix.on,
        names={user.id: p.named(user.id) for user in people},
        paths={place: p.path_name(place) for place in p.places},
        shares={share.id: share.name for share in p.shares.values()},
        places=places,
        persons=persons,
        people=len(people),
    )


def _stretches(stretches: Iterable[Stretch]) -> list[StretchOut]:
    return [StretchOut(place=place, level=level) for place, level in stretches]
