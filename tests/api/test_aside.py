"""The process for what takes long: it answers as the application itself does, to the same people, and whatever befalls it costs no more than its own answers."""

import base64
import os
import signal
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import edit
from tests.server import Server, until
from yardgate.api.app import create_app
from yardgate.api.authentication import cookie_name
from yardgate.core.model.plan import Plan
from yardgate.store.accounts import Accounts
from yardgate.store.audit import Audit

LONG = (
    "standing",
    "everyone",
    "report",
    "export/plan",
    "export/effective",
    "export/ldif",
    "remedies?who=x&place=y&low=RO&high=RW",
)


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    with Server(tmp_path / "data") as server:
        yield server


def aside(server: Server) -> int:
    """The process's number."""
    assert server.process is not None
    found = Path(f"/proc/{server.process.pid}/task/{server.process.pid}/children").read_text().split()
    assert len(found) == 1, "there is one such process"
    return int(found[0])


def said(answer: httpx.Response) -> Any:
    """What an answer says; sets are in any order."""

    def plain(found: Any) -> Any:
        if isinstance(found, dict):
            return {name: plain(value) for name, value in found.items()}
        if isinstance(found, list):
            return sorted(found) if all(isinstance(one, str) for one in found) else [plain(one) for one in found]
        return found

    return plain(answer.json()) if "json" in answer.headers["content-type"] else answer.content


def is_there(pid: int) -> bool:
    """Whether a process runs; one that nobody has asked after yet does not."""
    try:
        return "\nState:\tZ" not in Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return False


def test_it_answers_as_the_application_does(server: Server, lantern: Plan) -> None:
    plan = server.put(lantern)
    store = server.store()
    here = TestClient(create_app(store, resume=False), base_url="http://127.0.0.1")
    with server.client() as client:
        here.cookies = httpx.Cookies(dict(client.cookies.items()))
        for what in LONG:
            mine, other = (of.get(f"/api/v1/plans/{plan}/{what}") for of in (here, client))
            assert (mine.status_code, said(mine)) == (other.status_code, said(other)), what
            for name in ("content-type", "content-disposition", "etag", "cache-control", "content-security-policy"):
                assert mine.headers.get_list(name) == other.headers.get_list(name), (what, name)
        tag = client.get(f"/api/v1/plans/{plan}/standing").headers["etag"]
        assert client.get(f"/api/v1/plans/{plan}/standing", headers={"if-none-match": tag}).status_code == 304
        member = Accounts(store).begin(Accounts(store).add("m", "member").id)
        for cookies, expected in (({}, 401), ({cookie_name(store.token, secure=False): member}, 404)):
            with httpx.Client(base_url=server.url, cookies=cookies) as other:
                assert other.get(f"/api/v1/plans/{plan}/standing").status_code == expected
    store.close()


def test_both_see_what_the_other_changed(server: Server, lantern: Plan) -> None:
    plan = server.put(lantern)
    with server.client() as client:
        at = f"/api/v1/plans/{plan}"
        assert client.post(f"{at}/edits", json=edit()).json()["revision"] == 2
        assert client.get(f"{at}/standing").json()["revision"] == 2
        people = base64.b64encode(b"name\nzoe\n").decode()
        taken = client.post(f"{at}/import", json={"revision": 2, "kind": "people", "content": people})
        assert (taken.status_code, taken.json()["revision"]) == (200, 3), taken.text
        assert "zoe" in client.get(at).text
        assert client.post(f"{at}/undo", json={"revision": 3}).json()["revision"] == 4
        assert client.get(f"{at}/standing").json()["revision"] == 4
        client.post(f"{at}/import/preview", json={"revision": 4, "kind": "server", "tops": ["/srv"]})
    store = server.store()
    read = next(one for one in Audit(store).past() if one.what == "host read")
    assert (read.by, read.address) == ("boss", "127.0.0.1"), "from where it was asked"
    store.close()


def test_it_is_started_again_and_what_is_quick_never_waits_for_it(server: Server, lantern: Plan) -> None:
    plan = server.put(lantern)
    at = f"/api/v1/plans/{plan}"
    with server.client() as client, ThreadPoolExecutor(1) as pool:
        assert client.get(f"{at}/standing").status_code == 200
        first = aside(server)
        os.kill(first, signal.SIGSTOP)
        waiting = pool.submit(client.get, f"{at}/everyone")
        for _ in range(20):
            assert client.get(f"{at}/history").status_code == 200
        assert client.post(f"{at}/edits", json=edit()).status_code == 200
        assert not waiting.done()
        os.kill(first, signal.SIGKILL)
        refused = waiting.result(20)
        assert refused.status_code == 503
        assert "try again" in refused.json()["title"]
        assert client.get(f"{at}/standing").json()["revision"] == 2
        assert aside(server) != first


@pytest.mark.parametrize("end", [signal.SIGTERM, signal.SIGKILL])
def test_it_ends_with_the_server_and_leaves_nothing(server: Server, lantern: Plan, end: signal.Signals) -> None:
    plan = server.put(lantern)
    with server.client() as client:
        assert client.get(f"/api/v1/plans/{plan}/standing").status_code == 200
    pid = aside(server)
    socket = next(
        Path(line.split()[-1]) for line in Path("/proc/net/unix").read_text().splitlines() if _is_of(line, pid)
    )
    assert socket.exists()
    assert socket.parent.stat().st_mode & 0o777 == 0o700
    assert server.process is not None
    os.kill(server.process.pid, end)
    server.process.wait(20)
    until(lambda: not is_there(pid), 10)
    assert not socket.parent.exists()


def _is_of(line: str, pid: int) -> bool:
    """Whether a line of /proc/net/unix is a socket with a name that a process has open."""
    words = line.split()
    named = len(words) == 8 and words[-1].startswith("/")
    return named and f"socket:[{words[6]}]" in {os.readlink(one) for one in Path(f"/proc/{pid}/fd").iterdir()}
