"""Carrying steps out on an appliance, one after the other, each read back before the next; and taking them back."""

import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from yardgate.core.host.state import System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Step, stands
from yardgate.drivers.appliance import Appliance, ApplianceError, TooLate, Unreachable
from yardgate.drivers.linux.command import LANGUAGE, Command, Done
from yardgate.log import about

SECONDS = 600  # the longest that one command may take
Tell = Callable[[Step, str], None]
"""Told of each step: `doing`, `done`, or why it failed."""


def here(command: Command, seconds: float = SECONDS) -> Done:
    """Run a command on this host. No shell sees its arguments."""
    try:
        ran = subprocess.run(
            ("env", LANGUAGE, *command.argv),
            input=command.given,
            capture_output=True,
            text=True,
            errors="surrogateescape",
            timeout=command.patience(seconds),
        )
    except subprocess.TimeoutExpired:
        return Done(124, "", f"{command.argv[0]} took more than {seconds:g} seconds")
    return Done(ran.returncode, ran.stdout, ran.stderr)


@dataclass(frozen=True, slots=True)
class Carried:
    """What became of some steps. failed: the one that could not be done, or did not stand when it was read back; done: those before it."""

    done: tuple[Step, ...]
    failed: Step | None = None
    why: str = ""


def carry_out(at: Appliance, now: System, found: Sequence[Step], tell: Tell = lambda _step, _word: None) -> Carried:
    """Do steps on an appliance that has `now`, until one fails. Raises Unreachable, TooLate."""
    done: list[Step] = []
    for step in found:
        tell(step, "doing")
        why = _do(at, step, now)
        if why is not None:
            tell(step, why)
            return Carried(tuple(done), step, why)
        tell(step, "done")
        done.append(step)
        now = step.onto(now)
    return Carried(tuple(done))


def put_back(at: Appliance, now: System, carried: Carried, tell: Tell = lambda _step, _word: None) -> Carried:
    """Undo what was done, the latest first, beginning with what the failed step may have done. now: the appliance after all that was done.

    It goes on where something cannot be undone: `failed` is the first such step, and `why` tells of all. Raises Unreachable, TooLate.
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
        trouble = _do(at, back, now)
        tell(back, trouble or "done")
        if trouble is not None:
            first, why = first or back, [*why, trouble]
        else:
            done.append(back)
        now = back.onto(now)
    return Carried(tuple(done), first, "; ".join(why))


def _do(at: Appliance, step: Step, now: System) -> str | None:
    """Do one step and look whether it stands; why not, in words."""
    asked = System().having(step.part, step.record.name, step.record)
    try:
        with about(step=step.id):
            at.do(step, now)
            there = at.read(asked, {step.part}).part(step.part).get(step.record.name)
    except (Unreachable, TooLate):
        raise
    except ApplianceError as error:
        return str(error)
    if stands(there, step.after):
        return None
    if step.after is None:
        return f"{step.record.name} is still there"
    if there is None:
        return f"{step.record.name} is not there when it is read back"
    return f"it reads back differently from what was set; what is still missing: {words(replace(step, before=there))}"
