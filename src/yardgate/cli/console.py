"""What the commands share: options, messages, and the plan that a command works on."""

import sys
from datetime import date, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from yardgate.core.access.auth_sys import claim, claimed
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit
from yardgate.core.model.names import Names
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import GUEST, Plan, new_plan
from yardgate.core.model.share import Over, Protocol, Share
from yardgate.formats import planfile
from yardgate.formats.reading import FormatError, decode
from yardgate.settings import Settings
from yardgate.store import Plans, Store

out, err = Console(emoji=False), Console(stderr=True, emoji=False)

Data = Annotated[Path | None, typer.Option(help="Data folder (or YARDGATE_DATA).")]
PlanName = Annotated[str | None, typer.Option("--plan", help="Name or id of a plan in the data folder.")]
PlanPath = Annotated[Path | None, typer.Option("--file", help="Work on this plan file instead of the data folder.")]
AsJson = Annotated[bool, typer.Option("--json", help="JSON instead of words.")]
On = Annotated[datetime | None, typer.Option(formats=["%Y-%m-%d"], help="As of this day; today where not said.")]
To = Annotated[Path | None, typer.Option("--out", "-o", help="Write here instead of standard output.")]


class Refused(Exception):
    """Ends the command with a message and a code."""

    def __init__(self, message: str, code: int = 2):
        self.code = code
        super().__init__(message)


def day_of(on: On) -> date:
    """The day that a command is to speak of."""
    return on.date() if on else date.today()


def settings_of(data: Path | None, **more: Any) -> Settings:
    given = {"data": data, **more}
    return Settings(**{key: value for key, value in given.items() if value is not None})


def read_bytes(path: Path) -> bytes:
    try:
        return sys.stdin.buffer.read() if str(path) == "-" else path.read_bytes()
    except OSError as error:
        raise Refused(f"{path}: {error.strerror}") from None


def load(path: Path) -> Plan:
    try:
        return planfile.read(decode(read_bytes(path)))
    except FormatError as error:
        raise FormatError(f"{path}: {error}") from None


def write(content: str | bytes, to: Path | None) -> None:
    data = content.encode() if isinstance(content, str) else content
    if to is None:
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()
    else:
        to.write_bytes(data)


class PlanSource:
    """A plan to work on: in the data folder, or a plan file."""

    def __init__(self, data: Path | None, name: str | None, file: Path | None, make: bool = False):
        self.file = file
        if file is not None:
            self.plan = load(file) if file.exists() or not make else new_plan(file.stem)
            return
        self.plans = Plans(Store(settings_of(data).database))
        opened = [self.plans.open(plan_id) for plan_id in self.plans.ids()]
        found = [o for o in opened if name in (o.id, o.plan.name) or (name is None and not o.archived)]
        if not found and make and name:
            found = [self.plans.create(new_plan(name), "command line")]
        if len(found) != 1:
            have = ", ".join(f"{o.plan.name} ({o.id})" for o in opened) or "none"
            raise Refused(f"say which plan with --plan, or give a plan file with --file; plans here: {have}")
        self.opened, self.plan = found[0], found[0].plan

    def keep(self, edits: tuple[Edit, ...], words: str | None = None, imported: bool = False) -> Plan:
        if self.file is not None:
            after, _ = apply(self.plan, edits)
            write(planfile.write(after), self.file)
            return after
        kind = "import" if imported else "edit"
        return self.plans.commit(self.opened.id, self.opened.revision, edits, "command line", kind, words).plan  # type: ignore[arg-type]


def one_of(found: tuple[str, ...], name: str, kind: str) -> str:
    """The only thing that a name means. Raises Refused where it means none or several."""
    if len(found) != 1:
        raise Refused(
            f"{show(name)} is not a {kind} of this plan"
            if not found
            else f"{show(name)} may mean several: {', '.join(found)}"
        )
    return found[0]


def subject_of(plan: Plan, who: str, *, guest: bool = False) -> str:
    """The id of a user or group, by id or by any of their names."""
    if who in plan.users or who in plan.groups or (guest and who == GUEST):
        return who
    return one_of(Names(plan).who(who), who, "user or group")


def walker(plan: Plan, who: str, over: Protocol) -> tuple[Plan, str]:
    """Somebody who goes in over a share, and the plan in which to ask for them: the guest too, or numbers that a client claims."""
    try:
        made = claim(who) if over == "nfs" and who not in plan.users and who not in plan.groups else None
    except ValueError as error:
        raise Refused(str(error)) from None
    return claimed(plan, made) if made is not None else (plan, subject_of(plan, who, guest=True))


def share_of(plan: Plan, name: str) -> Share:
    found = tuple(share.id for share in plan.shares.values() if fold(name) in (fold(share.id), fold(share.name)))
    return plan.shares[one_of(found, name, "share")]


def way_in(share: Share, over: Protocol, address: str | None, name: str) -> Over:
    try:
        return Over(share.id, over, None if address is None else ip_address(address), name)
    except ValueError:
        raise Refused(f"{show(address or '')} is not an address of IPv4 or IPv6") from None
