"""Plans: make, list, outline, edit, undo, history, versions."""

import logging
from collections.abc import AsyncIterator, Sequence
from dataclasses import replace
from datetime import date
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from yardgate.api.answers import around, changes, columns, entry_out, grants, step
from yardgate.api.authentication import RANKS, Planner, Reader, Somebody, TheServices, rank, token_of
from yardgate.api.effects import told
from yardgate.api.plans.schemas import (
    Archive,
    BackTo,
    ComparedFile,
    CopyPlan,
    FreeId,
    GroupOut,
    HereIn,
    NewPlan,
    NewVersion,
    Outline,
    PlanComparison,
    PlanHead,
    PresentOut,
    ServiceOut,
    TakeBack,
    VersionOut,
)
from yardgate.api.schemas import Answer, AtRevision, Cell, Edits, EntryOut, Revision
from yardgate.api.storage.routes import standing
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Large
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.combining import rule_words
from yardgate.core.access.comparison import Comparison, gets
from yardgate.core.access.membership import cycles, unlisted
from yardgate.core.access.outcome import Outcome, outcome, outcome_of
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import describe, sentence
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import Edit, PutGroup, PutShare, SetGrant
from yardgate.core.model.names import fresh_id, ids_of
from yardgate.core.model.plan import Group, Plan, new_plan
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.impact import between
from yardgate.formats import planfile
from yardgate.formats.reading import decode
from yardgate.services.derived import Services
from yardgate.store import JournalEntry, NotThere, Opened
from yardgate.store.plans import NEWEST

log = logging.getLogger(__name__)
router = APIRouter(prefix="/plans", tags=["plans"], route_class=OffLoop)
large = APIRouter(prefix="/plans", tags=["plans"], route_class=Large)
COLUMNS_SENT = 32


@router.get("")
def plans(account: Somebody, services: TheServices) -> list[PlanHead]:
    """All plans that somebody may see, archived ones too. One that cannot be read is told as such, and hides no other."""
    return [_head(services, plan) for plan in services.plans.ids() if rank(account, plan) > 0]


def _head(services: Services, plan: str) -> PlanHead:
    try:
        return head(services.plans.open(plan))
    except NotThere:
        raise
    except Exception:
        log.exception("plan %s cannot be read", plan)
        nothing = {"people": 0, "services": 0, "groups": 0, "places": 0, "grants": 0}
        trouble = "It cannot be read. “yardgate check-data” says why; “yardgate restore” puts a copy of the data back."
        return PlanHead(id=plan, name=plan, office="", revision=0, archived=False, trouble=trouble, **nothing)


def head(opened: Opened) -> PlanHead:
    plan = opened.plan
    services = sum(user.kind == "service" for user in plan.users.values())
    return PlanHead(
        id=opened.id,
        name=plan.name,
        office=plan.office,
        revision=opened.revision,
        archived=opened.archived,
        people=len(plan.users) - services,
        services=services,
        groups=len(plan.groups),
        places=len(plan.places),
        grants=sum(len(lines) for lines in plan.grants.values()),
    )


@router.post("", status_code=201)
def make(account: Planner, services: TheServices, body: NewPlan) -> PlanHead:
    """Make a plan: an empty one, or from a plan file (its name then is the one given here)."""
    plan = planfile.read(decode(body.file)) if body.file is not None else new_plan()
    plan = replace(plan, name=body.name, office=body.office or plan.office)
    return head(services.plans.create(plan, account.name))


@router.post("/{plan}/copy", status_code=201)
def copy(plan: str, account: Planner, services: TheServices, body: CopyPlan) -> PlanHead:
    """Copy a plan as it is now; the copy's history begins with it."""
    if account.role == "member":
        raise HTTPException(403, f"This needs a planner; {account.name} may change single plans only")
    return head(services.plans.create(replace(services.plans.open(plan).plan, name=body.name), account.name))


@router.put("/{plan}/archived", status_code=204)
def archive(plan: str, _: Planner, services: TheServices, body: Archive) -> None:
    """Put a plan away, or take it out again. Nothing is lost by it."""
    services.plans.archive(plan, body.archived)


@large.get("/{plan}")
def outline(plan: str, account: Reader, services: TheServices) -> Outline:
    """Everything of a plan but what comes out."""
    opened = services.plans.open(plan)
    p = opened.plan
    today = date.today()
    return Outline(
        id=opened.id,
        name=p.name,
        office=p.office,
        purpose=p.purpose,
        revision=opened.revision,
        archived=opened.archived,
        may=RANKS[rank(account, plan)],
        top=services.rollouts.destination(opened.id).top,
        target=p.target,
        rule=rule_words(p.target),
        users=[p.users[key] for key in sorted(p.users)],
        groups=[_group(p.groups[key]) for key in sorted(p.groups)],
        places=[p.places[key] for key in sorted(p.places)],
        grants=dict(grants(p, p.grants)),
        needs=[p.needs[key] for key in sorted(p.needs)],
        patterns=[p.patterns[key] for key in sorted(p.patterns)],
        directories=[p.directories[key] for key in sorted(p.directories)],
        shares=[p.shares[key] for key in sorted(p.shares)],
        services=[
            ServiceOut(id=s.id, on=s.on, allowed=None if s.allowed is None else sorted(s.allowed))
            for s in p.services.values()
        ],
        namesakes=sorted(p.namesakes),
        standing=standing(services.matrix(opened).storage),
        inactive=sorted(user.id for user in p.users.values() if not user.active(today)),
        cycles=[list(circle) for circle in cycles(p)],
        undo=step(services.plans, opened, opened.done),
        redo=step(services.plans, opened, opened.undone),
    )


@large.get("/{plan}/memberships")
def memberships(plan: str, _: Reader, services: TheServices) -> dict[str, list[str]]:
    """User or group -> the groups that it is in without being named there; those that are in none are left out."""
    found = services.plans.open(plan).plan
    return {who: list(groups) for who in (*found.users, *found.groups) if (groups := unlisted(found, who))}


def _group(group: Group) -> GroupOut:
    plain = {name: getattr(group, name) for name in GroupOut.model_fields if name not in ("members", "unknown")}
    return GroupOut(**plain, members=sorted(group.members), unknown=list(group.unknown))


def _answer(
    services: Services,
    before: Outcome,
    now: Comparison,
    opened: Opened,
    edits: Sequence[Edit],
    words: str,
    last: JournalEntry | None = None,
) -> Answer:
    """What changed between two outcomes; where it is kept, as the journal's last entry, what stands around every screen, too. Only grants edited: the new columns of their places, and of those where something else comes out,
    come along, if they are few."""
    after, plan, storage = now.outcome, now.outcome.matrix.plan, now.outcome.matrix.storage
    edited = {edit.place for edit in edits if isinstance(edit, SetGrant)}
    places = {place for place in plan.places if edited.intersection(plan.path(place))}
    for old, new in ((before.matrix.rows, after.matrix.rows), *((before.best[p], after.best[p]) for p in after.best)):
        places |= {place for place, row in new.items() if old.get(place) is not row}
    whole = len(places) > COLUMNS_SENT or not all(isinstance(edit, SetGrant) for edit in edits)
    return Answer(
        revision=opened.revision,
        words=words,
        changed=changes(before, after),
        grants={} if whole else dict(grants(plan, places)),
        standing={} if whole else standing({p: storage[p] for p in places if p in storage}),
        columns={} if whole else columns(now, places),
        whole=whole,
        undo=step(services.plans, opened, opened.done),
        redo=step(services.plans, opened, opened.undone),
        around=None if last is None else around(services, opened, last),
    )


@router.post("/{plan}/edits")
def edit(plan: str, account: Planner, services: TheServices, body: Edits) -> Answer:
    """Keep a batch of edits, all or nothing. 409 where the plan has moved on."""
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    kept = services.plans.commit(plan, body.revision, body.edits, account.name)
    words = describe(opened.plan, kept.plan, body.edits)
    return _answer(services, before, services.gets(kept), kept, body.edits, words, _last(services, kept))


@router.post("/{plan}/what-if")
def what_if(plan: str, _: Reader, services: TheServices, body: Edits) -> Answer:
    """What edits would change, without keeping them."""
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    next_plan, _inverse = apply(opened.plan, body.edits)
    after = gets(outcome_of(next_plan, before), services.gets(opened))
    return _answer(services, before, after, opened, body.edits, describe(opened.plan, next_plan, body.edits))


@router.post("/{plan}/loss")
def loss(plan: str, _: Reader, services: TheServices, body: Edits) -> list[str]:
    """What is lost by edits that remove something, in words: what their inverse would have to bring back."""
    opened = services.plans.open(plan)
    after, inverse = apply(opened.plan, body.edits)
    back: list[str] = []
    for lost in inverse:
        if isinstance(lost, PutGroup) and lost.group.id not in after.groups:
            names = sorted(opened.plan.named(member) for member in lost.group.members)
            back.append(f"group {lost.group.name}" + (f" with members {', '.join(names)}" if names else ""))
        elif isinstance(lost, PutShare):
            back.append(f"the share {lost.share.name}, which offers {opened.plan.path_name(lost.share.place)}")
        else:
            back.append(sentence(after, opened.plan, lost).removeprefix("added "))
    return back[:1000]


@router.post("/{plan}/undo")
def undo(plan: str, account: Planner, services: TheServices, body: AtRevision) -> Answer:
    """Take back the latest change."""
    before = services.outcome(services.plans.open(plan))
    return stepped(services, before, services.plans.undo(plan, body.revision, account.name))


@router.post("/{plan}/redo")
def redo(plan: str, account: Planner, services: TheServices, body: AtRevision) -> Answer:
    """Do again what was undone last."""
    before = services.outcome(services.plans.open(plan))
    return stepped(services, before, services.plans.redo(plan, body.revision, account.name))


def stepped(services: Services, before: Outcome, opened: Opened) -> Answer:
    entry = _last(services, opened)
    edits = services.plans.edits(opened.id, opened.revision)
    return _answer(services, before, services.gets(opened), opened, edits, entry.words, entry)


def _last(services: Services, opened: Opened) -> JournalEntry:
    return services.plans.history(opened.id, most=1)[0]


@router.post("/{plan}/take-back")
def take_back(plan: str, account: Planner, services: TheServices, body: TakeBack) -> Answer:
    """Take back one step and leave what came after it. 422 where somebody changed the same since."""
    before = services.outcome(services.plans.open(plan))
    return stepped(services, before, services.plans.take_back(plan, body.revision, body.step, account.name))


@router.get("/{plan}/history")
def history(
    plan: str,
    _: Reader,
    services: TheServices,
    before: Revision | None = None,
    most: Annotated[int, Query(ge=1, le=500)] = 100,
    text: Annotated[str, Query(max_length=255, description="in what was done, or by whom")] = "",
    by: Annotated[str, Query(max_length=255, description="the name of an account")] = "",
    about: Annotated[str, Query(max_length=255, description="the id of what had a part in it")] = "",
) -> list[EntryOut]:
    """The journal, newest first."""
    first = NEWEST if before is None else before
    return [entry_out(one) for one in services.plans.history(plan, first, most, text=text, by=by, about=about)]


@router.get("/{plan}/mine")
def mine(plan: str, account: Reader, services: TheServices) -> list[Cell]:
    """Who was granted something where, or not any more, by whoever asks."""
    return [Cell(subject=who, place=place) for who, place in sorted(services.plans.granted_by(plan, account.name))]


@router.get("/{plan}/versions")
def versions(plan: str, _: Reader, services: TheServices) -> list[VersionOut]:
    """Named versions, newest first."""
    found = services.plans.versions(plan)
    return [VersionOut.model_validate(dict(zip(("name", "revision", "at", "by"), row, strict=True))) for row in found]


@router.post("/{plan}/versions", status_code=201)
def name_version(plan: str, account: Planner, services: TheServices, body: NewVersion) -> None:
    """Give the present revision a name."""
    try:
        services.plans.name_version(plan, body.name, account.name)
    except ValueError as error:
        raise HTTPException(422, str(error)) from None


@router.post("/{plan}/back-to")
def back_to(plan: str, account: Planner, services: TheServices, body: BackTo) -> Answer:
    """Make the plan what it was at an earlier revision, as one change that can be undone."""
    before = services.outcome(services.plans.open(plan))
    return stepped(services, before, services.plans.back_to(plan, body.revision, body.to, account.name))


@router.get("/{plan}/free-id")
def free_id(
    plan: str, _: Reader, services: TheServices, name: Annotated[str, Query(min_length=1, max_length=255)]
) -> FreeId:
    """An id for something new of this name, that nothing in the plan has."""
    return FreeId(id=fresh_id(name, ids_of(services.plans.open(plan).plan)))


@router.get("/{plan}/compare")
def compare(plan: str, _: Reader, services: TheServices, older: Revision, newer: Revision) -> PlanComparison:
    """From one revision to another."""
    return _comparison(services.plans.at(plan, older), services.plans.at(plan, newer))


@router.post("/{plan}/compare-file")
def compare_file(plan: str, _: Reader, services: TheServices, body: ComparedFile) -> PlanComparison:
    """From a revision, or the present, to what a plan file holds."""
    then = services.plans.open(plan).plan if body.revision is None else services.plans.at(plan, body.revision)
    return _comparison(then, planfile.read(decode(body.file)))


def _comparison(old: Plan, new: Plan) -> PlanComparison:
    edits = difference(old, new)
    today = date.today()
    before = keep(outcome(resolve(old, today)))
    after = keep(outcome_of(new, before.outcome), before)
    return PlanComparison(
        words=[sentence(old, new, edit) for edit in edits[:1000]],
        total=len(edits),
        effect=told(old, between(before, after, edits)),
    )


@router.put("/{plan}/here")
def here(plan: str, account: Reader, services: TheServices, body: HereIn) -> list[PresentOut]:
    """Somebody's window is at a station; who else is there. It is forgotten where it is not said again within a minute."""
    services.plans.revision(plan)
    others = services.presence.here(plan, body.window, account.id, account.name, body.station)
    return [PresentOut(name=one.name, station=one.station) for one in others]


@router.get("/{plan}/events", response_class=StreamingResponse)
async def events(plan: str, account: Reader, request: Request, services: TheServices) -> StreamingResponse:
    """Server-sent events: `revision`, with the number, at once and whenever the plan has a new one (from anywhere). It ends with the session."""
    await run_in_threadpool(services.plans.revision, plan)
    if not services.news.room(account.id):
        raise HTTPException(429, "Too many windows listen already; close some", {"Retry-After": "30"})

    async def stream() -> AsyncIterator[str]:
        async for revision in services.news.follow(plan, account.id, token_of(request) or ""):
            yield ": still here\n\n" if revision is None else f"event: revision\ndata: {revision}\n\n"

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
