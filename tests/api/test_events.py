"""Other tabs hear of a new revision."""

import threading
import time
from pathlib import Path

from tests.api.conftest import edit
from tests.server import Server
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.plan import Plan
from yardgate.store import Plans


def test_a_new_revision_is_told_within_a_second_whoever_made_it(tmp_path: Path, lantern: Plan) -> None:
    server = Server(tmp_path)
    plan = server.put(lantern)
    with server, server.client() as one, server.client() as two:
        heard: list[tuple[str, float]] = []

        def listen() -> None:
            with one.stream("GET", f"/api/v1/plans/{plan}/events") as stream:
                for line in stream.iter_lines():
                    if line.startswith("data:"):
                        heard.append((line, time.monotonic()))
                    if len(heard) == 3:
                        return

        listener = threading.Thread(target=listen)
        listener.start()
        while not heard:
            time.sleep(0.01)
        sent = time.monotonic()
        assert two.post(f"/api/v1/plans/{plan}/edits", json=edit()).status_code == 200
        while len(heard) < 2:
            time.sleep(0.01)
        Plans(server.store()).commit(plan, 2, [SetGrant("payroll", "office", Level.RO)], "command line")
        listener.join(timeout=10)
        assert [line for line, _ in heard] == ["data: 1", "data: 2", "data: 3"]
        assert heard[1][1] - sent < 1
