"""The board: windows of what comes out, why one cell does, and what other rules would say."""

from dataclasses import replace
from typing import Annotated

import numpy as np
from fastapi import APIRouter, HTTPException, Query
from pydantic import IPvAnyAddress

from yardgate.api.desk import changed, columns
from yardgate.api.schemas import Cell, Clashes, Id, InsteadOut, ReasonOut, RuleOut, ShareOut, SharesOut, WayOut, Window
from yardgate.api.signin import Reader, TheDesk
from yardgate.core.clash import RULES, rule_words
from yardgate.core.plan import EVERYONE, GUEST, fold
from yardgate.core.reason import Reason, explain
from yardgate.core.remedies import group_instead
from yardgate.core.resolve import Matrix, changes, detail, resolve
from yardgate.core.rights import GRANTABLE, LEVELS, Level
from yardgate.core.share import Over, Protocol
from yardgate.core.ways import PROTOCOLS, explain_over, is_on, resolve_over, unreached
from yardgate.store import Opened

router = APIRouter(prefix="/plans/{plan}", tags=["board"])
CLASHES_LISTED = 2000
PEOPLE_LISTED = 200
HostAddress = Annotated[IPvAnyAddress | None, Query(description="the address of the client, for NFS; none: any host")]


@router.get("/board")
def window(
    plan: str,
    _: Reader,
    desk: TheDesk,
    place: Annotated[list[Id], Query(max_length=400)],
    first: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
    count: Annotated[int | None, Query(ge=1, le=10_000_000)] = None,
) -> Window:
    """What comes out: the columns of the places named, for the subjects from `first` on (users by id, then groups by id)."""
    opened = desk.plans.open(plan)
    matrix = desk.matrix(opened)
    found = columns(matrix, place, first, count)
    shown = max((len(column.levels) for column in found.values()), default=0)
    subjects = len(matrix.counting.subjects)
    return Window(revision=opened.revision, first=first, count=shown, subjects=subjects, columns=found)


@router.get("/reason")
def reason(plan: str, _: Reader, desk: TheDesk, subject: Id, place: Id) -> ReasonOut:
    """Why somebody (or, for a group, somebody in it alone) gets what they get in a place."""
    opened = desk.plans.open(plan)
    p = opened.plan
    if place not in p.places or (subject not in p.users and subject not in p.groups):
        raise HTTPException(404, "This plan has no such place, person or group any more")
    matrix = desk.matrix(opened)
    found = explain(p, subject, place, matrix.on, matrix.laying)
    return _told(opened, found, subject)


def _told(opened: Opened, found: Reason, subject: str) -> ReasonOut:
    granted = {who for gate in found.gates for line in gate.lines for who in (line.who, *line.way)}
    listed = {who for gate in found.gates for line in gate.entries for who in (line.who, *line.way) if who}
    mentioned = granted | listed | {subject}
    names = {who: opened.plan.named(who) for who in sorted(mentioned)}
    return ReasonOut(revision=opened.revision, reason=found, names=names)


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
    codes = resolve_over(matrix, over)[top][: counting.users]
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
    return _told(opened, found, subject)


@router.get("/clashes")
def clashes(plan: str, _: Reader, desk: TheDesk) -> Clashes:
    """The cells of people and services where grants disagree, or where another level comes out than is granted."""
    opened = desk.plans.open(plan)
    matrix = desk.matrix(opened)
    users = matrix.counting.users
    total = 0
    cells: list[Cell] = []
    places = matrix.laying or opened.plan.grants
    granted = sorted(places, key=lambda place: (fold(opened.plan.path_name(place)), place))
    for place, found in detail(matrix, granted).items():
        numbers = found.clash[:users].nonzero()[0].tolist()
        total += len(numbers)
        listed = numbers[: CLASHES_LISTED - len(cells)]
        cells += [Cell(subject=matrix.counting.subjects[number], place=place) for number in listed]
    return Clashes(revision=opened.revision, total=total, cells=cells)


@router.get("/rules")
def rules(plan: str, _: Reader, desk: TheDesk) -> list[RuleOut]:
    """Every clash rule, with the cells that would come out differently under it."""
    opened = desk.plans.open(plan)
    matrix = desk.matrix(opened)
    found = []
    for tiers, within in RULES:
        target = replace(opened.plan.target, tiers=tiers, within=within)
        other = resolve(replace(opened.plan, target=target), matrix.on)
        found.append(
            RuleOut(
                tiers=tiers,
                within=within,
                words=rule_words(target),
                taken=target == opened.plan.target,
                changed=changed(opened.plan, changes(matrix, other)),
            )
        )
    return found


@router.get("/instead")
def instead(plan: str, _: Reader, desk: TheDesk, who: Id, place: Id, level: Level) -> list[InsteadOut]:
    """Grants to a group that would give a person the level, in place of a personal grant."""
    opened = desk.plans.open(plan)
    p = opened.plan
    if place not in p.places or who not in p.users or who == EVERYONE or level not in GRANTABLE:
        raise HTTPException(404, "This plan has no such place or person, or the level cannot be granted")
    return [
        InsteadOut(who=found.edit.who, name=p.named(found.edit.who), level=level, others=changed(p, list(found.others)))
        for found in group_instead(desk.matrix(opened), place, who, level)
    ]
