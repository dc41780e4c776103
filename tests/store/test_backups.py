"""Copies of the database: whole at any moment, put back exactly; what is damaged, newer or missing is said so and never begun anew."""

import shutil
import sqlite3
import subprocess
import sys
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.server import Server
from yardgate.core.edits.records import PutGroup
from yardgate.core.model.plan import Group, Plan, same
from yardgate.store import DataTrouble, Plans, Store
from yardgate.store.backups import FOLDER, alone, back_up, daily, looked_through, restore
from yardgate.store.database import MARK, NAME
from yardgate.store.integrity import look_through


def grown(store: Store, plan: str, times: int) -> int:
    plans = Plans(store)
    for number in range(times):
        opened = plans.open(plan)
        group = Group(id="ledger", name="Ledger", note=f"{opened.revision} {number}")
        plans.commit(plan, opened.revision, [PutGroup(group)], "ann")
    return plans.open(plan).revision


@pytest.fixture
def data(tmp_path: Path, lantern: Plan) -> tuple[Path, str]:
    store = Store(tmp_path / NAME)
    plan = Plans(store).create(lantern, "ann").id
    grown(store, plan, 20)
    store.close()
    return tmp_path, plan


def test_a_copy_made_while_it_is_written_to_is_exactly_one_revision(tmp_path: Path, lantern: Plan) -> None:
    store, over = Store(tmp_path / NAME), threading.Event()
    plan = Plans(store).create(lantern, "ann").id

    def write() -> None:
        while not over.is_set():
            grown(store, plan, 1)

    writer = threading.Thread(target=write)
    writer.start()
    copies = [back_up(tmp_path / NAME, tmp_path / "copies" / f"{number}.sqlite") for number in range(12)]
    over.set()
    writer.join()
    revisions = []
    for copy in copies:
        kept = Plans(Store(copy.path))
        revisions.append(kept.open(plan).revision)
        assert copy.plans == ((lantern.name, revisions[-1]),)
        assert same(kept.open(plan).plan, Plans(store).at(plan, revisions[-1]))
        assert list(look_through(copy.path)) == []
    assert revisions == sorted(revisions)
    assert len(set(revisions)) > 3, "nothing was written in between"


def test_what_is_put_back_is_that_and_what_was_there_is_kept(data: tuple[Path, str]) -> None:
    folder, plan = data
    copy = back_up(folder / NAME, folder.parent / "copy.sqlite")
    store = Store(folder / NAME)
    later = grown(store, plan, 5)
    assert (folder / f"{NAME}-wal").stat().st_size > 0, "what was written last stands in the second file"
    found, kept = restore(folder, copy.path)
    assert found.plans[0][1] == later - 5
    again = Store(folder / NAME)
    assert Plans(again).open(plan).revision == later - 5
    assert grown(again, plan, 1) == later - 4
    assert list(look_through(folder / NAME)) == []
    assert kept is not None
    assert Plans(Store(kept / NAME)).open(plan).revision == later
    copy.path.unlink()


def test_it_is_not_put_back_while_it_is_served_and_not_from_what_is_damaged(data: tuple[Path, str]) -> None:
    folder, _ = data
    copy = back_up(folder / NAME, folder.parent / "sound.sqlite").path
    with alone(folder), pytest.raises(DataTrouble, match="is served already"):
        restore(folder, copy)
    before = (folder / NAME).read_bytes()
    for spoil in (b"nothing", copy.read_bytes()[:9000], _hit(copy.read_bytes())):
        bad = folder.parent / "bad.sqlite"
        bad.write_bytes(spoil)
        with pytest.raises(DataTrouble):
            restore(folder, bad)
        with pytest.raises(DataTrouble):
            looked_through(bad)
    with pytest.raises(DataTrouble, match="there already"):
        back_up(folder / NAME, copy)
    assert (folder / NAME).read_bytes() == before
    copy.unlink()


def _hit(content: bytes) -> bytes:
    """A database of which a page in the middle was overwritten."""
    middle = len(content) // 2 // 4096 * 4096
    return content[:middle] + b"\xa5" * 4096 + content[middle + 4096 :]


def test_a_copy_each_day_and_the_oldest_go(data: tuple[Path, str]) -> None:
    folder, _ = data
    at = datetime(2026, 11, 1, 3, tzinfo=UTC)
    made = [daily(folder / NAME, 3, at + timedelta(hours=12 * number)) for number in range(12)]
    assert [one is not None for one in made] == [True, False] * 6
    there = sorted(path.name for path in (folder / FOLDER).iterdir())
    assert [name[:14] for name in there] == ["daily-20261104", "daily-20261105", "daily-20261106"]
    assert daily(folder / NAME, 0, at + timedelta(days=30)) is None


def test_before_the_tables_are_changed_a_copy_is_made(tmp_path: Path) -> None:
    from tests.store.test_store import old_database

    path = tmp_path / NAME
    old_database(path)
    Store(path)
    (copy,) = (tmp_path / FOLDER).iterdir()
    assert copy.name.startswith("before-0001-")
    with sqlite3.connect(copy) as connection:
        assert connection.execute("SELECT version_num FROM alembic_version").fetchone() == ("0001",)
        assert connection.execute("SELECT name FROM plans").fetchone() == ("keelson",)


def test_what_is_missing_damaged_newer_or_not_ours_is_said_and_left_alone(data: tuple[Path, str]) -> None:
    folder, _ = data
    path = folder / NAME
    whole = path.read_bytes()
    path.write_bytes(whole[:5000])
    with pytest.raises(DataTrouble, match=r"is damaged: .*restore"):
        Store(path)
    path.write_bytes(b"something else entirely" * 400)
    with pytest.raises(DataTrouble, match="is damaged"):
        Store(path)
    path.unlink()
    for ending in ("-wal", "-shm"):
        path.with_name(f"{NAME}{ending}").unlink(missing_ok=True)
    assert (folder / MARK).exists()
    with pytest.raises(DataTrouble, match=r"is missing, though there was one.*restore"):
        Store(path)
    assert not path.exists(), "it does not begin anew"
    path.write_bytes(whole)
    with sqlite3.connect(path) as connection:
        connection.execute("UPDATE alembic_version SET version_num = '9001'")
    with pytest.raises(DataTrouble, match="newer Yard Gate"):
        Store(path)


def test_what_is_kept_is_nobody_elses_and_what_was_open_is_mended(data: tuple[Path, str]) -> None:
    folder, plan = data
    folder.chmod(0o755)
    (folder / NAME).chmod(0o644)
    store = Store(folder / NAME)
    grown(store, plan, 1)
    assert folder.stat().st_mode & 0o777 == 0o700
    assert {path.stat().st_mode & 0o077 for path in folder.iterdir() if path.is_file()} == {0}
    fresh = Store(folder / "new" / "deeper" / NAME)
    assert (folder / "new" / "deeper").stat().st_mode & 0o777 == 0o700
    fresh.close()


def yardgate(*words: object) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "yardgate.cli", *(str(word) for word in words)]
    return subprocess.run(command, capture_output=True, text=True)


def test_the_drill(tmp_path: Path, lantern: Plan) -> None:
    """As the papers say: copied while it is served, ended in order, the whole folder lost, put back, served again."""
    server = Server(tmp_path / "data")
    plan = server.put(lantern)
    with server:
        client = server.client()
        for revision in range(1, 6):
            edit = {"op": "set-grant", "place": "toolpaths", "who": "ledger", "level": ("RO", "RW")[revision % 2]}
            assert client.post(f"/api/v1/plans/{plan}/edits", json={"revision": revision, "edits": [edit]}).is_success
        said = yardgate("backup", tmp_path / "copy.sqlite", "--data", server.data)
        assert (said.returncode, "(revision 6); " in said.stdout) == (0, True), said
        assert "is served already" in yardgate("restore", tmp_path / "copy.sqlite", "--data", server.data).stderr
        edit = {"op": "set-grant", "place": "toolpaths", "who": "ledger", "level": None}
        assert client.post(f"/api/v1/plans/{plan}/edits", json={"revision": 6, "edits": [edit]}).is_success
    with sqlite3.connect(f"file:{server.data / NAME}?mode=ro&immutable=1", uri=True) as alone_file:
        assert alone_file.execute("SELECT revision FROM plans").fetchone() == (7,), (
            "ended in order, it is all in one file"
        )
    assert len(list((server.data / FOLDER).glob("daily-*.sqlite"))) == 1
    assert yardgate("check-data", "--data", server.data).returncode == 0
    shutil.rmtree(server.data)
    said = yardgate("restore", tmp_path / "copy.sqlite", "--data", server.data)
    assert (said.returncode, "(revision 6); " in said.stdout) == (0, True), said
    with server:
        assert server.client().get(f"/api/v1/plans/{plan}").json()["revision"] == 6


def test_a_row_that_the_journal_does_not_know_of_is_found(data: tuple[Path, str]) -> None:
    folder, _ = data
    with sqlite3.connect(folder / NAME) as connection:
        connection.execute("UPDATE grants SET level = 'RW' WHERE level = 'RO'")
    said = yardgate("check-data", "--data", folder)
    assert said.returncode == 1
    assert "is not what its journal makes of it" in said.stdout
