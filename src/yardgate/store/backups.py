"""Copies of the database in one file each: made while it is served or not, looked through before they count, and put in its place again.

SQLite keeps what was written last in a second file beside the database. So the database alone is no copy, and one that is laid beside
another's second file is none either; a copy made here is whole, and putting one in place moves away all that belonged to the old one.
"""

import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from fcntl import LOCK_EX, LOCK_NB, flock
from pathlib import Path

from yardgate.store.database import BESIDE, NAME, DataTrouble, newest, version_of

FOLDER = "backups"
KEPT = 14  # daily ones
DAY = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Backup:
    """A copy that was looked through. plans: name and revision of each."""

    path: Path
    size: int
    plans: tuple[tuple[str, int], ...]


def back_up(database: Path, to: Path) -> Backup:
    """Copy a database into a file that is not there yet. Raises Trouble, and leaves nothing behind then."""
    if not database.is_file():
        raise DataTrouble(f"there is no database at {database}")
    if to.exists():
        raise DataTrouble(f"{to} is there already; name a file that is not")
    part = to.with_name(f"{to.name}.part")
    try:
        to.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        part.unlink(missing_ok=True)
        os.close(os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        with closing(sqlite3.connect(database, timeout=30)) as source, closing(sqlite3.connect(part)) as copy:
            source.backup(copy)
            copy.execute("PRAGMA journal_mode=DELETE")
        found = looked_through(part)
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.rename(to)
        _settled(to.parent)
    except (OSError, sqlite3.Error) as error:
        part.unlink(missing_ok=True)
        raise DataTrouble(f"{database} could not be copied to {to}: {error}") from None
    except DataTrouble:
        part.unlink(missing_ok=True)
        raise
    return Backup(to, to.stat().st_size, found.plans)


def looked_through(path: Path) -> Backup:
    """A database file that is whole: every page, every reference between rows. Raises Trouble."""
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)) as connection:
            said = [row[0] for row in connection.execute("PRAGMA integrity_check(3)")]
            if said != ["ok"]:
                raise DataTrouble(f"{path} is damaged: {'; '.join(said)}")
            if connection.execute("PRAGMA foreign_key_check").fetchone() is not None:
                raise DataTrouble(f"{path} is damaged: rows name others that are not there")
            version = version_of(connection)
            if version > newest():
                raise DataTrouble(f"{path} was made by a newer Yard Gate (its tables are of version {version})")
            plans = connection.execute("SELECT name, revision FROM plans ORDER BY created_at").fetchall()
    except sqlite3.Error as error:
        raise DataTrouble(f"{path} is not a database of Yard Gate, or damaged: {error}") from None
    return Backup(path, path.stat().st_size, tuple((str(name), int(revision)) for name, revision in plans))


def restore(data: Path, source: Path) -> tuple[Backup, Path | None]:
    """Put a copy in the place of a data folder's database; what was there is kept in a folder beside it, which is told too.

    Raises Trouble: where the copy is not whole, or the folder is served.
    """
    looked_through(source)
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    with alone(data):
        new = data / f"{NAME}.restored"
        new.unlink(missing_ok=True)
        found = back_up(source, new)
        kept: Path | None = None
        there = [data / f"{NAME}{ending}" for ending in BESIDE if (data / f"{NAME}{ending}").exists()]
        if there:
            kept = data / f"before-restore-{_stamp()}"
            kept.mkdir(mode=0o700)
            for file in reversed(there):  # the database itself last: what is left in between is never taken for whole
                file.rename(kept / file.name)
        new.rename(data / NAME)
        _settled(data)
    return Backup(data / NAME, found.size, found.plans), kept


def daily(database: Path, most: int = KEPT, now: datetime | None = None) -> Backup | None:
    """Today's copy beside a database, where the last one is a day old; the oldest ones go. Raises Trouble."""
    at = now or datetime.now(UTC)
    folder = database.parent / FOLDER
    there = sorted(folder.glob("daily-*.sqlite"))
    if most <= 0 or (there and at - _made(there[-1]) < DAY):
        return None
    made = back_up(database, folder / f"daily-{_stamp(at)}.sqlite")
    for old in [*there, made.path][:-most]:
        old.unlink(missing_ok=True)
    return made


def before_migration(database: Path, version: str) -> Backup:
    """A copy of a database as it is, before its tables are changed."""
    return back_up(database, database.parent / FOLDER / f"before-{version}-{_stamp()}.sqlite")


@contextmanager
def alone(data: Path) -> Iterator[None]:
    """While nobody else serves a data folder: what is under way on an appliance must be gone on with by one server alone.

    Raises Trouble.
    """
    with (data / "served").open("a") as held:
        try:
            flock(held, LOCK_EX | LOCK_NB)
        except BlockingIOError:
            raise DataTrouble(f"{data} is served already; end that first, or name another folder with --data") from None
        yield


def _stamp(at: datetime | None = None) -> str:
    return f"{at or datetime.now(UTC):%Y%m%dT%H%M%S%f}"[:-3]


def _made(path: Path) -> datetime:
    try:
        return datetime.strptime(path.stem.rpartition("-")[2][:15], "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return datetime.fromtimestamp(path.stat().st_mtime, UTC)


def _settled(folder: Path) -> None:
    """Let the names in a folder be on disk."""
    fd = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)
