"""The whole API with whatever its schema allows, and more, asked by everybody in turn: no answer is a server error."""

import itertools
import tempfile
from pathlib import Path

import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance

from tests.tries import times
from yardgate.api.accounts.tries import Tries
from yardgate.api.app import create_app
from yardgate.demo import plan
from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts, Role

FOLDER = tempfile.TemporaryDirectory()
STORE = Store(Path(FOLDER.name) / "yardgate.sqlite")
APP = create_app(STORE)
PLAN = Plans(STORE).create(plan(), "ann").id
EVERY: tuple[Role, ...] = ("administrator", "planner", "reader", "member")
WHO = {role: Accounts(STORE).add(f"a {role}", role).id for role in EVERY}
ROLES = itertools.cycle(
    ("administrator", None, "administrator", "planner", "administrator", "reader", "administrator", "member")
)
HOST = {"host": "127.0.0.1"}

schema = (
    schemathesis.openapi.from_asgi("/api/v1/openapi.json", APP, headers=HOST)
    .exclude(path_regex="/events$")  # never ends: test_events.py
    .exclude(path_regex="/archived$")
    .exclude(
        path_regex="/rollout/(host-keys|look|apply)$"
    )  # speak to an appliance: test_runs.py, tests/real/test_ssh.py
)


@schema.parametrize()
@settings(max_examples=times(30, 900), suppress_health_check=list(HealthCheck))
def test_no_request_brings_the_server_down(case: schemathesis.Case) -> None:
    APP.state.tries = Tries()
    if "plan" in (case.path_parameters or {}) and case.path_parameters["plan"]:
        case.path_parameters["plan"] = PLAN
    role = next(ROLES)
    cookies = {} if role is None else {APP.state.cookie: _signed_in(role)}
    response = case.call(headers=HOST, cookies=cookies)
    assert response.status_code < 500, response.text
    if response.status_code in (200, 201, 401, 403, 404, 409, 422):
        case.validate_response(response, checks=[response_schema_conformance, content_type_conformance])


_tokens: dict[Role, str] = {}


def _signed_in(role: Role) -> str:
    """A session that still is one: a case may have ended the last."""
    accounts = Accounts.__new__(Accounts)
    accounts.store = STORE
    if role not in _tokens or accounts.whose(_tokens[role]) is None:
        _tokens[role] = accounts.begin(WHO[role])
    return _tokens[role]
