"""Directories: test and join, read, look at what it does to the plan, keep it; numbers and what is wrong with them."""

from collections import Counter
from dataclasses import replace

from fastapi import APIRouter, HTTPException, Request

from yardgate.api.answers import changed
from yardgate.api.authentication import Planner, Reader, TheServices, say
from yardgate.api.directories.schemas import (
    CheckDirectory,
    CheckedDirectory,
    DirectoryOut,
    ItemOut,
    LeftOutOut,
    MappingIn,
    MappingOut,
    MoveOut,
    Password,
    ReadDirectory,
    ReadingOut,
    StepOut,
    SyncOut,
    TroubleOfNumber,
)
from yardgate.api.plans.routes import stepped
from yardgate.api.schemas import Answer, AtRevision, Id
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.access.outcome import Outcome, outcome_of, shifts
from yardgate.core.acl.rights import Level
from yardgate.core.directory.idmap import moves, troubles
from yardgate.core.directory.sync import Item, Sync, sync
from yardgate.core.edits.apply import apply
from yardgate.core.model.checks import PlanError, directory_troubles
from yardgate.core.model.directory import Copy, Directory
from yardgate.core.model.plan import Group, Plan, User
from yardgate.drivers.directory import passwords
from yardgate.drivers.directory.accounts import records
from yardgate.drivers.directory.progress import Certificate, DirectoryError
from yardgate.formats import ldif
from yardgate.services.derived import Services
from yardgate.store.accounts import Account
from yardgate.store.plans import now

router = APIRouter(prefix="/plans/{plan}/directories", tags=["directories"], route_class=OffLoop)
LISTED = 500


def _joined(plan: Plan, directory: str) -> Directory:
    found = plan.directories.get(directory)
    if found is None:
        raise HTTPException(404, "This plan has joined no such directory")
    return found


def _checked(directory: Directory) -> Directory:
    """Settings that can stand. Raises PlanError."""
    if wrong := list(directory_troubles(Plan(), directory)):
        raise PlanError(wrong)
    return directory


def _number_troubles(plan: Plan, directory: Directory) -> list[TroubleOfNumber]:
    return [TroubleOfNumber(kind=t.kind, whos=list(t.whos[:LISTED]), words=t.words) for t in troubles(plan, directory)]


def _password(services: Services, plan: str, directory: Directory, said: str | None) -> str | None:
    """The one that was typed; else one that is known here, where it goes to the server that an administrator agreed on."""
    if said:
        return said
    if services.servers.agreed(plan, directory.id) != directory.server:
        return None
    return services.readings.password(plan, directory) or passwords.given(directory)


def _agreed(services: Services, plan: str, account: Account, directory: Directory, said: str | None) -> None:
    """Whether somebody may have a directory's server spoken to: one that was agreed on, or, an administrator, another one.

    Where it is another one than before, the password is typed again: none that is known here goes elsewhere. Raises HTTPException.
    """
    before = services.servers.agreed(plan, directory.id)
    if before == directory.server:
        return
    if account.role != "administrator":
        raise HTTPException(403, "Only an administrator may say from which server, how and as whom a directory is read")
    if before is not None and directory.reader and not said:
        raise HTTPException(
            422, "It goes elsewhere than before: type the password again. The one that is known is not sent there"
        )


def _agree(request: Request, services: Services, plan: str, account: Account, directory: Directory) -> None:
    """From now on a directory is read from this server, where it was not before."""
    if services.servers.agreed(plan, directory.id) == directory.server:
        return
    services.servers.agree(plan, directory.id, directory.server, account.name)
    about = f"{directory.name} at {directory.controller or directory.domain} as {directory.reader or 'nobody'}"
    say(request, account.name, "directory's server agreed", about, plan)


def _from_environment(directory: Directory) -> str | None:
    try:
        return passwords.given(directory)
    except DirectoryError as error:
        raise HTTPException(422, error.words) from None


@router.get("")
def directories(plan: str, _: Reader, services: TheServices) -> list[DirectoryOut]:
    """All joined directories: from when the last copy is, what came from it, and what is wrong."""
    opened = services.plans.open(plan)
    ages = services.copies.age(plan)
    return [
        _out(services, plan, opened.plan, directory, ages.get(directory.id))
        for directory in opened.plan.directories.values()
    ]


def _out(services: Services, plan_id: str, plan: Plan, directory: Directory, at: str | None) -> DirectoryOut:
    users = [user for user in plan.users.values() if user.origin == directory.id]
    groups = [group for group in plan.groups.values() if group.origin == directory.id]
    accounts: list[User | Group] = [*users, *groups]
    wrong = _number_troubles(plan, directory)
    try:
        known = _password(services, plan_id, directory, None) is not None
    except DirectoryError:
        known = False
    return DirectoryOut(
        directory=directory,
        at=at,
        users=sum(not user.gone for user in users),
        groups=sum(not group.gone for group in groups),
        shut=sum(not user.enabled and not user.gone for user in users),
        gone=sorted(account.id for account in accounts if account.gone),
        namesakes=sorted(plan.namesakes & {account.id for account in accounts}),
        troubles=wrong[:LISTED],
        trouble_count=len(wrong),
        password_known=known or not directory.reader,
    )


@router.post("/check")
def check_directory(plan: str, account: Planner, services: TheServices, body: CheckDirectory) -> CheckedDirectory:
    """Try settings step by step. Where the certificate is not trusted, its fingerprint comes along."""
    services.plans.open(plan)
    _checked(body.directory)
    _agreed(services, plan, account, body.directory, body.password)
    known = _password(services, plan, body.directory, body.password)
    if known is None and services.servers.agreed(plan, body.directory.id) is None:
        known = _from_environment(body.directory)  # an administrator joins it
    from yardgate.drivers.directory import ldap  # slow to load

    steps: list[StepOut] = []
    shown: Certificate | None = None
    try:
        for passed in ldap.check(body.directory, known):
            steps.append(StepOut(step=passed.step, passed=True, words=passed.words))
    except DirectoryError as error:
        steps.append(StepOut(step=error.step, passed=False, words=error.words))
        if error.step == "tls":
            try:
                shown = ldap.certificate(body.directory)
            except DirectoryError:
                shown = None
    return CheckedDirectory(
        steps=steps,
        fingerprint=shown.fingerprint if shown is not None else None,
        distrust=shown.distrust if shown is not None else None,
    )


@router.put("/password", status_code=204)
def keep_password(
    plan: str, directory: Id, account: Planner, request: Request, services: TheServices, body: Password
) -> None:
    """Keep the reading account's password in memory until the server ends, for the server that was agreed on."""
    joined = _joined(services.plans.open(plan).plan, directory)
    _agreed(services, plan, account, joined, body.password)
    _agree(request, services, plan, account, joined)
    services.readings.remember(plan, joined, body.password)


@router.post("/reading", status_code=202)
def start_reading(
    plan: str, account: Planner, request: Request, services: TheServices, body: ReadDirectory
) -> ReadingOut:
    """Begin to read a directory, joined or about to be, or take its content from LDIF. Nothing is kept by it."""
    services.plans.open(plan)
    directory = _checked(body.directory)
    if body.ldif is not None:
        found = records(directory, ldif.read(body.ldif))
        services.readings.found(plan, directory, Copy(found, None, now()))
    else:
        _agreed(services, plan, account, directory, body.password)
        _agree(request, services, plan, account, directory)
        say(request, account.name, "directory read", directory.name, plan)
        if body.password:
            services.readings.remember(plan, directory, body.password)
        before = None if body.full else services.copies.last(plan, directory.id)
        try:
            said = _password(services, plan, directory, body.password)
        except DirectoryError as error:
            raise HTTPException(422, error.words) from None
        services.readings.start(plan, directory, said, before)
    return reading(plan, directory.id, account, services)


@router.get("/reading")
def reading(plan: str, directory: Id, _: Reader, services: TheServices) -> ReadingOut:
    """How far the reading is."""
    found = services.readings.of(plan, directory)
    if found is None:
        return ReadingOut(state="none")
    return ReadingOut(
        state=found.state,
        phase=found.progress.phase,
        done=found.progress.done,
        step=found.step,
        words=found.words,
        at=found.copy.at if found.copy is not None else None,
        full=found.copy.full if found.copy is not None else None,
    )


@router.delete("/reading", status_code=204)
def cancel_reading(plan: str, directory: Id, _: Planner, services: TheServices) -> None:
    """Give the reading up, or throw away what it found. The plan is as before."""
    services.readings.forget(plan, directory)


def _ready(services: Services, plan: str, directory: str) -> tuple[Directory, Copy]:
    found = services.readings.of(plan, directory)
    if found is None or found.state != "ready" or found.copy is None:
        raise HTTPException(409, "There is nothing read that waits to be kept; read the directory first")
    return found.directory, found.copy


@router.get("/reading/changes")
def reading_changes(plan: str, directory: Id, _: Reader, services: TheServices) -> SyncOut:
    """What the reading does to the plan: accounts, and the cells that come out differently."""
    settings, copy = _ready(services, plan, directory)
    opened = services.plans.open(plan)
    found = sync(opened.plan, settings, copy.records.values())
    before = services.outcome(opened)
    after, _inverse = apply(opened.plan, found.edits)
    then = outcome_of(after, before)
    cells = shifts(before, then)
    return SyncOut(
        edits=len(found.edits),
        counts=dict(Counter(item.what for item in found.items)),
        items=[ItemOut(what=item.what, who=item.who, words=_with_levels(item, then)) for item in _fairly(found)],
        left_out=[LeftOutOut(name=out.name, why=out.why) for out in found.left_out[:LISTED]],
        changed=changed(cells),
        names={who: after.named(who) for who in sorted({cell.subject for cell in cells[:LISTED]})},
    )


def _with_levels(item: Item, then: Outcome) -> str:
    """What is told of somebody, and for newcomers what they get: their cells did not exist before, so no cell changes."""
    plan = then.matrix.plan
    if item.what not in ("new", "back") or item.who not in plan.users:
        return item.words
    levels = Counter(then.level(item.who, place) for place in plan.places)
    gets = [f"{level.words} on {levels[level]}" for level in (Level.RW, Level.RO) if levels[level]]
    return f"{item.words}: {' and '.join(gets)} of {len(plan.places)} places" if gets else f"{item.words}: gets nothing"


def _fairly(found: Sync) -> list[Item]:
    """Items to list: not all of one kind, where there are too many for all."""
    by_kind: dict[str, list[Item]] = {}
    for item in found.items:
        by_kind.setdefault(item.what, []).append(item)
    share = max(LISTED // max(len(by_kind), 1), 1)
    return [item for items in by_kind.values() for item in items[:share]]


@router.post("/keep")
def keep_reading(plan: str, directory: Id, account: Planner, services: TheServices, body: AtRevision) -> Answer:
    """Keep what was read: the plan's accounts follow it, as one change that can be undone, and it becomes the last copy."""
    settings, copy = _ready(services, plan, directory)
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    found = sync(opened.plan, settings, copy.records.values())
    counts = Counter(item.what for item in found.items)
    said = ", ".join(f"{number} {what}" for what, number in sorted(counts.items())) or "nothing changed"
    kept = services.plans.commit(
        plan, body.revision, found.edits, account.name, "import", f"followed {settings.name}: {said}"
    )
    services.copies.put(plan, directory, copy)
    services.readings.forget(plan, directory)
    return stepped(services, before, kept)


@router.post("/mapping")
def try_mapping(plan: str, directory: Id, _: Reader, services: TheServices, body: MappingIn) -> MappingOut:
    """What another way of giving numbers would do: whose number moves, and on which places it is written down."""
    opened = services.plans.open(plan)
    found = _mapped(services, plan, opened.plan, _joined(opened.plan, directory), body)
    after, _inverse = apply(opened.plan, found.edits)
    moved = moves(opened.plan, after, services.matrix(opened).storage)
    wrong = _number_troubles(after, after.directories[directory])
    return MappingOut(
        edits=len(found.edits),
        moved=len(moved),
        moves=[
            MoveOut(who=m.who, was=m.was, becomes=m.becomes, owns=list(m.owns), listed=list(m.listed))
            for m in moved[:LISTED]
        ],
        troubles=wrong[:LISTED],
        trouble_count=len(wrong),
    )


@router.post("/mapping/keep")
def keep_mapping(plan: str, directory: Id, account: Planner, services: TheServices, body: MappingIn) -> Answer:
    """Give the numbers anew, as one change that can be undone."""
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    joined = _joined(opened.plan, directory)
    found = _mapped(services, plan, opened.plan, joined, body)
    words = f"numbers of {joined.name}: {body.numbering}, {body.low} to {body.high}"
    kept = services.plans.commit(plan, body.revision, found.edits, account.name, "edit", words)
    return stepped(services, before, kept)


def _mapped(services: Services, plan_id: str, plan: Plan, joined: Directory, body: MappingIn) -> Sync:
    copy = services.copies.last(plan_id, joined.id)
    if copy is None:
        raise HTTPException(
            409, f"{joined.name} was not read yet, so it cannot be told whose number moves; read it first"
        )
    other = _checked(replace(joined, numbering=body.numbering, low=body.low, high=body.high))
    return sync(plan, other, copy.records.values())
