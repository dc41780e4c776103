"""Opening the database: SQLite with a write-ahead log, every commit on disk before it is acknowledged, schema brought up to date."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import Lock
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, inspect


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


def upgrade(engine: Engine) -> None:
    """Bring the schema up to date. Alembic is loaded only where there is something to do, which most starts have not."""
    newest = max(file.name[1:5] for file in (MIGRATIONS / "versions").glob("v*.py"))
    with engine.begin() as connection:
        known = inspect(connection).has_table("alembic_version")
        if known and connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() == newest:
            return
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["engine"] = engine
    with _MIGRATING:
        command.upgrade(config, "head")


_MIGRATING = Lock()  # Alembic keeps its context in module globals


class Store:
    """One installation's database. Writers of one process take turns; readers see the last commit."""

    def __init__(self, path: Path):
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self.engine = connect(path)
        self._turn = Lock()
        upgrade(self.engine)

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
        self.engine.dispose()
