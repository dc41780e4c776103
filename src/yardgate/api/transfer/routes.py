"""In and out: tables, account files and plan files."""

from hashlib import sha256
from typing import Annotated

from fastapi import APIRouter, HTTPException, Path, Request, Response

from yardgate.api.answers import attached
from yardgate.api.authentication import Planner, Reader, Somebody, TheServices, say
from yardgate.api.effects import told
from yardgate.api.plans.routes import stepped
from yardgate.api.schemas import Answer, Id
from yardgate.api.transfer.schemas import (
    FormatOut,
    Import,
    ImportPreview,
    NoteOut,
    TableOut,
    TableRow,
    UnknownOut,
    WordOut,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.api.transport.turns import Long
from yardgate.core.access.outcome import outcome_of
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import sentence
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
from yardgate.formats import importing, planfile, server
from yardgate.formats.exporting import BY_NAME, FORMATS, Exported
from yardgate.formats.given import Given
from yardgate.formats.importing import KIND_WORDS, Imported, ToImport
from yardgate.formats.layout import Layout
from yardgate.formats.reading import FormatError, Note
from yardgate.services.derived import Services
from yardgate.store import Opened

router = APIRouter(prefix="/plans/{plan}", tags=["in and out"], route_class=Long)
quick = APIRouter(tags=["in and out"], route_class=OffLoop)
LISTED = 1000
ROWS, COLUMNS, WORDS = 12, 30, 60  # of a table that are shown
PLACES = 12  # of which a note tells
SECONDS = 60  # that a command may take with which a host is read for an import
FormatName = Annotated[str, Path(description="which format", json_schema_extra={"enum": [*BY_NAME]})]


def read(services: Services, opened: Opened, body: Import) -> Imported:
    """The edits that an import makes in a plan."""
    wanted = ToImport(
        kind=body.kind,
        content=body.content,
        second=body.second,
        copied=_copied(services, opened, body) if body.kind == "server" else None,
        make=body.make,
        layout=body.layout,
        clear_blanks=body.clear_blanks,
        at=body.at,
        only_folders=body.only_folders,
        lowest=body.lowest,
        highest=body.highest,
        private_groups=body.private_groups,
    )
    return importing.read(opened.plan, wanted)


def _copied(services: Services, opened: Opened, body: Import) -> server.Copied:
    """The texts of a server: those given, or else as they are on the appliance."""
    if body.files:
        return importing.of_server({file.name: file.content for file in body.files})
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
    reading, table = read(services, opened, body)
    after, _inverse = apply(opened.plan, reading.edits)
    then = keep_promises(outcome_of(after, before.outcome), before)
    return ImportPreview(
        tag=_tag(after),
        edits=len(reading.edits),
        words=[sentence(opened.plan, after, edit) for edit in reading.edits[:LISTED]],
        notes=[_note(after, note) for note in reading.notes[:LISTED]],
        note_count=len(reading.notes),
        unknown=[UnknownOut.of_name(name) for name in reading.unknown[:LISTED]],
        table=None if table is None or table.layout is None else _table(body.kind, table, table.layout),
        effect=told(opened.plan, between(before, then, reading.edits)),
    )


@router.post("/import")
def keep(plan: str, account: Planner, services: TheServices, body: Import) -> Answer:
    """Keep an import, as one change that can be undone. What is read of a host has to have been looked at (`tag`)."""
    if body.kind == "server" and not body.files and body.tag is None:
        raise HTTPException(422, "Preview first what reading the host would do; then keep just that")
    opened = services.plans.open(plan)
    before = services.outcome(opened)
    edits = read(services, opened, body).reading.edits
    if not edits:
        raise FormatError("there is nothing in it that the plan does not have already")
    if body.tag is not None and body.tag != _tag(apply(opened.plan, edits)[0]):
        raise HTTPException(409, "The preview is out of date: the result would be different now. Preview it again")
    words = f"imported {KIND_WORDS[body.kind]}: {len(edits)} {'edit' if len(edits) == 1 else 'edits'}"
    kept = services.plans.commit(plan, body.revision, edits, account.name, "import", words)
    return stepped(services, before, kept)


def _note(after: Plan, note: Note) -> NoteOut:
    places = [one for one in note.about if one not in after.shares]
    return NoteOut(
        line=note.line,
        text=note.text,
        where=note.where,
        toward=note.toward,
        shares=len(note.about) - len(places),
        places=[after.path_name(one) for one in places[:PLACES]],
        place_count=len(places),
        missed=note.missed,
    )


def _table(kind: importing.ImportKind, table: Given, layout: Layout) -> TableOut:
    """How a table was read, with its first rows and its words, the most frequent first."""
    sheet = next(one for one in table.sheets if one.name == layout.sheet)
    rows = [TableRow(line=line, cells=list(cells[:COLUMNS])) for line, cells in sheet.rows[:ROWS]]
    words = [
        WordOut(word=word, cells=count, means=means) for word, count, means in importing.words_of(kind, table)[:WORDS]
    ]
    return TableOut(sheets=[one.name for one in table.sheets], layout=layout, rows=rows, words=words)


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
