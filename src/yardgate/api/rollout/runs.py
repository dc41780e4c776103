"""Putting a plan on an appliance that can be reached: where it goes, what is there, the run that carries it out, keeping it or not."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated, NamedTuple

from fastapi import APIRouter, HTTPException, Path, Request

from yardgate.api.answers import since
from yardgate.api.authentication import Administrator, Planner, Reader, TheServices, say
from yardgate.api.rollout.routes import LISTED, allowed, commands_of, current, steps_of
from yardgate.api.rollout.schemas import (
    DriftOut,
    HostAt,
    HostKeyOut,
    LookAt,
    ManagedIn,
    ManagedOut,
    PromiseTried,
    PutThere,
    RanOut,
    RolloutDone,
    RunOut,
    RunStep,
    StepCommands,
    StepDone,
)
from yardgate.api.schemas import SinceOut
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.access.paths import CLAIMED, PROTOCOLS
from yardgate.core.host.bounds import NEVER, Managed, top_trouble
from yardgate.core.host.compiled import away_from, compiled, host_names, paths
from yardgate.core.host.dependencies import chosen, in_the_way
from yardgate.core.host.drift import taken_in
from yardgate.core.host.evaluate import groups_of
from yardgate.core.host.probe import Question, over_nfs, questions
from yardgate.core.host.state import System, asked
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Destination, Step, after, drift, removals, sign_in_again, without_password
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.connect import reached
from yardgate.drivers.linux import ssh
from yardgate.jobs.rollouts import Instruction
from yardgate.services.derived import Services
from yardgate.store import NotThere, Opened
from yardgate.store.runs import ENDED, Run, RunLine, RunState, marked_done

StepNumber = Annotated[int, Path(description="which of its steps, from 0", ge=0, le=1_000_000)]
READING = 120.0  # seconds that a command may take with which an appliance is read while somebody waits
TAKEN_IN = 50  # changes of which it is looked how they would come into the plan
RunNumber = Annotated[int, Path(description="which run of the plan", ge=1, le=1_000_000)]
router = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"], route_class=OffLoop)


@router.get("/destination")
def destination(plan: str, _: Reader, services: TheServices) -> Destination:
    """Where the plan goes."""
    services.plans.open(plan)
    return services.rollouts.destination(plan)


@router.put("/destination", status_code=204)
def send_to(plan: str, boss: Administrator, request: Request, services: TheServices, body: Destination) -> None:
    """Say where the plan goes from now on. A host is only spoken to with the key that is said here."""
    opened = services.plans.open(plan)
    if strange := set(body.joined) - set(opened.plan.directories):
        raise HTTPException(422, f"This plan has joined no directory {show(min(strange))}")
    if body.kind == "stand-in" and body.joined:
        raise HTTPException(422, "The stand-in appliance knows no directory")
    if trouble := top_trouble(body.top):
        raise HTTPException(422, trouble[0].upper() + trouble[1:])
    if not 0 < body.lowest <= body.highest < 2**31:
        raise HTTPException(422, "The lowest number has to be above 0, and the highest not below it")
    if body.kind == "here" and not services.this_host:
        raise HTTPException(422, "Yard Gate may not change the machine it runs on; start it with --this-host to let it")
    if body.kind == "ssh":
        try:
            ssh.check(ssh.Login(host=body.host, port=body.port, user=body.user))
        except ApplianceError as error:
            raise HTTPException(422, str(error)) from None
        if not ssh.KEY.fullmatch(body.key):
            raise HTTPException(422, "Compare the host's key first: without it another host could take its place")
    if body.kind == "stand-in" and body.port == 0:  # one of the plan's own
        body = replace(body, host="127.0.0.1", port=services.simulated.start(plan))
    services.rollouts.send_to(plan, body)
    where = f"{body.user}@{body.host}:{body.port}" if body.kind == "ssh" else body.kind
    say(
        request,
        boss.name,
        "destination set",
        f"{where}, below {body.top}, numbers {body.lowest} to {body.highest}",
        plan,
    )


@router.put("/managed", status_code=204)
def manage(plan: str, account: Administrator, request: Request, services: TheServices, body: ManagedIn) -> None:
    """Say which accounts and groups, that the appliance had before, the plan may change there, besides those it made."""
    services.plans.open(plan)
    wanted = frozenset(Managed(one.part, one.name) for one in body.managed)
    if never := sorted(name for part, name in wanted if part == "groups" and name in NEVER):
        raise HTTPException(422, f"Whoever is in {never[0]} is root there, or can become it; no plan may change who is")
    if any(part == "accounts" and services.rollouts.host(plan).users.get(name) == 0 for part, name in wanted):
        raise HTTPException(422, "No plan may change root")
    services.rollouts.manage(plan, wanted, account.name)
    say(request, account.name, "managed set", ", ".join(f"{one.part} {one.name}" for one in sorted(wanted)), plan)


@router.get("/managed")
def managed(plan: str, _: Reader, services: TheServices) -> list[ManagedOut]:
    """The accounts and groups that the plan may change on its appliance."""
    services.plans.open(plan)
    return [ManagedOut(part=one.part, name=one.name) for one in sorted(services.rollouts.managed(plan))]


@router.get("/since")
def since_rollout(plan: str, _: Reader, services: TheServices) -> SinceOut:
    """The cells that come out otherwise than on the appliance."""
    return since(services, services.plans.open(plan))


@router.post("/host-keys")
def ask_host_keys(plan: str, _: Administrator, services: TheServices, body: HostAt) -> list[HostKeyOut]:
    """The public keys that a host shows, to be compared with what its administrator knows."""
    services.plans.open(plan)
    try:
        found = ssh.host_keys(ssh.Login(host=body.host, port=body.port))
    except ApplianceError as error:
        raise HTTPException(422, str(error)) from None
    return [HostKeyOut(line=key.line, fingerprint=key.fingerprint) for key in found]


@router.post("/look")
def look_at_appliance(plan: str, account: Planner, request: Request, services: TheServices, body: LookAt) -> DriftOut:
    """Read what the appliance has; from now on the steps lead from there. Says what was changed behind the plan's back."""
    opened = current(services, plan, body.revision)
    seen = _there(services, opened)
    there = seen.system
    say(request, account.name, "host read", services.rollouts.destination(plan).appliance, plan)
    first, known = services.rollouts.known(plan) is None, services.rollouts.in_force(plan)
    drifted = () if first else drift(known, there)
    said = tuple(words(one) for one in drifted)
    kept = None
    if first or drifted:
        kept = services.rollouts.keep(
            plan, "read", account.name, opened.revision, services.rollouts.destination(plan).top, said, there
        )
    matrix, looked, where = services.matrix(opened), drifted[:TAKEN_IN], services.rollouts.destination(plan)
    edits = [list(some) for some in taken_in(matrix, where.joined, looked, where.top)]
    return DriftOut(
        first=first, total=len(drifted), words=list(said[:LISTED]), edits=edits, shut=list(seen.shut), kept=kept
    )


class _Seen(NamedTuple):
    """What an appliance has of all that is, or was, of interest, its own addresses, and what keeps clients from its servers."""

    system: System
    addresses: Sequence[str]
    shut: tuple[str, ...]


def _there(services: Services, opened: Opened) -> _Seen:
    """An appliance as it is now; which accounts it has is kept."""
    known, where = services.rollouts.in_force(opened.id), services.rollouts.destination(opened.id)
    meant = compiled(services.matrix(opened), where.top, where.joined).system
    try:
        with services.reading_hosts(), reached(where, READING) as at:
            services.rollouts.looked(opened.id, at.about())
            system = at.read(asked(known, meant))
            shut = tuple(said for protocol in PROTOCOLS if protocol in meant.services and (said := at.shut(protocol)))
            return _Seen(system, at.addresses(), shut)
    except ApplianceError as error:
        raise HTTPException(409, f"The appliance could not be read: {error}") from None


@router.post("/apply", status_code=202)
def put_there(plan: str, account: Planner, request: Request, services: TheServices, body: PutThere) -> RunOut:
    """Begin to carry the steps out. Only from what the appliance was last seen to have."""
    opened = current(services, plan, body.revision)
    seen = _there(services, opened)
    there, known = seen.system, services.rollouts.in_force(plan)
    if drift(known, there) or services.rollouts.known(plan) is None:
        raise HTTPException(409, "The appliance has changed since it was last read. Read it again")
    meant, _, found = steps_of(services, opened)
    doing = chosen(found, body.left)
    doing += tuple(_deleting(removals(after(there, doing), meant.system), body.delete))
    if not doing:
        raise HTTPException(422, "There is no step to be done")
    allowed(services, plan, doing)
    where = services.rollouts.destination(plan)
    names = host_names(opened.plan, away_from(opened.plan, where.joined))
    going = {user: names[user] for user in opened.plan.users if names.get(user) in meant.system.accounts}
    ask = questions(services.kept(opened), names, going)
    ask += _over_nfs(services, opened, meant.system, going, seen.addresses)
    run = services.rolling.runs.begin(
        plan, account.name, opened.revision, where.top, where, body.seconds, there, doing, ask
    )
    say(request, account.name, "rollout begun", f"run {run.number}: {len(doing)} steps to {where.appliance}", plan)
    if body.end_sessions:
        services.rolling.runs.say(run, "end-sessions", 0, account.name)
    services.rolling.start(run)
    return _told(opened.plan, run, services.rolling.runs.lines(plan, run.number))


def _over_nfs(
    services: Services, opened: Opened, meant: System, going: Mapping[str, str], own: Sequence[str]
) -> tuple[Question, ...]:
    """What is to be asked of the NFS server, of people whose groups all fit into a claim. going: user -> what the host calls them. own: its addresses."""
    fit = {user for user, name in going.items() if len(groups_of(meant, name)) <= 1 + CLAIMED}
    where = paths(opened.plan, services.rollouts.destination(opened.id).top)
    return over_nfs(services.kept(opened), going, fit, own, where)


def _deleting(leftovers: Sequence[Step], typed: Mapping[str, str]) -> Iterator[Step]:
    """The leftovers that somebody wants deleted, and typed the name of. Folders go with all that is in them."""
    unknown = typed.keys() - {step.id for step in leftovers}
    if unknown:
        raise HTTPException(422, f"{sorted(unknown)[0]} is nothing that is left over")
    for step in leftovers:
        name = step.record.name.rpartition("/")[2]
        if step.id in typed and typed[step.id] != name:
            raise HTTPException(422, f"To delete it, its name must be typed: {name}")
        if step.id in typed:
            yield step


@router.get("/runs/{number}")
def run_of_plan(plan: str, number: RunNumber, _: Reader, services: TheServices) -> RunOut:
    """A run as it stands now: what was done, tried, and what it waits for."""
    run = _run(services, plan, number)
    return _told(services.plans.open(plan).plan, run, services.rolling.runs.lines(plan, number))


def _run(services: Services, plan: str, number: int) -> Run:
    run = services.rolling.runs.run(plan, number)
    if run is None:
        raise NotThere(f"this plan has no run {number}")
    return run


@router.get("/runs/{number}/steps/{step}")
def step_of_run(plan: str, number: RunNumber, step: StepNumber, _: Reader, services: TheServices) -> StepCommands:
    """The commands of a step of a run, and those that undo it."""
    run = _run(services, plan, number)
    if step >= len(run.steps):
        raise NotThere(f"this run has no step {step}")
    return commands_of(run.steps[step], after(run.before, run.steps[:step]), run.destination)


@router.post("/by-hand", status_code=202)
def begin_by_hand(plan: str, account: Planner, services: TheServices, body: RolloutDone) -> RunOut:
    """Begin to work through the steps by hand; each is marked as done when it is done."""
    opened = current(services, plan, body.revision)
    _, there, found = steps_of(services, opened)
    doing = chosen(found, body.left)
    if not doing:
        raise HTTPException(422, "There is no step to be done")
    allowed(services, plan, doing)
    where = services.rollouts.destination(plan)
    run = services.rolling.runs.begin(
        plan, account.name, opened.revision, where.top, where, 0, there, doing, (), RunState.BY_HAND
    )
    return _told(opened.plan, run, ())


@router.put("/runs/{number}/steps/{step}/done", status_code=204)
def mark_step(
    plan: str, number: RunNumber, step: StepNumber, account: Planner, services: TheServices, body: StepDone
) -> None:
    """Say that a step was done by hand, or that it was not after all."""
    run = _run(services, plan, number)
    if run.state != RunState.BY_HAND or step >= len(run.steps):
        raise HTTPException(409, "This rollout has no such step that could be marked as done")
    other = in_the_way(run.steps, step, marked_done(services.rolling.runs.lines(plan, number)), undo=not body.done)
    if other is not None:
        why = "comes first" if body.done else "needs it, and is done"
        raise HTTPException(409, f"“{words(other)}” {why}")
    services.rolling.runs.say(run, "marked" if body.done else "unmarked", step, account.name)


@router.post("/runs/{number}/confirm", status_code=204)
def confirm_run(plan: str, number: RunNumber, account: Planner, request: Request, services: TheServices) -> None:
    """What was done is to stay. By hand: the appliance has what the steps make that were marked as done."""
    run = _run(services, plan, number)
    if run.state == RunState.BY_HAND:
        services.rolling.end_by_hand(run, account.name)
    else:
        _tell(services, run, "confirm", account.name)
    say(request, account.name, "rollout confirmed", f"run {number}", plan)


@router.post("/runs/{number}/rollback", status_code=204)
def roll_back_run(plan: str, number: RunNumber, account: Planner, request: Request, services: TheServices) -> None:
    """Everything that was done is to be taken back."""
    _tell(services, _run(services, plan, number), "roll back", account.name)
    say(request, account.name, "rollout to be rolled back", f"run {number}", plan)


def _tell(services: Services, run: Run, what: Instruction, by: str) -> None:
    newest = services.rolling.runs.run(run.plan)
    if newest is None or newest.number != run.number or not services.rolling.tell(run.plan, what, by):
        raise HTTPException(409, f"That can no longer be done: this rollout is {_STANDS.get(run.state, run.state)}")


@router.post("/runs/{number}/abandon", status_code=204)
def abandon_run(plan: str, number: RunNumber, account: Administrator, request: Request, services: TheServices) -> None:
    """Give a rollout up that cannot be ended otherwise, whatever stands at the appliance. Its own watch rolls everything back, if it still can."""
    run = _run(services, plan, number)
    if not services.rolling.abandon(run, account.name):
        raise HTTPException(409, "This rollout is not under way any more")
    say(request, account.name, "rollout abandoned", f"run {number}", plan)


@router.get("/runs/{number}/commands")
def commands_of_run(plan: str, number: RunNumber, _: Planner, services: TheServices) -> list[RanOut]:
    """The commands that a run gave on the appliance, newest first: those that changed something there, or failed."""
    _run(services, plan, number)
    return [RanOut(**one._asdict()) for one in services.audit.commands(plan, number)]


_STANDS = {
    RunState.CONFIRMING: "being confirmed",
    RunState.COMMITTED: "confirmed",
    RunState.ROLLING_BACK: "being rolled back",
    RunState.HOST_ROLLING_BACK: "rolled back by the appliance itself",
    RunState.ROLLED_BACK: "rolled back",
    RunState.PARTLY_ROLLED_BACK: "rolled back as far as that went",
    RunState.ABANDONED: "ended already",
}


def _told(plan: Plan, run: Run, lines: tuple[RunLine, ...]) -> RunOut:
    forth = {line.number: line for line in lines if line.kind == "step"}
    ticks = marked_done(lines)
    back = {line.number: line for line in lines if line.kind == "back"}
    tried = {line.number: line for line in lines if line.kind == "tried"}
    done = sum(not line.said for line in forth.values()) + len(ticks)
    counting = [step for number, step in enumerate(run.steps) if number in ticks] if ticks else run.steps
    stands, new = run.state in (RunState.AWAITING_CONFIRMATION, *ENDED), without_password(counting)
    return RunOut(
        number=run.number, at=run.at, by=run.by, revision=run.revision, top=run.top, destination=run.destination,
        seconds=run.seconds, state=run.state, trouble=run.trouble, until=run.until, left=_left(run.until), ended=run.ended,
        total=len(run.steps), done=done, back=sum(not line.said for line in back.values()),
        steps=[
            _marked(words(step), ticks[number])
            if number in ticks
            else _step(words(step), forth.get(number), back.get(number), doing=run.state == RunState.APPLYING and number == done)
            for number, step in enumerate(run.steps[:LISTED])
        ],
        to_try=len(run.questions), tried=len(tried),
        over_nfs=sum(run.questions[number].protocol == "nfs" for number in tried),
        differs=[said for line in tried.values() for said in line.said],
        promises=_promises(plan, run.questions, tried),
        notes=[said for line in lines if line.kind == "note" for said in line.said],
        snapshots=[said for line in lines if line.kind == "snapshot" for said in line.said],
        destroys=any(step.destroys for step in run.steps),
        again=sorted(sign_in_again(counting) - new) if stands else [],
        without_password=sorted(new) if stands else [],
    )  # fmt: skip


def _left(until: str | None) -> int | None:
    """Seconds from now to then."""
    return None if until is None else max(0, round((datetime.fromisoformat(until) - datetime.now(UTC)).total_seconds()))


def _marked(said: str, line: RunLine) -> RunStep:
    return RunStep(words=said, state="done", why="", at=line.at, by=line.said[0])


def _step(said: str, forth: RunLine | None, back: RunLine | None, *, doing: bool) -> RunStep:
    if back is not None:
        why = (*(forth.said if forth is not None else ()), *back.said)
        return RunStep(words=said, state="not back" if back.said else "back", why="; ".join(why), at=back.at)
    if forth is not None:
        return RunStep(words=said, state="failed" if forth.said else "done", why="; ".join(forth.said), at=forth.at)
    return RunStep(words=said, state="doing" if doing else "to do", why="")


def _promises(plan: Plan, asking: tuple[Question, ...], tried: dict[int, RunLine]) -> list[PromiseTried]:
    found = []
    for promise in plan.promises.values():
        lines = [tried[n] for n, question in enumerate(asking) if promise.id in question.promises and n in tried]
        if lines:
            differs = [said for line in lines for said in line.said]
            found.append(PromiseTried(promise=promise.id, tried=len(lines), differs=differs))
    return found
