"""What people need, how it stands, and groups that give just that."""

from datetime import date
from itertools import groupby

from fastapi import APIRouter, HTTPException

from yardgate.api.authentication import Reader, TheServices
from yardgate.api.needs.schemas import (
    ConflictOut,
    FitOut,
    FitsOut,
    GrantedOut,
    Missed,
    MissedOut,
    NeedsOut,
    ProjectIn,
    ProjectOut,
    RoleOut,
    SimplifiedOut,
    SimplifyIn,
    SuggestedGroup,
    SuggestedMiss,
    SuggestedPersonal,
    SuggestIn,
    SuggestionOut,
)
from yardgate.api.transport.turns import Long
from yardgate.core.edits.records import Edit, Join, Leave, PutNeed
from yardgate.core.model.naming import show
from yardgate.core.policy.findings.needs import beside
from yardgate.core.policy.simplify import grants_of, only, simplify
from yardgate.core.suggest.answers import answer
from yardgate.core.suggest.asked import LEVEL_OF, Demand, as_today
from yardgate.core.suggest.groups import Suggestion, Terms
from yardgate.core.suggest.newcomers import fits, project

long = APIRouter(prefix="/plans/{plan}", tags=["needs"], route_class=Long)
WORDS: dict[str, Missed] = {"need-unmet": "lacks", "need-forbidden": "must not", "need-exceeded": "more"}


@long.get("/needs")
def needs_stand(plan: str, _: Reader, services: TheServices) -> NeedsOut:
    """How needs stand to what people get."""
    opened = services.plans.open(plan)
    case = services.case(opened)
    return NeedsOut(
        revision=opened.revision,
        cells=case.demand.count,
        missed=[
            MissedOut(user=user, place=place, gets=case.outcome.level(user, place), is_=WORDS[kind])
            for kind, cells in beside(case)
            for user, place in cells
        ],
        conflicts=_conflicts(case.demand),
    )


@long.get("/needs/today")
def needed_today(plan: str, _: Reader, services: TheServices) -> list[Edit]:
    """Edits that make needs of what everybody gets today; what is needed already stays."""
    opened = services.plans.open(plan)
    return [PutNeed(need) for need in as_today(opened.plan, date.today()) if need.id not in opened.plan.needs]


@long.post("/suggest")
def suggest_groups(plan: str, body: SuggestIn, _: Reader, services: TheServices) -> SuggestionOut:
    """The fewest groups, memberships and grants that give everybody just what they need, or simpler ones. Nothing is kept by it."""
    opened = services.plans.open(plan)
    today = date.today()
    needs = as_today(opened.plan, today) if body.today else tuple(opened.plan.needs.values())
    terms = Terms(seconds=body.seconds, may_change=body.may_change)
    answered = answer(opened.plan, needs, today, body.kind, body.step, terms)
    found = answered.suggestion
    return SuggestionOut(
        revision=opened.revision,
        kind=answered.kind,
        cost=answered.cost,
        needs=found.asked.count,
        **found.figures._asdict(),
        gap=found.answer.gap,
        proven=found.answer.proven,
        given=list(found.given),
        groups=_groups(found),
        singles=_singles(found),
        edits=list(found.edits),
        roles=[RoleOut(people=list(role.people), acts=role.acts) for role in answered.roles],
        misses=[SuggestedMiss(**miss._asdict()) for miss in found.misses],
        beyond=[SuggestedMiss(**miss._asdict()) for miss in found.beyond],
        conflicts=_conflicts(found.asked),
    )


@long.post("/simplify")
def make_simpler(plan: str, body: SimplifyIn, _: Reader, services: TheServices) -> SimplifiedOut:
    """Fewer grants, and the same for everybody. Nothing is kept by it."""
    opened = services.plans.open(plan)
    if body.place is not None and body.place not in opened.plan.places:
        raise HTTPException(422, "This plan has no such place")
    if body.group is not None and body.group not in opened.plan.groups:
        raise HTTPException(422, "This plan has no such group")
    looked_at = only(opened.plan, body.place, body.group)
    found = simplify(opened.plan, date.today(), seconds=body.seconds, looked_at=looked_at)
    (grants, single), (left, single_left) = grants_of(found.before), grants_of(found.after)
    return SimplifiedOut(
        revision=opened.revision,
        grants=grants,
        grants_left=left,
        personal=single,
        personal_left=single_left,
        idle=found.idle,
        groups=list(found.groups),
        whole=found.whole,
        edits=list(found.edits),
        words=list(found.words),
    )


@long.get("/needs/fits/{user}")
def groups_for(plan: str, user: str, _: Reader, services: TheServices) -> FitsOut:
    """Which groups somebody could join to get what they need."""
    opened = services.plans.open(plan)
    demand = services.case(opened).demand
    if user not in demand.people:
        raise HTTPException(404, "There is nobody of this id whose account could be open")
    now, *found = (
        FitOut(groups=list(fit.groups), lacks=list(fit.lacks), beyond=list(fit.beyond), never=list(fit.never))
        for fit in fits(opened.plan, demand, user, date.today())
    )
    return FitsOut(revision=opened.revision, now=now, fits=found)


@long.post("/project")
def project_group(plan: str, body: ProjectIn, _: Reader, services: TheServices) -> ProjectOut:
    """A new group of some people, with what they have in common. Nothing is kept by it."""
    opened = services.plans.open(plan)
    if strange := set(body.people) - opened.plan.users.keys():
        raise HTTPException(422, f"This plan has no person {show(min(strange))}")
    edits = project(opened.plan, services.case(opened).demand, body.people, date.today())
    return ProjectOut(revision=opened.revision, edits=list(edits))


def _groups(found: Suggestion) -> list[SuggestedGroup]:
    return [
        SuggestedGroup(
            id=name,
            name=found.after.groups[name].name,
            there=group.there is not None,
            members=[found.asked.people[one] for one in group.members],
            inside=[]
            if group.there is not None
            else sorted(found.after.groups[name].members & found.after.groups.keys()),
            joins=[edit.member for edit in found.edits if isinstance(edit, Join) and edit.group == name],
            leaves=[edit.member for edit in found.edits if isinstance(edit, Leave) and edit.group == name],
            grants=[
                GrantedOut(place=found.asked.places[place], level=LEVEL_OF[level]) for place, level in group.grants
            ],
        )
        for name, group in zip(found.names, found.answer.groups, strict=True)
    ]


def _singles(found: Suggestion) -> list[SuggestedPersonal]:
    return [
        SuggestedPersonal(
            user=found.asked.people[person],
            grants=[
                GrantedOut(place=found.asked.places[grant.place], level=LEVEL_OF[grant.level]) for _, grant in some
            ],
        )
        for person, some in groupby(found.answer.personal, key=lambda one: one[0])
    ]


def _conflicts(demand: Demand) -> list[ConflictOut]:
    return [ConflictOut(user=one.user, place=one.place, needs=list(one.needs)) for one in demand.conflicts]
