"""`yardgate rollout`: from a plan file to a Linux file server."""

import json
import select
import sys
from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import Annotated

import typer
from pydantic import TypeAdapter, ValidationError

from yardgate.cli.console import AsJson, On, Refused, To, day_of, err, load, out, read_bytes, write
from yardgate.cli.importing import end, say
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.host.bounds import Bounds, Managed, refused, top_trouble
from yardgate.core.host.compiled import Compiled, compiled
from yardgate.core.host.dependencies import needs
from yardgate.core.host.state import System, asked
from yardgate.core.host.step_words import afterwards, words
from yardgate.core.host.steps import Step, after, drift, steps, walked
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import Plan
from yardgate.drivers.appliance import ApplianceError, RolloutUnderWay, TooLate
from yardgate.drivers.linux.apply import Carried, carry_out, here, put_back
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.papers import BY_NAME, TakenAway
from yardgate.formats.reading import decode

app = typer.Typer(no_args_is_help=True, help="Put a plan on a Linux file server: steps, script, runbook, or at once.")

SYSTEM = TypeAdapter(System)
Top = Annotated[str, typer.Option(help="The folder on the host in which the pools lie.")]
Now = Annotated[Path | None, typer.Option(help="What the host has, from `rollout read`; nothing where left out.")]
HOST = LinuxHost(here)
HIGHEST_AT_ALL = 2**31 - 1  # of the numbers that accounts can have
Joined = Annotated[
    list[str] | None,
    typer.Option(help="The short name of a directory of the plan to which the host is joined. May be given again."),
]
DRIFTED = 3  # exit code: the host is not as it was left
FAILED = 4  # exit code: something could not be done, or everything was rolled back


def _meant(plan: Plan, top: str, on: date, joined: list[str] | None) -> Compiled:
    known = {fold(directory.name): directory.id for directory in plan.directories.values()}
    for name in joined or ():
        if fold(name) not in known:
            raise Refused(f"this plan has joined no directory {show(name)}")
    return compiled(resolve(plan, on), top, [known[fold(name)] for name in joined or ()])


def _known(path: Path | None) -> System:
    if path is None:
        return System()
    try:
        return SYSTEM.validate_json(decode(read_bytes(path)))
    except ValidationError as error:
        raise Refused(f"{path} is nothing that `rollout read` wrote: {error.errors()[0]['msg']}") from None


@app.command("read")
def read_host(
    plan_file: Path, top: Top = "/srv", now: Now = None, joined: Joined = None, on: On = None, to: To = None
) -> None:
    """What this host has of what a plan speaks of, as JSON. Give what it wrote last time with --now, so that what left the plan
    since is looked for as well."""
    wanted = _meant(load(plan_file), top, day_of(on), joined).system
    found = _reading(asked(_known(now), wanted))
    write(SYSTEM.dump_json(found, indent=1).decode() + "\n", to)


def _reading(asked: System) -> System:
    try:
        return HOST.read(asked)
    except ApplianceError as error:
        raise Refused(str(error), FAILED) from None


@app.command("steps")
def show_steps(
    plan_file: Path, top: Top = "/srv", now: Now = None, joined: Joined = None, on: On = None, as_json: AsJson = False
) -> None:
    """The steps from what the host has to what the plan says, in order."""
    meant, there = _meant(load(plan_file), top, day_of(on), joined), _known(now)
    found = steps(there, meant.system)
    if as_json:
        hangs = needs(found)
        told = [
            {"id": s.id, "words": words(s), "needs": sorted(hangs[s.id]), "destroys": s.destroys, "reloads": s.reloads}
            for s in found
        ]
        sys.stdout.write(json.dumps({"steps": told, "left_out": meant.left_out}, ensure_ascii=False, indent=1) + "\n")
        return
    for number, step in enumerate(found, 1):
        out.print(f"{number:4}  {words(step)}", markup=False, highlight=False, soft_wrap=True)
    if not found:
        out.print("Nothing has to be done: the host has what the plan says.")
    for line in afterwards(found):
        out.print(line, markup=False, highlight=False, soft_wrap=True)
    for line in meant.left_out:
        out.print(f"left out: {line}", markup=False, highlight=False, soft_wrap=True)


@app.command("drift")
def show_drift(now: Path, to: To = None) -> None:
    """What this host has otherwise than NOW says it was left, as `rollout read` wrote it after the last rollout. Exit code 3: something."""
    left = _known(now)
    found = _reading(left)
    changed = drift(left, found)
    for step in changed:
        out.print(words(step), markup=False, highlight=False, soft_wrap=True)
    if not changed:
        out.print("Everything is as it was left.")
    if to is not None:
        write(SYSTEM.dump_json(found, indent=1).decode() + "\n", to)
    if changed:
        raise typer.Exit(DRIFTED)


@app.command("write")
def write_paper(
    what: Annotated[str, typer.Argument(help="|".join(BY_NAME))],
    plan_file: Path,
    top: Top = "/srv",
    now: Now = None,
    joined: Joined = None,
    on: On = None,
    to: To = None,
) -> None:
    """A paper of the rollout: its steps as a script (with --dry-run and --undo) or a runbook, or all that the plan comes to."""
    paper = BY_NAME.get(what)
    if paper is None:
        raise Refused(f"a rollout is not written as {show(what)}; it is as {', '.join(BY_NAME)}")
    plan, there = load(plan_file), _known(now)
    meant = _meant(plan, top, day_of(on), joined)
    found = steps(there, meant.system)
    title = f"The plan {plan.name}, {len(found)} steps"
    write(paper.write(TakenAway(plan, meant, there, found, title, to.name if to else paper.ending)), to)


@app.command("apply")
def apply_here(
    plan_file: Path,
    top: Top = "/srv",
    now: Now = None,
    joined: Joined = None,
    on: On = None,
    dry_run: Annotated[bool, typer.Option(help="Show the commands; do nothing.")] = False,
    confirm_within: Annotated[
        int, typer.Option(min=10, max=86400, help="Seconds in which to confirm it; else all is rolled back.")
    ] = 300,
    confirm: Annotated[
        bool, typer.Option("--confirm", help="Confirm it without asking, where everything went well.")
    ] = False,
    manage: Annotated[
        list[str] | None,
        typer.Option(help="An account, or @group, of the system's own that the plan may change; may be given again."),
    ] = None,
) -> None:
    """Put a plan on this host, step by step, each read back. What fails is rolled back, and so is what nobody confirms in time: by the
    host itself, whatever becomes of this command."""
    wanted = _meant(load(plan_file), top, day_of(on), joined).system
    there = _reading(asked(_known(now), wanted))
    found = steps(there, wanted)
    _allowed(found, top, manage or [])
    if dry_run or not found:
        _show_commands(there, found)
        return
    try:
        HOST.arm(there, found, confirm_within)
    except RolloutUnderWay as error:
        raise Refused(str(error), FAILED) from None
    try:
        carried = carry_out(HOST, there, found, lambda step, word: _tell(found, step, word))
        HOST.alive()
        if carried.failed is None and (confirm or _confirmed(confirm_within)):
            HOST.end()
            out.print("Confirmed.")
            return
        _undo(there, carried)
        HOST.end()
    except TooLate:
        out.print("Too late: the host rolls everything back by itself.")
    raise typer.Exit(FAILED)


def _allowed(found: Sequence[Step], top: str, names: Sequence[str]) -> None:
    """Whoever gives commands here may change all people's accounts, but not by a slip the system's own. Raises Refused."""
    if trouble := top_trouble(top):
        raise Refused(trouble, FAILED)
    try:
        host = HOST.about()
    except ApplianceError as error:
        raise Refused(str(error), FAILED) from None
    people = {Managed("accounts", name) for name, number in host.users.items() if number >= host.lowest_uid}
    groups = {Managed("groups", name) for name, number in host.groups.items() if number >= host.lowest_gid}
    said = {Managed("groups" if name.startswith("@") else "accounts", name.removeprefix("@")) for name in names}
    why = refused(found, Bounds(top=top, highest=HIGHEST_AT_ALL, managed=frozenset(people | groups | said)), host)
    if why:
        lines = [f"{words(step)}: {why[step.id]}" for step in found if step.id in why]
        raise Refused("\n".join(["This may not be done here:", *lines]), FAILED)


def _show_commands(there: System, found: Sequence[Step]) -> None:
    for step, state in walked(there, found):
        out.print(words(step), markup=False, highlight=False, soft_wrap=True)
        for line in HOST.shown(step, state):
            out.print(f"    {line}", markup=False, highlight=False, soft_wrap=True)
    out.print(
        f"{len(found)} steps; nothing was done."
        if found
        else "Nothing has to be done: the host has what the plan says."
    )


def _tell(found: Sequence[Step], step: Step, word: str) -> None:
    if word == "doing":
        HOST.alive()
        return
    number = found.index(step) + 1
    shown = words(step) if word == "done" else f"{words(step)}: {word}"
    out.print(
        f"{number:4} of {len(found)}  {shown}",
        markup=False,
        highlight=False,
        soft_wrap=True,
        style=None if word == "done" else "red",
    )


def _confirmed(seconds: int) -> bool:
    out.print(
        f"Everything stands. Try it, then write confirm within {seconds} seconds; else all is rolled back:",
        highlight=False,
    )
    ready, _, _ = select.select([sys.stdin], [], [], seconds)
    return bool(ready) and sys.stdin.readline().strip() == "confirm"


def _undo(there: System, carried: Carried) -> None:
    HOST.alive()
    undone = put_back(HOST, after(there, carried.done), carried, lambda _step, _word: HOST.alive())
    if undone.failed is not None:
        err.print(f"Not everything could be rolled back: {undone.why}", markup=False, style="red", soft_wrap=True)
    else:
        out.print("Everything was rolled back.")


@app.command("take-in")
def take_in(
    tops: Annotated[list[str], typer.Argument(help="Folders whose lists are read, with all in them: /srv/keel …")],
    to: To = None,
    name: Annotated[str, typer.Option(help="What the plan is called.")] = "imported",
    lowest: Annotated[
        int, typer.Option(help="Accounts from this number on; below it those that folders or shares name.")
    ] = 1000,
    highest: Annotated[int, typer.Option(help="Accounts up to this number.")] = 60000,
) -> None:
    """A plan file of what this host has: accounts, lists of folders, shares over SMB, exports. Says what was not understood, and whether
    somebody may get more or less by it. Exit code 4: not all came in."""
    from yardgate.core.edits.apply import apply
    from yardgate.drivers.linux.snapshot import copied
    from yardgate.formats import planfile, server
    from yardgate.formats.reading import FormatError

    try:
        found = server.read(Plan(name=name), copied(here, tops), lowest=lowest, highest=highest)
    except (ApplianceError, FormatError) as error:
        raise Refused(str(error), FAILED) from None
    say(found)
    taken, _ = apply(Plan(name=name), found.edits)
    write(planfile.write(taken), to)
    end(found)


@app.command("stand-in")
def stand_in(
    state: Annotated[Path, typer.Argument(help="The file in which it keeps what it has.")],
    port: Annotated[int, typer.Option(min=0, max=65535)] = 0,
    slow: Annotated[float, typer.Option(min=0, help="Seconds that each step takes.")] = 0.05,
) -> None:
    """Run a small simulated appliance on this machine, for trying rollouts. Ctrl+C ends it."""
    from yardgate.drivers.simulator import HOST, ApplianceFaults, SimulatedAppliance

    appliance = SimulatedAppliance(state, port)
    appliance.faults = ApplianceFaults(slow=slow)
    out.print(f"The stand-in appliance is at {HOST}:{appliance.port}", highlight=False)
    sys.stdout.flush()
    try:
        appliance.serve_forever()
    except KeyboardInterrupt:
        out.print("It ended.")
