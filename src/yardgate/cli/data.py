"""Commands for the data folder as a whole: copies of it, putting one back, looking it through."""

import tempfile
from pathlib import Path
from typing import Annotated

import typer

from yardgate.cli.console import Data, Refused, out, settings_of
from yardgate.core.model.naming import show
from yardgate.store.backups import Backup, back_up
from yardgate.store.backups import restore as put_back
from yardgate.store.integrity import look_through


def backup(to: Annotated[Path, typer.Argument(help="The file to make.")], data: Data = None) -> None:
    """Copy the data folder's database into one file, also while it is served, and look the copy through."""
    _say(f"{to} holds", back_up(settings_of(data).database, to))


def restore(source: Annotated[Path, typer.Argument(help="A copy.")], data: Data = None) -> None:
    """Put a copy in the place of the data folder's database. What was there is kept beside it."""
    found, kept = put_back(settings_of(data).data, source)
    _say("Put back:", found)
    if kept is not None:
        out.print(f"What was there is in {kept}", markup=False, highlight=False, soft_wrap=True)


def check_data(data: Data = None) -> None:
    """Look the database through: its pages, its rows, and every plan against its own journal. Exit code 1 where something is wrong."""
    path = settings_of(data).database
    with tempfile.TemporaryDirectory(prefix="yardgate-") as folder:  # a copy has what SQLite keeps beside it, too
        _say("Whole:", back_up(path, Path(folder) / "copy.sqlite"))
    wrong = list(look_through(path))
    for line in wrong:
        out.print(line, markup=False, highlight=False, soft_wrap=True)
    if wrong:
        raise Refused("Copies are in the folder backups; “yardgate restore” puts one back", 1)
    out.print("Every plan is what its journal says.")


def _say(head: str, found: Backup) -> None:
    plans = ", ".join(f"{show(name)} (revision {revision})" for name, revision in found.plans) or "no plan"
    out.print(
        f"{head} {plans}; {found.size / 1e6:.1f} MB, looked through", markup=False, highlight=False, soft_wrap=True
    )
