"""Every operation of the API by everybody who may come: nobody, an ended session, a reader, a planner of another plan, a planner, an administrator.

Who may is said here for each; an operation that is not said fails, and so does one that is said and is not there.
"""

import time
from collections import Counter
from typing import Any, NamedTuple

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import update

from tests.api.conftest import Web
from yardgate.api.app import create_app
from yardgate.core.model.plan import Plan
from yardgate.store import Plans, Store, tables
from yardgate.store.accounts import Accounts, Role

ANYBODY = "session sign_in sign_out link_kind use_link first"
SOMEBODY = "plans offices formats own_password own_sessions sign_out_everywhere end_session"
READER = """
    outline memberships what_if loss history mine compare_file here versions free_id compare events window reason stands since_rollout standing repair read would remedy
    shares reason_over walked try_everyone card_of access_report export
    directories reading reading_changes try_mapping destination managed run_of_plan step_of_run rollout rollout_step compare_rollouts take_away
    needs_stand needed_today suggest_groups make_simpler groups_for project_group begun more name_says what_lies_inside look_of_plan rules instead kinds push style forecast from_text stored
"""
PLANNER = """
    make copy archive edit undo redo take_back name_version back_to preview keep check_directory keep_password start_reading cancel_reading keep_reading
    keep_mapping look_at_appliance put_there begin_by_hand mark_step confirm_run roll_back_run commands_of_run rollout_done rollout_reading look_inside do_with_look snapshots_there compare_with_snapshot
    read_passwords give_passwords open_sessions end_open_sessions check_access owned_there hand_over
"""
ADMINISTRATOR = """
    accounts add_account change_account link_for end_sessions_of audit send_to manage ask_host_keys abandon_run
"""
MAY: dict[str, str] = {
    name: role
    for role, names in (
        ("anybody", ANYBODY), ("somebody", SOMEBODY), ("reader", READER), ("planner", PLANNER), ("administrator", ADMINISTRATOR),
    )
    for name in names.split()
}  # fmt: skip
RANK = ("anybody", "somebody", "reader", "planner", "administrator")
CALLERS = ("nobody", "ended", "reader", "planner of another plan", "planner", "administrator")


class Operation(NamedTuple):
    name: str
    method: str
    path: str


def operations() -> list[Operation]:
    """What the API says of itself."""
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "y.sqlite")
        schema = create_app(store).openapi()
        store.close()
    return [
        Operation(operation["operationId"], method, path)
        for path, methods in schema["paths"].items()
        for method, operation in methods.items()
    ]


OPERATIONS = operations()


def test_of_every_operation_it_is_said_who_may() -> None:
    there = Counter(one.name for one in OPERATIONS)
    assert sorted(there - Counter(MAY.keys())) == [], "say above who may do these"
    assert sorted(MAY.keys() - there.keys()) == [], "these are not there any more"


class World:
    def __init__(self, store: Store, plan: str, other: str):
        self.accounts, self.plan = Accounts(store), plan
        self.app = create_app(store)
        self.of: dict[str, str] = {}
        roles: dict[str, Role] = {"reader": "reader", "planner": "planner", "administrator": "administrator"}
        for name, role in roles.items():
            self.of[name] = self.accounts.add(f"a {name}", role).id
        self.of["planner of another plan"] = self.accounts.add("another", "member").id
        self.accounts.let(self.of["planner of another plan"], {other: "planner"})
        self.of["ended"] = self.accounts.add("late", "administrator").id
        self.store = store

    def client(self, caller: str) -> TestClient:
        client = TestClient(self.app, base_url="http://127.0.0.1", raise_server_exceptions=False)
        if caller == "nobody":
            return client
        client.cookies.set(self.app.state.cookie, self.accounts.begin(self.of[caller]))
        if caller == "ended":
            with self.store.writing() as connection:
                mine = tables.sessions.c.account == self.of[caller]
                connection.execute(update(tables.sessions).where(mine).values(until=int(time.time()) - 1))
        return client


@pytest.fixture
def world(web: Web, lantern: Plan) -> World:
    return World(web.store, web.plan, Plans(web.store).create(lantern, "ann").id)


def expected(operation: Operation, caller: str) -> set[int] | None:
    """The answers that there may be; None where it is done, or refused for what is in it."""
    needs = RANK.index(MAY[operation.name])
    if needs == 0:
        return None
    if caller in ("nobody", "ended"):
        return {401}
    if caller == "planner of another plan":
        of_plan = "{plan}" in operation.path
        return {404} if of_plan else None if needs == 1 else {403}
    return None if RANK.index(caller) >= needs else {403}


@pytest.mark.parametrize("caller", CALLERS)
def test_who_may_and_who_may_not(world: World, caller: str) -> None:
    wrong: list[Any] = []
    for operation in OPERATIONS:
        meant = expected(operation, caller)
        if meant is None and operation.name in ("events", "sign_out_everywhere", "ask_host_keys"):
            continue  # goes on for ever, is tried in test_accounts, speaks to a host
        path = operation.path.replace("{plan}", world.plan)
        for name in ("account", "session_id", "directory", "place", "subject"):
            path = path.replace(f"{{{name}}}", "none")
        path = path.replace("{number}", "1").replace("{step}", "0").replace("{what}", "plan")
        body = None if operation.method in ("get", "delete") else {}
        answer = world.client(caller).request(operation.method, path, json=body)
        said = answer.status_code
        fine = said in meant if meant is not None else said < 500 and said not in (401, 403)
        if operation.name in ANYBODY.split():
            fine = said < 500
        if not fine:
            wrong.append((operation.name, caller, said, answer.text[:100]))
    assert wrong == []
