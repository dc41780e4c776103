"""Where to begin, and what comes next; acts on many things, as edits."""

from datetime import date
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query

from yardgate.api.answers import since
from yardgate.api.authentication import Reader, Somebody, TheServices
from yardgate.api.begin.schemas import (
    AddThem,
    BeginOut,
    ChoiceOut,
    LikeOffice,
    MoreIn,
    MoreOut,
    NameSays,
    NumberThem,
    OfficeOut,
    PlaceThem,
    ProfileOut,
    QuestionOut,
    SaidOut,
    ShareThem,
    StageOut,
    ToDoOut,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Long
from yardgate.core.edits.many import added, copied, numbered, placed, shared
from yardgate.core.edits.offices import OFFICES, begin, beginning
from yardgate.core.edits.records import Edit, PutGroup, PutUser
from yardgate.core.host.typed import NamedKind, better, refused
from yardgate.core.model.behaviour import PROFILES, QUESTIONS, ApplianceQuestion, Profile, answering, asked
from yardgate.core.model.plan import Plan, Target
from yardgate.core.policy.findings import standing
from yardgate.core.policy.stages import Known, stages
from yardgate.services.derived import Services
from yardgate.store import Opened

router = APIRouter(tags=["begin"], route_class=OffLoop)
long = APIRouter(prefix="/plans/{plan}", tags=["begin"], route_class=Long)
ROUTERS = (router, long)


@router.get("/offices")
def offices(_: Somebody) -> list[OfficeOut]:
    """The made-up offices from which a plan can begin."""
    made = [(office, begin(office)) for office in OFFICES]
    return [
        OfficeOut(
            id=office.id,
            title=office.title,
            words=office.words,
            people=sum(user.kind == "person" for user in plan.users.values()),
            groups=[group.name for group in plan.groups.values()],
            places=[place.name for place in plan.places.values() if place.kind != "pool"],
        )
        for office, plan in made
    ]


@long.get("/begin")
def begun(plan: str, _: Reader, services: TheServices) -> BeginOut:
    """How far a plan is, and what to do next; what appliances differ in, and what is said of this one."""
    opened = services.plans.open(plan)
    found = stages(opened.plan, _stands(services, opened), date.today())
    return BeginOut(
        revision=opened.revision,
        stages=[
            StageOut(
                id=stage.id,
                title=stage.title,
                says=stage.says,
                done=stage.done,
                begun=stage.begun,
                todo=[ToDoOut(act=one.act, words=one.words, count=one.count, ids=list(one.ids)) for one in stage.todo],
            )
            for stage in found
        ],
        questions=[_question(opened.plan, question) for question in QUESTIONS],
        profiles=[_profile(opened.plan.target, profile) for profile in PROFILES],
    )


def _stands(services: Services, opened: Opened) -> Known:
    found, kept = services.gets(opened), services.kept(opened)
    rolled = services.rollouts.revision_in_force(opened.id)
    findings = (one for one, accepted in standing(services.case(opened), services.findings(opened)) if not accepted)
    return Known(
        more=found.count("more"),
        less=found.count("less"),
        serious=sum(one.severity == "serious" for one in findings),
        broken=sum(bool(keeping.breaches) for keeping in kept.keepings.values()),
        reached=services.rollouts.destination(opened.id).kind != "papers",
        rolled=None if rolled is None else since(services, opened).changed.total,
        moved=rolled is not None and rolled < opened.revision,
    )


def _question(plan: Plan, question: ApplianceQuestion) -> QuestionOut:
    answered = question.id in plan.target.answered
    return QuestionOut(
        id=question.id,
        title=question.title,
        asks=question.asks,
        said=[SaidOut(who=who, level=level) for who, level in question.said],
        who=question.who,
        where=question.where,
        find_out=question.find_out,
        answered=answered,
        matters=question in asked(plan),
        choices=[
            ChoiceOut(
                id=choice.id,
                happens=choice.happens,
                words=choice.words,
                taken=choice.holds(plan.target),
                target=answering(choice.on(plan.target), question.id, known=True),
            )
            for choice in question.choices
        ],
        unanswered=answering(plan.target, question.id, known=False),
    )


def _profile(target: Target, profile: Profile) -> ProfileOut:
    then = profile.on(target)
    return ProfileOut(id=profile.id, title=profile.title, words=profile.words, taken=then == target, target=then)


@router.post("/plans/{plan}/more")
def more(plan: str, _: Reader, services: TheServices, body: MoreIn) -> MoreOut:
    """The edits of an act on many things, or of one more of the same; nothing is kept."""
    p = services.plans.open(plan).plan
    match body:
        case AddThem():
            names = [(one.name, one.full_name) for one in body.names]
            edits = added(p, names, body.kind, body.groups)
            return MoreOut(edits=list(edits), made=_new(edits[0]))
        case PlaceThem():
            return MoreOut(edits=list(placed(p, body.paths, body.start)))
        case LikeOffice():
            office = next((office for office in OFFICES if office.id == body.office), None)
            if office is None:
                raise HTTPException(404, f"There is no office {body.office} to begin from")
            if p.users or p.groups or p.places:
                raise HTTPException(
                    409, "There is somebody or something in this plan already; a made-up office is for an empty one"
                )
            return MoreOut(edits=list(beginning(p, office)))
        case NumberThem(ids=ids):
            return MoreOut(edits=list(numbered(p, ids, services.rollouts.destination(plan).lowest)))
        case ShareThem(ids=ids):
            if strange := [one for one in ids if one not in p.places]:
                raise HTTPException(404, f"This plan has no place {strange[0]}")
            return MoreOut(edits=list(shared(p, ids)))
        case _:
            made = copied(p, body.like, body.name, body.full_name, grants=body.grants)
            if made is None:
                raise HTTPException(404, f"This plan has nobody and nothing of the id {body.like}")
            return MoreOut(edits=list(made.edits), made=made.id)


def _new(edit: Edit) -> str | None:
    match edit:
        case PutUser(user=one) | PutGroup(group=one):
            return one.id
    return None


@router.get("/plans/{plan}/name")
def name_says(
    plan: str,
    _: Reader,
    services: TheServices,
    kind: NamedKind,
    name: Annotated[str, Query(max_length=1000)] = "",
    itself: Annotated[str | None, Query(max_length=255, description="the id of what has the name now")] = None,
    parent: Annotated[str | None, Query(max_length=255, description="of a place, the one that it lies in")] = None,
) -> NameSays:
    """Whether the plan, a protocol or a host refuses a name."""
    p = services.plans.open(plan).plan
    trouble = refused(p, kind, name, itself=itself, parent=parent)
    if trouble is None:
        return NameSays(trouble="", better="")
    return NameSays(trouble=trouble, better=better(p, kind, name, itself=itself, parent=parent))
