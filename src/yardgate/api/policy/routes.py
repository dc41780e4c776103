"""Promises and findings: how they stand, what repairs them, what some edits would do to them."""

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request, Response

from yardgate.api.authentication import Reader, TheServices
from yardgate.api.effects import told
from yardgate.api.policy.schemas import (
    BreachOut,
    ContradictionOut,
    FindingOut,
    KeepingOut,
    RemedyOut,
    RepairOut,
    SentenceIn,
    StandingOut,
    TouchedCell,
)
from yardgate.api.schemas import Edits, EffectOut, Id
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Long
from yardgate.core.acl.rights import GRANTABLE, Level
from yardgate.core.edits.describe import promised
from yardgate.core.model.plan import GUEST
from yardgate.core.model.share import Protocol
from yardgate.core.policy.compliance import Compliance, Keeping, contradictions, sentence
from yardgate.core.policy.compliance import standing as stands
from yardgate.core.policy.findings import BY_KIND
from yardgate.core.policy.findings import standing as accepted_or_not
from yardgate.core.policy.impact import effect
from yardgate.core.policy.remedies import Want, remedies
from yardgate.formats.promises import read_sentence
from yardgate.services.derived import Services
from yardgate.store import Opened

FindingId = Annotated[
    str, Query(min_length=1, max_length=1000, description="the id of a finding, as `standing` lists it")
]

router = APIRouter(prefix="/plans/{plan}", tags=["promises and findings"], route_class=OffLoop)
long = APIRouter(prefix="/plans/{plan}", tags=["promises and findings"], route_class=Long)
LISTED = 200
EXPLAINED = 20


@long.get("/standing", response_model=StandingOut)
def standing(plan: str, _: Reader, request: Request, services: TheServices) -> Response:
    """How every promise stands, which cannot both be kept, and everything that is found. Its tag (RFC 9110, 8.8.3) changes with it."""
    tag, text = services.newest(plan, lambda opened: _standing(services, opened).model_dump_json().encode())
    if tag in request.headers.get("if-none-match", "").split(", "):
        return Response(status_code=304, headers={"ETag": tag})
    return Response(text, media_type="application/json", headers={"ETag": tag})


def _standing(services: Services, opened: Opened) -> StandingOut:
    kept = services.kept(opened)
    p, case = opened.plan, services.case(opened)
    return StandingOut(
        revision=opened.revision,
        promises=[_keeping(kept, keeping) for keeping in kept.keepings.values()],
        contradictions=[
            ContradictionOut(one=c.one.id, other=c.other.id, subject=c.subject)
            for c in contradictions(kept.outcome.matrix)
        ],
        findings=[
            FindingOut(
                id=finding.id,
                kind=finding.kind,
                title=BY_KIND[finding.kind].title,
                severity=finding.severity,
                about=list(finding.about),
                sentence=finding.sentence,
                advice=_advice(finding.kind),
                total=len(finding.cells),
                cells=[
                    TouchedCell(subject=who, place=place, level=kept.outcome.level(who, place))
                    for who, place in finding.cells[:LISTED]
                ],
                fixable=bool(finding.fix) if finding.search is None else None,
                accepted=p.accepted.get(finding.id),
                open=not accepted,
            )
            for finding, accepted in accepted_or_not(case, services.findings(opened))
        ],
    )


@long.get("/findings/repair")
def repair(plan: str, _: Reader, services: TheServices, finding: FindingId) -> RepairOut:
    """What removes a finding, the first that is right of what can be tried, and all that it changes."""
    opened = services.plans.open(plan)
    found = next((one for one in services.findings(opened) if one.id == finding), None)
    if found is None:
        raise HTTPException(404, "That is not found in this plan any more")
    edits, does = found.repair
    changes = told(opened.plan, effect(services.kept(opened), edits, known=services.gets(opened))) if edits else None
    return RepairOut(edits=list(edits), does=does, effect=changes)


def _advice(kind: str) -> str:
    """What the page of a kind of finding says, in one paragraph."""
    return " ".join((BY_KIND[kind].run.__doc__ or "").split())


def _keeping(kept: Compliance, keeping: Keeping) -> KeepingOut:
    promise = keeping.promise
    return KeepingOut(
        promise=promise,
        words=promised(kept.outcome.matrix.plan, promise),
        meant=keeping.meant,
        broken=len(keeping.breaches),
        breaches=[
            BreachOut(
                subject=breach.subject,
                level=breach.level,
                why=sentence(kept.outcome, breach, promise) if number < EXPLAINED else "",
            )
            for number, breach in enumerate(keeping.breaches[:LISTED])
        ],
    )


@router.post("/promises/read")
def read(plan: str, _: Reader, services: TheServices, body: SentenceIn) -> KeepingOut:
    """The promise that a sentence makes, and how it would stand. It is not kept yet."""
    opened = services.plans.open(plan)
    kept = services.kept(opened)
    return _keeping(kept, stands(kept.outcome, [read_sentence(opened.plan, body.text)])[0])


@router.post("/effect")
def would(plan: str, _: Reader, services: TheServices, body: Edits) -> EffectOut:
    """What edits would change over the ways in, and which promises they would break or mend, without keeping them."""
    opened = services.plans.open(plan)
    return told(opened.plan, effect(services.kept(opened), body.edits, known=services.gets(opened)))


@long.get("/remedies")
def remedy(
    plan: str,
    _: Reader,
    services: TheServices,
    who: Id,
    place: Id,
    low: Annotated[Level, Query(description="at least this")],
    high: Annotated[Level, Query(description="at most this")],
    over: Annotated[Protocol | None, Query(description="over this protocol; none: over any way in")] = None,
    seen: Annotated[bool | None, Query(description="whether they shall learn of the place; none: no matter")] = None,
) -> list[RemedyOut]:
    """Edits after which a person or the guest gets a level in a place, best first, each with all that it changes."""
    opened = services.plans.open(plan)
    p = opened.plan
    possible = low <= high and low in (*GRANTABLE, Level.PT) and (who in p.users or who == GUEST)
    if place not in p.places or not possible:
        raise HTTPException(404, "This plan has no such place or person any more, or there is no such range of levels")
    want = Want(who, place, low, high, over, seen)
    return [
        RemedyOut(edits=list(found.edits), words=list(found.words), effect=told(p, found.effect), free=found.free(want))
        for found in remedies(services.kept(opened), want)
    ]
