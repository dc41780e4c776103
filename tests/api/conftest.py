"""A client that is signed in, on a store of its own."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.serving import Served, serving
from yardgate.api.app import create_app
from yardgate.core.model.plan import Plan
from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts, Role


@dataclass
class Web:
    """A store, and clients signed in to it."""

    store: Store
    plan: str

    def client(self, role: Role | None = "planner") -> TestClient:
        client = TestClient(create_app(self.store), base_url="http://127.0.0.1", raise_server_exceptions=False)
        if role:
            accounts = Accounts(self.store)
            found = accounts.by_name(f"a {role}") or accounts.add(f"a {role}", role)
            assert client.post("/api/v1/session/link", json={"link": accounts.link(found.id)}).status_code == 200
        return client

    def at(self, path: str = "") -> str:
        return f"/api/v1/plans/{self.plan}{path}"


def get(yard: Web, path: str, **query: Any) -> Any:
    answer = yard.client().get(yard.at(path), params=query)
    assert answer.status_code == 200, answer.text
    return answer.json()


def now(web: Web) -> Plan:
    return Plans(web.store).open(web.plan).plan


def kept(web: Web, edits: list[Any]) -> Plan:
    """The plan with some edits."""
    revision = Plans(web.store).open(web.plan).revision
    answer = web.client().post(web.at("/edits"), json={"revision": revision, "edits": edits})
    assert answer.status_code == 200, answer.text
    return now(web)


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    found = Store(tmp_path / "yardgate.sqlite")
    yield found
    found.close()


@pytest.fixture
def served(store: Store) -> Iterator[Served]:
    """The application on a port, in a thread of the tests."""
    with serving(store) as found:
        yield found


@pytest.fixture
def web(store: Store, lantern: Plan) -> Web:
    return Web(store, Plans(store).create(lantern, "ann").id)


@pytest.fixture
def client(web: Web) -> TestClient:
    return web.client()


def edit(
    who: str = "apprentices", level: str | None = None, revision: int = 1, place: str = "toolpaths"
) -> dict[str, Any]:
    return {"revision": revision, "edits": [{"op": "set-grant", "place": place, "who": who, "level": level}]}
