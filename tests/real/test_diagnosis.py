"""Why somebody does not get in, on a real host: each cause made by hand, and named as the first."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.test_host import roll, runner, shell
from tests.server import until
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Posix, PosixEntry
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.diagnosis import Asked, HostCheck, Planned, cause, diagnose
from yardgate.core.host.state import System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import drift
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.core.model.share import HostRule, Share
from yardgate.drivers.linux.host import LinuxHost

TOP = "/srv/keel/drawings"


def yard() -> Plan:
    crew = Posix(
        (PosixEntry("group", "crew", 7), PosixEntry("mask", "", 7)),
        (PosixEntry("group", "crew", 7), PosixEntry("mask", "", 7)),
    )
    passing = Posix((PosixEntry("group", "crew", 1), PosixEntry("mask", "", 7)))
    return Plan(
        users={
            "ann": User(id="ann", name="ann", uid=4001, primary_group="staff9"),
            "bo": User(id="bo", name="bo", uid=4002, enabled=False),
        },
        groups={
            "crew": Group(id="crew", name="crew", gid=4100, members=frozenset({"ann"})),
            "staff9": Group(id="staff9", name="staff9", gid=4101),
        },
        places={
            "keel": Place(id="keel", name="keel", kind="pool", acl=passing, enforced_by="both"),
            "drawings": Place(
                id="drawings",
                name="drawings",
                kind="dataset",
                parent="keel",
                acl=crew,
                inheritance_stops=True,
                enforced_by="both",
            ),
            "old": Place(id="old", name="old", kind="folder", parent="drawings", acl=crew, inheritance_stops=True),
        },
        grants={"drawings": {"crew": Level.RW}},
        shares={
            "s": Share(
                id="s",
                name="drawings",
                place="drawings",
                nfs=True,
                hosts=(HostRule(hosts="192.0.2.0/24", level=Level.RO), HostRule(hosts="192.0.2.41", level=Level.RW)),
            )
        },
    )


SYSTEM = compiled(resolve(yard(), ON), "/srv").system
ANN = Asked(account="ann", share="drawings", password="tide-table")


@dataclass(frozen=True)
class Case:
    """done, undone: at the host, by hand. about, words, act: of the check that is the cause."""

    name: str
    done: str
    undone: str
    about: str
    words: str
    asked: Asked = ANN
    act: str = ""


BTRFS = "truncate -s 120M /srv/disk; mkfs.btrfs -q /srv/disk > /dev/null 2>&1; d=/srv/keel/drawings/old; mount -o loop /srv/disk $d"
CASES = (
    Case("the server is dead", "smbcontrol smbd shutdown; while smbcontrol smbd ping; do sleep 0.1; done", "service smbd start; while ! smbcontrol smbd ping; do sleep 0.1; done", "server", "The SMB server does not run"),
    Case("the include line is gone", "sed -i '/yardgate.conf/d' /etc/samba/smb.conf; smbcontrol smbd reload-config", "printf '[global]\\n include = /etc/samba/yardgate.conf\\n' >> /etc/samba/smb.conf; smbcontrol smbd reload-config", "share", "has no share drawings"),
    Case("another section keeps computers out", "printf '[drawings]\\n hosts deny = ALL\\n' >> /etc/samba/smb.conf", "sed -i '/^\\[drawings\\]$/,$d' /etc/samba/smb.conf", "host", "hosts deny = ALL"),
    Case("another section switches it off", "printf '[drawings]\\n available = no\\n' >> /etc/samba/smb.conf", "sed -i '/^\\[drawings\\]$/,$d' /etc/samba/smb.conf", "share", "available = no"),
    Case("another section refuses them", "printf '[drawings]\\n invalid users = ann\\n' >> /etc/samba/smb.conf", "sed -i '/^\\[drawings\\]$/,$d' /etc/samba/smb.conf", "share", "gives ann no access; the plan says read-write"),
    Case("the account is gone", "pdbedit -x -u ann > /dev/null; userdel ann", "useradd -M -s /usr/sbin/nologin -u 4001 -g staff9 -G crew ann; printf 'tide-table\\ntide-table\\n' | smbpasswd -s -a ann", "account", "has no account ann"),
    Case("the SMB server has no such account", "pdbedit -x -u ann > /dev/null", "printf 'tide-table\\ntide-table\\n' | smbpasswd -s -a ann", "account", "The SMB server has no account ann"),
    Case("the account is disabled by hand", "smbpasswd -d ann", "smbpasswd -e ann", "account", "disabled there; the plan has it enabled"),
    Case("the account is disabled by the plan", "true", "true", "account", "disabled there; as the plan says", replace(ANN, account="bo"), "Enable it in People."),
    Case("the account is expired", "usermod --expiredate 2026-06-01 ann; pdbedit -r -u ann -K 1780272000 > /dev/null", "usermod --expiredate '' ann; pdbedit -r -u ann -K never > /dev/null", "account", "expired on 2026-06-01"),
    Case("the account has another number", "usermod -u 4777 ann; net cache flush", "usermod -u 4001 ann; net cache flush", "account", "has the number 4777 there, 4001 in the plan"),
    Case("the account is locked", "pdbedit -P 'bad lockout attempt' -C 2 > /dev/null; for _ in 1 2 3; do smbclient -U ann%wrong //127.0.0.1/drawings -c exit; done", "pdbedit -P 'bad lockout attempt' -C 0 > /dev/null; pdbedit -r -u ann -z -c '[ ]' > /dev/null", "account", "has locked ann"),
    Case("no password was given yet", "pdbedit -r -u ann -N \"no password given yet ($(pdbedit -v -u ann | sed -n 's/^Password last set: *//p'))\" > /dev/null", "pdbedit -r -u ann -N '' > /dev/null", "password", "Nobody was given a password for ann yet"),
    Case("the password has to be changed", "net sam set pwdmustchangenow ann yes", "printf 'tide-table\\ntide-table\\n' | smbpasswd -s ann", "password", "has to choose another password"),
    Case("the password is wrong", "true", "true", "password", "does not take the password that was typed", replace(ANN, password="neap-table")),
    Case("out of the group by hand", "gpasswd -d ann crew", "gpasswd -a ann crew", "groups", "not in crew"),
    Case("in another group by hand", "gpasswd -M bo staff9; usermod -aG staff9 bo; gpasswd -M ann,bo crew", "gpasswd -M ann crew; gpasswd -M '' staff9", "account", "disabled there", replace(ANN, account="bo")),
    Case("a folder above cannot be entered", "chmod 700 /srv", "chmod 755 /srv", "folder", "ann may not enter /srv on the way", act="chmod a+x /srv"),
    Case("a folder of the plan cannot be entered", "setfacl -m g:crew:0 /srv/keel", "setfacl -m g:crew:x /srv/keel", "folder", "ann may not enter /srv/keel on the way. It is not as the plan has it"),
    Case("the folder is gone", f"mv {TOP} {TOP}.away", f"mv {TOP}.away {TOP}", "folder", f"{TOP} is not there"),
    Case("a folder is a link that leads out", f"mv {TOP}/old /srv/keel/away; ln -s /srv/keel/away {TOP}/old", f"rm {TOP}/old; mv /srv/keel/away {TOP}/old", "folder", f"{TOP}/old is a link", replace(ANN, path="old")),
    Case("the list of the folder was changed", f"setfacl -m g:crew:rx {TOP}", f"setfacl -m g:crew:rwx {TOP}", "thing", "ann may only read it. It is not as the plan has it"),
    Case("the list of a folder inside was changed", f"setfacl -m g:crew:0 {TOP}/old", f"setfacl -m g:crew:rwx {TOP}/old", "thing", "can do nothing with it", replace(ANN, path="old")),
    Case("a file has a list of its own", f"echo x > {TOP}/a.txt; setfacl -b {TOP}/a.txt; chmod 600 {TOP}/a.txt", f"rm {TOP}/a.txt", "thing", "can do nothing with it", replace(ANN, path="a.txt"), "Push"),
    Case("a file is not there", "true", "true", "folder", f"{TOP}/b.txt is not there", replace(ANN, path="b.txt"), "another name"),
    Case("the file system is read-only", f"mount -o bind {TOP} {TOP}; mount -o remount,bind,ro {TOP}", f"umount {TOP}", "file system", "mounted read-only"),
    Case("the quota is used up", f"{BTRFS}; btrfs quota enable $d; btrfs qgroup limit 1M $d; chgrp crew $d; chmod 770 $d; head -c 2M /dev/urandom > $d/fill || true; sync", "umount /srv/keel/drawings/old; rm /srv/disk", "file system", "of its quota, 1 MiB, are used", replace(ANN, path="old")),
    Case("the file system is full", "mount -t tmpfs -o size=128k none /srv/keel/drawings/old; setfacl -m g:crew:rwx,m:rwx /srv/keel/drawings/old; head -c 1M /dev/zero > /srv/keel/drawings/old/fill", "umount /srv/keel/drawings/old", "file system", "KiB are left", replace(ANN, path="old")),
    Case("no session is stale that began now", "true", "true", "", "", ANN),
    Case("over NFS from elsewhere", "true", "true", "host", "198.51.100.9 may not mount drawings", replace(ANN, protocol="nfs", machine="198.51.100.9")),
    Case("over NFS for reading only", "true", "true", "host", "192.0.2.7 mounts drawings for reading only", replace(ANN, protocol="nfs", machine="192.0.2.7")),
    Case("the NFS server is dead", "service nfs-kernel-server stop", "service nfs-kernel-server start", "server", "The NFS server does not run", replace(ANN, protocol="nfs", machine="192.0.2.41")),
    Case("the exports are gone", "mv /etc/exports.d/yardgate.exports /tmp/kept", "mv /tmp/kept /etc/exports.d/yardgate.exports", "share", "exports no share drawings", replace(ANN, protocol="nfs", machine="192.0.2.41")),
    Case("the exports were withdrawn", "exportfs -ua", "exportfs -ra", "share", "exports no share drawings", replace(ANN, protocol="nfs", machine="192.0.2.41")),
    Case("a firewall keeps the computer out", "nft 'table inet f { chain in { type filter hook input priority 0; ip saddr 192.0.2.41 tcp dport 2049 drop; }; }'", "nft flush ruleset", "server", "192.0.2.41 cannot reach the NFS server: the host's firewall (table inet f, chain in) stops port 2049", replace(ANN, protocol="nfs", machine="192.0.2.41"), "Open the port in the host's firewall."),
    Case("over NFS all is well", "true", "true", "", "", replace(ANN, protocol="nfs", machine="192.0.2.41")),
)  # fmt: skip


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as at:
        roll(at, System(), SYSTEM)
        LinuxHost(runner(at)).give_passwords({"ann": "tide-table", "bo": "tide-table"}, change=False)
        yield at


def checks(at: Host, asked: Asked) -> tuple[HostCheck, ...]:
    facts = LinuxHost(runner(at)).facts(asked, TOP)
    facts = (
        replace(facts, listens=("0.0.0.0",)) if facts.listens else facts
    )  # the server of the tests is at loopback alone
    return diagnose(asked, Planned(Level.RW, "crew has read-write.", SYSTEM), facts, ON)


def gets_in(at: Host, asked: Asked) -> bool:
    """Whether a real client reads, or writes, what is asked about."""
    where = f"-D {asked.path}" if asked.path and not asked.path.endswith("txt") else ""
    act = f"get {asked.path} /dev/null" if asked.path.endswith("txt") else "put /etc/hostname probe; rm probe"
    return "NT_STATUS" not in shell(
        at, f"smbclient -U {asked.account}%{asked.password} {where} //127.0.0.1/drawings -c '{act}' 2>&1"
    )


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_the_first_check_that_is_amiss_is_the_cause(keelson: Host, case: Case) -> None:
    shell(keelson, case.done)
    try:
        found = checks(keelson, case.asked)
        first = cause(found)
        if not case.about:
            assert first is None, first
        else:
            assert first is not None, found
            assert first.about == case.about, first
            assert case.words in first.words, first
            assert case.act in first.act, first
        smb = case.asked.protocol == "smb"
        smbs = smb and case.name not in (
            "the account has another number",
            "no password was given yet",
        )  # which a client does not see
        if smbs:
            assert gets_in(keelson, case.asked) == (first is None)
    finally:
        shell(keelson, case.undone)
    again = cause(checks(keelson, ANN))
    assert again is None, again


def test_exports_that_the_server_does_not_have_are_drift(keelson: Host) -> None:
    left = LinuxHost(runner(keelson)).read(SYSTEM)
    shell(keelson, "exportfs -ua")
    try:
        found = LinuxHost(runner(keelson)).read(SYSTEM)
        assert [words(step) for step in drift(left, found)] == [
            "stop sharing drawings over NFS; /srv/keel/drawings stays as it is"
        ]
    finally:
        shell(keelson, "exportfs -ra")
    assert drift(left, LinuxHost(runner(keelson)).read(SYSTEM)) == ()


def test_a_server_that_only_the_host_itself_reaches(keelson: Host) -> None:
    facts = LinuxHost(runner(keelson)).facts(ANN, TOP)
    assert facts.listens == ("127.0.0.1",)
    first = cause(diagnose(ANN, Planned(Level.RW, "", SYSTEM), facts, ON))
    assert first is not None
    assert "only from the appliance itself (127.0.0.1)" in first.words


def test_a_session_that_began_before_the_groups_changed_and_what_the_plan_itself_says(keelson: Host) -> None:
    appliance = LinuxHost(runner(keelson))
    shell(
        keelson,
        "rm -f /run/a.in; mkfifo /run/a.in; (setsid smbclient -U ann%tide-table //127.0.0.1/drawings < /run/a.in > /run/a.out 2>&1 &) > /dev/null 2>&1; (exec 3> /run/a.in; setsid sleep 300 >&3 2>/dev/null < /dev/null) > /dev/null 2>&1 &",
    )
    until(lambda: len(appliance.sessions()) == 1, 20)
    shell(keelson, "sleep 1.2; gpasswd -a bo crew; gpasswd -d bo crew")
    first = cause(checks(keelson, ANN))
    assert first is not None
    assert (first.about, first.act[:20]) == ("session", "End it under Signing")
    appliance.end_sessions({"ann"})
    until(lambda: appliance.sessions() == (), 20)
    assert cause(checks(keelson, ANN)) is None
    plan = Planned(Level.NA, "Nobody is granted anything.", SYSTEM)
    refused = cause(diagnose(ANN, plan, appliance.facts(ANN, TOP), ON))
    assert refused is not None
    assert refused.words == "The plan says no access. Nobody is granted anything."


def test_the_password_that_is_tried_stands_in_no_text_about_it() -> None:
    assert "tide-table" not in repr(ANN)
