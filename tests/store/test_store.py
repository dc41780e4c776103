"""Records, journal, undo, versions."""

import gzip
import json
import sqlite3
from pathlib import Path

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import PutDirectory, PutUser, RemoveGroup, SetGrant
from yardgate.core.host.bounds import Managed
from yardgate.core.model.checks import PlanError
from yardgate.core.model.directory import Directory
from yardgate.core.model.plan import Place, Plan, User, same
from yardgate.demo import plan as lantern_plan
from yardgate.formats import edits as edit_json
from yardgate.formats import planfile
from yardgate.store import NotThere, Opened, Plans, Stale, Store
from yardgate.store import plans as plans_module
from yardgate.store.accounts import Accounts
from yardgate.store.database import MIGRATIONS, connect
from yardgate.store.rollouts import Rollouts
from yardgate.store.runs import Runs, RunState, marked_done
from yardgate.store.tables import metadata


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "yardgate.sqlite")


@pytest.fixture
def shelf(store: Store) -> Plans:
    return Plans(store)


def reopened(plans: Plans, opened: Opened) -> Opened:
    """The same plan, read from disk by somebody else."""
    return Plans(Store(plans.store.path)).open(opened.id)


def test_the_schema_is_what_the_migrations_make(store: Store) -> None:
    with store.reading() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []
        assert connection.exec_driver_sql("PRAGMA journal_mode").scalar() == "wal"
        assert connection.exec_driver_sql("PRAGMA synchronous").scalar() == 2
        assert connection.exec_driver_sql("PRAGMA foreign_keys").scalar() == 1


def test_the_newest_migration_is_the_one_that_a_start_looks_for(store: Store) -> None:
    """Otherwise every start would load Alembic, or none would migrate."""
    with store.reading() as connection:
        at = MigrationContext.configure(connection).get_current_revision()
    assert at == max(file.name[1:5] for file in (MIGRATIONS / "versions").glob("v*.py"))
    with store.writing() as connection:
        connection.exec_driver_sql("DELETE FROM alembic_version")
        for table in reversed(metadata.sorted_tables):
            connection.exec_driver_sql(f"DROP TABLE {table}")
    again = Store(store.path)
    with again.reading() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []


def made_by(version: str, path: Path) -> None:
    """A database with the tables of an older version."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["engine"] = connect(path)
    command.upgrade(config, version)


def old_database(path: Path) -> None:
    """As the first version made it."""
    made_by("0001", path)
    with sqlite3.connect(path) as old:
        old.execute(
            "INSERT INTO plans VALUES ('p', 'keelson', '', 1, 0, '2026-11-01T00:00:00Z', 'pooled', 'refusal', NULL, 1, NULL)"
        )
        old.execute("INSERT INTO places VALUES ('p', 'keel', 'keel', 'pool', NULL, 'the large one')")
        old.execute("INSERT INTO grants VALUES ('p', 'keel', 'everyone', 0, 'RO')")


def test_a_database_from_before_lists_opens_with_all_that_was_in_it(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite"
    old_database(path)
    plan = Plans(Store(path)).open("p").plan
    assert plan.places == {"keel": Place(id="keel", name="keel", kind="pool", note="the large one")}
    assert plan.grants == {"keel": {"everyone": Level.RO}}
    assert (plan.target.traverse, plan.patterns) == ("checked", {})


def test_what_earlier_rollouts_made_may_go_on_being_changed(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite"
    old_database(path)
    made_by("0009", path)
    group, account, theirs = ({"name": name} for name in ("crew", "ada", "docker"))
    steps = [
        {"part": "groups", "before": None, "after": group},
        {"part": "accounts", "before": None, "after": account},
        {"part": "members", "before": None, "after": theirs},
        {"part": "groups", "before": group, "after": {"name": "yard"}},
        {"part": "groups", "before": theirs, "after": {"name": "ours"}},
        {"part": "accounts", "before": account, "after": None},
    ]
    row = ("p", 1, "t", "ann", 1, "/srv/old", "{}", 300, "{}", json.dumps(steps), "[]", "kept", "", None, "t")
    with sqlite3.connect(path) as old:
        old.execute(f"INSERT INTO runs VALUES ({', '.join('?' * len(row))})", row)
        old.execute("INSERT INTO rollouts VALUES ('p', 1, 'applied', 't', 'ann', 1, '/srv/old', '[]', '{}', 1)")
        old.execute("INSERT INTO destinations VALUES ('p', ?)", (json.dumps({"kind": "here"}),))
    rollouts = Rollouts(Store(path))
    assert rollouts.managed("p") == {Managed("groups", "yard")}
    assert (rollouts.destination("p").kind, rollouts.destination("p").top) == ("here", "/srv/old")


def test_runs_of_before_stand_as_they_stood(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite"
    old_database(path)
    made_by("0010", path)
    states = {
        "waiting": RunState.AWAITING_CONFIRMATION, "putting back": RunState.ROLLING_BACK, "kept": RunState.COMMITTED,
        "not all put back": RunState.PARTLY_ROLLED_BACK, "given up": RunState.ABANDONED, "by hand": RunState.BY_HAND,
    }  # fmt: skip
    with sqlite3.connect(path) as old:
        for number, state in enumerate(states):
            row = ("p", number, "t", "ann", 1, "/srv", "{}", 300, "{}", "[]", "[]", state, "", None, None)
            old.execute(f"INSERT INTO runs VALUES ({', '.join('?' * len(row))})", row)
        old.execute("INSERT INTO rollouts VALUES ('p', 1, 'put back', 't', 'ann', 1, '/srv', '[]', '{}', 1)")
        old.execute("INSERT INTO run_lines VALUES ('p', 5, 1, 'ticked', 't', '{\"of\": 3, \"said\": [\"ann\"]}')")
    store = Store(path)
    with sqlite3.connect(path) as new:
        assert [RunState(state) for (state,) in new.execute("SELECT state FROM runs ORDER BY number")] == [
            *states.values()
        ]
        assert [*new.execute("SELECT kind FROM rollouts")] == [("rolled-back",)]
    assert list(marked_done(Runs(store).lines("p", 5))) == [3]


def test_a_database_and_a_plan_file_of_version_1_come_through_unchanged_in_meaning(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite"
    path.write_bytes(gzip.decompress((Path(__file__).parent / "version-0011.sqlite.gz").read_bytes()))
    meant = planfile.read((Path(__file__).parent / "version-1.json").read_text())
    shelf = Plans(Store(path))
    (plan_id,) = shelf.ids()
    opened = shelf.open(plan_id)
    assert same(opened.plan, meant)
    assert same(shelf.replay(plan_id), meant), "the journal, too"
    assert opened.plan.target.traverse == "bypassed"
    assert any(place.personal_folders and place.personal_folders.managers for place in opened.plan.places.values())
    while opened.done:
        opened = shelf.undo(plan_id, opened.revision, "ann")
    assert same(opened.plan, shelf.at(plan_id, 1))


@settings(
    max_examples=times(150, 600), suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
@given(plan=plans(), data=st.data())
def test_tables_and_journal_both_give_the_plan(shelf: Plans, plan: Plan, data: st.DataObject) -> None:
    opened = shelf.create(plan, "ann")
    assert same(opened.plan, plan)
    for _ in range(data.draw(st.integers(0, 5))):
        step = data.draw(st.sampled_from(["edit", "edit", "edit", "undo", "redo"]))
        try:
            if step == "edit":
                opened = shelf.commit(opened.id, opened.revision, [data.draw(edits(opened.plan))], "ann")
            else:
                opened = getattr(shelf, step)(opened.id, opened.revision, "ann")
        except (PlanError, NotThere):
            continue
    read = reopened(shelf, opened)
    assert same(read.plan, opened.plan)
    assert (read.revision, read.done, read.undone) == (opened.revision, opened.done, opened.undone)
    assert same(shelf.replay(opened.id), opened.plan)
    assert same(shelf.at(opened.id, 1), plan)


def test_undo_and_redo_go_on_after_a_restart(shelf: Plans, lantern: Plan) -> None:
    opened = shelf.create(lantern, "ann")
    one = shelf.commit(opened.id, 1, [SetGrant("payroll", "office", Level.RW)], "ann")
    two = shelf.commit(opened.id, 2, [RemoveGroup("all-staff")], "bob")
    fresh = Plans(Store(shelf.store.path))
    back = fresh.undo(opened.id, 3, "ann")
    assert same(back.plan, one.plan)
    back = fresh.undo(opened.id, 4, "ann")
    assert same(back.plan, lantern)
    with pytest.raises(NotThere, match="nothing to undo"):
        fresh.undo(opened.id, 5, "ann")
    again = Plans(Store(shelf.store.path)).redo(opened.id, 5, "ann")
    assert same(again.plan, one.plan)
    again = fresh.redo(opened.id, 6, "ann")
    assert same(again.plan, two.plan)
    words = [(entry.kind, entry.by, entry.words) for entry in fresh.history(opened.id)]
    assert words[0] == ("redo", "ann", "redid: removed All staff")
    assert words[-1] == ("create", "ann", "plan made")


def test_a_new_change_forgets_what_was_undone(shelf: Plans, lantern: Plan) -> None:
    opened = shelf.create(lantern, "ann")
    shelf.commit(opened.id, 1, [SetGrant("payroll", "office", Level.RW)], "ann")
    shelf.undo(opened.id, 2, "ann")
    shelf.commit(opened.id, 3, [SetGrant("payroll", "office", Level.RO)], "ann")
    with pytest.raises(NotThere, match="nothing to redo"):
        shelf.redo(opened.id, 4, "ann")


def test_a_stale_edit_is_told_what_changed_and_keeps_nothing(shelf: Plans, lantern: Plan) -> None:
    opened = shelf.create(lantern, "ann")
    other = Plans(Store(shelf.store.path))
    other.commit(opened.id, 1, [SetGrant("payroll", "office", Level.RW)], "bob")
    with pytest.raises(Stale) as caught:
        shelf.commit(opened.id, 1, [SetGrant("payroll", "office", Level.NA)], "ann")
    assert caught.value.revision == 2
    assert [(entry.by, entry.words) for entry in caught.value.since] == [
        ("bob", "Office on keel/office/payroll: read-write")
    ]
    assert shelf.open(opened.id).plan.grants["payroll"]["office"] == Level.RW


def test_edits_that_cannot_stand_or_change_nothing_leave_no_revision(shelf: Plans, lantern: Plan) -> None:
    opened = shelf.create(lantern, "ann")
    with pytest.raises(PlanError):
        shelf.commit(
            opened.id, 1, [SetGrant("payroll", "office", Level.RW), SetGrant("payroll", "ghost", Level.RW)], "ann"
        )
    assert shelf.commit(opened.id, 1, [SetGrant("payroll", "ledger", Level.RW)], "ann").revision == 1
    assert same(reopened(shelf, opened).plan, lantern)


def test_versions_are_named_compared_and_returned_to(shelf: Plans, lantern: Plan) -> None:
    opened = shelf.create(lantern, "ann")
    shelf.name_version(opened.id, "before the move", "ann")
    with pytest.raises(ValueError, match="already"):
        shelf.name_version(opened.id, "before the move", "ann")
    shelf.commit(opened.id, 1, [RemoveGroup("all-staff")], "ann")
    assert [(name, revision) for name, revision, _, _ in shelf.versions(opened.id)] == [("before the move", 1)]
    back = shelf.back_to(opened.id, 2, 1, "ann")
    assert same(back.plan, lantern)
    assert same(shelf.undo(opened.id, 3, "ann").plan, shelf.at(opened.id, 2))
    with pytest.raises(NotThere):
        shelf.at(opened.id, 99)


def test_plans_do_not_touch_each_other(shelf: Plans, lantern: Plan) -> None:
    one, two = shelf.create(lantern, "ann"), shelf.create(lantern, "ann")
    shelf.commit(one.id, 1, [RemoveGroup("all-staff")], "ann")
    assert same(reopened(shelf, two).plan, lantern)
    shelf.archive(one.id, True)
    assert [shelf.open(plan).archived for plan in shelf.ids()] == [True, False]
    with pytest.raises(NotThere):
        shelf.open("none")


def test_the_tables_can_be_read_by_others(shelf: Plans, lantern: Plan) -> None:
    shelf.create(lantern, "ann")
    with sqlite3.connect(shelf.store.path) as connection:
        rows = connection.execute(
            "select who, level from grants where place = 'toolpaths' order by position"
        ).fetchall()
    assert rows == [(who, level) for who, level in lantern.grants["toolpaths"].items()]


@settings(max_examples=times(300, 1200))
@given(plan=plans(), data=st.data())
def test_edits_written_as_json_are_read_back(plan: Plan, data: st.DataObject) -> None:
    made = tuple(data.draw(edits(plan)) for _ in range(3))
    assert edit_json.read(edit_json.write(made)) == made


def test_a_user_keeps_every_field(shelf: Plans) -> None:
    from datetime import date

    user = User(
        id="a",
        name="a",
        full_name="A",
        kind="service",
        uid=5,
        enabled=False,
        expires=date(2027, 2, 3),
        aliases=("x", "y"),
        origin="d",
        key="S-1",
        sid="S-1",
        gone=True,
        note="n\nn",
    )
    opened = shelf.create(Plan(), "ann")
    joined = PutDirectory(
        Directory(id="d", name="D", domain="d.example", branches=("OU=a,DC=d", "OU=b,DC=d"), high=200_000)
    )
    kept = shelf.commit(opened.id, 1, [joined, PutUser(user)], "ann")
    assert reopened(shelf, kept).plan.directories["d"] == joined.directory
    assert reopened(shelf, kept).plan.users["a"] == user


# --- accounts of the application ---


def test_accounts_passwords_sessions_and_links(store: Store) -> None:
    accounts = Accounts(store)
    first = accounts.link(None)
    assert accounts.link_kind(first) == ("first", "")
    with pytest.raises(ValueError, match="at least 10"):
        accounts.first(first, "Ann", "short")
    ann = accounts.first(first, "Ann", "a long enough one")
    with pytest.raises(ValueError, match="used already"):
        accounts.first(first, "Eve", "a long enough one")
    assert accounts.check("ann", "a long enough one") == ann
    assert accounts.check("ann", "another long one") is None
    assert accounts.check("nobody", "a long enough one") is None
    token = accounts.begin(ann.id)
    assert accounts.whose(token) == ann
    accounts.set_password(ann.id, "a different long one")
    assert accounts.whose(token) is None
    link = accounts.link(ann.id)
    assert accounts.use_link(link) == ann
    assert accounts.use_link(link) is None
    with pytest.raises(ValueError, match="must remain"):
        accounts.change(ann.id, disabled=True)
    bob = accounts.add("Bob", "reader")
    with pytest.raises(ValueError, match="already"):
        accounts.add("BOB", "reader")
    session = accounts.begin(bob.id)
    accounts.change(bob.id, disabled=True)
    assert accounts.whose(session) is None
    assert accounts.use_link(accounts.link(bob.id)) is None


def test_no_secret_is_in_the_database_file(store: Store) -> None:
    accounts = Accounts(store)
    ann = accounts.first(accounts.link(None), "Ann", "a long enough one")
    secrets = [accounts.begin(ann.id), accounts.link(ann.id), "a long enough one"]
    store.close()
    content = b"".join(file.read_bytes() for file in store.path.parent.iterdir())
    assert not [secret for secret in secrets if secret.encode() in content]


def test_old_revisions_are_the_same_by_way_of_snapshots(shelf: Plans, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(plans_module, "SNAPSHOT", 5)
    monkeypatch.setattr(plans_module, "OPENED", 2)
    opened = shelf.create(lantern_plan(), "ann")
    others = [shelf.create(Plan(name=f"other {number}"), "ann") for number in range(4)]
    was = {1: opened.plan}
    for number in range(23):
        edit = SetGrant("toolpaths", "ledger", (Level.RO, Level.RW, None)[number % 3])
        more = PutUser(User(id=f"u{number}", name=f"u{number}"))
        opened = shelf.commit(opened.id, opened.revision, [edit, more], "ann")
        was[opened.revision] = opened.plan
        shelf.open(others[number % 4].id)
    assert len(shelf._cache) <= 2, "plans leave memory"
    for revision, plan in was.items():
        assert same(shelf.at(opened.id, revision), plan), revision
        assert shelf.at(opened.id, revision).grants == plan.grants


def test_whoever_began_to_look_before_an_edit_does_not_bring_the_older_plan_back(shelf: Plans) -> None:
    """Under load that made every request read the whole plan anew."""
    opened = shelf.create(Plan(users={"a": User(id="a", name="a")}), "ann")
    with shelf.store.reading() as connection:
        assert connection.exec_driver_sql("SELECT revision FROM plans").scalar() == 1
        kept = shelf.commit(opened.id, 1, [PutUser(User(id="b", name="b"))], "ann")
        assert connection.exec_driver_sql("SELECT revision FROM plans").scalar() == 1, "it looks at what was then"
        assert shelf._open(connection, opened.id) is kept
    assert shelf.open(opened.id) is kept
    other = Plans(Store(shelf.store.path))
    other.commit(opened.id, 2, [PutUser(User(id="c", name="c"))], "somebody else")
    assert shelf.open(opened.id).revision == 3, "what another process wrote is seen"
    assert same(shelf.at(opened.id, 2), kept.plan)
