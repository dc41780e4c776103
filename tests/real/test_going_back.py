"""Going back to a snapshot on real file systems: everything is as it was to the last bit, what goes back was told, and it can be undone."""

import json
import shlex
import time
from collections.abc import Iterator
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pytest

from tests.real.disks import disks
from tests.real.host import Host, host
from tests.real.test_host import runner, shell
from tests.real.test_races import GID, SET_UP, STATE, UID, attacked, comes_through
from tests.tries import times
from yardgate.core.host.going_back import Differing, Since
from yardgate.core.host.state import Dataset, System
from yardgate.core.host.steps import Destination
from yardgate.core.model.plan import Plan
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux import earlier
from yardgate.drivers.linux.host import LinuxHost
from yardgate.jobs.push_downs import PushDownJobs
from yardgate.store import Plans, Store
from yardgate.store.pushes import Pushing

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


def test_datasets_below_and_what_cannot_be_changed_stay_and_that_is_told(quay: Host) -> None:
    top = "/srv/tank/jobs"
    shell(
        quay,
        f"{MAKE[top]}; cd {top}; btrfs subvolume create hull > /dev/null; echo then | tee hull/a b c > /dev/null; mkdir d",
    )
    at = LinuxHost(runner(quay))
    snapshot = later(at, top)
    shell(
        quay,
        f"cd {top}; echo now | tee hull/a b c > /dev/null; chattr +i c; mkdir -p new/deep; btrfs subvolume create new/deep/own > /dev/null;"
        "echo kept > new/deep/own/x; mv hull d/; ln -s /etc link",
    )
    told = summed(at.since(top, snapshot))
    assert (told.changed, told.new, told.left) == (2, 1, 1)
    assert told.some[0] == Differing("left", "new/deep/own", "a file system of its own")
    back = summed(at.go_back(top, snapshot))
    assert {one.name: one.words for one in back.some if one.sort == "left"} == {
        "new/deep/own": "a file system of its own",
        "c": "operation not permitted",
    }
    assert shell(quay, f"cd {top}; cat b c d/hull/a new/deep/own/x; ls") == "then\nnow\nnow\nkept\nb\nc\nd\nnew\n"
    shell(quay, f"cd {top}; chattr -i c; btrfs subvolume delete new/deep/own d/hull; {END[top]}")


def test_what_is_no_snapshot_is_not_taken_for_one(quay: Host) -> None:
    top = "/srv/tank/jobs"
    shell(quay, f"{MAKE[top]}; chmod 777 {top}; echo mine > {top}/a")
    at = LinuxHost(runner(quay))
    snapshot = later(at, top)
    assert at.snapshots([f"{top}/none", top, "/srv/tank"]) == {top: (snapshot,), "/srv/tank": ()}
    fake = f"cd {top}; mv .snapshots aside; mkdir -p .snapshots/{snapshot}; echo yours > .snapshots/{snapshot}/a"
    shell(quay, f"setpriv --reuid 4001 --regid 4001 --clear-groups sh -c {shlex.quote(fake)}")
    assert at.snapshots([top]) == {top: ()}
    with pytest.raises(ApplianceError, match="could not open the snapshot"):
        summed(at.go_back(top, snapshot))
    program = Path(earlier.__file__).with_name("go_back.py").read_text()
    code, _, err = quay.ask(
        "run", argv=["python3", "-I", "-c", program, "away", top, f"{top}/.snapshots/{snapshot}"], given=None
    )
    assert (code, "need not be a snapshot" in err) == (1, True)
    assert shell(quay, f"cat {top}/a") == "mine\n"
    for wrong in ("../..", "@GMT-2026.11.30-10.17.01", "mine"):
        with pytest.raises(ApplianceError):
            summed(at.since(top, wrong))
    shell(quay, f"cd {top}; rm -r .snapshots; mv aside .snapshots; {END[top]}")


def test_a_full_dataset_has_room_for_what_was_there(quay: Host) -> None:
    top = "/srv/tank/jobs"
    shell(
        quay,
        f"{MAKE[top]}; btrfs quota enable {top}; btrfs qgroup limit 24M {top}; head -c 18M /dev/urandom > {top}/a; sync",
    )
    at = LinuxHost(runner(quay))
    snapshot, before = later(at, top), shell(quay, f"sha256sum {top}/a")
    shell(quay, f"rm {top}/a; sync; btrfs subvolume sync /srv/tank; head -c 18M /dev/urandom > {top}/z; sync")
    assert shell(quay, f"stat -c %s {top}/z").strip() == str(18 << 20)
    back = summed(at.go_back(top, snapshot))
    assert (back.new, back.gone, back.left) == (1, 1, 0), back
    assert shell(quay, f"sha256sum {top}/a") == before
    shell(quay, END[top])


def test_it_is_done_to_the_end_by_the_job(quay: Host, tmp_path: Path) -> None:
    top = "/srv/tank/jobs"
    shell(quay, f"{MAKE[top]}; cd {top}; for d in $(seq 120); do mkdir d$d; (cd d$d; seq 20 | xargs touch); done")
    at = LinuxHost(runner(quay))
    snapshot, before = later(at, top), tree(quay, "list", top)
    shell(quay, f"cd {top}; rm -r d7; for d in $(seq 9 60); do echo more > d$d/1; done; touch d80/new")
    changed = tree(quay, "list", top)
    there = System(datasets={top: Dataset(name=top, file_system="btrfs")})
    store = Store(tmp_path / "yardgate.sqlite")
    plan = Plans(store).create(Plan(name="jobs"), "ann").id
    jobs = PushDownJobs(store, lambda *_, **__: nullcontext(LinuxHost(runner(quay))))

    def done(one: Pushing) -> Pushing:
        jobs.start(one)
        end = time.monotonic() + 60
        while (now := jobs.pushes.one(plan, one.number)) is not None and now.state == "under way":
            assert time.monotonic() < end
            time.sleep(0.05)
        assert now is not None
        assert (now.state, now.trouble) == ("done", "")
        return now

    told = done(jobs.pushes.begin(plan, "ann", Destination(), there, [top], snapshot))
    since = told.counts[top].since
    assert (since.changed, since.new, since.gone, since.people) == (52, 1, 21, {"root": 53})
    time.sleep(1)
    back = done(jobs.pushes.go_on(told, "go back"))
    assert tree(quay, "list", top) == before
    undo = back.snapshots[0].removeprefix(f"{top} ")
    assert undo > snapshot
    done(jobs.pushes.go_on(done(jobs.pushes.begin(plan, "ann", Destination(), there, [top], undo)), "go back"))
    assert tree(quay, "list", top) == changed
    store.close()
    shell(quay, END[top])


@pytest.mark.parametrize("target", ["/etc/victim/cron", "/etc/victim"])
def test_what_is_exchanged_for_a_link_meanwhile_is_not_followed(quay: Host, target: str) -> None:
    top, desk = "/srv/tank/jobs", "/srv/tank/jobs/desk"
    made = "echo then > bill" if target.endswith("cron") else "mkdir bill; echo then > bill/cron"
    shell(quay, SET_UP)
    shell(quay, f"{MAKE[top]}; mkdir {desk}; cd {desk}; {made}; chown -R {UID}:{GID} .; chmod -R a+rwX .")
    at, before = LinuxHost(runner(quay)), shell(quay, STATE)
    snapshot = later(at, top)
    file = "bill" if target.endswith("cron") else "bill/cron"
    naive = f"cat {top}/.snapshots/{snapshot}/desk/{file} > {desk}/{file}; chmod 666 {desk}/{file}; rm -f {desk}/new"
    with attacked(quay, "bill", "trap", desk, target):
        for _ in range(times(25, 200)):
            summed(at.go_back(top, snapshot))
            assert shell(quay, STATE) == before
        assert comes_through(quay, lambda: shell(quay, naive), before)
    summed(at.go_back(top, snapshot))
    assert shell(quay, f"cd {desk}; ls; cat {file}") == "bill\nthen\n"
    shell(quay, END[top])
