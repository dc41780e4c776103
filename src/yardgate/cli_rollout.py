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

from yardgate.appliance.apply import Carried, carry_out, here, put_back
from yardgate.appliance.handout import runbook, script
from yardgate.appliance.linux import ApplianceError, commands, read
from yardgate.appliance.watch import TooLate, Watch
from yardgate.console import AsJson, On, Refused, To, day_of, err, load, out, read_bytes, write
from yardgate.core.plan import Plan
from yardgate.core.resolve import resolve
from yardgate.core.rollout import Step, after, drift, needs, sign_in_again, steps, walked, words
from yardgate.core.system import PARTS, Compiled, System, compiled
from yardgate.formats.reading import decode

app = typer.Typer(no_args_is_help=True, help="Put a plan on a Linux file server: steps, script, runbook, or at once.")

SYSTEM = TypeAdapter(System)
Top = Annotated[str, typer.Option(help="The folder on the host in which the pools lie.")]
Now = Annotated[Path | None, typer.Option(help="What the host has, from `rollout read`; nothing where left out.")]
UNDER_WAY = """another rollout is under way on this host, or is being put back: wait for it to end. If the host was restarted in the middle of
one, run `sh /var/lib/yardgate/undo.sh --undo` and remove /var/lib/yardgate/armed"""
DRIFTED = 3  # exit code: the host is not as it was left
FAILED = 4  # exit code: something could not be done, or everything was put back


def _meant(plan: Plan, top: str, on: date) -> Compiled:
    return compiled(resolve(plan, on), top)


def _asked(wanted: System, known: System) -> System:
    """Everything that is to be looked for on the host."""
    for part in PARTS:
        for name, record in known.part(part).items():
            if name not in wanted.part(part):
                wanted = wanted.having(part, name, record)
    return wanted


def _known(path: Path | None) -> System:
    if path is None:
        return System()
    try:
        return SYSTEM.validate_json(decode(read_bytes(path)))
    except ValidationError as error:
        raise Refused(f"{path} is nothing that `rollout read` wrote: {error.errors()[0]['msg']}") from None


@app.command("read")
def read_host(plan_file: Path, top: Top = "/srv", now: Now = None, on: On = None, to: To = None) -> None:
    """What this host has of what a plan speaks of, as JSON. Give what it wrote last time with --now, so that what left the plan
    since is looked for as well."""
    wanted = _meant(load(plan_file), top, day_of(on)).system
    found = _reading(_asked(wanted, _known(now)))
    write(SYSTEM.dump_json(found, indent=1).decode() + "\n", to)


def _reading(asked: System) -> System:
    try:
        return read(here, asked)
    except ApplianceError as error:
        raise Refused(str(error), FAILED) from None


@app.command("steps")
def show_steps(plan_file: Path, top: Top = "/srv", now: Now = None, on: On = None, as_json: AsJson = False) -> None:
    """The steps from what the host has to what the plan says, in order."""
    meant, there = _meant(load(plan_file), top, day_of(on)), _known(now)
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
    again = sorted(sign_in_again(found))
    if again:
        out.print(f"Must sign in again: {', '.join(again)}", markup=False, highlight=False, soft_wrap=True)
    for line in meant.left_out:
        out.print(f"not part of it: {line}", markup=False, highlight=False, soft_wrap=True)


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


@app.command("script")
def write_script(plan_file: Path, top: Top = "/srv", now: Now = None, on: On = None, to: To = None) -> None:
    """A shell script that does the steps, with --dry-run and --undo."""
    plan, there = load(plan_file), _known(now)
    found = steps(there, _meant(plan, top, day_of(on)).system)
    write(script(f"The plan {plan.name}, {len(found)} steps", there, found, name=to.name if to else "rollout.sh"), to)


@app.command("runbook")
def write_runbook(plan_file: Path, top: Top = "/srv", now: Now = None, on: On = None, to: To = None) -> None:
    """The steps in plain words with their commands, as Markdown."""
    plan, there = load(plan_file), _known(now)
    meant = _meant(plan, top, day_of(on))
    write(runbook(f"The plan {plan.name} on its host", there, steps(there, meant.system), meant.left_out), to)


@app.command("apply")
def apply_here(
    plan_file: Path,
    top: Top = "/srv",
    now: Now = None,
    on: On = None,
    dry_run: Annotated[bool, typer.Option(help="Show the commands; do nothing.")] = False,
    keep_within: Annotated[
        int, typer.Option(min=10, max=86400, help="Seconds in which to keep it; else all is put back.")
    ] = 300,
    keep: Annotated[bool, typer.Option("--keep", help="Keep it without asking, where everything went well.")] = False,
) -> None:
    """Put a plan on this host, step by step, each read back. What fails is put back, and so is what nobody keeps in time: by the
    host itself, whatever becomes of this command."""
    wanted = _meant(load(plan_file), top, day_of(on)).system
    there = _reading(_asked(wanted, _known(now)))
    found = steps(there, wanted)
    if dry_run or not found:
        _show_commands(there, found)
        return
    watch = Watch(script("Put back what was there before", there, found), keep_within)
    try:
        watch.arm()
    except FileExistsError:
        raise Refused(UNDER_WAY, FAILED) from None
    try:
        carried = carry_out(here, there, found, tell=lambda step, word: _tell(watch, found, step, word))
        watch.alive()
        if carried.failed is None and (keep or _kept(keep_within)):
            watch.end()
            out.print("Kept.")
            return
        _undo(watch, there, carried)
        watch.end()
    except TooLate:
        out.print("Too late: the host puts everything back by itself.")
    raise typer.Exit(FAILED)


def _show_commands(there: System, found: Sequence[Step]) -> None:
    for step, state in walked(there, found):
        out.print(words(step), markup=False, highlight=False, soft_wrap=True)
        for command in commands(step, state):
            out.print(f"    {command.why}: {' '.join(command.argv)}", markup=False, highlight=False, soft_wrap=True)
    out.print(
        f"{len(found)} steps; nothing was done."
        if found
        else "Nothing has to be done: the host has what the plan says."
    )


def _tell(watch: Watch, found: Sequence[Step], step: Step, word: str) -> None:
    if word == "doing":
        watch.alive()
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


def _kept(seconds: int) -> bool:
    out.print(
        f"Everything stands. Try it, then write keep within {seconds} seconds; else all is put back:", highlight=False
    )
    ready, _, _ = select.select([sys.stdin], [], [], seconds)
    return bool(ready) and sys.stdin.readline().strip() == "keep"


def _undo(watch: Watch, there: System, carried: Carried) -> None:
    watch.alive()
    undone = put_back(here, after(there, carried.done), carried, tell=lambda _step, _word: watch.alive())
    if undone.failed is not None:
        err.print(f"Not everything could be put back: {undone.why}", markup=False, style="red", soft_wrap=True)
    else:
        out.print("Everything was put back.")
