"""Datasets on real file systems: subvolumes of btrfs on a loop device, and ZFS by its implementation in user space."""

import shlex
import subprocess
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.real.disks import disks
from tests.real.host import Host, host
from tests.real.test_host import roll, runner, shell
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Mode, Posix, PosixEntry
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System, asked
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Step, drift, removals, steps, walked
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import DatasetOptions, Group, GroupQuota, Place, Plan, Snapshots, User
from yardgate.core.model.share import Share
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux import datasets, earlier
from yardgate.drivers.linux.apply import carry_out, put_back
from yardgate.drivers.linux.commands import commands, helpers
from yardgate.drivers.linux.datasets import snapshot
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read

PEOPLE = """set -e; groupadd -g 4001 sail; useradd -u 4001 -g sail -M ann; useradd -u 4002 -g sail -M bo
for who in ann bo; do printf 'pw\\npw\\n' | smbpasswd -s -a $who > /dev/null; done"""
LISTING = "cd /srv; for at in tank vault; do find $at -not -path '*/.snapshots/*' | sort | xargs getfacl -p; done; btrfs subvolume list tank | cut -d' ' -f9; zfs list -H -o name,quota; zfs get -H -r -s local -o name,property,value atime,compression vault; btrfs property get tank/jobs compression 2> /dev/null; cat /etc/yardgate-snapshots /etc/cron.d/yardgate-snapshots"
KEPT = Posix((PosixEntry("user", "", 7), PosixEntry("group", "", 7), PosixEntry("other", "", 0)), None, setgid=True)
PLAN = Plan(
    users={who: User(id=who, name=who, uid=uid, primary_group="sail") for who, uid in (("ann", 4001), ("bo", 4002))},
    groups={"sail": Group(id="sail", name="sail", gid=4001)},
    places={
        "tank": Place(id="tank", name="tank", kind="pool", file_system="btrfs", acl=KEPT, enforced_by="storage", group="sail"),
        "jobs": Place(id="jobs", name="jobs", kind="dataset", parent="tank", acl=KEPT, group="sail", quota=24 << 20, snapshots=Snapshots(hours=2, days=1), options=DatasetOptions(compression="gzip")),
        "hull": Place(id="hull", name="hull no 7", kind="dataset", parent="jobs", acl=KEPT, group="sail"),
        "plain": Place(id="plain", name="plain", kind="folder", parent="jobs", acl=KEPT, group="sail"),
        "vault": Place(id="vault", name="vault", kind="pool", file_system="zfs", acl=Mode(0o2770), enforced_by="storage", group="sail"),
        "books": Place(id="books", name="books", kind="dataset", parent="vault", acl=Mode(0o2770), group="sail", quota=16 << 20, snapshots=Snapshots(hours=1), options=DatasetOptions(access_times=False, compression="gzip")),
        "maps": Place(id="maps", name="maps", kind="dataset", parent="vault", acl=Mode(0o2770), group="sail", case_sensitive=True, group_quotas=(GroupQuota(group="sail", bytes=2 << 20),)),
    },
    grants={place: {"sail": Level.RW} for place in ("tank", "jobs", "hull", "plain", "vault", "books", "maps")},
    shares={name: Share(id=name, name=name, place=name, versions=True) for name in ("jobs", "books")},
)  # fmt: skip


@pytest.fixture(scope="module")
def quay() -> Iterator[Host]:
    with host() as found, disks(found, "/srv/tank", "/srv/vault"):
        assert shell(found, PEOPLE) == ""
        yield found


@pytest.fixture
def there(quay: Host) -> Iterator[tuple[Host, System]]:
    """The plan, put there; taken away again, datasets and all."""
    check(PLAN)
    wanted = compiled(resolve(PLAN, ON), "/srv").system
    before = read(runner(quay), asked(wanted))
    now, _ = roll(quay, before, wanted)
    yield quay, now
    found = read(runner(quay), asked(now))
    for step in (step for step in removals(found, before) if step.part == "datasets"):
        LinuxHost(runner(quay)).do(step, found)
    shell(quay, "rm -f /etc/yardgate-snapshots /etc/cron.d/yardgate-snapshots")


def changed(now: System, plan: Plan) -> tuple[System, tuple[Step, ...]]:
    wanted = compiled(resolve(plan, ON), "/srv").system
    return wanted, steps(now, wanted)


def placed(place: str, **to: object) -> Plan:
    return replace(PLAN, places={**PLAN.places, place: replace(PLAN.places[place], **to)})  # type: ignore[arg-type]


def client(at: Host, who: str, share: str, does: str) -> str:
    return shell(at, f"cd /srv/.disks; smbclient -U {who}%pw //127.0.0.1/{share} -c '{does}' 2>&1")


def test_they_are_made_read_back_and_put_back_to_the_same_listing(quay: Host) -> None:
    wanted = compiled(resolve(PLAN, ON), "/srv").system
    before, listed = read(runner(quay), asked(wanted)), shell(quay, LISTING)
    found = steps(before, wanted)
    said = [words(step) for step in found if step.part == "datasets"]
    assert said[0] == "btrfs subvolume /srv/tank: mark it as the plan’s"
    assert (
        "make the btrfs subvolume /srv/tank/jobs; let it hold at most 24 MiB; keep snapshots of the last 2 hours, 1 day; compression gzip"
        in said
    )
    assert any("/srv/vault/books, where names that differ only in case are one" in one for one in said)
    carried = carry_out(LinuxHost(runner(quay)), before, found)
    assert carried.failed is None, (carried.failed, carried.why)
    after = read(runner(quay), asked(wanted))
    assert steps(after, wanted) == ()
    assert drift(wanted, after) == ()
    assert after.datasets["/srv/vault/maps"].group_quotas == wanted.datasets["/srv/vault/maps"].group_quotas
    assert (after.datasets["/srv/tank/jobs"].used or 0) > 0
    assert shell(quay, "btrfs property get /srv/tank/jobs compression") == "compression=zlib\n"
    assert shell(quay, "zfs get -H -o value atime,compression vault/books").split() == ["off", "gzip"]
    for step in found:  # again does no harm
        if step.part == "datasets":
            LinuxHost(runner(quay)).do(step, after)
    assert steps(read(runner(quay), asked(wanted)), wanted) == ()
    back = put_back(LinuxHost(runner(quay)), after, carried)
    assert back.failed is None, back.why
    assert shell(quay, LISTING) == listed


def test_typed_by_hand_as_they_are_shown_the_steps_do_the_same(quay: Host) -> None:
    wanted = compiled(resolve(PLAN, ON), "/srv").system
    before, listed = read(runner(quay), asked(wanted)), shell(quay, LISTING)
    found = steps(before, wanted)
    for way in ("forth", "back"):
        some = list(walked(before, found))
        if way == "back":
            some = [(step.back(), step.onto(state)) for step, state in reversed(some)]
        for step, state in some:
            for command in commands(step, state):
                text = command.by_hand[0] if command.by_hand is not None else command.shown or shlex.join(command.argv)
                given = command.by_hand[1] if command.by_hand is not None else command.given
                for _ in range(6):  # this ZFS takes somebody who has just left for being in it, for a moment
                    said = shell(quay, f"exec 2>&1; {''.join(helpers().values())}{text} || echo FAILED", given or "")
                    if "busy" not in said:
                        break
                    time.sleep(1)
                assert "FAILED" not in said, (text, said)
        if way == "forth":
            assert steps(read(runner(quay), asked(wanted)), wanted) == ()
    assert shell(quay, LISTING) == listed


def test_a_client_meets_the_quota_and_a_group_its_own(there: tuple[Host, System]) -> None:
    quay, now = there
    shell(quay, "head -c 30M /dev/urandom > /srv/.disks/large; head -c 1M /dev/urandom > /srv/.disks/small")
    assert "putting file small" in client(quay, "ann", "jobs", "put small")
    assert "NT_STATUS_DISK_FULL" in client(quay, "ann", "jobs", "put large")
    for number in range(10):  # ZFS looks at the quota of what has been written out
        said = client(quay, "ann", "books", f"put large {number}")
        shell(quay, "sync; sleep 0.5")
        if "NT_STATUS" in said:
            break
    assert "NT_STATUS_DISK_FULL" in said
    used = read(runner(quay), asked(now)).datasets["/srv/tank/jobs"].used
    assert used is not None
    assert used > 16 << 20
    write = "setpriv --reuid 4001 --regid 4001 --clear-groups sh -c 'for n in $(seq 40); do head -c 512K /dev/urandom > /srv/vault/maps/$n || exit 3; sync; sleep 0.3; done'"
    assert "Disk quota exceeded" in shell(quay, write)
    wanted, found = changed(now, placed("jobs", quota=None))
    assert [words(step) for step in found] == ["btrfs subvolume /srv/tank/jobs: no quota any more"]
    roll(quay, now, wanted)
    client(quay, "ann", "jobs", "del large")
    assert "putting file large" in client(quay, "ann", "jobs", "put large")


def test_how_files_are_kept_is_set_left_where_the_plan_says_nothing_and_put_back(there: tuple[Host, System]) -> None:
    quay, now = there
    shell(
        quay,
        "zfs set compression=gzip-9 vault/maps; zfs set atime=off vault/maps; btrfs property set '/srv/tank/jobs/hull no 7' compression zstd",
    )
    now = read(runner(quay), asked(now))
    assert (now.datasets["/srv/vault/maps"].compression, now.datasets["/srv/tank/jobs/hull no 7"].compression) == (
        "gzip-9",
        "zstd",
    )
    assert changed(now, PLAN)[1] == (), "what the plan says nothing of is left"
    listed = shell(quay, LISTING)
    plan = placed("maps", options=DatasetOptions(access_times=True, compression="off"))
    plan = replace(
        plan,
        places={
            **plan.places,
            "hull": replace(plan.places["hull"], options=DatasetOptions(compression="off")),
            "books": replace(plan.places["books"], options=DatasetOptions(compression="off")),
        },
    )
    wanted, found = changed(now, plan)
    assert sorted(words(step) for step in found) == [
        "ZFS dataset /srv/vault/books: compression off",
        "ZFS dataset /srv/vault/maps: access times on, compression off",
        "btrfs subvolume /srv/tank/jobs/hull no 7: compression off",
    ]
    carried = carry_out(LinuxHost(runner(quay)), now, found)
    assert carried.failed is None, (carried.failed, carried.why)
    assert shell(quay, "zfs get -H -o value atime,compression vault/maps").split() == ["on", "off"]
    assert shell(quay, "zfs get -H -o value atime,compression vault/books").split() == ["off", "off"]
    assert shell(quay, "btrfs property get '/srv/tank/jobs/hull no 7' compression") == "compression=none\n"
    assert put_back(LinuxHost(runner(quay)), read(runner(quay), asked(wanted)), carried).failed is None
    assert shell(quay, LISTING) == listed
    # one that this ZFS does not have
    _, found = changed(now, placed("maps", options=DatasetOptions(sync="always")))
    carried = carry_out(LinuxHost(runner(quay)), now, found)
    assert "could not set sync: " in carried.why
    assert shell(quay, LISTING) == listed


def test_names_that_differ_only_in_case_are_one_where_it_was_planned_so(there: tuple[Host, System]) -> None:
    quay, _ = there
    assert (
        shell(quay, "cd /srv/vault; touch books/Ab maps/Ab; ls books/ab; test -e maps/ab || echo two")
        == "books/ab\ntwo\n"
    )


def test_one_of_another_name_keeps_what_is_in_it(there: tuple[Host, System]) -> None:
    quay, now = there
    shell(quay, "echo one > '/srv/tank/jobs/hull no 7/a'; echo two > /srv/vault/books/b")
    plan = placed("jobs", name="orders")
    plan = replace(plan, places={**plan.places, "books": replace(plan.places["books"], name="ledgers")})
    wanted, found = changed(now, plan)
    assert [words(step) for step in found][:2] == [
        "rename the btrfs subvolume /srv/tank/jobs to /srv/tank/orders, with all that is in it",
        "rename the ZFS dataset /srv/vault/books to /srv/vault/ledgers, with all that is in it",
    ]
    assert {step.part for step in found} == {"datasets", "offers"}
    listed = shell(quay, LISTING)
    carried = carry_out(LinuxHost(runner(quay)), now, found)
    assert carried.failed is None, (carried.failed, carried.why)
    assert shell(quay, "cat '/srv/tank/orders/hull no 7/a' /srv/vault/ledgers/b; ls /srv/tank/jobs 2>&1") == (
        "one\ntwo\nls: cannot access '/srv/tank/jobs': No such file or directory\n"
    )
    after = read(runner(quay), asked(wanted))
    assert steps(after, wanted) == ()
    assert "a  " in client(quay, "bo", "jobs", 'ls "hull no 7/*"')
    assert put_back(LinuxHost(runner(quay)), after, carried).failed is None
    assert shell(quay, LISTING) == listed


def test_earlier_versions_are_made_shown_to_a_client_and_ended(there: tuple[Host, System]) -> None:
    quay, now = there
    shell(quay, "echo first > /srv/.disks/doc; echo second > /srv/.disks/other")
    client(quay, "ann", "jobs", "put doc")
    assert shell(quay, "yardgate-snapshots 2>&1") == ""
    (name,) = shell(quay, "ls /srv/tank/jobs/.snapshots").split()
    client(quay, "ann", "jobs", "put other doc")
    assert "getting file" in client(quay, "bo", "jobs", f"get {name}\\doc earlier")
    assert shell(quay, "cat /srv/.disks/earlier /srv/tank/jobs/doc") == "first\nsecond\n"
    assert "NT_STATUS" in client(quay, "bo", "jobs", f"put other {name}\\doc")
    assert name in client(quay, "bo", "jobs", "allinfo doc")
    # as if time went on: older ones than are kept are ended, others and what people made are not
    for old in ("@GMT-2026.11.01-10.17.01", "@GMT-2026.11.01-11.17.01", "mine"):
        shell(
            quay,
            f"btrfs subvolume snapshot -r /srv/tank/jobs /srv/tank/jobs/.snapshots/{old}; zfs snapshot vault/books@{old.removeprefix('@')}",
        )
    at = snapshot(runner(quay), "/srv/vault/books")
    assert at.startswith("@GMT-")
    assert shell(quay, "yardgate-snapshots 2>&1") == ""
    left = shell(quay, "ls /srv/tank/jobs/.snapshots").split()
    assert "@GMT-2026.11.01-11.17.01" in left, "the hour before the last in which there are any"
    assert "@GMT-2026.11.01-10.17.01" not in left
    assert "mine" in left
    books = shell(quay, "zfs list -H -t snapshot -o name").split()
    assert len([one for one in books if "@GMT-" in one]) == 1
    assert "vault/books@mine" in books
    shell(quay, "echo 'zfs 9 0 0 0 /srv/another plan’s' >> /etc/yardgate-snapshots")
    wanted, found = changed(now, placed("jobs", snapshots=None))
    assert [words(step) for step in found] == [
        "btrfs subvolume /srv/tank/jobs: no new snapshots; those that there are stay"
    ]
    roll(quay, now, wanted)
    kept = shell(quay, "grep -v '^#' /etc/yardgate-snapshots")
    assert kept == "zfs 1 0 0 0 /srv/vault/books\nzfs 9 0 0 0 /srv/another plan’s\n"
    shell(quay, "echo '# by hand' >> /etc/cron.d/yardgate-snapshots")
    changed_by_hand = drift(wanted, read(runner(quay), asked(wanted)))
    assert [step.id for step in changed_by_hand] == ["datasets:/srv/vault/books"], "the timer is not as it was written"


def test_what_is_no_file_system_of_its_own_is_not_taken_for_one(quay: Host) -> None:
    shell(quay, "mkdir -p /srv/tank/jobs /srv/other; touch /srv/tank/jobs/kept")
    wanted = compiled(resolve(PLAN, ON), "/srv").system
    now = read(runner(quay), asked(wanted))
    assert "/srv/tank/jobs" not in now.datasets
    carried = carry_out(LinuxHost(runner(quay)), now, steps(now, wanted))
    assert carried.failed is not None
    assert "is there already, and is no subvolume" in carried.why
    after = read(runner(quay), asked(wanted))
    assert put_back(LinuxHost(runner(quay)), after, carried).failed is None
    assert shell(quay, "ls /srv/tank/jobs") == "kept\n"
    shell(quay, "rm -r /srv/tank/jobs")
    shell(quay, "ln -s /srv/other /srv/tank/jobs")
    now = read(runner(quay), asked(wanted))
    carried = carry_out(
        LinuxHost(runner(quay)), now, [s for s in steps(now, wanted) if s.id == "datasets:/srv/tank/jobs"]
    )
    assert carried.failed is not None
    assert shell(quay, "stat -c %a /srv/other; ls -A /srv/other") == "755\n", "behind a link nothing is touched"
    assert put_back(LinuxHost(runner(quay)), now, carried).failed is None
    shell(quay, "rm /srv/tank/jobs; btrfs subvolume create /srv/tank/jobs; ln -s /srv/other /srv/tank/jobs/.snapshots")
    with pytest.raises(ApplianceError, match="could not make a snapshot"):
        snapshot(runner(quay), "/srv/tank/jobs")
    assert (
        shell(quay, "ls -A /srv/other; rm /srv/tank/jobs/.snapshots; btrfs subvolume delete /srv/tank/jobs > /dev/null")
        == ""
    )
    elsewhere = replace(PLAN, places={"other": replace(PLAN.places["tank"], id="other", name="other"), "in": replace(PLAN.places["jobs"], parent="other", id="in", name="in")}, grants={}, shares={})  # fmt: skip
    wanted = compiled(resolve(elsewhere, ON), "/srv").system
    now = read(runner(quay), asked(wanted))
    carried = carry_out(LinuxHost(runner(quay)), now, [step for step in steps(now, wanted) if step.part == "datasets"])
    assert "mkfs.btrfs" in carried.why or "is no subvolume" in carried.why


SCRIPTS = [
    "MAKE",
    "END",
    "RENAME",
    "QUOTA",
    "MARK",
    "GROUP_QUOTA",
    "KEEP",
    "READ",
    "PROGRAM",
    "OPTION",
    "LIST",
    "OPEN",
    "CLOSE",
]


@pytest.mark.parametrize("name", SCRIPTS)
def test_what_shells_are_given_is_what_a_careful_reader_of_scripts_takes(name: str, tmp_path: Path) -> None:
    found = getattr(earlier if name in ("LIST", "OPEN", "CLOSE") else datasets, name)
    for number, text in enumerate([found] if isinstance(found, str) else found.values()):
        path = tmp_path / f"{number}.sh"
        path.write_text(text if text.startswith("#!") else f"#!/bin/sh\nset -eu\n{text}")
        said = subprocess.run(["shellcheck", "--exclude=SC2015,SC2086", path], capture_output=True, text=True).stdout
        assert said == ""
