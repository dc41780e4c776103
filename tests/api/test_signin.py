"""Who may do what, and who is kept out."""

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web, edit
from yardgate.api.accounts.tries import FREE_TRIES, Tries
from yardgate.api.app import create_app
from yardgate.store import Store
from yardgate.store.accounts import Accounts

WRITES = [
    ("post", "/edits", edit()),
    ("post", "/undo", {"revision": 1}),
    ("post", "/redo", {"revision": 1}),
    ("post", "/versions", {"name": "x"}),
    ("post", "/back-to", {"revision": 1, "to": 1}),
    ("post", "/import", {"revision": 1, "kind": "matrix", "content": "YQ=="}),
    ("put", "/archived", {"archived": True}),
    ("post", "/copy", {"name": "x"}),
]
READS = [
    "",
    "/board?place=payroll",
    "/reason?subject=mira-oyelaran&place=payroll",
    "/stands",
    "/rules",
    "/history",
    "/versions",
    "/compare?older=1&newer=1",
    "/export/plan",
]


def test_nobody_gets_anything_without_signing_in(web: Web) -> None:
    client = web.client(None)
    for path in READS:
        assert client.get(web.at(path)).status_code == 401, path
    for method, path, body in WRITES:
        assert client.request(method, web.at(path), json=body).status_code == 401, path
    assert client.get("/api/v1/plans").status_code == 401
    assert client.get("/api/v1/accounts").status_code == 401
    assert client.get("/api/v1/session").json() == {"name": None, "role": None, "first": True, "has_password": False}


def test_a_reader_reads_and_tries_but_changes_nothing(web: Web) -> None:
    client = web.client("reader")
    for path in READS:
        assert client.get(web.at(path)).status_code == 200, path
    assert client.post(web.at("/what-if"), json=edit()).status_code == 200
    for method, path, body in WRITES:
        answer = client.request(method, web.at(path), json=body)
        assert (answer.status_code, answer.json()["title"]) == (403, "This needs a planner; a reader is a reader"), path
    assert client.get(web.at()).json()["revision"] == 1


def test_only_an_administrator_says_who_may_sign_in(web: Web) -> None:
    assert web.client("planner").get("/api/v1/accounts").status_code == 403
    boss = web.client("administrator")
    made = boss.post("/api/v1/accounts", json={"name": "Rosa", "role": "reader"}).json()
    rosa = web.client(None)
    token = made["link"].removeprefix("/sign-in?link=")
    assert rosa.post("/api/v1/session/link", json={"link": token}).json() == {
        "name": "Rosa",
        "role": "reader",
        "first": False,
        "has_password": False,
    }
    assert web.client(None).post("/api/v1/session/link", json={"link": token}).status_code == 401
    assert rosa.put("/api/v1/session/password", json={"password": "short"}).status_code == 422
    assert rosa.put("/api/v1/session/password", json={"password": "long enough now"}).status_code == 204
    assert rosa.get("/api/v1/session").json()["name"] == "Rosa"
    assert (
        web.client(None).post("/api/v1/session", json={"name": "rosa", "password": "long enough now"}).json()["role"]
        == "reader"
    )
    rosa_id = made["account"]["id"]
    assert boss.patch(f"/api/v1/accounts/{rosa_id}", json={"disabled": True}).status_code == 204
    assert rosa.get("/api/v1/session").json()["name"] is None
    boss_id = next(one["id"] for one in boss.get("/api/v1/accounts").json() if one["role"] == "administrator")
    assert boss.patch(f"/api/v1/accounts/{boss_id}", json={"role": "reader"}).status_code == 422
    assert boss.patch("/api/v1/accounts/none", json={"role": "reader"}).status_code == 404


def test_the_first_administrator_is_made_by_the_printed_link_once(tmp_path) -> None:  # type: ignore[no-untyped-def]
    store = Store(tmp_path / "y.sqlite")
    client = TestClient(create_app(store), base_url="http://localhost:8737")
    assert client.get("/api/v1/session").json()["first"] is True
    link = Accounts(store).link(None)
    assert client.post("/api/v1/session/link/kind", json={"link": link}).json() == {
        "kind": "first",
        "name": None,
        "instead_of": None,
    }
    body = {"link": link, "name": "Ann", "password": "a long enough one"}
    assert client.post("/api/v1/session/first", json={**body, "password": "short"}).status_code == 422
    answer = client.post("/api/v1/session/first", json=body)
    assert answer.json() == {"name": "Ann", "role": "administrator", "first": False, "has_password": True}
    assert client.post("/api/v1/session/first", json={**body, "name": "Eve"}).status_code == 422
    assert client.post("/api/v1/session/link/kind", json={"link": link}).json() == {
        "kind": None,
        "name": None,
        "instead_of": "Ann",
    }
    cookie = answer.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert client.delete("/api/v1/session").status_code == 204
    assert client.get("/api/v1/plans").status_code == 401


def test_a_session_ended_on_the_server_cannot_be_used_again(web: Web) -> None:
    client = web.client()
    cookie = client.app.state.cookie  # type: ignore[attr-defined]
    token = client.cookies[cookie]
    client.delete("/api/v1/session")
    client.cookies.set(cookie, token)
    assert client.get("/api/v1/plans").status_code == 401


@pytest.mark.parametrize(
    "host", ["evil.example", "127.0.0.1.evil.example", "", "evil.example:8737", "[::1", "[", "127.0.0.1@evil.example"]
)
def test_other_host_names_are_not_served(web: Web, host: str) -> None:
    assert web.client().get("/api/v1/plans", headers={"host": host}).status_code == 421


@pytest.mark.parametrize(
    "headers",
    [
        {"origin": "http://evil.example"},
        {"origin": "null"},
        {"origin": "http://["},
        {"origin": "http://127.0.0.1:9999"},
        {"sec-fetch-site": "cross-site"},
        {"sec-fetch-site": "same-site"},
    ],
)
def test_changes_from_other_pages_are_refused(web: Web, headers: dict[str, str]) -> None:
    client = web.client()
    assert client.post(web.at("/edits"), json=edit(), headers=headers).status_code == 403
    assert client.get(web.at()).json()["revision"] == 1


def test_changes_from_our_own_pages_are_taken(web: Web) -> None:
    answer = web.client().post(
        web.at("/edits"), json=edit(), headers={"origin": "http://127.0.0.1", "sec-fetch-site": "same-origin"}
    )
    assert answer.status_code == 200


def test_answers_carry_their_guards(web: Web) -> None:
    headers = web.client().get("/api/v1/plans").headers
    assert "default-src 'self'" in headers["content-security-policy"]
    assert headers["x-content-type-options"] == "nosniff"
    assert headers["cache-control"] == "no-store"


def test_guessing_is_slowed_down() -> None:
    now = 0.0
    tries = Tries(clock=lambda: now)
    pair = {"pair ann 127.0.0.1": FREE_TRIES}
    waits = []
    for _ in range(12):
        tries.failed(pair)
        waits.append(tries.wait(pair))
        now += waits[-1]
    assert waits[:FREE_TRIES] == [0] * FREE_TRIES
    assert waits[FREE_TRIES:] == [2, 4, 8, 16, 32, 60, 60, 60]
    tries.failed(pair)
    tries.succeeded(pair)
    assert tries.wait(pair) == 0
    for _ in range(FREE_TRIES + 5):
        tries.failed(pair)
    assert tries.wait(pair) == 32
    now += 901
    tries.failed(pair)
    assert tries.wait(pair) == 0, "after a quarter of an hour they are forgotten"


def test_guessing_over_the_wire_gets_429(web: Web) -> None:
    client = web.client(None)
    answers = [
        client.post("/api/v1/session", json={"name": "a planner", "password": "wrong password"})
        for _ in range(FREE_TRIES + 2)
    ]
    assert [answer.status_code for answer in answers] == [401] * (FREE_TRIES + 1) + [429]
    assert int(answers[-1].headers["retry-after"]) >= 1


def test_files_outside_the_built_interface_are_not_served(web: Web) -> None:
    client = web.client()
    for path in ("/../cli.py", "/%2e%2e/cli.py", "/assets/../../cli.py", "/assets/none.js"):
        answer = client.get(path)
        assert "def main" not in answer.text
    assert client.get("/assets/none.js").status_code == 404
