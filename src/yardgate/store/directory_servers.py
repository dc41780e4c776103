"""Which server each directory is read from, as an administrator agreed: only there a password that is known here is sent."""

from pydantic import TypeAdapter
from sqlalchemy import delete, insert, select

from yardgate.core.model.directory import Server
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

_SERVER = TypeAdapter(Server)


class Servers:
    """Those of all plans' directories."""

    def __init__(self, store: Store):
        self.store = store

    def agreed(self, plan: str, directory: str) -> Server | None:
        servers = tables.servers.c
        with self.store.reading() as connection:
            query = select(servers.server).where(servers.plan == plan, servers.directory == directory)
            said = connection.scalar(query)
        return None if said is None else _SERVER.validate_python(said)

    def agree(self, plan: str, directory: str, server: Server, by: str) -> None:
        servers = tables.servers
        row = {"plan": plan, "directory": directory, "server": _SERVER.dump_python(server), "at": now(), "by": by}
        with self.store.writing() as connection:
            c = servers.c
            connection.execute(delete(servers).where(c.plan == plan, c.directory == directory))
            connection.execute(insert(servers).values(**row))
