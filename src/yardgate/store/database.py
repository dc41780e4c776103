"""Opening the database: SQLite with a write-ahead log, every commit on disk before it is acknowledged, schema brought up to date."""

import os
import secrets
import sqlite3
import stat
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from threading import Lock
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DBAPIError

NAME = "yardgate.sqlite"
BESIDE = ("", "-wal", "-shm")  # endings of the database's name, and of what SQLite keeps beside it
MARK = "installation"
"""A file in the data folder with the installation's own token: where it is, a database was."""


class DataTrouble(Exception):
    """The data cannot be used as it is; in words for a person."""


def connect(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30, "check_same_thread": False})

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _record: Any) -> None:
        connection.isolation_level = None  # transactions begin where we say so, below
        for setting in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
            connection.execute(f"PRAGMA {setting}")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        connection.exec_driver_sql(connection.get_execution_options().get("begin", "BEGIN"))

    return engine


MIGRATIONS = Path(__file__).parent / "migrations"


def newest() -> str:
    """The version of the tables that this program goes by."""
    return max(file.name[1:5] for file in (MIGRATIONS / "versions").glob("v*.py"))


def version_of(connection: sqlite3.Connection) -> str:
    """The version of a database's tables; empty where it has none yet."""
    if connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").fetchone() is None:
        return ""
    row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
    return "" if row is None else str(row[0])


def upgrade(path: Path, engine: Engine, before: Callable[[str], object]) -> None:
    """Bring the schema up to date; `before` is called with the old version first. Alembic is loaded only where there is something to do,
    which most starts have not. Raises Trouble."""
    with closing(sqlite3.connect(path, timeout=30)) as connection:
        version = version_of(connection)
    if version == newest():
        return
    if version > newest():
        raise DataTrouble(f"{path} was made by a newer Yard Gate (its tables are of version {version}); use that one")
    if version:
        before(version)
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["engine"] = engine
    with _MIGRATING:
        command.upgrade(config, "head")


_MIGRATING = Lock()  # Alembic keeps its context in module globals


class Store:
    """One installation's database. Writers of one process take turns; readers see the last commit.

    Raises Trouble, where it cannot be opened. What is in it is nobody's but the account's that it runs under.
    """

    def __init__(self, path: Path):
        self.path = path
        try:
            _private(path)
            self.engine = connect(path)
            self._turn = Lock()
            upgrade(path, self.engine, self._copied)
            self.token, self.secret = _installation(path.parent)
        except (OSError, sqlite3.Error, DBAPIError) as error:
            raise DataTrouble(_words(path, error)) from None

    def _copied(self, version: str) -> None:
        from yardgate.store.backups import before_migration

        before_migration(self.path, version)

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        with self.engine.begin() as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction that has the write lock from its start: what it reads stays true until it commits."""
        with self._turn, self.engine.execution_options(begin="BEGIN IMMEDIATE").begin() as connection:
            yield connection

    def close(self) -> None:
        """All that was written is in the one file then, as far as nobody else has it open."""
        with suppress(DBAPIError), self.engine.connect() as connection:
            cursor = connection.connection.cursor()
            cursor.execute("PRAGMA busy_timeout = 2000")
            cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self.engine.dispose()


def _private(path: Path) -> None:
    """Make the folder and the database for nobody else, and mend what was opened to others. Raises Trouble, OSError."""
    folder = path.parent
    if not folder.is_dir():
        folder.mkdir(parents=True, mode=0o700)
    elif path.exists() and path.name == NAME:
        mode = folder.stat().st_mode
        if mode & 0o077 and not mode & stat.S_ISVTX:
            folder.chmod(stat.S_IMODE(mode) & ~0o077)
    if not path.exists():
        beside = [ending for ending in BESIDE[1:] if path.with_name(f"{path.name}{ending}").exists()]
        if beside or (path.name == NAME and (folder / MARK).exists()):
            raise DataTrouble(
                f"{path} is missing, though there was one. Put it back with “yardgate restore BACKUP --data {folder}” "
                f"(daily copies are in {folder / 'backups'}), or name an empty folder with --data to start fresh"
            )
        os.close(os.open(path, os.O_CREAT | os.O_WRONLY, 0o600))
    for ending in BESIDE:
        with suppress(FileNotFoundError):
            one = path.with_name(f"{path.name}{ending}")
            if one.stat().st_mode & 0o077:
                one.chmod(0o600)


def _installation(folder: Path) -> tuple[str, bytes]:
    """The installation's own token, which tells it from others, and a secret; made once."""
    path, new = folder / MARK, folder / f"{MARK}.{secrets.token_hex(4)}"
    if not path.exists():
        with open(os.open(new, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "w") as file:
            file.write(f"{secrets.token_hex(6)}\n{secrets.token_hex(32)}\n")
        with suppress(FileExistsError):
            os.link(new, path)
        new.unlink()
    token, secret = path.read_text().split()
    return token, bytes.fromhex(secret)


def _words(path: Path, error: Exception) -> str:
    said = str(error.orig) if isinstance(error, DBAPIError) else str(error)
    if isinstance(error, PermissionError) or "readonly" in said or "unable to open" in said:
        return (
            f"{path} cannot be opened to write: {said}. Whose it is, and whether its disk is full or read-only, decides"
        )
    if "malformed" in said or "not a database" in said or "corrupt" in said:
        return f"{path} is damaged: {said}. Put a copy in its place with “yardgate restore BACKUP --data {path.parent}”"
    return f"{path} cannot be used: {said}"
