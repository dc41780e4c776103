"""Going back to a snapshot on real file systems: everything is as it was to the last bit, what goes back was told, and it can be undone."""

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.real.disks import disks
from tests.real.host import Host, host
from tests.real.test_host import runner, shell
from tests.tries import times
from yardgate.core.host.going_back import Since
from yardgate.drivers.linux.host import LinuxHost

SORTS = ("new", "gone", "changed", "rights")
TREES = Path(__file__).with_name("trees.py").read_text()
MAKE = {
    "/srv/tank/jobs": "btrfs subvolume create /srv/tank/jobs > /dev/null",
    "/srv/vault/books": "zfs create vault/books",
}
END = {
    "/srv/tank/jobs": 'cd /srv/tank/jobs; for old in */ .snapshots/* .snapshots; do btrfs subvolume delete "$old" 2> /dev/null; done; cd ..; btrfs subvolume delete jobs',
    "/srv/vault/books": "zfs list -H -o name | grep earlier; for left in 1 2 3 4 5; do zfs destroy -r vault/books && break; sleep 1; done",
}


@pytest.fixture(scope="module")
def quay() -> Iterator[Host]:
    with host() as found, disks(found, "/srv/tank", "/srv/vault"):
        shell(found, "groupadd -g 4001 sail; useradd -u 4001 -g sail -M ann; useradd -u 4002 -g sail -M bo")
        yield found


@pytest.fixture(params=sorted(MAKE), ids=("btrfs", "zfs"))
def dataset(quay: Host, request: pytest.FixtureRequest) -> Iterator[str]:
    path: str = request.param
    assert shell(quay, MAKE[path]) == ""
    yield path
    shell(quay, END[path])


def tree(at: Host, does: str, top: str, seed: int = 0) -> Any:
    kind = "acl" if "tank" in top else "mode"
    code, out, err = at.ask("run", argv=["python3", "-I", "-c", TREES, does, top, str(seed), kind], given=None)
    assert code == 0, err
    return json.loads(out) if does == "list" else None


def summed(portions: Iterator[tuple[int, int, Since]]) -> Since:
    found = Since()
    for _, _, one in portions:
        found = found.plus(one)
    return found


def test_everything_is_as_it_was_and_what_goes_back_was_told(quay: Host, dataset: str) -> None:
    at, counts = LinuxHost(runner(quay)), Since()
    at.snapshot(dataset)  # with it, btrfs gets the folder that they lie in
    for seed in range(times(8, 150) if "tank" in dataset else times(3, 40)):
        tree(quay, "make", dataset, seed)
        before, snapshot = tree(quay, "list", dataset), later(at, dataset)
        assert summed(at.since(dataset, snapshot)).otherwise == 0
        tree(quay, "change", dataset, seed)
        changed = tree(quay, "list", dataset)
        told = summed(at.since(dataset, snapshot))
        assert tree(quay, "list", dataset) == changed
        assert {sort: getattr(told, sort) for sort in SORTS} == expected(before, changed), seed
        undo = later(at, dataset)
        back = summed(at.go_back(dataset, snapshot))
        assert back.left == told.left == 0, (seed, back.some)
        now = tree(quay, "list", dataset)
        assert now == before, (
            seed,
            [(k, now.get(k), before.get(k)) for k in now.keys() | before.keys() if now.get(k) != before.get(k)][:5],
        )
        assert summed(at.since(dataset, snapshot)).otherwise == 0
        assert summed(at.go_back(dataset, snapshot)).otherwise == 0, "again does nothing"
        assert summed(at.go_back(dataset, undo)).left == 0
        assert tree(quay, "list", dataset) == changed, seed
        counts = counts.plus(told)
    if "tank" in dataset:
        assert all(getattr(counts, sort) > 3 for sort in SORTS), counts


def later(at: LinuxHost, dataset: str) -> str:
    """A snapshot of now: they are named by the second."""
    time.sleep(1)
    return at.snapshot(dataset)


def expected(before: dict[str, Any], changed: dict[str, Any]) -> dict[str, int]:
    """How much is otherwise, by what each listing says of every name."""
    other = {one for one in before.keys() & changed.keys() if before[one]["kind"] != changed[one]["kind"]}
    found = {
        "new": len(changed.keys() - before.keys() | other),
        "gone": len(before.keys() - changed.keys() | other),
        "changed": 0,
        "rights": 0,
    }
    for name in before.keys() & changed.keys() - other:
        was, now = before[name], changed[name]
        rights = was["rights"] != now["rights"]
        if was["written"] != now["written"] or (was["holds"] != now["holds"] and not rights):
            found["changed"] += 1
        elif rights:
            found["rights"] += 1
    return found
