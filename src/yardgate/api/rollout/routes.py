"""From the plan to the appliance: steps, what to take away, and what was done."""

from collections.abc import Collection, Mapping, Sequence
from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Path, Query, Response

from yardgate.api.answers import attached, file_name
from yardgate.api.authentication import Planner, Reader, TheServices
from yardgate.api.rollout.schemas import (
    Compared,
    DriftOut,
    HostReading,
    ManagedOut,
    RolloutDone,
    RolloutOut,
    RolloutStep,
    StepCommands,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Large
from yardgate.core.host.bounds import HostAccounts, manageable, refused
from yardgate.core.host.compiled import Compiled, compiled
from yardgate.core.host.dependencies import anew, chosen, needs
from yardgate.core.host.state import System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import (
    Destination,
    Step,
    after,
    drift,
    removals,
    sign_in_again,
    steps,
    walked,
    without_password,
)
from yardgate.core.model.checks import PlanError
from yardgate.core.model.naming import show
from yardgate.drivers.linux.commands import commands
from yardgate.drivers.linux.handout import shown
from yardgate.drivers.linux.papers import BY_NAME, TakenAway
from yardgate.drivers.simulator_client import told
from yardgate.formats.reading import FormatError
from yardgate.services.derived import Services
from yardgate.store import Opened, Stale
from yardgate.store.rollouts import RolledOut

router = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"], route_class=OffLoop)
large = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"], route_class=Large)
LISTED, AGAIN = 3000, 200
Which = Annotated[int, Query(description="number of a rollout", ge=1, le=1_000_000)]
PaperName = Annotated[str, Path(description="which paper", json_schema_extra={"enum": [*BY_NAME]})]
Left = Annotated[list[str] | None, Query(description="ids of steps left for later", max_length=10_000)]


@large.get("")
def rollout(plan: str, _: Reader, services: TheServices) -> RolloutOut:
    """The steps from what the appliance has since the last rollout to what the plan comes to."""
    opened, history = services.plans.open(plan), services.rollouts.history(plan)
    where = services.rollouts.destination(plan)
    running = services.rolling.runs.run(plan)
    about: dict[str, Any] = {
        "revision": opened.revision,
        "destination": where,
        "known": services.rollouts.known(plan),
        "under_way": running.number if running is not None and running.ended is None else None,
        "history": history,
    }
    try:
        meant, there, found = steps_of(services, opened)
    except PlanError as error:
        troubles = [trouble.message for trouble in error.troubles]
        return RolloutOut(
            **about, troubles=troubles, left_out=[], total=0, steps=[], leftovers=[], again=[], without_password=[]
        )
    hangs, making = needs(found, found[:LISTED]), anew(found)
    then = after(there, found)
    over = removals(then, meant.system)[:LISTED]
    why = not_allowed(services, plan, (*found, *over))
    listed = [_step(step, hangs[step.id], making.get(step.id), why.get(step.id)) for step in found[:LISTED]]
    leftovers = [_step(step, (), None, why.get(step.id)) for step in over]
    bounds = services.rollouts.bounds(plan)
    new = without_password(found)
    again = sorted(sign_in_again(found) - new)[:AGAIN]
    return RolloutOut(
        **about,
        troubles=[],
        left_out=list(meant.left_out),
        total=len(found),
        steps=listed,
        leftovers=leftovers,
        again=again,
        without_password=sorted(new)[:AGAIN],
        manageable=[
            ManagedOut(part=one.part, name=one.name) for one in manageable(found, bounds, services.rollouts.host(plan))
        ],
    )


def not_allowed(
    services: Services, plan: str, found: Sequence[Step], host: HostAccounts | None = None
) -> Mapping[str, str]:
    """Step id -> why a plan may not do it on its appliance. host: what that has; as it was looked at last, where that is None."""
    return refused(found, services.rollouts.bounds(plan), host or services.rollouts.host(plan))


def allowed(services: Services, plan: str, doing: Sequence[Step], host: HostAccounts | None = None) -> None:
    """Raises HTTPException, where one of some steps may not be done."""
    why = not_allowed(services, plan, doing, host)
    if why:
        first = next(step for step in doing if step.id in why)
        more = f", and {len(why) - 1} more" if len(why) > 1 else ""
        raise HTTPException(409, f"“{words(first)}” may not be done: {why[first.id]}{more}")


def steps_of(services: Services, opened: Opened) -> tuple[Compiled, System, tuple[Step, ...]]:
    where = services.rollouts.destination(opened.id)
    meant = compiled(services.matrix(opened), where.top, where.joined)
    there = services.rollouts.in_force(opened.id)
    return meant, there, steps(there, meant.system)


def _step(step: Step, needed: Collection[str], making: str | None, why: str | None) -> RolloutStep:
    return RolloutStep(
        id=step.id, part=step.part, name=step.record.name, does=step.does, words=words(step), needs=sorted(needed), anew=making, destroys=step.destroys,
        reloads=step.reloads, trouble=why or _trouble(step),
    )  # fmt: skip


def _trouble(step: Step) -> str:
    """Why no command can carry it: of a share, what it says itself; all else can be carried."""
    if step.reloads is None:
        return ""
    try:
        commands(step, System())
    except FormatError as error:
        return str(error)
    return ""


@large.get("/step")
def rollout_step(plan: str, _: Reader, services: TheServices, id: str) -> StepCommands:
    """The commands that do one of the steps, and those that undo it."""
    _meant, there, found = steps_of(services, services.plans.open(plan))
    one, state = next(((one, state) for one, state in walked(there, found) if one.id == id), (None, None))
    if one is not None and state is not None:
        return commands_of(one, state, services.rollouts.destination(plan))
    raise HTTPException(404, "There is no such step any more; the plan was changed meanwhile")


def commands_of(step: Step, there: System, to: Destination) -> StepCommands:
    """How a step is done on an appliance that has `there`, and undone. Raises FormatError."""
    back = step.back()
    show = told if to.kind == "stand-in" else lambda step, there: shown(commands(step, there))
    return StepCommands(
        words=words(step), commands=show(step, there), undo_words=words(back), undo=show(back, step.onto(there))
    )


@large.get("/compare")
def compare_rollouts(plan: str, _: Reader, services: TheServices, before: Which, then: Which) -> Compared:
    """What the appliance had otherwise after one rollout than after another."""
    one, other = services.rollouts.system(plan, before), services.rollouts.system(plan, then)
    if one is None or other is None:
        raise HTTPException(404, "There is no such rollout of this plan")
    found = drift(one, other)
    return Compared(total=len(found), words=[words(step) for step in found[:LISTED]])


@large.get("/take-away/{what}", response_class=Response)
def take_away(plan: str, what: PaperName, _: Reader, services: TheServices, left: Left = None) -> Response:
    """The rollout as one of the papers that `GET /formats` names: its steps, but for those left for later, or all that the plan comes to."""
    wanted = BY_NAME.get(what)
    if wanted is None:
        raise HTTPException(404, f"A rollout is not written as {show(what)}; it is as {', '.join(BY_NAME)}")
    opened = services.plans.open(plan)
    meant, there, found = steps_of(services, opened)
    doing = chosen(found, left or ())
    if wanted.of == "steps":
        allowed(services, plan, doing)
    title = f"{opened.plan.name}, revision {opened.revision}: {len(doing)} steps"
    where, since = services.rollouts.destination(plan), services.rollouts.known(plan)
    begins = _begins(where, since)
    host = services.rollouts.host(plan).name if where.kind != "papers" else ""
    text = wanted.write(
        TakenAway(opened.plan, meant, there, doing, title, file_name(opened, wanted.ending), begins, host)
    )
    return attached(text, opened, wanted.ending, wanted.media)


def _begins(where: Destination, since: RolledOut | None) -> str:
    """For which appliance something is made, and from what it begins there, in a line."""
    to = {"ssh": where.host, "here": "the machine of Yard Gate", "stand-in": "the stand-in appliance"}.get(
        where.kind, "a host by hand"
    )
    if since is None:
        return f"For {to}, of which nothing is known yet: it was never read, so that all that it has is left out of account"
    did = "was read there" if since.kind == "read" else "was there after the last rollout"
    return f"For {to}, from what {did} on {since.at[:16].replace('T', ' ')} UTC"


def current(services: Services, plan: str, revision: int) -> Opened:
    """The plan, where it is at a revision still. Raises Stale."""
    opened = services.plans.open(plan)
    if opened.revision != revision:
        raise Stale(opened.revision, tuple(services.plans.history(plan, most=5)))
    return opened


@router.post("/done", status_code=201)
def rollout_done(plan: str, account: Planner, services: TheServices, body: RolloutDone) -> RolledOut:
    """Say that the steps were done by hand, but for those left for later: from now on the appliance has what they make."""
    opened = current(services, plan, body.revision)
    _meant, there, found = steps_of(services, opened)
    doing = chosen(found, body.left)
    if not doing:
        raise HTTPException(422, "There is no step that could have been done")
    allowed(services, plan, doing)
    said, then, top = tuple(words(one) for one in doing), after(there, doing), services.rollouts.destination(plan).top
    services.rollouts.made(plan, doing, account.name)
    return services.rollouts.keep(plan, "by-hand", account.name, opened.revision, top, said, then)


@router.post("/reading")
def rollout_reading(plan: str, account: Planner, services: TheServices, body: HostReading) -> DriftOut:
    """Say what the host has, as it was read there: what differs from how it was left was changed behind the plan's back."""
    opened = current(services, plan, body.revision)
    first, there = services.rollouts.known(plan) is None, services.rollouts.in_force(plan)
    drifted = () if first else drift(there, body.system)
    said = tuple(words(one) for one in drifted)
    kept = None
    if body.keep:
        kept = services.rollouts.keep(
            plan, "read", account.name, opened.revision, services.rollouts.destination(plan).top, said, body.system
        )
    return DriftOut(first=first, total=len(drifted), words=list(said[:LISTED]), kept=kept)
