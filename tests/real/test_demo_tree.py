"""The demo's drawings on the real file system: deep folders without their neighbours, as the kernel has it."""

import os
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.real.kernel import compare, kernel, lay_down
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.storage import storage_state
from yardgate.core.acl import Posix
from yardgate.core.model.plan import Plan


@pytest.fixture
def top() -> Iterator[Path]:
    path = Path(tempfile.mkdtemp(prefix="yardgate-demo-", dir="/tmp"))
    os.chmod(path, 0o755)
    yield path
    shutil.rmtree(path)


@pytest.fixture
def drawings(quay: Plan) -> Plan:
    """The pool with the drawings alone, kept as POSIX lists; everybody with a uid of a range that nobody here has."""
    places = {p: place for p, place in quay.places.items() if "drawings" in quay.path(p) or p == "keel"}
    places = {p: replace(place, acl=Posix() if p == "keel" else None) for p, place in places.items()}
    users = {u.id: replace(u, uid=(u.uid or 0) + 40000) for u in quay.users.values()}
    groups = {g.id: replace(g, gid=(g.gid or 0) + 40000) for g in quay.groups.values()}
    grants = {place: said for place, said in quay.grants.items() if place in places}
    return replace(quay, users=users, groups=groups, places=places, grants=grants)


def test_the_machine_opens_its_toolpaths_and_sees_no_neighbours(drawings: Plan, top: Path) -> None:
    storage = storage_state(drawings, count(drawings, ON))
    where = lay_down(drawings, storage, top, ["cnc-router"])
    with kernel() as helper:
        names = token(drawings, "cnc-router")
        folders = [where[place] for place in ("keel", "drawings", "toolpaths", "released")]
        keel, above, toolpaths, released = helper.ask(drawings, "cnc-router", names, folders, 0o022)
    assert (keel["enter"], keel["list"]) == (True, False)
    assert (above["enter"], above["list"]) == (True, False)
    assert (toolpaths["enter"], toolpaths["list"], toolpaths["read"], toolpaths["write"]) == (True, True, True, False)
    assert not any(released.values())


def test_everybody_in_the_drawings_as_predicted(drawings: Plan, top: Path) -> None:
    with kernel() as helper:
        asked, wrong = compare(drawings, top, helper, 0o022)
    assert asked > 1000
    assert wrong == []
