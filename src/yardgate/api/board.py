"""The board: windows of what comes out, why one cell does, and what other rules would say."""

from dataclasses import replace
from typing import Annotated, Literal

from fastapi import APIRouter, HTTPException, Query

from yardgate.api.desk import changed, columns, seen_columns, told
from yardgate.api.parsing import OffLoop
from yardgate.api.schemas import Cell, Clashes, Id, InsteadOut, OverOut, ReasonOut, RuleOut, WayLevel, Window
from yardgate.api.signin import Reader, TheDesk
from yardgate.core.clash import RULES, rule_words
from yardgate.core.plan import EVERYONE, fold
from yardgate.core.reason import explain
from yardgate.core.remedies import group_instead
from yardgate.core.resolve import changes, detail, resolve
from yardgate.core.rights import GRANTABLE, Level
from yardgate.core.ways import explain_over

router = APIRouter(prefix="/plans/{plan}", tags=["board"], route_class=OffLoop)
CLASHES_LISTED = 2000
Seen = Annotated[
    Literal["any", "smb", "nfs"] | None,
    Query(description="as seen over a protocol, or over any way in; none: what grants and storage alone give"),
]


@router.get("/board")
def window(
    plan: str,
    _: Reader,
    desk: TheDesk,
    place: Annotated[list[Id], Query(max_length=400)],
    first: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
    count: Annotated[int | None, Query(ge=1, le=10_000_000)] = None,
    over: Seen = None,
) -> Window:
    """What comes out: the columns of the places named, for the subjects from `first` on (users by id, then groups by id)."""
    opened = desk.plans.open(plan)
    matrix = desk.matrix(opened)
    if over is None:
        found = columns(matrix, place, first, count)
    else:
        found = seen_columns(desk.kept(opened).outcome, place, None if over == "any" else over, first, count)
    shown = max((len(column.levels) for column in found.values()), default=0)
    subjects = len(matrix.counting.subjects)
    return Window(revision=opened.revision, first=first, count=shown, subjects=subjects, columns=found)


@router.get("/reason")
def reason(plan: str, _: Reader, desk: TheDesk, subject: Id, place: Id, over: Seen = None) -> ReasonOut:
    """Why somebody (or, for a group, somebody in it alone) gets what they get in a place; over a protocol, or any: over the way in
    that gives most."""
    opened = desk.plans.open(plan)
    p = opened.plan
    if place not in p.places or (subject not in p.users and subject not in p.groups):
        raise HTTPException(404, "This plan has no such place, person or group any more")
    matrix = desk.matrix(opened)
    ways = desk.kept(opened).outcome.levels(subject, place)
    asked = [way for way in ways if over in ("any", way.protocol)]
    way = max(asked, key=ways.__getitem__) if asked else None
    if way is None:
        found = explain(p, subject, place, matrix.on, matrix.laying)
    else:
        found = explain_over(p, subject, place, way, matrix.on, matrix.laying)
    out = told(opened, found, subject)
    out.over = None if way is None else OverOut(share=way.share, protocol=way.protocol)
    out.ways = [WayLevel(share=one.share, protocol=one.protocol, level=level) for one, level in ways.items()]
    return out


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
