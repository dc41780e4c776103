"""Nothing of a plan is silently left out on a host: every field of every record is carried out, told as left out, or none of the host's."""

from dataclasses import fields, replace
from datetime import date
from typing import Any

import pytest

from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Posix, PosixEntry
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import Dataset as HostDataset
from yardgate.core.host.state import HostQuota, System
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import DatasetOptions, FileSystem, Group, GroupQuota, Place, Plan, Snapshots, Target, User
from yardgate.core.model.share import HostRule, Service, Share

LIST = Posix((
    PosixEntry("user", "", 7), PosixEntry("group", "", 7), PosixEntry("mask", "", 7), PosixEntry("other", "", 0),
))  # fmt: skip
PLAN = Plan(
    users={
        "ann": User(id="ann", name="ann", uid=1001, primary_group="crew"),
        "bo": User(id="bo", name="bo", uid=1002, primary_group="office"),
    },
    groups={
        "crew": Group(id="crew", name="crew", gid=2001),
        "office": Group(id="office", name="office", gid=2002, members=frozenset({"bo"})),
    },
    places={
        "keel": Place(id="keel", name="keel", kind="pool", acl=LIST, enforced_by="both", group="crew"),
        "jobs": Place(id="jobs", name="jobs", kind="dataset", parent="keel", acl=LIST, group="crew"),
        "ours": Place(id="ours", name="ours", kind="folder", parent="keel", acl=LIST),
    },
    grants={"keel": {"crew": Level.RW, "bo": Level.RO}, "jobs": {"crew": Level.RW, "office": Level.RO}},
    shares={
        "s": Share(id="s", name="s", place="jobs", nfs=True, hosts=(HostRule(hosts="192.0.2.7", level=Level.RW), HostRule(hosts="192.0.2.0/24", level=Level.RO)))
    },
    services={"smb": Service(id="smb"), "nfs": Service(id="nfs"), "pages": Service(id="pages")},
)  # fmt: skip


def user(**to: Any) -> Plan:
    return replace(PLAN, users={**PLAN.users, "ann": replace(PLAN.users["ann"], **to)})


def group(**to: Any) -> Plan:
    return replace(PLAN, groups={**PLAN.groups, "crew": replace(PLAN.groups["crew"], **to)})


def place(**to: Any) -> Plan:
    return replace(PLAN, places={**PLAN.places, "jobs": replace(PLAN.places["jobs"], **to)})


def on(file_system: FileSystem, **to: Any) -> Plan:
    """A dataset with something else, whose pool is on a file system with datasets."""
    plan = place(**to)
    return replace(plan, places={**plan.places, "keel": replace(plan.places["keel"], file_system=file_system)})


def share(**to: Any) -> Plan:
    return replace(PLAN, shares={"s": replace(PLAN.shares["s"], **to)})


def service(**to: Any) -> list[Plan]:
    return [replace(PLAN, services={**PLAN.services, one: replace(PLAN.services[one], **to)}) for one in PLAN.services]


def target(**to: Any) -> Plan:
    plan = replace(PLAN, grants={"jobs": {"crew": Level.RW, "ann": Level.RO}})
    return replace(plan, target=replace(plan.target, **to))


CASES: dict[type, dict[str, Any]] = {
    User: {
        "name": user(name="anna"), "full_name": user(full_name="Ann Lee"), "uid": user(uid=1007), "primary_group": user(primary_group="office"),
        "enabled": user(enabled=False), "expires": user(expires=date(2027, 1, 1)), "aliases": user(aliases=("ann@quay.example",)),
        "of_host": user(of_host=True),
    },
    Group: {"name": group(name="hands"), "gid": group(gid=2007), "members": group(members=frozenset({"bo"})), "of_host": group(of_host=True)},
    Place: {
        "name": place(name="work"), "parent": place(parent="ours", kind="folder"), "owner": place(owner="ann"), "group": place(group="office"),
        "acl": place(acl=Posix((*LIST.access[:2], PosixEntry("user", "ann", 4), *LIST.access[2:]))),
        "inheritance_stops": place(inheritance_stops=True), "enforced_by": place(enforced_by="storage"), "quota": place(quota=1 << 30),
        "case_sensitive": place(case_sensitive=True), "group_quotas": place(group_quotas=(GroupQuota(group="crew", bytes=1 << 30),)),
        "file_system": on("btrfs"), "snapshots": place(snapshots=Snapshots(days=7)),
        "options": place(options=DatasetOptions(compression="zstd")),
    },
    Share: {
        "name": share(name="t"), "place": share(place="ours"), "smb": share(smb=False), "nfs": share(nfs=False), "guests": share(guests=Level.RO),
        "read_only": share(read_only=True), "hidden": share(hidden=True), "hide_unreadable": share(hide_unreadable=True),
        "versions": share(versions=True), "recycle": share(recycle=True), "administrator": share(administrator="crew"), "grants": share(grants={"ann": Level.RW}), "acts_as": share(acts_as="bo"),
        "acts_as_group": share(acts_as_group="office"), "of_host": share(of_host=True), "hosts": share(hosts=()),
        "squash": share(squash="all"),
    },
    Service: {"on": service(on=False), "allowed": service(allowed=frozenset({"office"}))[:1]},
    Target: {
        "precedence": target(precedence="nearest"), "combining": target(combining="narrowest"),
        "baseline": replace(target(baseline="office"), grants={"jobs": {"office": Level.RW}}),
        "administrators": target(administrators="office"), "share_groups": replace(share(grants={"bo": Level.RO}), target=Target(share_groups=True)),
        "host_rules": replace(share(hosts=PLAN.shares["s"].hosts[::-1]), target=Target(host_rules="first")),
        "wildcards": replace(share(hosts=(HostRule(hosts="192.0.2.*", level=Level.RO),)), target=Target(wildcards="both")),
    },
}  # fmt: skip
"""Plans in which one field says something else than in PLAN."""

NOT_THE_HOSTS: dict[type, dict[str, str]] = {
    User: {
        "id": "ours", "kind": "what it is for", "origin": "a directory's are the directory's", "key": "a directory's", "sid": "a directory's",
        "gone": "a directory's", "jobs": "what it is for", "note": "for who plans",
    },
    Group: {
        "id": "ours", "origin": "a directory's", "key": "a directory's", "sid": "a directory's", "gone": "a directory's",
        "unknown": "a directory's", "note": "for who plans",
    },
    Place: {
        "id": "ours", "kind": "a folder there, or a file system of its own where its pool is one", "note": "for who plans", "personal_folders": "kept as places and shares of their own",
        "folder_of": "kept as a place with an owner",
    },
    Share: {"id": "ours", "note": "for who plans"},
    Service: {"id": "ours"},
    Target: {
        "baseline_covers_directory": "who is in the baseline, seen in its members", "traverse": "what the appliance does by itself",
        "answered": "what is known of the appliance, not what it shall do", "nfs_domain": "how names are written in lists for NFS", "addresses": "how clients call it; on cards and in the lines by which they connect", "attributes_open": "what the appliance does by itself", "nfs_traverse": "what the appliance does by itself",
    },
}  # fmt: skip


def of(plan: Plan) -> tuple[System | None, tuple[str, ...]]:
    """What a plan comes to on a host, and what is told of it; where it cannot be had, what is told alone."""
    try:
        return compiled(resolve(plan, ON), "/srv")
    except PlanError as error:
        return None, (str(error),)


@pytest.mark.parametrize("kind", CASES)
def test_every_field_is_carried_out_told_or_none_of_the_hosts(kind: type) -> None:
    named = {one.name for one in fields(kind)}
    assert CASES[kind].keys() | NOT_THE_HOSTS[kind].keys() == named, "a new field: what becomes of it on a host?"
    assert not CASES[kind].keys() & NOT_THE_HOSTS[kind].keys()


@pytest.mark.parametrize(("kind", "field"), [(kind, field) for kind, some in CASES.items() for field in some])
def test_what_a_field_says_makes_a_difference_there_or_is_told(kind: type, field: str) -> None:
    found = CASES[kind][field]
    plain = of(PLAN)
    for plan in found if isinstance(found, list) else [found]:
        before = of(replace(plan, target=Target())) if kind is Target and field not in ("wildcards",) else plain
        assert of(plan) != before


@pytest.mark.parametrize(
    ("plan", "told"),
    [
        (user(aliases=("@crew",)), "other sign-in names that a username map cannot hold: @crew for ann"),
        (CASES[Place]["quota"], "quotas of keel/jobs"),
        (CASES[Place]["group_quotas"], "quotas of groups in keel/jobs"),
        (CASES[Place]["snapshots"], "snapshots of keel/jobs"),
        (CASES[Place]["options"], "compression of keel/jobs: plain folders have none"),
        (on("btrfs", options=DatasetOptions(compression="lz4")), "compression of keel/jobs by lz4"),
        (on("btrfs", options=DatasetOptions(sync="always")), "sync of keel/jobs: only ZFS has that"),
        (place(options=DatasetOptions(access_times=False)), "access times of keel/jobs: only ZFS has that"),
        (CASES[Place]["case_sensitive"], "case-sensitive names in keel/jobs"),
        (CASES[Share]["versions"], "earlier versions in s"),
        (CASES[Target]["wildcards"], "host rules for 192.0.2.*"),
        (service(on=False)[2], "administration pages"),
    ],
)
def test_what_no_step_makes_is_told_with_what_to_do(plan: Plan, told: str) -> None:
    assert any(told in line for line in of(plan)[1])
    assert not any(told in line for line in of(PLAN)[1])


@pytest.mark.parametrize(
    ("plan", "has"),
    [
        (on("btrfs", quota=1 << 30), HostDataset(name="/srv/keel/jobs", file_system="btrfs", place="jobs", quota=1 << 30)),
        (on("btrfs", snapshots=Snapshots(days=7)), HostDataset(name="/srv/keel/jobs", file_system="btrfs", place="jobs", snapshots=Snapshots(days=7))),
        (
            on("btrfs", options=DatasetOptions(compression="gzip", asked_by="Ann, for scans")),
            HostDataset(name="/srv/keel/jobs", file_system="btrfs", place="jobs", compression="gzip"),
        ),
        (
            on("zfs", options=DatasetOptions(access_times=False, sync="always", compression="lz4")),
            HostDataset(name="/srv/keel/jobs", file_system="zfs", place="jobs", case_sensitive=False, access_times=False, sync="always", compression="lz4"),
        ),
        (on("zfs", case_sensitive=True), HostDataset(name="/srv/keel/jobs", file_system="zfs", place="jobs")),
        (
            on("zfs", group_quotas=(GroupQuota(group="crew", bytes=1 << 30),)),
            HostDataset(name="/srv/keel/jobs", file_system="zfs", place="jobs", case_sensitive=False, group_quotas=(HostQuota(group="crew", bytes=1 << 30),)),
        ),
    ],
)  # fmt: skip
def test_a_dataset_of_a_pool_on_such_a_file_system_is_one_of_its_own(plan: Plan, has: HostDataset) -> None:
    found = compiled(resolve(plan, ON), "/srv")
    assert found.system.datasets.keys() == {"/srv/keel", "/srv/keel/jobs"}, "the folder is none"
    assert found.system.datasets["/srv/keel/jobs"] == has
    assert not any("quotas of" in line or "snapshots of" in line for line in found.left_out)


def test_earlier_versions_are_told_as_missing_only_where_no_snapshots_are_made() -> None:
    def told(plan: Plan) -> bool:
        shared = replace(plan, shares={"s": replace(PLAN.shares["s"], versions=True)})
        return any("earlier versions" in line for line in of(shared)[1])

    assert told(on("btrfs"))
    assert told(place(snapshots=Snapshots(days=7)))
    assert not told(on("btrfs", snapshots=Snapshots(days=7)))
