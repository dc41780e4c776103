"""A host asks its own NFS server what people find, as a client of one of its addresses: as planned, and where somebody changed something by hand."""

from collections.abc import Iterator
from dataclasses import replace

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.test_host import roll, runner, shell
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl import Mode
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled, host_names, paths
from yardgate.core.host.probe import Question, differs, over_nfs
from yardgate.core.host.state import System
from yardgate.core.model.plan import Group, Place, Plan, Target, User
from yardgate.core.model.share import HostRule, Share
from yardgate.core.policy.compliance import keep
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.host import LinuxHost

HERE = "192.0.2.10"
SQUASH = {"none": "no_root_squash", "root": "root_id_squash", "all": "all_squash"}
LEVEL = {Level.NA: "None", Level.RO: "RO", Level.RW: "RW"}


def offered(name: str, level: Level, hosts: str = "192.0.2.0/24") -> Share:
    return Share(id=name, name=name, place=name, smb=False, nfs=True, hosts=(HostRule(hosts=hosts, level=level),))


def yard() -> Plan:
    """Mode bits, since the server of the tests asks nothing of other lists; it goes by the first rule, and shows what is above a share by itself."""

    def folder(name: str, group: str, bits: int, parent: str | None = None) -> Place:
        return Place(
            id=name,
            name=name,
            kind="pool" if parent is None else "folder",
            parent=parent,
            group=group,
            acl=Mode(bits=bits),
        )

    return Plan(
        users={
            "ann": User(id="ann", name="ann", uid=4001, primary_group="staff9"),
            "bo": User(id="bo", name="bo", uid=4002, primary_group="staff9"),
        },
        groups={
            "crew": Group(id="crew", name="crew", gid=4100, members=frozenset({"ann"})),
            "staff9": Group(id="staff9", name="staff9", gid=4101),
        },
        places={
            one.id: one
            for one in (
                folder("slip", "crew", 0o2770),
                folder("plans", "crew", 0o2750, "slip"),
                folder("notices", "staff9", 0o2775),
                folder("away", "staff9", 0o2770),
            )
        },
        shares={
            one.id: one
            for one in (
                offered("slip", Level.RW),
                offered("notices", Level.RO),
                offered("away", Level.RW, "198.51.100.0/24"),
            )
        },
        target=Target(host_rules="first", nfs_traverse="bypassed"),
    )


PLAN = yard()
MATRIX = resolve(PLAN, ON)
SYSTEM = compiled(MATRIX, "/srv").system


def serve(at: Host) -> None:
    """The server of the tests with what the host exports, since it reads no exports(5)."""
    blocks = [
        f'EXPORT {{ Export_Id = {number}; Path = "{one.path}"; Pseudo = "{one.path}"; Access_Type = None; FSAL {{ Name = VFS; }} '
        + " ".join(
            f"CLIENT {{ Clients = {rule.hosts}; Access_Type = {LEVEL[rule.level]}; Squash = {SQUASH[one.squash]}; }}"
            for rule in one.rules
        )
        + " }"
        for number, one in enumerate(SYSTEM.exports.values(), 1)
    ]
    usual = "EXPORT_DEFAULTS { SecType = sys; Attr_Expiration_Time = 0; }\nMDCACHE { Dir_Chunk = 0; }"
    text = "\n".join([usual, *blocks])
    shell(at, f"cat > /run/samba/exports <<'EOF'\n{text}\nEOF")
    shell(at, "sed -i '/ganesha.nfsd -f/i cat /run/samba/exports >> /run/samba/nfs/conf' /etc/init.d/nfs-kernel-server")
    shell(at, "service nfs-kernel-server stop; service nfs-kernel-server start")


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as at:
        roll(at, System(), SYSTEM)
        shell(at, f"ip address add {HERE}/32 dev lo")
        serve(at)
        yield at


def asked(at: Host) -> tuple[Question, ...]:
    own = LinuxHost(runner(at)).addresses()
    assert own[0] == HERE
    assert "127.0.0.1" in own[1:]
    return over_nfs(keep(outcome(MATRIX)), host_names(PLAN), PLAN.users, own, paths(PLAN, "/srv"))


def otherwise(at: Host) -> list[str]:
    found = []
    for one in asked(at):
        answers = LinuxHost(runner(at)).enter_over_nfs(one.account, one.exported, one.folders, one.address)
        found += differs(PLAN, one, answers)
    return found


def test_everybody_finds_what_the_plan_says(keelson: Host) -> None:
    told = [(one.share, one.account, one.expected) for one in asked(keelson)]
    print(told)
    assert [line[:2] for line in told] == [
        ("away", "ann"), ("notices", "ann"), ("notices", "bo"), ("slip", "ann"), ("slip", "bo"),
    ]  # fmt: skip
    assert told[0][2] is None
    assert told[1][2] == ((True, False),)
    assert told[3][2] == ((True, True), (True, False))
    assert otherwise(keelson) == []


def test_what_was_changed_by_hand_is_found(keelson: Host) -> None:
    shell(keelson, "chmod 2770 /srv/slip/plans; gpasswd -a bo crew")
    try:
        found = otherwise(keelson)
        assert "ann can save in slip/plans over NFS from 192.0.2.10; the plan says otherwise" in found
        assert any(line.startswith("bo ") and "slip" in line for line in found), found
    finally:
        shell(keelson, "chmod 2750 /srv/slip/plans; gpasswd -d bo crew")
    assert otherwise(keelson) == []


def test_why_it_cannot_be_asked_is_said(keelson: Host) -> None:
    one = asked(keelson)[-1]
    at = LinuxHost(runner(keelson))
    with pytest.raises(ApplianceError, match="the host knows no account nobody-here"):
        at.enter_over_nfs("nobody-here", one.exported, one.folders, one.address)
    with pytest.raises(ApplianceError, match=r"does not answer at 192\.0\.2\.99: "):
        at.enter_over_nfs(one.account, one.exported, one.folders, "192.0.2.99")
    shell(keelson, "service nfs-kernel-server stop")
    try:
        with pytest.raises(
            ApplianceError, match=r"the NFS server does not answer at 192\.0\.2\.10: Connection refused"
        ):
            at.enter_over_nfs(one.account, one.exported, one.folders, one.address)
    finally:
        shell(keelson, "service nfs-kernel-server start")
    assert replace(one, address="").protocol == "smb"
