"""In and out: tables, account files and plan files."""

from hashlib import sha256
from typing import Annotated

from fastapi import APIRouter, HTTPException, Path, Request, Response

from yardgate.api.answers import attached
from yardgate.api.authentication import Planner, Reader, Somebody, TheServices, say
from yardgate.api.effects import told
from yardgate.api.plans.routes import stepped
from yardgate.api.schemas import Answer, Id
from yardgate.api.transfer.schemas import FormatOut, Import, ImportPreview, NoteOut, UnknownOut
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Long
from yardgate.core.access.outcome import outcome_of
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import sentence
from yardgate.core.edits.difference import difference
from yardgate.core.host.bounds import below
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.core.policy.compliance import keep as keep_promises
from yardgate.core.policy.impact import between
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.connect import reached
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.papers import PAPERS
from yardgate.drivers.linux.snapshot import copied
from yardgate.formats import accounts, listing, matrix, people, planfile, promises, server, workbook
from yardgate.formats.exporting import BY_NAME, FORMATS, Exported
from yardgate.formats.given import noted
from yardgate.formats.reading import FormatError, Reading, decode
from yardgate.services.derived import Services
from yardgate.store import Opened

router = APIRouter(prefix="/plans/{plan}", tags=["in and out"], route_class=Long)
quick = APIRouter(tags=["in and out"], route_class=OffLoop)
LISTED = 1000
SECONDS = 60  # that a command may take with which a host is read for an import
FormatName = Annotated[str, Path(description="which format", json_schema_extra={"enum": [*BY_NAME]})]
KIND_WORDS = {
    "matrix": "a matrix",
    "people": "a table of people",
    "needs": "a table of needs",
    "promises": "a table of promises",
    "accounts": "a host's accounts",
    "plan": "a plan file",
    "getfacl": "folders with POSIX lists",
    "find": "folders with mode bits",
    "nfs4": "folders with ordered lists",
    "server": "a file server",
}


def read(services: Services, opened: Opened, body: Import) -> Reading:
    """The edits that an import makes in a plan."""
    plan = opened.plan
    match body.kind:
        case "server":
            return server.read(plan, _copied(services, opened, body), body.make, body.lowest, body.highest)
        case "matrix":
            return noted(body.content, lambda text: matrix.read(plan, text, body.make, body.clear_blanks))
        case "people":
            return noted(body.content, lambda text: people.read(plan, text, body.make))
        case "needs":
            return noted(body.content, lambda text: matrix.read_needs(plan, text, body.make))
        case "promises":
            return noted(body.content, lambda text: promises.read(plan, text))
        case "accounts":
            files = body.content, body.second
            return accounts.from_files(plan, *files, body.lowest, body.highest, body.private_groups)
        case "getfacl":
            return listing.read(plan, decode(body.content), "posix", body.at, body.make, only_folders=body.only_folders)
        case "find":
            return listing.read(plan, decode(body.content, nul=True), "mode", body.at, body.make)
        case "nfs4":
            return listing.read(
                plan, decode(body.content), "ordered", body.at, body.make, only_folders=body.only_folders
            )
        case "plan":
            packed = body.content.startswith(workbook.BEGINS)
            text = workbook.plan_file(body.content) if packed else decode(body.content)
            return Reading(difference(plan, planfile.read(text)))


def _copied(services: Services, opened: Opened, body: Import) -> server.Copied:
    """The texts of a server: those given, or else as they are on the appliance."""
    if body.files:
        return server.sorted_out({file.name: decode(file.content) for file in body.files})
    where = services.rollouts.destination(opened.id)
    if other := next((top for top in body.tops if top != where.top and not below(where.top, top)), None):
        raise HTTPException(422, f"{show(other)} does not lie in {where.top}, which is all that is read of this host")
    try:
        with services.reading_hosts(), reached(where, SECONDS) as at:
            if not isinstance(at, LinuxHost):
                raise HTTPException(422, "Only a Linux file server can be imported whole; the stand-in is not one")
            return copied(at.run, body.tops)
    except ApplianceError as error:
        raise HTTPException(409, f"The appliance could not be read: {error}") from None


@router.post("/import/preview")
def preview(plan: str, account: Planner, request: Request, services: TheServices, body: Import) -> ImportPreview:
    """What an import would do, without keeping it."""
    opened = services.plans.open(plan)
    before = services.kept(opened)
    if body.kind == "server" and not body.files:
        say(
            request,
            account.name,
            "host read",
            f"{services.rollouts.destination(plan).appliance}: {', '.join(body.tops)}",
            plan,
        )
    reading = read(services, opened, body)
    after, _inverse = apply(opened.plan, reading.edits)
    then = keep_promises(outcome_of(after, before.outcome), before)
    return ImportPreview(
        tag=_tag(after),
        edits=len(reading.edits),
        words=[sentence(opened.plan, after, edit) for edit in reading.edits[:LISTED]],
        notes=[NoteOut(line=note.line, text=note.text) for note in reading.notes[:LISTED]],
        note_count=len(reading.notes),
        unknown=[UnknownOut(line=name.line, name=name.name, of=name.of) for name in reading.unknown[:LISTED]],
        effect=told(opened.plan, between(before, then, reading.edits)),
    )


@router.post("/import")
def keep(plan: str, account: Planner, services: TheServices, body: Import) -> Answer:
    """Keep an import, as one change that can be undone. What is read of a host has to have been looked at (`tag`)."""
    if body.kind == "server" and not body.files and body.tag is None:
        raise HTTPException(422, "Preview first what reading the host would do; then keep just that")
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    edits = read(services, opened, body).edits
    if not edits:
        raise FormatError("there is nothing in it that the plan does not have already")
    if body.tag is not None and body.tag != _tag(apply(opened.plan, edits)[0]):
        raise HTTPException(409, "The preview is out of date: the result would be different now. Preview it again")
    words = f"imported {KIND_WORDS[body.kind]}: {len(edits)} {'edit' if len(edits) == 1 else 'edits'}"
    kept = services.plans.commit(plan, body.revision, edits, account.name, "import", words)
    return stepped(services, before, kept)


def _tag(after: Plan) -> str:
    return sha256(planfile.write(after).encode()).hexdigest()


@quick.get("/formats")
def formats(_: Somebody) -> list[FormatOut]:
    """What a plan can be exported as, and what a rollout can be taken away as."""
    return [FormatOut(name=one.name, words=one.words, of=one.of) for one in (*FORMATS, *PAPERS)]


@router.get("/export/{what}", response_class=Response)
def export(plan: str, what: FormatName, _: Reader, services: TheServices, at: Id | None = None) -> Response:
    """The plan in one of its formats; those of lists from the place `at` down."""
    opened, wanted = services.plans.open(plan), BY_NAME.get(what)
    if wanted is None:
        raise HTTPException(404, f"A plan is not exported as {show(what)}; it is as {', '.join(BY_NAME)}")
    if wanted.of == "place" and (at is None or at not in opened.plan.places):
        raise HTTPException(404, "This plan has no such place; `at` says which to write the lists of")
    of = Exported(opened.plan, lambda: services.kept(opened), lambda: services.findings(opened), at or "")
    return attached(wanted.write(of), opened, wanted.ending, wanted.media)
