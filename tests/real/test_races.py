"""Somebody who may write in a planned folder exchanges what is in it for links to elsewhere, as fast as they can, while root works there.

Whatever is exchanged at which moment, nothing outside is changed. Each attack is first tried on commands that go by the path alone, as
they would be typed: there it must come through, or it would prove nothing.
"""

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from tests.real.host import Host, host
from tests.real.test_host import runner, shell
from tests.tries import times
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry
from yardgate.core.acl.posix import in_order
from yardgate.core.acl.rights import FULL
from yardgate.core.host.contents import Thing, pushes
from yardgate.core.host.state import Folder, System
from yardgate.core.host.steps import Step
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.contents import give, inside
from yardgate.drivers.linux.host import LinuxHost

UID, GID = 7301, 7301
ROUNDS = times(25, 200)
OPEN_TO_ALL = Posix(in_order(PosixEntry(tag, "", 7) for tag in ("user", "group", "other")))
STATE = """cd /; stat -c '%n %U %G %a %F' /etc/victim /etc/victim/* /etc/victim/*/* /srv/other /srv/other/*
getfacl -R -p /etc/victim /srv/other; getfattr -R -d -m - -e hex --absolute-names /etc/victim /srv/other; cat /etc/victim/cron"""
SET_UP = f"""rm -rf /etc/victim /srv/keel /srv/other
mkdir -p /etc/victim/old /etc/victim/mid /srv/keel; echo '* * * * * root true' > /etc/victim/cron; cp /etc/victim/cron /etc/victim/old/kept
mkdir -m 700 /srv/other; cp /etc/victim/cron /srv/other/pay; chmod 600 /srv/other/pay
chmod 700 /etc/victim/old; chmod 600 /etc/victim/cron /etc/victim/old/kept
chown {UID}:{GID} /srv/keel; chmod 770 /srv/keel
"""


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


@contextmanager
def attacked(at: Host, one: str, other: str, folder: str = "/srv/keel", target: str = "") -> Iterator[None]:
    """While somebody exchanges two names in a folder. Children of the host's first process are in its namespaces."""
    children = Path(f"/proc/{at.beside.pid}/task/{at.beside.pid}/children").read_text().split()
    enter = ["nsenter", "--target", children[0], "--mount", "--pid"]
    program = str(Path(__file__).with_name("attacker.py"))
    argv = [
        *enter,
        sys.executable,
        "-I",
        program,
        str(UID),
        str(GID),
        folder,
        one,
        other,
        *([target] if target else []),
    ]
    with subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as attacker:
        try:
            assert attacker.stdout is not None
            assert attacker.stdout.readline() == b"begins\n"
            yield
            assert attacker.poll() is None, attacker.stderr.read() if attacker.stderr else ""
        finally:
            assert attacker.stdin is not None
            attacker.stdin.close()
            attacker.wait(20)


def comes_through(at: Host, naive: Callable[[], object], before: str) -> bool:
    """Whether an attack on commands that go by the path alone changes something outside, in not too many tries."""
    for _ in range(400):
        naive()
        if shell(at, STATE) != before:
            return True
    return False


LISTS = (OPEN_TO_ALL, Ordered((Entry("allow", "everyone", FULL),)))


@pytest.mark.parametrize("listed", LISTS, ids=["posix", "ordered"])
def test_a_planned_folder_exchanged_for_a_link(keelson: Host, listed: Posix | Ordered) -> None:
    shell(keelson, SET_UP)
    shell(keelson, f"cd /srv/keel; mkdir plans; ln -s /etc/victim/old trap; chown -h {UID}:{GID} plans trap")
    before = shell(keelson, STATE)
    at, path = LinuxHost(runner(keelson)), "/srv/keel/plans"
    was = Folder(name=path, owner="root", group="root", listed=Posix(in_order(())))
    now = Folder(name=path, owner="nobody", group="nogroup", listed=listed)
    with attacked(keelson, "plans", "trap"):
        for number in range(ROUNDS):
            step = Step(part="folders", before=was if number % 2 else None, after=now)
            for one in (step, step.back()) if number % 2 else (step,):
                with suppress(ApplianceError):
                    at.do(one, System())
            assert shell(keelson, STATE) == before
        naive = 'test "$(realpath -e "$0")" = "$0" && { chown nobody:nogroup "$0"; chmod 777 "$0"; setfacl -m o::rwx "$0"; }'
        assert comes_through(keelson, lambda: keelson.ask("run", argv=["sh", "-c", naive, path], given=""), before)


def test_a_file_exchanged_for_a_link_while_lists_are_pushed_down(keelson: Host) -> None:
    shell(keelson, SET_UP)
    shell(keelson, f"cd /srv/keel; touch bill; ln -s /etc/victim/cron trap; chown -h {UID}:{GID} bill trap")
    pushed(keelson, "setfacl -P -m o::rwx -- /srv/keel/bill")


def test_a_folder_on_the_way_exchanged_for_a_link_while_lists_are_pushed_down(keelson: Host) -> None:
    shell(keelson, SET_UP)
    shell(keelson, f"cd /srv/keel; mkdir bill; touch bill/cron; ln -s /etc/victim trap; chown -R -h {UID}:{GID} .")
    pushed(keelson, "setfacl -m o::rwx -- /srv/keel/bill/cron", "/srv/keel/bill/cron")


def test_a_file_exchanged_for_a_second_name_of_one_elsewhere(keelson: Host) -> None:
    shell(keelson, SET_UP)
    shell(keelson, f"cd /srv/keel; touch bill; chown {UID}:{GID} bill; ln /srv/other/pay trap")
    before = shell(keelson, STATE)
    seen = next(inside(runner(keelson), "/srv/keel"))[1]
    assert {thing.name: thing.linked for thing in seen} == {"/srv/keel/bill": False, "/srv/keel/trap": True}
    folder = Folder(name="/srv/keel", group="nogroup", listed=OPEN_TO_ALL)
    assert [push.was.name for push in pushes(folder, seen)] == ["/srv/keel/bill"]
    assert shell(keelson, STATE) == before
    pushed(keelson, "setfacl -m o::rwx -- /srv/keel/bill")


def pushed(at: Host, naive: str, path: str = "/srv/keel/bill") -> None:
    before, names = shell(at, STATE), (path, "/srv/keel")
    wanted = [
        Thing(name=name, folder=name == "/srv/keel", group="nogroup", listed=listed)
        for listed in LISTS
        for name in names
    ]
    with attacked(at, "bill", "trap"):
        for _ in range(ROUNDS):
            give(runner(at), wanted)
            assert shell(at, STATE) == before
            shell(at, f"chgrp {GID} /srv/keel; chmod 770 /srv/keel")
        assert comes_through(at, lambda: shell(at, naive), before)


def test_a_folder_above_exchanged_for_a_link_while_one_is_deleted(keelson: Host) -> None:
    shell(keelson, SET_UP)
    shell(keelson, f"cd /srv/keel; mkdir -p mid; ln -s /etc/victim trap; chown -h {UID}:{GID} mid trap")
    before, path = shell(keelson, STATE), "/srv/keel/mid/old"
    at = LinuxHost(runner(keelson))
    gone = Folder(name=path, owner="root", group="root", listed=OPEN_TO_ALL)
    deleted = 0
    with attacked(keelson, "mid", "trap"):
        for _ in range(ROUNDS):
            shell(keelson, "for t in mid trap; do test -L /srv/keel/$t || mkdir -p /srv/keel/$t/old; done 2> /dev/null")
            with suppress(ApplianceError):
                at.do(Step(part="folders", before=gone, after=None, wipe=True), System())
                deleted += 1
            assert shell(keelson, STATE) == before
        naive = 'test "$(realpath -e "$0")" = "$0" && rm -r -- "$0"; mkdir -p /srv/keel/mid/old 2> /dev/null'
        assert comes_through(keelson, lambda: keelson.ask("run", argv=["sh", "-c", naive, path], given=""), before)
    assert deleted > 0
    assert os.getuid() == 0
