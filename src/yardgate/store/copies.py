"""What was last read of each directory, kept beside the plan: what the next reading of changes goes on from."""

from pydantic import TypeAdapter
from sqlalchemy import delete, insert, select

from yardgate.core.model.directory import AccountRecord, Copy
from yardgate.store import tables
from yardgate.store.database import Store

_RECORDS: TypeAdapter[tuple[AccountRecord, ...]] = TypeAdapter(tuple[AccountRecord, ...])


class Copies:
    """The last copy of each directory of each plan."""

    def __init__(self, store: Store):
        self.store = store

    def put(self, plan: str, directory: str, copy: Copy) -> None:
        row = {
            "plan": plan,
            "directory": directory,
            "at": copy.at,
            "full": copy.full,
            "marker": copy.marker,
            "records": _RECORDS.dump_json(tuple(copy.records.values()), exclude_defaults=True).decode(),
        }
        copies = tables.copies.c
        with self.store.writing() as connection:
            connection.execute(delete(tables.copies).where(copies.plan == plan, copies.directory == directory))
            connection.execute(insert(tables.copies).values(row))

    def last(self, plan: str, directory: str) -> Copy | None:
        copies = tables.copies.c
        with self.store.reading() as connection:
            row = connection.execute(
                select(tables.copies).where(copies.plan == plan, copies.directory == directory)
            ).one_or_none()
        if row is None:
            return None
        records = {record.key: record for record in _RECORDS.validate_json(row.records)}
        return Copy(records, row.marker, row.at, row.full)

    def age(self, plan: str) -> dict[str, str]:
        """Directory -> when it was last read."""
        copies = tables.copies.c
        with self.store.reading() as connection:
            rows = connection.execute(select(copies.directory, copies.at).where(copies.plan == plan))
            return {row.directory: row.at for row in rows}
