"""From the plan to the appliance: steps, what to take away, and what was done."""

from typing import Annotated, Literal

from fastapi import APIRouter, HTTPException, Query, Response

from yardgate.api.desk import Desk, attached, file_name
from yardgate.api.schemas import DriftOut, HostReading, RolloutDone, RolloutOut, RolloutStep, StepCommands
from yardgate.api.signin import Planner, Reader, TheDesk
from yardgate.appliance.handout import runbook, script, shown
from yardgate.appliance.linux import commands
from yardgate.core.plan import PlanError
from yardgate.core.rollout import Step, after, chosen, drift, needs, sign_in_again, steps, walked, words
from yardgate.core.system import Compiled, System, compiled
from yardgate.formats.reading import FormatError
from yardgate.store import Opened, Stale
from yardgate.store.rollouts import RolledOut

router = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"])
LISTED, AGAIN = 3000, 200
USUAL_TOP = "/srv"
Top = Annotated[str | None, Query(description="the folder on the host in which the pools lie", max_length=1000)]
Left = Annotated[list[str] | None, Query(description="ids of steps left for later", max_length=10_000)]


@router.get("")
def rollout(plan: str, _: Reader, desk: TheDesk, top: Top = None) -> RolloutOut:
    """The steps from what the appliance has since the last rollout to what the plan comes to."""
    opened, history = desk.plans.open(plan), desk.rollouts.history(plan)
    where = top or (history[0].top if history else USUAL_TOP)
    try:
        meant, there, found = _steps(desk, opened, where)
    except PlanError as error:
        troubles = [trouble.message for trouble in error.troubles]
        return RolloutOut(
            revision=opened.revision,
            top=where,
            troubles=troubles,
            left_out=[],
            total=0,
            steps=[],
            again=[],
            history=history,
        )
    hangs = needs(found)
    listed = []
    for step, state in walked(there, found[:LISTED]):
        listed.append(
            RolloutStep(
                id=step.id, part=step.part, does=step.does, words=words(step), needs=sorted(hangs[step.id]),
                destroys=step.destroys, reloads=step.reloads, trouble=_trouble(step, state),
            )
        )  # fmt: skip
    return RolloutOut(
        revision=opened.revision,
        top=where,
        troubles=[],
        left_out=list(meant.left_out),
        total=len(found),
        steps=listed,
        again=sorted(sign_in_again(found))[:AGAIN],
        history=history,
    )


def _steps(desk: Desk, opened: Opened, top: str) -> tuple[Compiled, System, tuple[Step, ...]]:
    meant = compiled(desk.matrix(opened), top)
    there = desk.rollouts.in_force(opened.id)
    return meant, there, steps(there, meant.system)


def _trouble(step: Step, there: System) -> str:
    try:
        commands(step, there)
    except FormatError as error:
        return str(error)
    return ""


@router.get("/step")
def rollout_step(plan: str, _: Reader, desk: TheDesk, id: str, top: Top = None) -> StepCommands:
    """The commands that do one of the steps, and those that undo it."""
    _meant, there, found = _steps(desk, desk.plans.open(plan), top or USUAL_TOP)
    for one, state in walked(there, found):
        if one.id == id:
            back = one.back()
            return StepCommands(
                words=words(one),
                commands=shown(commands(one, state)),
                undo_words=words(back),
                undo=shown(commands(back, one.onto(state))),
            )
    raise HTTPException(404, "There is no such step any more; the plan was changed meanwhile")


@router.get("/take-away/{what}", response_class=Response)
def take_away(
    plan: str, what: Literal["script", "runbook"], _: Reader, desk: TheDesk, left: Left = None, top: Top = None
) -> Response:
    """The steps as a shell script, with a dry run and a way back, or in plain words as Markdown."""
    opened = desk.plans.open(plan)
    meant, there, found = _steps(desk, opened, top or USUAL_TOP)
    doing = chosen(found, left or ())
    title = f"{opened.plan.name}, revision {opened.revision}: {len(doing)} steps"
    if what == "runbook":
        return attached(runbook(title, there, doing, meant.left_out), opened, "runbook.md")
    ending = "rollout.sh"
    return attached(script(title, there, doing, name=file_name(opened, ending)), opened, ending)


def _current(desk: Desk, plan: str, revision: int) -> Opened:
    """The plan, where it is at a revision still. Raises Stale."""
    opened = desk.plans.open(plan)
    if opened.revision != revision:
        raise Stale(opened.revision, tuple(desk.plans.history(plan, most=5)))
    return opened


@router.post("/done", status_code=201)
def rollout_done(plan: str, account: Planner, desk: TheDesk, body: RolloutDone) -> RolledOut:
    """Say that the steps were done by hand, but for those left for later: from now on the appliance has what they make."""
    opened = _current(desk, plan, body.revision)
    _meant, there, found = _steps(desk, opened, body.top)
    doing = chosen(found, body.left)
    if not doing:
        raise HTTPException(422, "There is no step that could have been done")
    said, then = tuple(words(one) for one in doing), after(there, doing)
    return desk.rollouts.keep(plan, "done", account.name, opened.revision, body.top, said, then)


@router.post("/reading")
def rollout_reading(plan: str, account: Planner, desk: TheDesk, body: HostReading) -> DriftOut:
    """Say what the host has, as it was read there: what differs from how it was left was changed behind the plan's back."""
    opened = _current(desk, plan, body.revision)
    first, there = not desk.rollouts.history(plan, most=1), desk.rollouts.in_force(plan)
    drifted = () if first else drift(there, body.system)
    said = tuple(words(one) for one in drifted)
    kept = None
    if body.keep:
        kept = desk.rollouts.keep(plan, "read", account.name, opened.revision, body.top, said, body.system)
    return DriftOut(first=first, total=len(drifted), words=list(said[:LISTED]), kept=kept)
