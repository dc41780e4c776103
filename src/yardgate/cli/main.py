"""The command line: everything that needs no screen. Exit code 1: something is wrong with the plan; 2: bad usage."""

import json
import sys
from dataclasses import asdict, replace
from datetime import date
from functools import cache
from pathlib import Path
from typing import Annotated, Literal

import typer
from rich.table import Table

from yardgate import __version__
from yardgate.cli import account, check, data, directory, importing, rollout, serve, walk
from yardgate.cli.console import (
    AsJson,
    Data,
    On,
    PlanName,
    PlanPath,
    PlanSource,
    Refused,
    To,
    day_of,
    err,
    load,
    one_of,
    out,
    read_bytes,
    share_of,
    subject_of,
    walker,
    way_in,
    write,
)
from yardgate.cli.suggest import suggest as suggest_groups
from yardgate.core.access.batch.resolve import resolve as resolve_plan
from yardgate.core.access.bitsets import count
from yardgate.core.access.combining import rule_words
from yardgate.core.access.outcome import outcome, outcome_of, shifts
from yardgate.core.access.paths import explain_over
from yardgate.core.access.spec.explain import ListLine
from yardgate.core.access.spec.explain import explain as explain_cell
from yardgate.core.access.storage import storage_state
from yardgate.core.acl.rights import LEVELS, letters
from yardgate.core.acl.words import rwx
from yardgate.core.edits.describe import describe
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.checks import PlanError
from yardgate.core.model.names import Names
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.findings import Case, find
from yardgate.formats import matrix
from yardgate.formats.exporting import BY_NAME, Exported
from yardgate.formats.matrix import SPELLINGS
from yardgate.formats.notation import flag_letters
from yardgate.formats.reading import FormatError, decode
from yardgate.store import DataTrouble, NotThere, Stale

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Plan who may read and write what on a file server, and see why."
)
app.add_typer(account.app, name="account")
app.add_typer(directory.app, name="directory")
app.add_typer(rollout.app, name="rollout")
app.command("walk")(walk.walk_through)
app.command("check")(check.check)
app.command("suggest")(suggest_groups)
app.command("import")(importing.import_)
app.command("serve")(serve.serve)
app.command("demo")(serve.demo)
app.command("backup")(data.backup)
app.command("restore")(data.restore)
app.command("check-data")(data.check_data)


def main() -> None:
    try:
        app(standalone_mode=True)
    except Refused as error:
        err.print(str(error), markup=False, style="red", highlight=False)
        sys.exit(error.code)
    except (PlanError, FormatError, NotThere, DataTrouble, ValueError) as error:
        err.print(str(error), markup=False, style="red", highlight=False)
        sys.exit(1)
    except Stale as error:
        err.print(f"{error}; nothing was kept, run the command again", markup=False, style="red")
        sys.exit(1)
    except BrokenPipeError:
        sys.exit(0)


# --- in and out -------------------------------------------------------------------------------------------------------


@app.command()
def export(
    what: Annotated[str, typer.Argument(help=f"{', '.join(BY_NAME)}")],
    at: Annotated[str | None, typer.Option(help="For lists: the place from which on.")] = None,
    folders: Annotated[
        Path | None, typer.Option(help="For setfacl: getfacl output of the real folders, all of which are written.")
    ] = None,
    plan: PlanName = None,
    file: PlanPath = None,
    data: Data = None,
    to: To = None,
) -> None:
    """Write the plan file; or CSV of what is set, of what people get, of who gets in where, of people, or of promises; local accounts as LDIF;
    all of it as a workbook; or lists for setfacl or nfs4_setfacl."""
    work = PlanSource(data, plan, file)

    def top() -> str:
        if at is None:
            raise Refused("say which place with --at")
        return one_of(Names(work.plan).place(at), at, "place")

    wanted = BY_NAME.get(what)
    if wanted is None:
        raise Refused(f"{what!r} is nothing to write; say {', '.join(BY_NAME)}")
    real = None if folders is None else decode(read_bytes(folders))
    found = cache(lambda: outcome(resolve_plan(work.plan, date.today())))
    start = top() if wanted.of == "place" else ""
    write(wanted.write(Exported(work.plan, lambda: keep(found()), lambda: find(Case(found())), start, real)), to)


# --- asking and editing -----------------------------------------------------------------------------------------------


@app.command()
def resolve(
    plan_file: Path,
    as_json: AsJson = False,
    on: On = None,
    to: To = None,
    with_rights: Annotated[
        bool, typer.Option("--rights", help="Also the access masks on the folder and on an ordinary file in it.")
    ] = False,
    over: Annotated[
        Literal["smb", "nfs", "any"] | None,
        typer.Option(help="As it comes out over the plan's shares: the best of them."),
    ] = None,
) -> None:
    """What comes out: the whole effective matrix of a plan file, as CSV (or JSON by ids). Needs no database."""
    found = resolve_plan(load(plan_file), day_of(on))
    if over is not None:
        if with_rights:
            raise Refused("--rights are those of the list alone, the same over every way in; leave out --over")
        found = replace(found, rows=outcome(found).best[None if over == "any" else over])
    if with_rights:
        write(matrix.write_rights_json(found) if as_json else matrix.write_rights(found), to)
        return
    if not as_json:
        write(matrix.write_effective(found), to)
        return
    users = found.counting.subjects[: found.counting.users]
    levels = {
        user: {place: LEVELS[row[number]] for place, row in found.rows.items()} for number, user in enumerate(users)
    }
    write(json.dumps({"on": found.on.isoformat(), "levels": levels}, ensure_ascii=False) + "\n", to)


@app.command()
def explain(
    plan_file: Path,
    who: Annotated[str, typer.Argument(help="A user or group, by any of their names or by id.")],
    place: Annotated[str, typer.Argument(help="A place, by name, path or id.")],
    as_json: AsJson = False,
    on: On = None,
    share: Annotated[
        str | None,
        typer.Option(help="As it comes out over this share; WHO may be guest then, or UID:GID,GID,… over NFS."),
    ] = None,
    over: Annotated[Literal["smb", "nfs"], typer.Option(help="With --share: the protocol.")] = "smb",
    host: Annotated[str | None, typer.Option("--from", help="With --over nfs: the address of the client.")] = None,
    host_name: Annotated[str, typer.Option("--called", help="With --over nfs: the client's host name.")] = "",
) -> None:
    """Why somebody gets what they get in a place, gate by gate."""
    plan, day = load(plan_file), day_of(on)
    where = place if place in plan.places else one_of(Names(plan).place(place), place, "place")
    if share is None:
        subject = subject_of(plan, who)
        reason = explain_cell(plan, subject, where, day)
    else:
        offered = share_of(plan, share)
        if offered.place not in plan.path(where):
            raise Refused(
                f"{offered.name} offers {plan.path_name(offered.place)}; {plan.path_name(where)} does not lie in it"
            )
        storage = storage_state(plan, count(plan, day))
        plan, subject = walker(plan, who, over)
        reason = explain_over(plan, subject, where, way_in(offered, over, host, host_name), day, storage)
    if as_json:
        sys.stdout.write(json.dumps(asdict(reason), ensure_ascii=False, indent=1) + "\n")
        return
    out.print(
        f"{plan.named(subject)} in {plan.path_name(where)}: {reason.level.words} ({reason.level})",
        markup=False,
        highlight=False,
    )
    for number, gate in enumerate(reason.gates, 1):
        out.print(
            f"{number}. {gate.title}: {gate.level}{' — decides' if gate.decides else ''}\n   {gate.sentence}",
            markup=False,
            highlight=False,
        )
        for step in gate.steps:
            out.print(
                f"   {'enters' if step.enters else 'stops '}  {plan.path_name(step.place)}",
                markup=False,
                highlight=False,
            )
        for entry in gate.entries:
            out.print(
                f"   {entry.verdict:10} {_entry_words(plan, entry)}", markup=False, highlight=False, soft_wrap=True
            )
        for line in gate.lines:
            way = " → ".join(plan.named(step) for step in line.way[1:]) or "own grant"
            out.print(
                f"   {line.level}  {plan.named(line.who):24} {line.verdict:10} {way}", markup=False, highlight=False
            )
    if reason.clash:
        out.print(f"The grants disagree; the rule here is: {rule_words(plan.target)}.", highlight=False)


def _entry_words(plan: Plan, entry: ListLine) -> str:
    """A line of a list, and where it comes from."""
    who = plan.named(entry.who) if entry.who else "-"
    if entry.says in ("allow", "deny"):
        said = f"{entry.says} {who}: {letters(entry.mask)} {flag_letters(entry.flags) or '-'}"
    else:
        said = f"{entry.says} {who}: {rwx(entry.mask)}"
    return said + (f"  ({entry.made}, {plan.path_name(entry.said_on)})" if entry.said_on else "")


@app.command()
def grant(who: str, place: str, level: str, plan: PlanName = None, file: PlanPath = None, data: Data = None) -> None:
    """Set one grant: WHO on PLACE gets LEVEL (RW, RO, NA, or - for not set). Says what else changed."""
    work = PlanSource(data, plan, file)
    names = Names(work.plan)
    if level.casefold() not in SPELLINGS:
        raise Refused(f"{show(level)} is not a level; say RW, RO, NA or -")
    edit = SetGrant(
        one_of(names.place(place), place, "place"),
        one_of(names.who(who), who, "user or group"),
        SPELLINGS[level.casefold()],
    )
    before = work.plan
    after = work.keep((edit,))
    _say_changes(before, after, describe(before, after, [edit]))


def _say_changes(before: Plan, after: Plan, words: str) -> None:
    """What comes out differently over the ways in."""
    was = outcome(resolve_plan(before, date.today()))
    found = shifts(was, outcome_of(after, was))
    out.print(
        f"{words}; {len(found)} {'cell' if len(found) == 1 else 'cells'} came out differently",
        markup=False,
        highlight=False,
        soft_wrap=True,
    )
    table = Table("who", "place", "over", "before", "after", box=None)
    for cell in found[:40]:
        row = (before.named(cell.subject), before.path_name(cell.place), (cell.over or "").upper())
        table.add_row(*row, cell.before, cell.after)
    if found:
        out.print(table)


@app.command()
def undo(
    plan: PlanName = None,
    data: Data = None,
    redo: Annotated[bool, typer.Option(help="Do again what was undone.")] = False,
) -> None:
    """Take back the latest change of a plan in the data folder."""
    work = PlanSource(data, plan, None)
    before = work.plan
    step = work.plans.redo if redo else work.plans.undo
    after = step(work.opened.id, work.opened.revision, "command line")
    _say_changes(before, after.plan, work.plans.history(work.opened.id, most=1)[0].words)


@app.command()
def bench(
    users: int = 10_000,
    groups: int = 500,
    places: int = 1_000,
    seed: int = 1,
    browser: Annotated[
        bool, typer.Option(help="Measure the board in headless Chromium instead (needs the test tools).")
    ] = False,
    files: Annotated[
        int, typer.Option(help="Measure pushing a list down over so many files of this machine instead (needs root).")
    ] = 0,
    load: Annotated[
        int,
        typer.Option(help="Measure a server with so many sessions on a plan of 2,000 people and 300 places instead."),
    ] = 0,
    seconds: Annotated[float, typer.Option(help="How long, for --load.")] = 300.0,
    requests: Annotated[
        int | None, typer.Option(help="For --load: until so many were answered, without pauses, instead of for a time.")
    ] = None,
    suggest: Annotated[bool, typer.Option("--suggest", help="Measure groups worked out from needs instead.")] = False,
    imports: Annotated[bool, typer.Option("--imports", help="Measure readers of very large texts instead.")] = False,
    as_json: AsJson = False,
) -> None:
    """Measure speed and memory: ratios and medians, in one run."""
    if load:
        from yardgate.tools.bench_load import run as run_load

        results = run_load(load, seconds, requests)
    elif suggest:
        from yardgate.tools.bench_suggest import run as run_suggest

        results = run_suggest()
    elif imports:
        from yardgate.tools.bench_imports import run as run_imports

        results = run_imports()
    elif files:
        from yardgate.tools.bench import run_pushes

        results = run_pushes(files)
    elif browser:
        from yardgate.tools.bench_browser import run as run_browser

        results = run_browser()
    else:
        from yardgate.tools.bench import run, run_agreed, run_lists, run_rollout

        results = [*run(users, groups, places, seed), *run_lists(users, groups, places, seed)]
        results += run_agreed(min(users, 2000), min(groups, 120), min(places, 300), seed)
        results += run_rollout(users, groups, places, seed)
    if as_json:
        sys.stdout.write(json.dumps([asdict(result) for result in results]) + "\n")
        return
    table = Table("what", "measured", "aim", box=None)
    for result in results:
        table.add_row(result.what, result.measured, result.aim)
    out.print(table)


@app.command()
def version() -> None:
    """The version of Yard Gate."""
    out.print(__version__, highlight=False)
