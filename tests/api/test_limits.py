"""Nobody can hold others up: by what they send, how slowly they send it, how often they connect, or by how many listen."""

import logging
import socket
import threading
import time
from typing import Any

import pytest

from tests.api.conftest import edit
from tests.server import until
from tests.serving import Served
from yardgate.api.transport import guard, wire
from yardgate.api.transport.guard import IMPORTED, KIB, MIB
from yardgate.core.model.plan import Plan
from yardgate.services import events
from yardgate.store import Plans
from yardgate.store.accounts import Accounts

HEAD = "POST {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n{more}\r\n"


def said(conn: socket.socket) -> bytes:
    """All that comes until the other side ends it."""
    found = b""
    conn.settimeout(20)
    try:
        while part := conn.recv(65536):
            found += part
    except ConnectionResetError:
        pass
    return found


def test_how_much_somebody_may_send_goes_by_who_they_are(served: Served, lantern: Plan) -> None:
    plan = Plans(served.store).create(lantern, "ann").id
    edits, taking = f"/api/v1/plans/{plan}/edits", f"/api/v1/plans/{plan}/import/preview"

    def sends(role: str | None, path: str, size: int) -> int:
        body = b'{"revision": 1, "edits": []' + b" " * (size - 28) + b"}"
        with served.client(role) as client:  # type: ignore[arg-type]
            return client.post(path, content=body, headers={"content-type": "application/json"}).status_code

    assert sends(None, edits, 60 * KIB) == 401
    assert sends(None, edits, 70 * KIB) == 413
    assert sends(None, taking, 70 * KIB) == 413
    assert sends("reader", edits, 70 * KIB) == 403
    assert sends("planner", edits, MIB + KIB) == 413
    assert sends("reader", taking, MIB + KIB) == 413
    assert sends("planner", edits, 70 * KIB) == 422
    assert sends("planner", taking, MIB + KIB) == 422
    assert sends("administrator", taking, IMPORTED + KIB) == 413
    with served.client("planner") as client:
        many = b'{"revision": 1, "edits": [' + b"[]," * 300_000 + b"0]}"
        answer = client.post(edits, content=many, headers={"content-type": "application/json"})
        assert (answer.status_code, "too many parts" in answer.text) == (413, True)
        for content in (b"[" * 60_000, b'{"revision": ' + b"1" * 6000 + b"}", b"\xff\xfe{", b"{", b'{"a": NaN}'):
            answer = client.post(edits, content=content, headers={"content-type": "application/json"})
            assert (answer.status_code, answer.headers["x-content-type-options"]) == (422, "nosniff"), answer.text
        for path in ("/%00", "/api/v1/plans/%00", "/" + "a" * 6000, "/assets/" + "b" * 3000):
            answer = client.get(path)
            assert (answer.status_code, answer.headers["x-content-type-options"]) == (404, "nosniff"), path


def test_large_files_are_taken_in_few_at_once(served: Served, lantern: Plan, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(guard, "PATIENCE", 0.3)
    plan = Plans(served.store).create(lantern, "ann").id
    cookie = f"Cookie: {served.app.state.cookie}={served.token('planner')}\r\nContent-Length: {2 * MIB}\r\n"
    head = HEAD.format(path=f"/api/v1/plans/{plan}/import/preview", more=cookie).encode()
    slow = [served.wire() for _ in range(guard.AT_ONCE)]
    for conn in slow:
        conn.sendall(head + b"{" * 1000)
    time.sleep(0.2)
    with served.wire() as third:
        third.sendall(head + b" " * 1000)
        assert b" 503 " in said(third).splitlines()[0]
    with served.client("planner") as client:
        assert client.post(f"/api/v1/plans/{plan}/edits", json=edit()).status_code == 200, "others are not held up"
    for conn in slow:
        conn.close()

    def taken() -> bool:
        with served.client("planner") as client:
            body = b'{"revision": 2' + b" " * (MIB + KIB) + b"}"
            path = f"/api/v1/plans/{plan}/import/preview"
            return client.post(path, content=body, headers={"content-type": "application/json"}).status_code == 422

    until(taken)


def test_what_does_not_come_to_its_end_in_time_is_ended(served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(wire, "HEAD", 0.5)
    monkeypatch.setattr(guard, "QUIET", 0.5)
    begun = time.monotonic()
    half = [served.wire() for _ in range(40)]
    for number, conn in enumerate(half):
        conn.sendall((b"", b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Half: ")[number % 2])
    body = served.wire()
    body.sendall(HEAD.format(path="/api/v1/session", more="Content-Length: 100\r\n").encode() + b"{")
    kept = served.wire()
    kept.sendall(b"GET /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
    answer = b""
    while not answer.endswith(b"}"):
        answer += kept.recv(65536)
    assert answer.startswith(b"HTTP/1.1 200")
    kept.sendall(b"GET /api/v1/sess")
    assert all(said(conn) == b"" for conn in half)
    assert said(body).startswith(b"HTTP/1.1 408")
    assert said(kept) == b"", "nor is the second request of a connection waited for"
    assert time.monotonic() - begun < 15, "they were ended, not waited for"


def test_the_same_line_comes_into_a_log_but_once_a_while() -> None:
    log, heard = logging.getLogger("tests.sparing"), []
    log.propagate = False
    handler = logging.Handler()
    handler.emit = lambda record: heard.append(record.getMessage())  # type: ignore[method-assign]
    log.addHandler(handler)
    log.addFilter(wire.Sparing())
    for number in range(1000):
        log.warning("Invalid HTTP request received.")
        log.warning("socket.accept() out of system resource %d", number)
    assert heard == ["Invalid HTTP request received.", "socket.accept() out of system resource 0"]


def test_more_connections_than_there_may_be_cost_the_quiet_ones(
    served: Served, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(wire, "MOST", 30)
    quiet = [served.wire() for _ in range(80)]
    with served.client() as client:
        assert client.get("/api/v1/session").status_code == 200
    assert sum(not _open(conn) for conn in quiet) >= 50
    for conn in quiet:
        conn.close()


def _open(conn: socket.socket) -> bool:
    conn.settimeout(0.02)
    try:
        return conn.recv(1) != b""
    except TimeoutError:
        return True
    except OSError:
        return False


def test_who_listens_is_counted_and_hears_nothing_any_more_once_shut_out(
    served: Served, lantern: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(events, "EACH", 3)
    plan, heard = Plans(served.store).create(lantern, "ann").id, []
    path = f"/api/v1/plans/{plan}/events"

    served.token("reader")

    def listen(number: int) -> None:
        with served.client("reader") as client, client.stream("GET", path) as stream:
            heard.extend((number, line) for line in stream.iter_lines() if line.startswith("data:"))
            heard.append((number, "ended"))

    listeners = [threading.Thread(target=listen, args=(number,)) for number in range(3)]
    for listener in listeners:
        listener.start()
    until(lambda: len(heard) == 3)
    with served.client("reader") as client:
        assert client.get(path).status_code == 429
    accounts = Accounts(served.store)
    accounts.add("boss", "administrator")
    reader = accounts.by_name("a reader")
    assert reader is not None
    accounts.change(reader.id, disabled=True)
    until(lambda: sum(line == "ended" for _, line in heard) == 3)
    with served.client("planner") as client:
        assert client.post(f"/api/v1/plans/{plan}/edits", json=edit()).status_code == 200
    assert sorted(line for _, line in heard) == ["data: 1"] * 3 + ["ended"] * 3
    assert served.app.state.services.news.listeners == set()


@pytest.mark.parametrize(
    ("edit", "said"),
    [
        ({"op": "put-place", "place": {"id": "p", "name": "p", "kind": "pool", "acl": {"style": "mode", "bits": "750"}}}, "bits: Input should be a valid integer"),
        ({"op": "put-place", "place": {"id": "p", "name": "p", "kind": "pool", "acl": {"style": "mode", "bits": True}}}, "bits: Input should be a valid integer"),
        ({"op": "put-user", "user": {"id": "u", "name": "u", "uid": "12"}}, "uid: Input should be a valid integer"),
        ({"op": "put-user", "user": {"id": "u", "name": "u", "enabled": 1}}, "enabled: Input should be a valid boolean"),
    ],
)  # fmt: skip
def test_json_is_taken_as_it_is_written(served: Served, lantern: Plan, edit: Any, said: str) -> None:
    plan = Plans(served.store).create(lantern, "ann").id
    with served.client("planner") as client:
        answer = client.post(f"/api/v1/plans/{plan}/edits", json={"revision": 1, "edits": [edit]})
        assert (answer.status_code, said in answer.json()["detail"]) == (422, True), answer.text
        for revision in (True, "1", 1.5):
            whole = {"revision": revision, "edits": [{"op": "set-title", "name": "x", "office": ""}]}
            answer = client.post(f"/api/v1/plans/{plan}/edits", json=whole)
            assert (answer.status_code, "revision" in answer.json()["detail"]) == (422, True), answer.text
