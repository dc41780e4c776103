"""Taking tables, account files, listings, whole servers and plan files in."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from pydantic import BaseModel, Field, TypeAdapter, ValidationError

from yardgate.cli.console import AsJson, Data, PlanName, PlanPath, PlanSource, Refused, err, one_of, out, read_bytes
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import describe, sentence
from yardgate.core.model.names import Names
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.formats import accounts as account_files
from yardgate.formats.importing import KINDS, Imported, ToImport, of_server, of_sheet, words_of
from yardgate.formats.importing import read as read_import
from yardgate.formats.layout import Layout
from yardgate.formats.reading import Reading

NOT_ALL = 4  # exit code where something that was given did not come in


def import_(
    kind: Annotated[
        str,
        typer.Argument(
            help="matrix, people, needs, promises, accounts, plan; getfacl, find or nfs4 (listings of folders); server (files copied from one)"
        ),
    ],
    sources: Annotated[
        list[Path],
        typer.Argument(
            help="The file; of accounts the passwd and the group file; of a server all of them. - is standard input."
        ),
    ],
    plan: PlanName = None,
    file: PlanPath = None,
    data: Data = None,
    make: Annotated[
        list[str] | None,
        typer.Option(
            help="NAME=person, service, group or place: what an unknown name becomes; NAME==OTHER: who is meant."
        ),
    ] = None,
    make_people: Annotated[bool, typer.Option(help="Unknown names in rows become people.")] = False,
    make_groups: Annotated[bool, typer.Option(help="Unknown group names become groups.")] = False,
    make_places: Annotated[bool, typer.Option(help="Unknown columns become places.")] = False,
    means: Annotated[
        list[str] | None, typer.Option(help="WORD=RW, RO, NA or nothing: what a word in the cells of a table means.")
    ] = None,
    answers: Annotated[
        Path | None,
        typer.Option(help="A JSON file with “make”, “words” and “layout”, as --dry-run --json writes them."),
    ] = None,
    sheet: Annotated[str | None, typer.Option(help="Which sheet of a workbook.")] = None,
    clear_blanks: Annotated[bool, typer.Option(help="An empty cell takes a grant away.")] = False,
    lowest: Annotated[int, typer.Option(help="Accounts with a lower number are left out.")] = account_files.LOWEST,
    highest: Annotated[int, typer.Option(help="Accounts with a higher number are left out.")] = account_files.HIGHEST,
    private_groups: Annotated[bool, typer.Option(help="Bring in groups that have only their own user, too.")] = False,
    at: Annotated[
        str | None, typer.Option(help="For listings: the place that the topmost folder is; else it becomes a pool.")
    ] = None,
    only_folders: Annotated[bool, typer.Option(help="For listings: everything in it is a folder.")] = False,
    dry_run: Annotated[bool, typer.Option(help="Show the edits, keep nothing.")] = False,
    as_json: AsJson = False,
) -> None:
    """Take a table, a host's account files, a file server or a plan file into a plan. Says what was left out.

    Exit code 1: nothing came in. 4: not all did, or a question is open; --dry-run --json says which."""
    if kind not in KINDS:
        raise Refused(f"{kind!r} is nothing to import; say {', '.join(KINDS)}")
    work = PlanSource(data, plan, file, make=True)
    files = {str(source): read_bytes(source) for source in sources}
    contents = list(files.values())
    said = _answered(answers, make or [], means or [])
    wanted = ToImport(
        kind=kind,
        content=contents[0],
        second=contents[1] if len(contents) > 1 else b"",
        copied=of_server(files) if kind == "server" else None,
        make=said.make,
        layout=said.layout,
        clear_blanks=clear_blanks,
        at=None if at is None else one_of(Names(work.plan).place(at), at, "place"),
        only_folders=only_folders,
        lowest=lowest,
        highest=highest,
        private_groups=private_groups,
    )
    begun, taken = wanted, read_import(work.plan, wanted)
    if sheet is not None or said.words:
        wanted = replace(wanted, layout=_layout(taken, sheet, said.words, work.plan, wanted))
    of_kind = {
        "who": (make_people and "person") or (make_groups and "group"),
        "group": make_groups and "group",
        "place": make_places and "place",
    }
    more = {
        one.name: str(made) for one in taken.reading.unknown if (made := of_kind[one.of]) and one.name not in said.make
    }
    wanted = replace(wanted, make={**more, **said.make})
    taken = taken if wanted == begun else read_import(work.plan, wanted)
    reading = taken.reading
    after, _ = apply(work.plan, reading.edits)
    if as_json:
        out.print_json(_as_json(work.plan, after, taken, wanted))
    else:
        say(reading)
    if dry_run and not as_json:
        for edit in reading.edits:
            out.print(sentence(work.plan, after, edit), markup=False, highlight=False, soft_wrap=True)
    elif reading.edits and not dry_run:
        named = ", ".join(source.name for source in sources[:3])
        work.keep(reading.edits, f"imported {named}: {len(reading.edits)} edits", imported=True)
        if not as_json:
            out.print(
                f"{len(reading.edits)} edits kept: {describe(work.plan, after, reading.edits)}",
                markup=False,
                highlight=False,
                soft_wrap=True,
            )
    elif not reading.edits and not as_json:
        out.print("0 edits kept: nothing is in it that the plan does not have already", highlight=False)
    end(reading)


def end(reading: Reading) -> None:
    """Ends the command with a code that says whether all came in."""
    if reading.unknown or any(note.missed for note in reading.notes):
        raise typer.Exit(NOT_ALL if reading.edits else 1)


class Answers(BaseModel):
    """What is said of an import in advance."""

    make: dict[str, str] = Field(default_factory=dict)
    words: dict[str, str] = Field(default_factory=dict)
    layout: Layout | None = None


def _answered(path: Path | None, make: Sequence[str], means: Sequence[str]) -> Answers:
    try:
        said = Answers() if path is None else Answers.model_validate_json(read_bytes(path))
    except ValidationError as error:
        raise Refused(f"{path} cannot be read: {error.errors()[0]['msg']}") from None
    for option, kept, allowed in (
        (make, said.make, "person, service, group, place"),
        (means, said.words, "RW, RO, NA"),
    ):
        for one in option:
            name, equals, value = one.partition("=")
            if not equals or not (
                value.startswith("=") or value in allowed.split(", ") or (kept is said.words and not value)
            ):
                raise Refused(f"{one!r} is not NAME= and one of {allowed}")
            kept[name] = value
    return said


def _layout(
    taken: Imported, sheet: str | None, words: Mapping[str, str], plan: Plan, wanted: ToImport
) -> Layout | None:
    """The layout that a table seems to have, of a sheet that is said, with what its words mean."""
    if taken.table is None or taken.table.layout is None:
        return wanted.layout
    layout = wanted.layout or taken.table.layout
    if sheet is not None and sheet != layout.sheet:
        layout = of_sheet(plan, wanted, sheet)
    return replace(layout, words={**layout.words, **words})


def say(reading: Reading) -> None:
    """What was noticed, and what is asked, a line each."""
    towards = {
        "more": "somebody may get more: ",
        "less": "somebody may get less: ",
        "either": "somebody may get more or less: ",
    }
    for note in reading.notes:
        where = f"{note.where}: " if note.where else ""
        err.print(
            f"{where}{towards.get(note.toward or '', '')}{note.text}",
            markup=False,
            highlight=False,
            soft_wrap=True,
        )
    for unknown in reading.unknown:
        near = f"; {', '.join(unknown.near)}?" if unknown.near else ""
        err.print(
            f"line {unknown.line}: {show(unknown.name)} is not in the plan{near} (see --make, --make-people, --make-groups, --make-places)",
            markup=False,
            highlight=False,
            soft_wrap=True,
        )


def _as_json(before: Plan, after: Plan, taken: Imported, wanted: ToImport) -> str:
    """What an import would do, and what it asks: an answers file with everything that was said or found so far, and the open questions."""
    reading, table = taken
    layout = table.layout if table is not None else None
    words = words_of(wanted.kind, table) if table is not None else []
    return json.dumps(
        {
            "edits": [sentence(before, after, edit) for edit in reading.edits],
            "notes": [
                {
                    "file": n.file,
                    "line": n.line,
                    "lines": n.lines,
                    "text": n.text,
                    "toward": n.toward,
                    "missed": n.missed,
                }
                for n in reading.notes
            ],
            "questions": [{"line": u.line, "name": u.name, "of": u.of, "near": u.near} for u in reading.unknown],
            "unknown words": {word: count for word, count, means in words if means is None},
            "answers": {
                "make": dict(wanted.make),
                "layout": None if layout is None else TypeAdapter(Layout).dump_python(layout),
            },
        },
        ensure_ascii=False,
    )
