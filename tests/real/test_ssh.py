"""Rolling out over a real SSH server: only to the host that was agreed on; a connection that is cut is taken up again."""

import random
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.real.host import Door, Host, door, host
from tests.real.test_host import SNAPSHOT, office, runner, shell
from tests.server import Server, until
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System, asked
from yardgate.core.host.steps import Destination, after, steps
from yardgate.drivers.appliance import ApplianceError, Unreachable
from yardgate.drivers.linux.apply import carry_out, put_back
from yardgate.drivers.linux.command import Command
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read
from yardgate.drivers.linux.ssh import Login, Ssh, host_keys
from yardgate.jobs import rollouts
from yardgate.store import Plans, Store
from yardgate.store.rollouts import Rollouts
from yardgate.store.runs import ENDED, RunState


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


@pytest.fixture
def way(keelson: Host, tmp_path: Path) -> Iterator[Door]:
    with door(keelson, tmp_path) as found:
        yield found


def login(way: Door) -> Login:
    return Login(host="127.0.0.1", port=way.port, key=way.key)


def test_commands_arrive_as_they_were_meant_and_the_same_is_read(keelson: Host, way: Door) -> None:
    ssh = Ssh(login(way))
    hostile = ("a b", "$(touch /tmp/oops)", "it's", '"', "`id`", ";", "\n", "-n", "", "ü", "\\", "*", "&& false")
    try:
        said = ssh(Command(("printf", "%s\\n", *hostile), "say"))
        assert said.out == "".join(f"{word}\n" for word in hostile)
        assert ssh(Command(("cat",), "give", "in\nand out\n")).out == "in\nand out\n"
        assert ssh(Command(("sh", "-c", "echo no >&2; exit 3"), "fail"))[::2] == (3, "no\n")
        assert ssh(Command(("sh", "-c", "exit 255"), "end as a lost connection does")).code == 254
        unknown = Command(("pdbedit", "--user=nobody.at.all", "--verbose", "--debuglevel=0"), "ask for nobody")
        assert "Username not found" in ssh(unknown).err, "it ends with 255, and the connection is not lost"
        wanted = compiled(resolve(office(5), ON), "/srv").system
        assert read(ssh, wanted) == read(runner(keelson), wanted)
    finally:
        ssh.close()


def test_another_host_is_not_spoken_to(way: Door) -> None:
    shown = host_keys(login(way))
    assert way.key in [key.line for key in shown]
    assert all(key.fingerprint.startswith("SHA256:") for key in shown)
    other = " ".join((way.top / "other_key.pub").read_text().split()[:2])
    ssh = Ssh(replace(login(way), key=other))
    with pytest.raises(Unreachable, match="another key than the one agreed on"):
        ssh(Command(("true",), "try"))
    ssh.close()
    ssh = Ssh(replace(login(way), user="nobody"))
    with pytest.raises(Unreachable, match="does not let nobody in"):
        ssh(Command(("true",), "try"))
    ssh.close()
    way.shut = True
    with pytest.raises(Unreachable, match="is an SSH server there"):
        host_keys(login(way))


@pytest.mark.parametrize("stays_away", [False, True])
@pytest.mark.parametrize("seed", [6, 8])
def test_a_connection_cut_in_the_middle_is_taken_up_and_one_that_stays_away_is_put_back_there(
    keelson: Host, way: Door, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int, stays_away: bool
) -> None:
    monkeypatch.setattr(rollouts, "AGAIN", 0.3)
    store = Store(tmp_path / "y.sqlite")
    before, plan = shell(keelson, SNAPSHOT), office(seed)
    wanted = compiled(resolve(plan, ON), "/srv").system
    now = read(runner(keelson), asked(wanted))
    found = steps(now, wanted)
    works = rollouts.RolloutJobs(store)
    kept = Plans(store).create(plan, "ann").id
    where = Destination(kind="ssh", host="127.0.0.1", port=way.port, key=way.key)
    run = works.runs.begin(kept, "ann", 1, "/srv", where, 10 if stays_away else 60, now, found, ())
    works.start(run)

    def stands() -> RunState:
        there = works.runs.run(kept, run.number)
        assert there is not None
        return there.state

    until(lambda: sum(line.kind == "step" for line in works.runs.lines(kept, run.number)) >= len(found) // 2, 30)
    way.shut = stays_away
    way.cut()
    if stays_away:
        until(lambda: "rolled back" in shell(keelson, "cat /var/lib/yardgate/ended 2>&1 || true"), 40)
        assert shell(keelson, SNAPSHOT) == before
        assert stands() not in ENDED, "nobody can know yet"
        way.shut = False
        until(lambda: stands() in ENDED, 30)
    else:
        until(lambda: stands() == "awaiting-confirmation", 60)
        assert steps(read(runner(keelson), asked(now, wanted)), wanted) == ()
        assert works.tell(kept, "roll back", "ann")
        until(lambda: stands() in ENDED, 60)
    assert stands() == "rolled-back"
    notes = [word for line in works.runs.lines(kept, run.number) if line.kind == "note" for word in line.said]
    if stays_away:  # otherwise it may have been cut between two commands, and the next one connects anew
        assert any("the connection to 127.0.0.1 failed" in note for note in notes), notes
    assert shell(keelson, SNAPSHOT) == before
    ran = works.audit.commands(kept, run.number)
    assert {one.host for one in ran} == {"127.0.0.1"}
    assert any("groupadd" in one.command and one.code == 0 for one in ran), "what was run there is written down"
    assert [one.said for one in ran if one.code and one.code != 9 and not one.said] == [], "what failed says why"
    store.close()


def test_killed_at_any_moment_the_host_is_whole_or_as_it_was(keelson: Host, way: Door, tmp_path: Path) -> None:
    """kill -9 of Yard Gate in the midst of a rollout over SSH: started again it goes on, and what is then put back is back exactly."""
    rng, ended = random.Random(15), Counter[str]()
    before = shell(keelson, SNAPSHOT)
    server = Server(tmp_path / "data")
    plan = server.put(office(6))
    where = Destination(kind="ssh", host="127.0.0.1", port=way.port, key=way.key)
    Rollouts(server.store()).send_to(plan, where)
    at = f"/api/v1/plans/{plan}/rollout"
    server.start()
    try:
        assert server.client().post(f"{at}/look", json={"revision": 1}).status_code == 200
        for number in range(1, times(2, 200) + 1):
            client = server.client()
            begun = client.post(f"{at}/apply", json={"revision": 1, "seconds": 60})
            assert begun.status_code == 202, begun.text
            time.sleep(rng.uniform(0, 6))
            server.kill()
            server.start()
            client = server.client()
            until(
                lambda n=number, c=client: (
                    c.get(f"{at}/runs/{n}").json()["state"] in ("awaiting-confirmation", "rolled-back")
                ),
                120,
            )  # type: ignore[misc]
            state = client.get(f"{at}/runs/{number}").json()["state"]
            ended[state] += 1
            if state == "awaiting-confirmation":
                assert client.get(at).json()["steps"], "it is not kept yet"
                client.post(f"{at}/runs/{number}/rollback")
                until(lambda n=number, c=client: c.get(f"{at}/runs/{n}").json()["ended"], 120)  # type: ignore[misc]
            run = client.get(f"{at}/runs/{number}").json()
            assert run["state"] == "rolled-back", (run["trouble"], run["notes"], [s for s in run["steps"] if s["why"]])
            assert shell(keelson, SNAPSHOT) == before
    finally:
        server.stop()
    print(dict(ended))


ORPHAN = """import sys; from yardgate.drivers.linux.command import Command; from yardgate.drivers.linux.ssh import Login, Ssh
ssh = Ssh(Login(host="127.0.0.1", port=int(sys.argv[1]), key=sys.argv[2])); ssh(Command(("true",), "try"))
print(ssh.carrier.pid, flush=True); sys.stdin.read()"""


@pytest.mark.parametrize("end", [signal.SIGTERM, signal.SIGKILL])
def test_the_connection_ends_with_whoever_began_it(way: Door, end: signal.Signals) -> None:
    command = [sys.executable, "-c", ORPHAN, str(way.port), way.key]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as began:
        assert began.stdout is not None
        carrier = int(began.stdout.readline())
        assert Path(f"/proc/{carrier}").exists()
        began.send_signal(end)
    until(
        lambda: not Path(f"/proc/{carrier}").exists() or "Z" in Path(f"/proc/{carrier}/stat").read_text().split()[2], 10
    )


def test_a_full_disk_puts_everything_back(keelson: Host, way: Door) -> None:
    before = shell(keelson, SNAPSHOT)
    wanted = compiled(resolve(office(6), ON), "/srv").system
    now = read(runner(keelson), asked(wanted))
    found = steps(now, wanted)
    assert sum(step.part == "folders" for step in found) > 3
    ssh = Ssh(login(way))
    try:
        shell(keelson, "mount -t tmpfs -o nr_inodes=4,mode=755 tmpfs /srv")
        carried = carry_out(LinuxHost(ssh), now, found)
        assert carried.failed is not None
        assert carried.failed.part == "folders"
        assert "No space left on device" in carried.why
        assert put_back(LinuxHost(ssh), after(now, carried.done), carried).failed is None
        assert shell(keelson, "ls -A /srv") == ""
    finally:
        ssh.close()
        shell(keelson, "umount /srv")
    assert shell(keelson, SNAPSHOT) == before


def test_who_is_not_root_rolls_out_by_sudo_and_only_where_it_asks_no_password(keelson: Host, way: Door) -> None:
    before = shell(keelson, SNAPSHOT)
    shell(
        keelson,
        "useradd --create-home --home-dir /run/roller --shell /bin/sh --password '*' roller; mkdir -m 700 /run/roller/.ssh; cat > /run/roller/.ssh/authorized_keys; chown -R roller: /run/roller/.ssh",
        (way.top / "own_key.pub").read_text(),
    )
    ssh = Ssh(replace(login(way), user="roller", as_root=True))
    now, wanted = System(), compiled(resolve(office(5), ON), "/srv").system
    try:
        with pytest.raises(ApplianceError, match=r"password is required|not allowed"):
            read(ssh, wanted)
        shell(
            keelson,
            "mkdir -p /etc/sudoers.d; echo 'roller ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/roller; chmod 440 /etc/sudoers.d/roller",
        )
        at, found = LinuxHost(ssh), steps(now, wanted)
        carried = carry_out(at, now, found)
        assert carried.failed is None, carried.why
        assert read(runner(keelson), wanted) == at.read(wanted)
        at.arm(now, found, 60)
        assert at.watching() == "armed"
        at.end()
        assert put_back(at, after(now, found), carried).failed is None
    finally:
        ssh.close()
        shell(keelson, "userdel --remove roller; rm -f /etc/sudoers.d/roller")
    assert shell(keelson, SNAPSHOT) == before
