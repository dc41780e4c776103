"""Directories from the command line, made for cron: nothing to type, the password from the environment or a file."""

import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from yardgate.cli.console import AsJson, Data, PlanName, PlanPath, PlanSource, Refused, err, out, read_bytes
from yardgate.core.directory.idmap import NUMBER_KINDS, AccountTrouble, troubles
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.model.directory import Copy, Directory
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.drivers.directory.accounts import records
from yardgate.drivers.directory.passwords import VARIABLE, given
from yardgate.drivers.directory.progress import DirectoryError, Progress
from yardgate.formats import ldif
from yardgate.store.copies import Copies
from yardgate.store.directory_servers import Servers
from yardgate.store.plans import now

app = typer.Typer(
    no_args_is_help=True,
    help=f"Directories that a plan has joined. The reading account's password comes from {VARIABLE} or {VARIABLE}_FILE.",
)
DirectoryName = Annotated[
    str | None, typer.Argument(help="Short name or domain; may be left out where there is but one.")
]


def _joined(work: PlanSource, name: str | None) -> Directory:
    have = list(work.plan.directories.values())
    found = [
        d for d in have if name is None or name.casefold() in (d.name.casefold(), d.domain.casefold(), d.id.casefold())
    ]
    if len(found) != 1:
        names = ", ".join(directory.name for directory in have) or "none"
        raise Refused(f"say which directory; joined here: {names}")
    return found[0]


def _secret(work: PlanSource, directory: Directory) -> str | None:
    """The password, where it goes to the server that was agreed on. Raises Refused."""
    if work.file is None and Servers(work.plans.store).agreed(work.opened.id, directory.id) != directory.server:
        raise Refused(
            f"Nobody agreed yet that {show(directory.name)} is read as its settings say now ({_server_words(directory)}). "
            f"Where that is right, say so once: yardgate directory agree {directory.name}",
            1,
        )
    return given(directory)


def _server_words(directory: Directory) -> str:
    at = directory.controller or f"a controller of {directory.domain}"
    certificate = "any that the system trusts" if directory.fingerprint is None else directory.fingerprint[:16] + "…"
    secured = "in plain text" if directory.security == "plain" else f"{directory.security}, certificate {certificate}"
    return f"at {at}, {secured}, as {directory.reader or 'nobody'}"


@app.command("agree")
def agree(name: DirectoryName = None, data: Data = None, plan: PlanName = None) -> None:
    """Say that a directory's password goes to the server that its settings name now."""
    work = PlanSource(data, plan, None)
    directory = _joined(work, name)
    Servers(work.plans.store).agree(work.opened.id, directory.id, directory.server, "command line")
    said = f"{directory.name} is read {_server_words(directory)}"
    out.print(said, markup=False, highlight=False, soft_wrap=True)


@app.command("status")
def status(data: Data = None, plan: PlanName = None, file: PlanPath = None, as_json: AsJson = False) -> None:
    """Every joined directory: from when its copy is, what came from it, and what is wrong. Exit code 1 where something is wrong with a number."""
    work = PlanSource(data, plan, file)
    ages = {} if file is not None else Copies(work.plans.store).age(work.opened.id)
    told = [_told(work.plan, directory, ages.get(directory.id)) for directory in work.plan.directories.values()]
    if as_json:
        out.print_json(json.dumps([asdict(one) for one in told]))
    else:
        table = Table("directory", "read", "accounts", "groups", "gone", box=None)
        for one in told:
            table.add_row(one.name, one.read or "never", str(one.accounts), str(one.groups), str(len(one.gone)))
        out.print(table)
        for trouble in (trouble for one in told for trouble in one.troubles):
            err.print(trouble.words, markup=False, style="yellow", highlight=False)
    if any(trouble.kind in NUMBER_KINDS for one in told for trouble in one.troubles):
        raise typer.Exit(1)


@dataclass(frozen=True, slots=True)
class _Status:
    name: str
    domain: str
    read: str | None
    accounts: int
    groups: int
    gone: list[str]
    troubles: tuple[AccountTrouble, ...]


def _told(plan: Plan, directory: Directory, at: str | None) -> _Status:
    users = [user for user in plan.users.values() if user.origin == directory.id]
    groups = [group for group in plan.groups.values() if group.origin == directory.id]
    gone = [user.id for user in users if user.gone] + [group.id for group in groups if group.gone]
    return _Status(
        directory.name,
        directory.domain,
        at,
        sum(not user.gone for user in users),
        sum(not group.gone for group in groups),
        [plan.called(who) for who in gone],
        troubles(plan, directory),
    )


@app.command("test")
def try_it(name: DirectoryName = None, data: Data = None, plan: PlanName = None, file: PlanPath = None) -> None:
    """Try every step of reading a directory. Exit code 1 at the first that fails."""
    from yardgate.drivers.directory.ldap import check  # slow to load

    work = PlanSource(data, plan, file)
    directory = _joined(work, name)
    try:
        for step in check(directory, _secret(work, directory)):
            out.print(f"{step.step}: {step.words}", markup=False, highlight=False, soft_wrap=True)
    except DirectoryError as error:
        raise Refused(f"{error.step}: {error.words}", 1) from None


@app.command("read")
def read(
    name: DirectoryName = None,
    full: Annotated[bool, typer.Option("--full", help="Everything, not only what has changed.")] = False,
    from_ldif: Annotated[
        Path | None, typer.Option("--ldif", help="Take the content from this file; - is standard input.")
    ] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would change; keep nothing.")] = False,
    data: Data = None,
    plan: PlanName = None,
    file: PlanPath = None,
) -> None:
    """Read a directory and bring the plan in step with it. Says what changed; nothing where nothing did."""
    from yardgate.drivers.directory.ldap import connect, read_all, read_changes  # slow to load

    work = PlanSource(data, plan, file)
    directory = _joined(work, name)
    copies = None if file is not None else Copies(work.plans.store)
    if from_ldif is not None:
        copy = Copy(records(directory, ldif.read(read_bytes(from_ldif))), None, now())
    else:
        before = None if full or copies is None else copies.last(work.opened.id, directory.id)
        try:
            with connect(directory, _secret(work, directory)) as reader:
                copy = read_all(reader, Progress()) if before is None else read_changes(reader, before, Progress())
        except DirectoryError as error:
            raise Refused(
                f"{show(directory.name)} could not be read ({error.step}): {error.words} The plan is as before.", 1
            ) from None
    found = sync(work.plan, directory, copy.records.values())
    apply(work.plan, found.edits)
    for item in found.items:
        out.print(item.words, markup=False, highlight=False, soft_wrap=True)
    for left in found.left_out:
        err.print(f"left out: {show(left.name)}: {left.why}", markup=False, style="yellow", highlight=False)
    if dry_run:
        return
    if found.edits:
        work.keep(found.edits, f"followed {directory.name}: {len(found.items)} changes", imported=True)
    if copies is not None:
        copies.put(work.opened.id, directory.id, copy)
