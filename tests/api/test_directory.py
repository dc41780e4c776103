"""Directories over the API: tried, read, looked at, kept; and the password that is nowhere to be found."""

import base64
import logging
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web
from yardgate import demo
from yardgate.core.edits.records import PutDirectory
from yardgate.core.model.directory import Directory
from yardgate.core.model.plan import Plan, same
from yardgate.drivers.directory import ldap
from yardgate.drivers.directory.simulator import DirectoryFaults, SimulatedDirectory
from yardgate.formats import planfile
from yardgate.formats.ldif import LdifEntry
from yardgate.store import Plans
from yardgate.store.copies import Copies
from yardgate.store.directory_servers import Servers

WORD = SimulatedDirectory.password


def of(what: str, directory: str = "lanternquay") -> str:
    return f"/directories/{what}?directory={directory}"


@pytest.fixture
def server(tmp_path: Path) -> Iterator[SimulatedDirectory]:
    with SimulatedDirectory(demo.entries(), tmp_path / "certificate").running() as started:
        yield started


@pytest.fixture
def joined(web: Web, server: SimulatedDirectory) -> Directory:
    """The plan's directory, at the stand-in's port; its last copy is three days old."""
    directory = replace(demo.DIRECTORY, controller=f"127.0.0.1:{server.port}", fingerprint=server.fingerprint)
    Plans(web.store).commit(web.plan, 1, [PutDirectory(directory)], "ann")
    Copies(web.store).put(web.plan, directory.id, demo.last_copy())
    Servers(web.store).agree(web.plan, directory.id, directory.server, "ann")
    return directory


def wait(client: TestClient, web: Web, state: str = "ready") -> dict[str, Any]:
    for _ in range(600):
        found = client.get(web.at(of("reading"))).json()
        if found["state"] != "reading":
            break
        time.sleep(0.02)
    assert found["state"] == state, found
    return dict(found)


def begin(client: TestClient, web: Web, directory: Directory, **more: Any) -> None:
    body = {"directory": asdict(directory), "password": WORD, **more}
    answer = client.post(web.at("/directories/reading"), json=body)
    assert answer.status_code == 202, answer.text


def keep(client: TestClient, web: Web) -> dict[str, Any]:
    revision = client.get(web.at()).json()["revision"]
    answer = client.post(web.at(of("keep")), json={"revision": revision})
    assert answer.status_code == 200, answer.text
    return dict(answer.json())


def now(web: Web) -> Plan:
    return Plans(web.store).open(web.plan).plan


def test_settings_are_tried_step_by_step(web: Web, joined: Directory) -> None:
    client = web.client("administrator")

    def check(**more: Any) -> dict[str, Any]:
        password = more.pop("password", WORD)
        body = {"directory": asdict(replace(joined, **more)), "password": password}
        return dict(client.post(web.at("/directories/check"), json=body).json())

    assert all(step["passed"] for step in check()["steps"])
    untrusted = check(fingerprint=None)
    assert [step["passed"] for step in untrusted["steps"]] == [True, True, False]
    assert (untrusted["fingerprint"], untrusted["distrust"]) == (joined.fingerprint, "is signed by itself")
    wrong = check(password="wrong")["steps"][-1]
    assert (wrong["step"], wrong["passed"], "wrong" in wrong["words"]) == ("sign-in", False, True)
    assert check(base="DC=x")["steps"][-1]["step"] == "base"


class Ear:
    """Somebody who listens at a port of loopback, and what they hear."""

    def __init__(self) -> None:
        self.heard = 0
        self.wire = socket.socket()
        self.wire.bind(("127.0.0.1", 0))
        self.wire.listen(8)
        self.at = f"127.0.0.1:{self.wire.getsockname()[1]}"
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                conn, _ = self.wire.accept()
            except OSError:
                return
            self.heard += 1
            conn.close()


@pytest.fixture
def ear() -> Iterator[Ear]:
    found = Ear()
    yield found
    found.wire.close()


def test_a_password_that_is_known_goes_to_no_other_server_than_was_agreed(
    web: Web, joined: Directory, ear: Ear, monkeypatch: pytest.MonkeyPatch
) -> None:
    planner, boss = web.client(), web.client("administrator")
    monkeypatch.setenv("YARDGATE_DIRECTORY_PASSWORD", WORD)
    assert boss.put(web.at(of("password")), json={"password": WORD}).status_code == 204
    others = [
        replace(joined, controller=ear.at),
        replace(joined, controller=ear.at, security="plain", plain_agreed=True, fingerprint=None),
        replace(joined, controller=None, domain="127.0.0.1"),
        replace(joined, fingerprint=None),
        replace(joined, reader="somebody.else"),
        replace(joined, id="other", controller=ear.at, security="plain", plain_agreed=True, fingerprint=None),
    ]
    for what in ("check", "reading"):
        path = web.at(f"/directories/{what}")
        for other in others:
            for more in ({}, {"password": "typed-by-a-planner"}):
                answer = planner.post(path, json={"directory": asdict(other), **more})
                assert (answer.status_code, "Only an administrator" in answer.text) == (403, True), (what, other)
        for other in others[:-1]:
            answer = boss.post(path, json={"directory": asdict(other)})
            assert (answer.status_code, "type the password again" in answer.text) == (422, True), (what, other)
    edits = [{"op": "put-directory", "directory": asdict(others[1])}]
    assert planner.post(web.at("/edits"), json={"revision": 2, "edits": edits}).status_code == 200
    assert planner.put(web.at(of("password")), json={"password": "x"}).status_code == 403
    assert planner.get(web.at("/directories")).json()[0]["password_known"] is False
    command = [sys.executable, "-m", "yardgate.cli", "directory", "read", "--data", str(web.store.path.parent)]
    done = subprocess.run(command, capture_output=True, text=True, env={**os.environ, "COLUMNS": "300"})
    assert (done.returncode, "Nobody agreed yet" in done.stderr) == (1, True), done
    assert ear.heard == 0, "nobody was even called"
    other = replace(others[1], id="lanternquay")
    boss.post(web.at("/directories/reading"), json={"directory": asdict(other), "password": "typed", "full": True})
    wait(boss, web, "failed")
    assert ear.heard > 0, "an administrator who types it may"
    assert planner.post(web.at("/directories/check"), json={"directory": asdict(other)}).status_code == 200


def test_a_reading_is_looked_at_and_then_kept_and_undone(client: TestClient, web: Web, joined: Directory) -> None:
    before = now(web)
    begin(client, web, joined)
    found = wait(client, web)
    assert found["full"] is False
    told = client.get(web.at(of("reading/changes"))).json()
    assert told["counts"] == {"gone": 1, "shut": 1, "renamed": 2, "joins": 2, "leaves": 1, "new": 1, "changed": 2}
    assert "Dana Rook is gone from the directory; what was granted stays, marked" in [i["words"] for i in told["items"]]
    assert [i["words"] for i in told["items"] if i["what"] == "new"] == [
        "Nadia Roux is new: read-write on 2 and read-only on 6 of 22 places"
    ]
    assert {cell["subject"] for cell in told["changed"]["cells"]} == {"dana-rook", "rolf-petersen"}
    assert same(now(web), before)  # nothing is kept before somebody says so
    answer = keep(client, web)
    assert answer["changed"]["total"] == told["changed"]["total"]
    after = now(web)
    assert after.users["dana-rook"].gone
    assert after.users["ines-marques"].name == "ines.duarte"
    page = client.get(web.at("/directories")).json()[0]
    assert (page["gone"], page["shut"]) == (["dana-rook"], 1)
    assert client.get(web.at(of("reading"))).json()["state"] == "none"
    client.post(web.at("/undo"), json={"revision": answer["revision"]})
    assert same(now(web), before)
    begin(client, web, joined, full=True)
    wait(client, web)
    keep(client, web)
    assert same(now(web), after)


def test_a_directory_comes_in_from_ldif_and_leaves_again(client: TestClient, web: Web) -> None:
    other = Directory(id="elsewhere", name="ELSEWHERE", domain="elsewhere.example")
    content = (Path(demo.__file__).parent / "lanternquay.ldif").read_bytes()
    body = {"directory": asdict(other), "ldif": base64.b64encode(content).decode()}
    assert client.post(web.at("/directories/reading"), json=body).status_code == 202
    before = now(web)
    told = client.get(web.at(of("reading/changes", "elsewhere"))).json()
    assert told["counts"]["new"] == 14 - 1  # one of them is for mail only
    kept = client.post(web.at(of("keep", "elsewhere")), json={"revision": 1}).json()
    assert now(web).users["pia-lombardi-2"].origin == "elsewhere"
    edits = [{"op": "remove-directory", "directory": "elsewhere"}]
    assert client.post(web.at("/edits"), json={"revision": kept["revision"], "edits": edits}).status_code == 200
    assert same(now(web), before)
    bad = {**body, "ldif": base64.b64encode(b"dn: x\n").decode()}
    refused = client.post(web.at("/directories/reading"), json=bad)
    assert (refused.status_code, refused.json()["line"]) == (422, 1)


@pytest.mark.parametrize("after", [0, 1, 2])
def test_a_reading_that_fails_leaves_the_plan_as_it_was(
    client: TestClient,
    web: Web,
    joined: Directory,
    server: SimulatedDirectory,
    monkeypatch: pytest.MonkeyPatch,
    after: int,
) -> None:
    monkeypatch.setattr(ldap, "PAGE", 5)
    before = now(web)
    server.faults = DirectoryFaults(hang_up=True, after=after)
    begin(client, web, joined, full=True)
    failed = wait(client, web, "failed")
    assert "try again" in failed["words"]
    assert client.get(web.at(of("reading/changes"))).status_code == 409
    assert client.post(web.at(of("keep")), json={"revision": 2}).status_code == 409
    assert same(now(web), before)
    server.faults = DirectoryFaults()
    begin(client, web, joined, full=True)
    wait(client, web)


def test_a_reading_can_be_given_up(client: TestClient, web: Web, joined: Directory, server: SimulatedDirectory) -> None:
    server.faults = DirectoryFaults(slow=0.3)
    begin(client, web, joined, full=True)
    assert client.get(web.at(of("reading"))).json()["state"] == "reading"
    assert client.delete(web.at(of("reading"))).status_code == 204
    assert client.get(web.at(of("reading"))).json()["state"] == "none"


@pytest.mark.usefixtures("joined")
def test_other_numbers_are_looked_at_and_given(client: TestClient, web: Web) -> None:
    body = {"revision": 2, "numbering": "table", "low": 40_000, "high": 41_000}
    found = client.post(web.at(of("mapping")), json=body).json()
    assert found["moved"] == 13
    assert {move["becomes"] for move in found["moves"]} == set(range(40_000, 40_013))
    assert client.post(web.at(of("mapping/keep")), json=body).status_code == 200
    assert now(web).users["pia-lombardi"].uid in range(40_000, 40_013)
    wrong = client.post(web.at(of("mapping")), json={**body, "low": 50_000})
    assert (wrong.status_code, "does not lie in 1 to" in wrong.json()["detail"]) == (422, True)


def test_readers_look_and_change_nothing(web: Web, joined: Directory) -> None:
    reader = web.client("reader")
    assert reader.get(web.at("/directories")).status_code == 200
    refusals: list[Callable[[], int]] = [
        lambda: reader.post(web.at("/directories/reading"), json={"directory": asdict(joined)}).status_code,
        lambda: reader.post(web.at("/directories/check"), json={"directory": asdict(joined)}).status_code,
        lambda: reader.post(web.at(of("keep")), json={"revision": 2}).status_code,
        lambda: reader.put(web.at(of("password")), json={"password": "x"}).status_code,
    ]
    assert [refuse() for refuse in refusals] == [403] * 4


def test_the_password_is_nowhere(
    web: Web,
    server: SimulatedDirectory,
    joined: Directory,
    tmp_path: Path,
    caplog: pytest.LogCaptureFixture,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    secret = "Very-Secret-Word-4711"
    caplog.set_level(logging.DEBUG)
    monkeypatch.setattr(SimulatedDirectory, "password", secret)
    client = web.client()
    said = [client.put(web.at(of("password")), json={"password": secret}).text]
    begin(client, web, joined, password=None)
    wait(client, web)
    keep(client, web)
    server.faults = DirectoryFaults(hang_up=True)
    begin(client, web, joined, password=secret, full=True)
    wait(client, web, "failed")
    said.append(
        client.post(
            web.at("/directories/check"), json={"directory": {**asdict(joined), "base": "x"}, "password": secret}
        ).text
    )
    said += [client.get(web.at(path)).text for path in ("", "/directories", of("reading"), "/history")]
    said += [client.get(web.at(f"/export/{what}")).text for what in ("plan", "grants", "effective", "people")]
    file = tmp_path / "plan.json"
    file.write_text(planfile.write(now(web)))
    environment = {**os.environ, "YARDGATE_DIRECTORY_PASSWORD": secret, "COLUMNS": "200"}
    for what in ("test", "read"):
        process = subprocess.Popen(
            [sys.executable, "-m", "yardgate.cli", "directory", what, "--file", str(file)],
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=environment, text=True,
        )  # fmt: skip
        said.append(Path(f"/proc/{process.pid}/cmdline").read_text())
        said.append(process.communicate(timeout=60)[0])
    said += [caplog.text, file.read_text()]
    assert not [text[:200] for text in said if secret in text]
    web.store.close()
    for left in tmp_path.rglob("*"):
        assert not left.is_file() or secret.encode() not in left.read_bytes(), left


def test_a_large_directory_is_told_in_part_and_kept_whole(client: TestClient, web: Web, joined: Directory) -> None:
    """Not how fast (that is for the bench), but that a large sync is told in part and kept whole."""
    from yardgate.formats.sid import sid_bytes

    def entry(number: int) -> LdifEntry:
        name = f"user{number:05}".encode()
        values = {
            "objectclass": (b"user",),
            "objectsid": (sid_bytes(f"{demo.SID}-{5000 + number}"),),
            "samaccountname": (name,),
        }
        return LdifEntry(f"CN={name.decode()},DC=lanternquay,DC=example", values)

    from yardgate.formats import ldif

    text = ldif.write([(e.dn, e.attributes) for e in (*demo.entries(), *(entry(number) for number in range(3000)))])
    begin(client, web, joined, ldif=base64.b64encode(text.encode()).decode())
    told = client.get(web.at(of("reading/changes"))).json()
    assert told["counts"]["new"] == 3001
    assert len(told["items"]) < 520
    keep(client, web)
    assert sum(user.origin == "lanternquay" for user in now(web).users.values()) == 3009
