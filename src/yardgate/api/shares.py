"""Shares: who gets in over each, why, and what somebody finds who walks through them."""

from typing import Annotated

import numpy as np
from fastapi import APIRouter, HTTPException, Query
from pydantic import IPvAnyAddress

from yardgate.api.desk import told
from yardgate.api.schemas import (
    EveryoneOut,
    Id,
    ReasonOut,
    ShareOut,
    SharesOut,
    SurpriseOut,
    VisitOut,
    WalkedShare,
    WalkOut,
    WayOut,
)
from yardgate.api.signin import Reader, TheDesk
from yardgate.core.everyone import everyone
from yardgate.core.plan import GUEST, fold
from yardgate.core.resolve import Matrix
from yardgate.core.rights import LEVELS
from yardgate.core.share import Over, Protocol
from yardgate.core.walk import walk
from yardgate.core.ways import PROTOCOLS, explain_over, is_on, resolve_over, unreached

router = APIRouter(prefix="/plans/{plan}", tags=["shares"])
PEOPLE_LISTED, SURPRISES = 200, 300
HostAddress = Annotated[IPvAnyAddress | None, Query(description="the address of the client, for NFS; none: any host")]


@router.get("/shares")
def shares(plan: str, _: Reader, desk: TheDesk) -> SharesOut:
    """Who gets in over each share and protocol, and which places no share reaches."""
    opened = desk.plans.open(plan)
    matrix = desk.matrix(opened)
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
        guest=explain_over(plan, GUEST, top, over, matrix.on, matrix.laying).level,
    )


@router.get("/shares/{share}/reason")
def reason_over(
    plan: str, share: Id, _: Reader, desk: TheDesk, subject: Id, place: Id, protocol: Protocol, host: HostAddress = None
) -> ReasonOut:
    """Why somebody (or, for `guest`, somebody without an account) gets what they get in a place over one share and protocol."""
    opened = desk.plans.open(plan)
    p, matrix = opened.plan, desk.matrix(opened)
    known = place in p.places and (subject == GUEST or subject in p.users or subject in p.groups)
    if share not in p.shares or not known or p.shares[share].place not in p.path(place):
        raise HTTPException(
            404, "This plan has no such share, place or person any more, or the share does not reach the place"
        )
    found = explain_over(p, subject, place, Over(share, protocol, host), matrix.on, matrix.laying)
    return told(opened, found, subject)


@router.get("/walk")
def walked(plan: str, _: Reader, desk: TheDesk, who: Id, protocol: Protocol, host: HostAddress = None) -> WalkOut:
    """What somebody (or `guest`) finds who goes through all shares over a protocol, from a host."""
    opened = desk.plans.open(plan)
    p, matrix = opened.plan, desk.matrix(opened)
    if who != GUEST and who not in p.users and who not in p.groups:
        raise HTTPException(404, "This plan has no such person or group any more")
    shares = sorted((share for share in p.shares.values() if share.over(protocol)), key=lambda share: fold(share.name))
    found = [
        WalkedShare(
            share=share.id,
            listed=not share.hidden,
            visits=[
                VisitOut.model_validate(visit, from_attributes=True)
                for visit in walk(p, who, Over(share.id, protocol, host), matrix.on, matrix.laying)
            ],
        )
        for share in shares
    ]
    return WalkOut(revision=opened.revision, shares=found)


@router.get("/everyone")
def try_everyone(plan: str, _: Reader, desk: TheDesk) -> EveryoneOut:
    """All people, all places, all ways in: what in that is surprising."""
    opened = desk.plans.open(plan)
    found = everyone(desk.kept(opened).outcome)
    return EveryoneOut(
        revision=opened.revision,
        tried=found.tried,
        totals={
            "more": len(found.more),
            "nowhere": len(found.nowhere),
            "differ": len(found.differ),
            "unwritten": len(found.unwritten),
            "open_to_all": len(found.open_to_all),
        },
        more=[SurpriseOut(**cell._asdict()) for cell in found.more[:SURPRISES]],
        nowhere=list(found.nowhere[:SURPRISES]),
        differ=[SurpriseOut(**cell._asdict()) for cell in found.differ[:SURPRISES]],
        unwritten=list(found.unwritten[:SURPRISES]),
        open_to_all=list(found.open_to_all[:SURPRISES]),
    )
