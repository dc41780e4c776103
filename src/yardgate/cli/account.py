"""`yardgate account`: who may sign in to Yard Gate itself, for whoever has its data folder."""

from typing import Annotated, get_args

import typer
from rich.table import Table

from yardgate.cli.console import Data, Refused, out, settings_of
from yardgate.core.model.naming import show
from yardgate.store import Store
from yardgate.store.accounts import Account, Accounts, Role
from yardgate.store.audit import Audit

app = typer.Typer(no_args_is_help=True, help="Who may sign in to Yard Gate itself.")
BY = "command line"


def _found(accounts: Accounts, name: str) -> Account:
    found = accounts.by_name(name)
    if found is None:
        raise Refused(f"there is no account {show(name)}")
    return found


def _role(role: str) -> Role:
    roles: tuple[Role, ...] = get_args(Role)
    found = next((one for one in roles if one == role), None)
    if found is None:
        raise Refused(f"{show(role)} is not a role; say {', '.join(roles)}")
    return found


def _print_link(accounts: Accounts, account: str | None, address: str) -> None:
    out.print(f"{address}/sign-in?link={accounts.link(account)}", soft_wrap=True, highlight=False)


@app.command("list")
def account_list(data: Data = None) -> None:
    """Everyone who may sign in."""
    table = Table("name", "role", "state", box=None)
    for found in Accounts(Store(settings_of(data).database)).all():
        state = "disabled" if found.disabled else "active" if found.has_password else "no password yet"
        table.add_row(found.name, found.role, state)
    out.print(table)


@app.command("add")
def account_add(
    name: str,
    role: Annotated[str, typer.Option(help="administrator, planner, reader or member")] = "planner",
    data: Data = None,
) -> None:
    """Add an account; prints a link that signs in once."""
    settings = settings_of(data)
    store = Store(settings.database)
    accounts = Accounts(store)
    found = accounts.add(name, _role(role))
    Audit(store).say("account added", BY, f"{found.name} as {found.role}")
    _print_link(accounts, found.id, settings.address)


@app.command("change")
def account_change(
    name: str,
    role: str | None = None,
    disable: Annotated[bool | None, typer.Option("--disable/--enable")] = None,
    data: Data = None,
) -> None:
    """Change a role, or shut or open an account."""
    store = Store(settings_of(data).database)
    accounts = Accounts(store)
    found, wanted = _found(accounts, name), _role(role) if role else None
    accounts.change(found.id, wanted, disable)
    if wanted is not None:
        Audit(store).say("role changed", BY, f"{found.name}: {found.role} to {wanted}")
    if disable is not None:
        Audit(store).say("account disabled" if disable else "account enabled", BY, found.name)


@app.command("link")
def account_link(name: Annotated[str | None, typer.Argument()] = None, data: Data = None) -> None:
    """Print a link that signs an account in once, within a day; without a name, one that makes the first administrator."""
    settings = settings_of(data)
    store = Store(settings.database)
    accounts = Accounts(store)
    found = _found(accounts, name) if name else None
    Audit(store).say("link made", BY, found.name if found is not None else "for the first administrator")
    _print_link(accounts, found.id if found is not None else None, settings.address)
