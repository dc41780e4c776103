"""kill -9 in the middle of a stream of edits: what was acknowledged is there, nothing is half there."""

import contextlib
import random
import shutil
import sqlite3
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from tests.server import Server
from tests.tries import times
from yardgate.core.model.plan import Plan, same
from yardgate.store import Plans, Store
from yardgate.store.backups import Backup, back_up, restore

KILLS = times(12, 700)
LINES = 2


def _stream(client: httpx.Client, plan: str, serial: int, begun: threading.Event) -> tuple[int, int]:
    """Batches of two edits, each written with its serial number, until the server dies: the last serial sent, and acknowledged.

    begun: set when the first is acknowledged, so that how much goes through before a kill does not depend on speed."""
    acknowledged = serial
    with contextlib.suppress(httpx.TransportError):
        revision = client.get(f"/api/v1/plans/{plan}").json()["revision"]
        while True:
            serial += 1
            group = {"id": "ledger", "name": "Ledger", "members": [], "note": f"serial {serial}"}
            place = {
                "id": "payroll",
                "name": "payroll",
                "kind": "dataset",
                "parent": "office-2",
                "note": f"serial {serial}",
            }
            batch = [{"op": "put-group", "group": group}, {"op": "put-place", "place": place}]
            answer = client.post(f"/api/v1/plans/{plan}/edits", json={"revision": revision, "edits": batch})
            assert answer.status_code == 200, answer.text
            revision, acknowledged = answer.json()["revision"], serial
            begun.set()
    return serial, acknowledged


def _restores(copy: Backup, folder: Path, plan: str) -> None:
    """A copy that was taken while it was written to comes back as exactly the revision that it says."""
    _, kept = restore(folder, copy.path)
    assert kept is None
    store = Store(folder / "yardgate.sqlite")
    opened = Plans(store).open(plan)
    store.close()
    assert [revision for _, revision in copy.plans] == [opened.revision]
    notes = opened.plan.groups["ledger"].note, opened.plan.places["payroll"].note
    assert notes[0] == notes[1], "half a batch"
    shutil.rmtree(folder)
    copy.path.unlink()


def _line(folder: Path, lantern: Plan, seed: int, kills: int) -> int:
    rng = random.Random(seed)
    server = Server(folder)
    plan = server.put(lantern)
    serial = acknowledged = 0
    client = server.client()
    for kill in range(kills):
        server.start()
        begun = threading.Event()
        with ThreadPoolExecutor(1) as pool:
            stream = pool.submit(_stream, client, plan, serial, begun)
            assert begun.wait(60)
            time.sleep(rng.uniform(0, 0.15))
            copy = back_up(folder / "yardgate.sqlite", folder.parent / f"copy-{seed}-{kill}.sqlite")
            time.sleep(rng.uniform(0, 0.15))
            server.kill()
            serial, acknowledged = stream.result()
        _restores(copy, folder.parent / f"restored-{seed}-{kill}", plan)
        with sqlite3.connect(folder / "yardgate.sqlite") as connection:
            assert connection.execute("pragma integrity_check").fetchone() == ("ok",)
            assert connection.execute("pragma foreign_key_check").fetchall() == []
        store = Store(folder / "yardgate.sqlite")
        kept = Plans(store).open(plan).plan
        store.close()
        notes = kept.groups["ledger"].note, kept.places["payroll"].note
        assert notes[0] == notes[1], "half a batch"
        found = int(notes[0].removeprefix("serial ") or 0)
        assert acknowledged <= found <= serial, f"acknowledged {acknowledged}, found {found}, sent {serial}"
        serial = found
    store = Store(folder / "yardgate.sqlite")
    plans = Plans(store)
    assert same(plans.replay(plan), plans.open(plan).plan)
    store.close()
    return found


def test_what_was_acknowledged_survives_kills(tmp_path: Path, lantern: Plan) -> None:
    with ThreadPoolExecutor(LINES) as pool:
        lines = [pool.submit(_line, tmp_path / str(seed), lantern, seed, KILLS // LINES) for seed in range(LINES)]
        edits = [line.result() for line in lines]
    assert min(edits) >= KILLS // LINES, f"too few edits went through to say anything: {edits}"
