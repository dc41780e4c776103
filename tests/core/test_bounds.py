"""What a rollout may touch on a host, whatever the plan says: nobody becomes root by it."""

from dataclasses import replace

import pytest

from yardgate.core.host.bounds import (
    NEVER,
    Bounds,
    HostAccounts,
    Managed,
    below,
    made,
    manageable,
    refused,
    top_trouble,
)
from yardgate.core.host.state import Export, Folder, HostAccount, HostGroup, Members, Offer
from yardgate.core.host.steps import Step

HOST = HostAccounts(
    users={"root": 0, "www-data": 33, "backup-job": 972, "tom": 1000},
    groups={"root": 0, "shadow": 42, "users": 100, "docker": 998, "crew": 1001, "tom": 1000},
)
BOUNDS = Bounds(top="/srv", managed=frozenset({Managed("groups", "yard"), Managed("accounts", "ada")}))
MANAGED = Bounds(
    top="/srv",
    managed=frozenset(
        {Managed("accounts", "tom"), Managed("groups", "crew"), Managed("groups", "users"), Managed("groups", "docker")}
        | {Managed("accounts", "root"), Managed("groups", "root"), Managed("groups", "shadow")}
    ),
)


def why(step: Step, bounds: Bounds = BOUNDS, host: HostAccounts = HOST) -> str:
    return refused([step], bounds, host).get(step.id, "")


def group(name: str, gid: int | None = None, was: HostGroup | None = None) -> Step:
    return Step(part="groups", before=was, after=HostGroup(name=name, gid=gid))


def account(name: str, uid: int | None = None, primary: str = "yard", was: HostAccount | None = None) -> Step:
    return Step(part="accounts", before=was, after=HostAccount(name=name, uid=uid, primary=primary))


def members(name: str) -> Step:
    return Step(part="members", before=None, after=Members(name=name, users=frozenset({"ada"})))


def folder(path: str) -> Step:
    return Step(part="folders", before=None, after=Folder(name=path))


FORBIDDEN = {
    "a folder at the root": folder("/etc"),
    "a folder beside the top": folder("/srvother/x"),
    "a folder out of the top": folder("/srv/../etc"),
    "the top itself": folder("/srv"),
    "deleting a folder elsewhere": Step(part="folders", before=Folder(name="/var/lib/x"), after=None, wipe=True),
    "a share of the whole host": Step(part="offers", before=None, after=Offer(name="all", path="/")),
    "an export of the whole host": Step(part="exports", before=None, after=Export(name="all", path="/srv/..")),
    "an account as root": account("toor", 0),
    "an account with a number of the host's": account("web", 33),
    "an account above all numbers": account("far", 70000),
    "a group with a number of the host's": group("readers", 42),
    "a group with root's number": group("wheelies", 0),
    "another number, the host's, for one of ours": group("yard", 42, HostGroup(name="yard", gid=1500)),
    "renaming the host's group": group("readers", 42, HostGroup(name="shadow", gid=42)),
    "renaming the host's account": account("web", 33, was=HostAccount(name="www-data", uid=33, primary="www-data")),
    "joining docker": members("docker"),
    "joining sudo, which is not known to be there": members("sudo"),
    "joining somebody else's group": members("crew"),
    "docker as primary group": account("eve", primary="docker"),
    "shadow as primary group of one of ours": account("ada", primary="shadow", was=HostAccount(name="ada", primary="yard")),
    "a new group with the name of one that can do all": group("libvirt"),
    "making what is there": account("tom"),
    "taking the host's account away": Step(part="accounts", before=HostAccount(name="tom", primary="tom"), after=None),
    "shutting the host's account": account("backup-job", 972, was=HostAccount(name="backup-job", uid=972, primary="users")),
    "shutting root": Step(
        part="accounts", before=HostAccount(name="root", uid=0, primary="root"), after=HostAccount(name="root", uid=0, primary="root", enabled=False)
    ),
}  # fmt: skip


@pytest.mark.parametrize("step", FORBIDDEN.values(), ids=FORBIDDEN)
def test_what_no_plan_may_do(step: Step) -> None:
    assert why(step), step


ALLOWED = {
    "a folder in the top": folder("/srv/keel/drawings"),
    "a new group": group("riggers", 1500),
    "a new group with any number": group("riggers"),
    "a new account": account("eve", 1501),
    "members of ours": members("yard"),
    "another number for ours": group("yard", 1502, HostGroup(name="yard", gid=1500)),
    "renaming ours": account("adah", was=HostAccount(name="ada", primary="yard")),
    "taking ours away": Step(part="accounts", before=HostAccount(name="ada", primary="yard"), after=None),
    "a share": Step(part="offers", before=None, after=Offer(name="keel", path="/srv/keel")),
    "ending a share that leads elsewhere": Step(part="offers", before=Offer(name="all", path="/"), after=None),
}


@pytest.mark.parametrize("step", ALLOWED.values(), ids=ALLOWED)
def test_what_a_plan_is_for(step: Step) -> None:
    assert why(step) == ""


def test_what_is_let_be_managed_may_be_changed_but_nothing_that_makes_root() -> None:
    assert why(members("crew"), MANAGED) == ""
    assert why(members("users"), MANAGED) == "", "a low number is not a reason where an administrator says so"
    assert why(account("tom", 1000, "tom", HostAccount(name="tom", uid=1000, primary="crew")), MANAGED) == ""
    assert why(account("tom", 999, "tom", HostAccount(name="tom", uid=1000, primary="tom")), MANAGED)
    for name in sorted(NEVER):
        assert why(members(name), Bounds(top="/srv", managed=frozenset({Managed("groups", name)}))), name
    assert why(FORBIDDEN["shutting root"], MANAGED)
    low = group("users", 101, HostGroup(name="users", gid=100))
    assert why(low, MANAGED), "nor another number of the host's"


def test_what_a_step_makes_later_ones_may_change_and_what_is_refused_they_may_not() -> None:
    found = [
        group("riggers", 1500),
        members("riggers"),
        account("eve", 0),
        account("eve", 1501, was=HostAccount(name="eve", primary="yard")),
    ]
    assert list(refused(found, BOUNDS, HOST)) == ["accounts:eve"]
    now = made(found[:2], BOUNDS.managed)
    assert Managed("groups", "riggers") in now
    renamed = group("rig", 1500, HostGroup(name="riggers", gid=1500))
    gone = Step(part="groups", before=HostGroup(name="yard"), after=None)
    assert made([renamed, gone], now) == {Managed("groups", "rig"), Managed("accounts", "ada")}


def test_nothing_names_accounts_of_a_domain_where_the_host_calls_them_by_name_alone() -> None:
    plain = replace(HOST, plain_names=True)
    theirs = folder("/srv/keel/drawings")
    assert isinstance(theirs.after, Folder)
    for step in (
        replace(theirs, after=replace(theirs.after, owner="NORTH\\cy")),
        replace(members("yard"), after=Members(name="yard", users=frozenset({"NORTH\\cy"}))),
    ):
        assert not refused([step], BOUNDS, HOST)
        assert "winbind use default domain" in refused([step], BOUNDS, plain)[step.id]
    assert not refused([theirs, members("yard")], BOUNDS, plain)


def test_an_administrator_is_offered_what_can_be_managed() -> None:
    found = [members("crew"), members("docker"), members("users"), *FORBIDDEN.values()]
    assert {one.name for one in manageable(found, BOUNDS, HOST)} == {"crew", "users", "www-data", "tom", "backup-job"}


@pytest.mark.parametrize("top", ["/srv", "/data/pools", "/mnt", "/home", "/export", "/media/disk", "/var/shares"])
def test_where_pools_may_lie(top: str) -> None:
    assert top_trouble(top) == ""
    assert below(top, f"{top}/a")
    assert not any(below(top, path) for path in (top, f"{top}a", f"{top}/../a", f"{top}/./a", f"{top}//a", "/a"))


@pytest.mark.parametrize(
    "top", ["/", "", "srv", "//", "/srv/", "/srv/..", "/srv/../etc", "/./srv", "/etc", "/etc/x", "/usr/local", "/var", "/var/lib/x", "/root", "/proc/1/root", "/tmp", "/run/x"]
)  # fmt: skip
def test_where_they_may_not(top: str) -> None:
    assert top_trouble(top)
