"""Carrying steps out on a Linux host, one after the other, each read back before the next."""

import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yardgate.appliance.linux import FILES, ApplianceError, Command, Done, Files, Runner, commands, read
from yardgate.core.rollout import Step, stands
from yardgate.core.system import Record, System

SECONDS = 600  # the longest that one command may take
Tell = Callable[[Step, str], None]
"""Told of each step: `doing`, `done`, or why it failed."""


def here(command: Command) -> Done:
    """Run a command on this host. No shell sees its arguments."""
    try:
        ran = subprocess.run(
            command.argv, input=command.given, capture_output=True, text=True, errors="surrogateescape", timeout=SECONDS
        )
    except FileNotFoundError:
        return Done(127, "", f"{command.argv[0]} is not installed")
    except subprocess.TimeoutExpired:
        return Done(124, "", f"{command.argv[0]} took more than {SECONDS} seconds")
    return Done(ran.returncode, ran.stdout, ran.stderr)


@dataclass(frozen=True, slots=True)
class Carried:
    """What became of some steps. failed: the one that could not be done, or did not stand when it was read back; done: those before it."""

    done: tuple[Step, ...]
    failed: Step | None = None
    why: str = ""


def carry_out(
    run: Runner, now: System, found: Sequence[Step], files: Files = FILES, tell: Tell = lambda _step, _word: None
) -> Carried:
    """Do steps on a host that has `now`, until one fails."""
    done: list[Step] = []
    for step in found:
        tell(step, "doing")
        why = _do(run, step, now, files)
        if why is not None:
            tell(step, why)
            return Carried(tuple(done), step, why)
        tell(step, "done")
        done.append(step)
        now = step.onto(now)
    return Carried(tuple(done))


def put_back(
    run: Runner, now: System, carried: Carried, files: Files = FILES, tell: Tell = lambda _step, _word: None
) -> Carried:
    """Undo what was done, the latest first, beginning with what the failed step may have done. now: the host after all that was done.

    It goes on where something cannot be undone: `failed` is the first such step, and `why` tells of all.
    """
    half = (carried.failed,) if carried.failed is not None else ()
    done: list[Step] = []
    first: Step | None = None
    why: list[str] = []
    for step in (*half, *reversed(carried.done)):
        back = step.back()
        if carried.failed is not None and step is carried.failed:
            now = step.onto(now)
        tell(back, "doing")
        trouble = _do(run, back, now, files)
        tell(back, trouble or "done")
        if trouble is not None:
            first, why = first or back, [*why, trouble]
        else:
            done.append(back)
        now = back.onto(now)
    return Carried(tuple(done), first, "; ".join(why))


def _do(run: Runner, step: Step, now: System, files: Files) -> str | None:
    """Do one step and look whether it stands; why not, in words."""
    for command in commands(step, now, files):
        ran = run(command)
        if ran.code:
            said = (ran.err.strip() or ran.out.strip()).splitlines()
            return f"could not {command.why}: {said[-1] if said else f'{command.argv[0]} ended with {ran.code}'}"
    try:
        there = _there(run, step, files)
    except ApplianceError as error:
        return str(error)
    if stands(there, step.after):
        return None
    return f"{step.record.name} is still there" if step.after is None else f"it reads back otherwise: {there}"


def _there(run: Runner, step: Step, files: Files) -> Record | None:
    part = step.part
    asked = System().having(part, step.record.name, step.record)
    return read(run, asked, files, {part}).part(part).get(step.record.name)
