"""What lies in the planned folders on the appliance, pushing their lists down over it, and going back to a snapshot of a dataset."""

from dataclasses import asdict
from datetime import UTC, date, datetime
from typing import Annotated

from fastapi import APIRouter, HTTPException, Path, Request

from yardgate.api.authentication import Planner, Reader, TheServices, say
from yardgate.api.rollout.live import at_appliance
from yardgate.api.rollout.schemas import (
    DifferingOut,
    GoingBackOut,
    HandedOut,
    HandOver,
    InsideFolder,
    InsideOut,
    InsideThing,
    LookInside,
    OwnedBy,
    OwnedOut,
    PushDo,
    PushOut,
    SnapshotAt,
    SnapshotsOf,
    SnapshotsOut,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.host.compiled import away_from, host_names, paths
from yardgate.core.host.going_back import Since
from yardgate.core.host.state import System
from yardgate.services.derived import Services
from yardgate.store import NotThere
from yardgate.store.pushes import Counted, Pushing

PushNumber = Annotated[int, Path(description="which look of the plan", ge=1, le=1_000_000)]
router = APIRouter(prefix="/plans/{plan}/inside", tags=["rollout"], route_class=OffLoop)


@router.post("/owned")
def owned_there(plan: str, _: Planner, services: TheServices, body: OwnedBy) -> list[OwnedOut]:
    """What an account that the appliance has owns in the plan's pools there."""
    services.plans.open(plan)
    there = services.rollouts.in_force(plan)
    if body.account not in there.accounts:
        raise HTTPException(404, f"The appliance has no account {body.account} that this plan knows of")
    with at_appliance(services, plan) as at:
        return [OwnedOut(**one._asdict()) for one in at.owned(body.account, _file_systems(there))]


def _file_systems(there: System) -> list[str]:
    """The topmost folders, and the datasets below: each is looked through without what is mounted in it."""
    tops = {path for path in there.folders if path.rpartition("/")[0] not in there.folders}
    return sorted(tops | (there.datasets.keys() & there.folders.keys()))


@router.post("/hand-over")
def hand_over(plan: str, account: Planner, request: Request, services: TheServices, body: HandOver) -> HandedOut:
    """Give what somebody owns, whose account is shut there, to somebody else. What their lists say stays."""
    opened = services.plans.open(plan)
    there = services.rollouts.in_force(plan)
    named = host_names(opened.plan, away_from(opened.plan, services.rollouts.destination(plan).joined))
    if (leaver := there.accounts.get(body.account)) is None or leaver.uid == 0:
        raise HTTPException(404, f"The appliance has no account {body.account} that this plan knows of")
    if leaver.active(date.today()):
        raise HTTPException(422, f"{body.account} is not disabled on the appliance: what it owns stays its own")
    heir = there.accounts.get(named.get(body.to, ""))
    if heir is None or not heir.enabled or heir.name == leaver.name:
        raise HTTPException(422, "Whoever is to have it has no account on the appliance that is enabled")
    with at_appliance(services, plan) as at:
        handed = at.hand_over(leaver.name, heir.name, _file_systems(there))
    say(request, account.name, "files handed over", f"{handed.things} of {leaver.name} to {heir.name}", plan)
    return HandedOut(things=handed.things, left=handed.left)


@router.get("")
def what_lies_inside(plan: str, _: Reader, services: TheServices) -> InsideOut:
    """The planned folders on the appliance, and the last look into them."""
    there, last = _there(services, plan), services.pushing.pushes.newest(plan)
    return InsideOut(folders=sorted(there.folders), last=None if last is None else _told(services, last))


def _there(services: Services, plan: str) -> System:
    """The folders of the plan, as the appliance has them."""
    opened = services.plans.open(plan)
    planned = set(paths(opened.plan, services.rollouts.destination(plan).top).values())
    there = services.rollouts.in_force(plan)
    folders = {name: folder for name, folder in there.folders.items() if name in planned}
    return System(folders=folders, datasets=there.datasets)


@router.post("", status_code=202)
def look_inside(plan: str, account: Planner, services: TheServices, body: LookInside) -> PushOut:
    """Begin to look what lies in some of the folders, and what of it has something else than the folder's list gives it."""
    there = _there(services, plan)
    if unknown := [folder for folder in body.folders if folder not in there.folders]:
        raise HTTPException(422, f"{unknown[0]} is not a planned folder on the appliance")
    where = services.rollouts.destination(plan)
    if where.kind == "papers":
        raise HTTPException(422, "Set a destination first: what cannot be reached cannot be looked into")
    begun = services.pushing.pushes.begin(plan, account.name, where, there, list(dict.fromkeys(body.folders)))
    services.pushing.start(begun)
    return _told(services, begun)


@router.get("/snapshots")
def snapshots_there(plan: str, _: Planner, services: TheServices) -> SnapshotsOut:
    """The snapshots that there are of the plan's datasets, and the last that one of them was compared with."""
    datasets, last = sorted(_there(services, plan).datasets), services.pushing.pushes.newest(plan, back=True)
    with at_appliance(services, plan) as at:
        found = at.snapshots(datasets)
    return SnapshotsOut(
        datasets=[SnapshotsOf(dataset=one, snapshots=list(names)) for one, names in found.items()],
        missing=[one for one in datasets if one not in found],
        last=None if last is None else _told(services, last),
    )


@router.post("/snapshots", status_code=202)
def compare_with_snapshot(plan: str, account: Planner, services: TheServices, body: SnapshotAt) -> PushOut:
    """Begin to look what of a dataset is otherwise now than in one of its snapshots."""
    there = _there(services, plan)
    if body.dataset not in there.datasets:
        raise HTTPException(422, f"{body.dataset} is not a dataset of this plan on the appliance")
    with at_appliance(services, plan) as at:
        if body.snapshot not in at.snapshots([body.dataset]).get(body.dataset, ()):
            raise HTTPException(422, f"{body.dataset} has no snapshot {body.snapshot} any more")
    where = services.rollouts.destination(plan)
    begun = services.pushing.pushes.begin(plan, account.name, where, there, [body.dataset], body.snapshot)
    services.pushing.start(begun)
    return _told(services, begun)


@router.get("/{number}")
def look_of_plan(plan: str, number: PushNumber, _: Reader, services: TheServices) -> PushOut:
    """How far it is."""
    return _told(services, _one(services, plan, number))


def _one(services: Services, plan: str, number: int) -> Pushing:
    services.plans.open(plan)
    found = services.pushing.pushes.one(plan, number)
    if found is None:
        raise NotThere(f"this plan has no look {number}")
    return found


@router.post("/{number}/do", status_code=202)
def do_with_look(
    plan: str, number: PushNumber, account: Planner, request: Request, services: TheServices, body: PushDo
) -> PushOut:
    """Push down, go on, put back, or stop; or compare with a snapshot again, or go back to it."""
    one = _one(services, plan, number)
    if body.do != "stop" and bool(one.back_to) != (body.do in ("compare", "go back")):
        raise HTTPException(
            422, "That is done with folders, not with a snapshot" if one.back_to else "Choose a snapshot first"
        )
    what = f"the snapshot {one.back_to} of {one.folders[0]}" if one.back_to else f"{len(one.folders)} folders"
    about = "a dataset" if one.back_to else "lists in folders"
    say(request, account.name, f"{about}: {body.do}", f"{what} on {one.destination.appliance}", plan)
    if body.do == "stop":
        services.pushing.stop(plan)
        return _told(services, one)
    begun = services.pushing.pushes.go_on(one, body.do)
    services.pushing.start(begun)
    return _told(services, begun)


def _told(services: Services, one: Pushing) -> PushOut:
    pushed = services.pushing.pushes.pushed(one.plan)
    return PushOut(
        number=one.number,
        at=one.at,
        by=one.by,
        does=one.does,
        state=one.state,
        trouble=one.trouble,
        folders=[_folder(folder, one.counts.get(folder, Counted())) for folder in one.folders],
        pushed=[folder for folder in one.folders if folder in pushed],
        snapshots=list(one.snapshots),
        back_to=one.back_to,
        since=_since(one.counts.get(one.folders[0], Counted()).since) if one.back_to else None,
    )


def _since(one: Since) -> GoingBackOut:
    latest = datetime.fromtimestamp(one.latest, UTC).isoformat(timespec="seconds") if one.latest else ""
    some = [DifferingOut(sort=some.sort, name=_readable(some.name), words=some.words) for some in one.some]
    return GoingBackOut(**{**asdict(one), "latest": latest, "some": some})


def _folder(folder: str, counted: Counted) -> InsideFolder:
    some = [InsideThing(name=_readable(name), words=words) for name, words in counted.some]
    c = counted
    return InsideFolder(
        folder=folder,
        things=c.things,
        seen=c.seen,
        otherwise=c.otherwise,
        changed=c.changed,
        kept=c.kept,
        linked=c.linked,
        some=some,
    )


def _readable(name: str) -> str:
    """A name that may hold bytes which are no UTF-8, as text that can be shown."""
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
