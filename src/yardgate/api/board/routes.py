"""The board: windows of what comes out, why one cell does, and what other rules would say."""

from dataclasses import replace
from typing import Annotated, Literal

from fastapi import APIRouter, HTTPException, Query

from yardgate.api.answers import changed, changes, columns, off, told
from yardgate.api.authentication import Reader, TheServices
from yardgate.api.board.schemas import InsteadOut, RuleOut, Window
from yardgate.api.schemas import AssumedOut, Id, OverOut, ReasonOut, Stands, WayLevel
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.combining import RULES, rule_words
from yardgate.core.access.comparison import STATES, WORDS
from yardgate.core.access.comparison import stands as stands_of
from yardgate.core.access.outcome import outcome
from yardgate.core.access.paths import explain_over
from yardgate.core.access.spec.explain import explain
from yardgate.core.acl.rights import GRANTABLE, LEVELS, Level
from yardgate.core.model.plan import EVERYONE
from yardgate.core.policy.assumptions import assumptions
from yardgate.core.policy.instead import group_instead

router = APIRouter(prefix="/plans/{plan}", tags=["board"], route_class=OffLoop)
AccessView = Annotated[
    Literal["smb", "nfs", "storage"] | None,
    Query(description="over a protocol, or what grants and storage alone would give; none: over any way in"),
]


@router.get("/board")
def window(
    plan: str,
    _: Reader,
    services: TheServices,
    place: Annotated[list[Id], Query(max_length=400)],
    first: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
    count: Annotated[int | None, Query(ge=1, le=10_000_000)] = None,
    over: AccessView = None,
) -> Window:
    """What comes out: the columns of the places named, for the subjects from `first` on (users by id, then groups by id)."""
    opened = services.plans.open(plan)
    here = services.gets(opened)
    found = columns(here, place, over, first, count)
    shown = max((len(column.levels) for column in found.values()), default=0)
    subjects = len(here.outcome.matrix.counting.subjects)
    return Window(revision=opened.revision, first=first, count=shown, subjects=subjects, columns=found)


@router.get("/reason")
def reason(plan: str, _: Reader, services: TheServices, subject: Id, place: Id, over: AccessView = None) -> ReasonOut:
    """Why somebody (or, for a group, somebody in it alone) gets what they get in a place; over the way in that gives most, or what grants and storage alone would give."""
    opened = services.plans.open(plan)
    p = opened.plan
    if place not in p.places or (subject not in p.users and subject not in p.groups):
        raise HTTPException(404, "This plan has no such place, person or group any more")
    here = services.outcome(opened)
    matrix, ways = here.matrix, here.levels(subject, place)
    asked = [way for way in ways if over in (None, way.protocol)]
    way = max(asked, key=ways.__getitem__) if asked else None
    if way is None:
        found = explain(p, subject, place, matrix.on, matrix.storage)
    else:
        found = explain_over(p, subject, place, way, matrix.on, matrix.storage)
    out = told(opened, found, subject)
    out.over = None if way is None else OverOut(share=way.share, protocol=way.protocol)
    beside, number = stands_of(here, place, over), here.number(subject)
    out.granted, out.stands = LEVELS[int(beside.granted[number])], STATES[int(beside.state[number])]
    out.words = WORDS[out.stands]
    out.assumed = [
        AssumedOut(question=one.question.id, title=one.question.title, happens=one.choice.happens, level=one.level)
        for one in assumptions(p, subject, place, way, matrix.on, found.level)
    ]
    out.ways = [WayLevel(share=one.share, protocol=one.protocol, level=level) for one, level in ways.items()]
    return out


@router.get("/stands")
def stands(plan: str, _: Reader, services: TheServices, what: Literal["off", "settled"] = "off") -> Stands:
    """Who gets more or less than is granted, or where grants differ and the rule settled it."""
    opened = services.plans.open(plan)
    return off(services.gets(opened), opened, what)


@router.get("/rules")
def rules(plan: str, _: Reader, services: TheServices) -> list[RuleOut]:
    """Every clash rule, with the cells that would come out differently under it."""
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    found = []
    for tiers, within in RULES:
        target = replace(opened.plan.target, precedence=tiers, combining=within)
        other = outcome(resolve(replace(opened.plan, target=target), before.matrix.on))
        found.append(
            RuleOut(
                precedence=tiers,
                combining=within,
                words=rule_words(target),
                taken=target == opened.plan.target,
                changed=changes(before, other),
            )
        )
    return found


@router.get("/instead")
def instead(plan: str, _: Reader, services: TheServices, who: Id, place: Id, level: Level) -> list[InsteadOut]:
    """Grants to a group that would give a person the level, in place of a personal grant."""
    opened = services.plans.open(plan)
    p = opened.plan
    if place not in p.places or who not in p.users or who == EVERYONE or level not in GRANTABLE:
        raise HTTPException(404, "This plan has no such place or person, or the level cannot be granted")
    return [
        InsteadOut(who=found.edit.who, name=p.named(found.edit.who), level=level, others=changed(found.others))
        for found in group_instead(services.outcome(opened), place, who, level)
    ]
