"""Why somebody does not get in: looked up on the appliance now, beside what the plan says."""

from datetime import date
from ipaddress import ip_address

from fastapi import APIRouter, HTTPException, Request

from yardgate.api.authentication import Planner, TheServices, say
from yardgate.api.rollout.live import at_appliance
from yardgate.api.rollout.schemas import HostCheckIn, HostCheckLine, HostCheckOut
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.access.paths import explain_over
from yardgate.core.host.compiled import away_from, compiled, host_names, paths
from yardgate.core.host.diagnosis import Asked, Planned, cause, diagnose
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Over

router = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"], route_class=OffLoop)


@router.post("/check")
def check_access(
    plan: str, account: Planner, request: Request, services: TheServices, body: HostCheckIn
) -> HostCheckOut:
    """Look up, in the order in which things fail, what the appliance says of somebody and a thing in a share. A password is tried, and not kept."""
    opened = services.plans.open(plan)
    share, where = opened.plan.shares.get(body.share), services.rollouts.destination(plan)
    if share is None or body.user not in opened.plan.users:
        raise HTTPException(404, "There is no such person, or no such share, in the plan")
    named = host_names(opened.plan, away_from(opened.plan, where.joined)).get(body.user)
    if named is None:
        raise HTTPException(
            422, "The appliance knows nobody of that directory; if it is joined to it, say so where the plan goes"
        )
    try:
        machine = ip_address(body.machine) if body.machine else None
    except ValueError:
        raise HTTPException(422, f"{show(body.machine)} is no address, as 192.0.2.41") from None
    parts = [part for part in body.path.replace("\\", "/").split("/") if part not in ("", ".")]
    if ".." in parts or "\0" in body.path:
        raise HTTPException(422, "The path has to lie in the share")
    over, matrix = Over(share.id, body.protocol, machine), services.matrix(opened)
    reason = explain_over(
        opened.plan, body.user, _place(opened.plan, share.place, parts), over, matrix.on, matrix.storage
    )
    why = next(gate.sentence for gate in reason.gates if gate.decides)
    asked = Asked(
        account=named,
        share=share.name,
        protocol=body.protocol,
        path="/".join(parts),
        machine=body.machine,
        password=body.password,
    )
    say(request, account.name, "access checked", f"{named} at {share.name}/{asked.path}", plan)
    with at_appliance(services, plan) as at:
        facts = at.facts(asked, paths(opened.plan, where.top)[share.place])
    meant = compiled(matrix, where.top, where.joined).system
    checks = diagnose(asked, Planned(reason.level, why, meant), facts, date.today())
    first = cause(checks)
    return HostCheckOut(
        level=reason.level,
        cause=None if first is None else checks.index(first),
        checks=[HostCheckLine(**one._asdict()) for one in checks],
    )


def _place(plan: Plan, top: str, parts: list[str]) -> str:
    """The deepest place of the plan on the way to a thing."""
    here = top
    for part in parts:
        inner = next((p for p in plan.inside.get(here, ()) if fold(plan.places[p].name) == fold(part)), None)
        if inner is None:
            break
        here = inner
    return here
