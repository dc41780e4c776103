"""Signing in on a real SMB server: passwords that people are given, and sessions that are ended."""

import secrets
import time
from collections.abc import Iterator
from dataclasses import replace

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.test_host import SNAPSHOT, roll, runner, shell
from tests.server import until
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry
from yardgate.core.acl.rights import FULL, Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.contents import Handed, Thing
from yardgate.core.host.probe import Abilities
from yardgate.core.host.sign_in import outlasting
from yardgate.core.host.state import System, asked
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import drift, steps
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.core.model.share import Share
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.apply import carry_out, put_back
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read


def yard(*crew: str, disabled: tuple[str, ...] = ()) -> Plan:
    people = ("ann", "bo", "cy")
    users = {
        name: User(id=name, name=name, uid=4001 + n, enabled=name not in disabled) for n, name in enumerate(people)
    }
    listed = Posix((PosixEntry("group", "crew", 7), PosixEntry("mask", "", 7)), (PosixEntry("group", "crew", 7),))
    keel = Place(id="keel", name="keel", kind="pool", acl=listed, enforced_by="both")
    return Plan(
        users=users,
        groups={"crew": Group(id="crew", name="crew", gid=4100, members=frozenset(crew))},
        places={"keel": keel},
        grants={"keel": {"crew": Level.RW}},
        shares={"s": Share(id="s", name="work", place="keel")},
    )


def system(plan: Plan) -> System:
    return compiled(resolve(plan, ON), "/srv").system


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as at:
        roll(at, System(), system(yard("ann", "bo")))
        yield at


def enters(at: Host, name: str, password: str, act: str = "ls") -> str:
    return shell(at, f"smbclient -U {name}%{password} //127.0.0.1/work -c '{act}' 2>&1")


def test_passwords_are_given_once_and_leave_no_trace(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    assert appliance.without_password() == {"ann", "bo", "cy"}
    one, first = f"kelp-{secrets.token_hex(8)}", f"first-{secrets.token_hex(8)}"
    shell(keelson, "touch /run/samba/begun")
    watch = "echo $$ > /run/samba/watch; while sleep 0.002; do cat /proc/[0-9]*/cmdline; done > /run/samba/watched"
    shell(keelson, f"setsid sh -c '{watch}' > /dev/null 2>&1 &")
    appliance.give_passwords({"ann": one, "bo": "it's $(odd) \\\\"}, change=False)
    assert appliance.without_password() == {"cy"}
    assert "blocks available" in enters(keelson, "ann", one)
    assert "blocks available" in enters(keelson, "bo", "'it'\\''s $(odd) \\\\'")
    assert "NT_STATUS_LOGON_FAILURE" in enters(keelson, "ann", one[:-1])
    appliance.give_passwords({"cy": first}, change=True)
    assert "NT_STATUS_PASSWORD_MUST_CHANGE" in enters(keelson, "cy", first)
    changed = shell(keelson, "smbpasswd -s -r 127.0.0.1 -U cy 2>&1", f"{first}\nown-choice-9\nown-choice-9\n")
    assert "Password changed" in changed
    assert "NT_STATUS_PASSWORD" not in enters(keelson, "cy", "own-choice-9")
    shell(keelson, "kill $(cat /run/samba/watch)")
    kept = "/run/samba /var/log/samba /var/cache/samba /var/lib/samba /etc /srv /tmp"
    traces = shell(
        keelson,
        f"find {kept} -type f -newer /run/samba/begun -exec grep -laE '{one}|{first}' {{}} + 2> /dev/null; true",
    )
    assert [line for line in traces.splitlines() if not line.endswith("/watched")] == []
    watched = shell(keelson, "cat /run/samba/watched").replace("\0", " ")
    assert "smbpasswd -s" in watched, "the watch saw the commands"
    typed = watched.replace(f"-U ann%{one}", "").replace(f"-U cy%{first}", "")
    assert one not in typed, "but for those by which it is tried here"
    assert first not in typed


def test_who_has_to_change_a_password_can_be_disabled_and_enabled(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    appliance.give_passwords({"bo": "soon-another"}, change=True)
    now = read(runner(keelson), asked(system(yard("ann", "bo"))))
    for plan in (yard("ann", "bo", disabled=("bo",)), yard("ann", "bo")):
        now, _ = roll(keelson, now, system(plan))
    assert "NT_STATUS_PASSWORD_MUST_CHANGE" in enters(keelson, "bo", "soon-another")
    now, _ = roll(keelson, now, system(yard("ann", "bo", disabled=("bo",))))
    appliance.give_passwords({"bo": "tide-table"}, change=False)
    assert "NT_STATUS_ACCOUNT_DISABLED" in enters(keelson, "bo", "tide-table"), "a password opens no account"
    roll(keelson, now, system(yard("ann", "bo")))


def test_sessions_that_keep_what_they_were_are_told_and_ended(keelson: Host) -> None:
    """Who leaves a group goes on writing in an open session, until it is ended."""
    appliance = LinuxHost(runner(keelson))
    appliance.give_passwords({"ann": "tide-table", "bo": "tide-table"}, change=False)
    now = read(runner(keelson), asked(system(yard("ann", "bo"))))
    for name in ("ann", "bo"):
        keep = f"rm -f /run/{name}.in; mkfifo /run/{name}.in; setsid smbclient -U {name}%tide-table //127.0.0.1/work < /run/{name}.in > /run/{name}.out 2>&1 &"
        shell(
            keelson,
            f"({keep}) > /dev/null 2>&1; (exec 3> /run/{name}.in; echo 'put /etc/hostname {name}-1' >&3; setsid sleep 600 >&3 2>/dev/null < /dev/null) > /dev/null 2>&1 &",
        )
    until(lambda: [one.account for one in appliance.sessions()] == ["ann", "bo"], 20)
    ann, _bo = appliance.sessions()
    assert (ann.shares, ann.machine) == (("work",), "127.0.0.1")
    assert ann.since.startswith(time.strftime("%Y-"))
    wanted = system(yard("ann"))
    found = steps(now, wanted)
    assert [one.account for one in outlasting(found, appliance.sessions())] == ["bo"]
    roll(keelson, now, wanted)

    def put(name: str, file: str) -> None:
        shell(keelson, f"timeout 5 sh -c 'echo put /etc/hostname {file} > /run/{name}.in'")

    def there(file: str) -> bool:
        return shell(keelson, f"test -e /srv/keel/{file} && echo yes") == "yes\n"

    put("bo", "late")
    until(lambda: there("late"), 20)
    ended = appliance.end_sessions({"bo"})
    assert [one.account for one in ended] == ["bo"]
    until(lambda: [one.account for one in appliance.sessions()] == ["ann"], 20)
    put("bo", "later")
    put("ann", "still")
    until(lambda: there("still"), 20)
    time.sleep(1)
    assert not there("later")
    assert appliance.end_sessions({"nobody-else"}) == ()


def test_what_is_no_password_or_no_account_is_refused(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    with pytest.raises(ApplianceError, match="more than one line"):
        appliance.give_passwords({"ann": "one\ntwo"}, change=False)
    with pytest.raises(ApplianceError, match="could not give passwords"):
        appliance.give_passwords({"nobody-at-all": "kelp"}, change=False)


def test_people_sign_in_by_their_other_names_too(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    appliance.give_passwords({"ann": "tide-table"}, change=False)
    plain = yard("ann")
    now = read(runner(keelson), asked(system(plain)))
    others = ("Lee,A", "a=b;c", "ann@yard.example", "Ann Lee")
    ann = replace(plain.users["ann"], aliases=others)
    named = replace(plain, users={**plain.users, "ann": ann})
    before = shell(keelson, SNAPSHOT)
    now, carried = roll(keelson, now, system(named))
    for name in ("ann", *others):
        assert "blocks available" in shell(keelson, f"smbclient -U '{name}%tide-table' //127.0.0.1/work -c ls 2>&1"), (
            name
        )
    assert "blocks available" not in shell(keelson, "smbclient -U 'ann@other%tide-table' //127.0.0.1/work -c ls 2>&1")
    shell(keelson, "sed -i '/^. begin yardgate users/,/^. end yardgate users/d' /etc/samba/smb.conf")
    found = read(runner(keelson), asked(now))
    assert [words(step) for step in drift(now, found)] == ["account ann: let it sign in by its own name alone"]
    roll(keelson, found, system(named))
    assert put_back(appliance, now, carried).failed is None
    assert shell(keelson, SNAPSHOT) == before
    shell(
        keelson,
        "echo 'ann = boss' > /etc/samba/own.users; sed -i 's#^.global.$#&\\n username map = /etc/samba/own.users#' /etc/samba/smb.conf",
    )
    now = read(runner(keelson), asked(system(plain)))
    refused = carry_out(appliance, now, steps(now, system(named)))
    assert "has a username map already, /etc/samba/own.users" in refused.why
    shell(keelson, "sed -i '/own.users/d' /etc/samba/smb.conf")


def test_a_share_that_the_server_itself_does_not_have_is_no_visit(keelson: Host) -> None:
    """It runs by another configuration than the one that its parser reads: what the server beside it finds does not count."""
    appliance = LinuxHost(runner(keelson))
    with appliance.trial({"ann"}) as trial:
        assert trial.enter("ann", "work", [""]) == [Abilities(lists=True, adds=True)]
    shell(
        keelson,
        "sed '/yardgate.conf/d' /etc/samba/smb.conf > /etc/samba/other.conf; smbcontrol smbd shutdown; while smbcontrol smbd ping; do sleep 0.1; done",
    )
    shell(keelson, "smbd -D -s /etc/samba/other.conf; while ! smbcontrol smbd ping; do sleep 0.1; done")
    with appliance.trial({"ann"}) as trial:
        assert trial.enter("ann", "work", [""]) is None
    shell(
        keelson,
        "smbcontrol smbd shutdown; while smbcontrol smbd ping; do sleep 0.1; done; service smbd start; while ! smbcontrol smbd ping; do sleep 0.1; done",
    )
    with appliance.trial({"ann"}) as trial:
        assert trial.enter("ann", "work", [""]) == [Abilities(lists=True, adds=True)]


def test_what_somebody_who_left_owns_is_counted_and_handed_over(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    shell(
        keelson,
        "mkdir -p /srv/keel/a/b; head -c 100000 /dev/zero > /srv/keel/a/b/big; touch /srv/keel/a/small; chown -R bo /srv/keel/a",
    )
    shell(keelson, "ln -s /etc /srv/keel/a/link; chown -h bo /srv/keel/a/link")
    (found,) = appliance.owned("bo", ["/srv/keel/a"])
    assert (found.folder, found.things) == ("/srv/keel/a", 5)
    assert 100_000 <= found.size < 200_000
    (others,) = appliance.owned("cy", ["/srv/keel/a"])
    assert (others.things, others.size) == (0, 0)
    shell(keelson, "chmod 4755 /srv/keel/a/small; ln /srv/keel/a/small /srv/keel/a/other; mkdir /srv/keel/a/apart")
    shell(keelson, "mount -t tmpfs none /srv/keel/a/apart; touch /srv/keel/a/apart/x; chown bo /srv/keel/a/apart/x")
    ordered = Thing(name="/srv/keel/a/b/big", folder=False, owner="bo", group="crew", listed=Ordered((Entry("allow", "bo", FULL, 0),)))  # fmt: skip
    appliance.give([ordered])
    handed = appliance.hand_over("bo", "ann", ["/srv/keel/a"])
    assert handed == Handed(things=3, left=3), "the folder, that in it and its file; a link, and a file with two names"
    assert shell(keelson, "cd /srv/keel/a; stat -c %U . b b/big small link apart/x /etc").split() == [*["ann"] * 3, *["bo"] * 3, "root"]  # fmt: skip
    (big,) = appliance.things({"/srv/keel/a/b/big": False})
    assert (big.owner, big.listed) == ("ann", ordered.listed), "also where the SMB server keeps it"
    assert appliance.hand_over("bo", "ann", ["/srv/keel/a"]) == Handed(things=0, left=3)
    shell(keelson, "ln -s /etc /srv/keel/etc; umount /srv/keel/a/apart")
    with pytest.raises(ApplianceError):
        appliance.hand_over("root", "ann", ["/srv/keel/etc"])
    assert shell(keelson, "stat -c %U /etc/passwd; rm /srv/keel/etc") == "root\n"
    with pytest.raises(ApplianceError):
        appliance.owned("nobody-at-all", ["/srv/keel/a"])
