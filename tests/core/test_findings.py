"""Every kind of finding: a plan that raises it, one that is close and does not, and what its fix does."""

from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from typing import Any

import pytest

from tests.conftest import ON
from tests.gates import moved
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.access.paths import PROTOCOLS
from yardgate.core.acl import Entry, Mode, Ordered, Posix, PosixEntry
from yardgate.core.acl.rights import EXECUTE, FULL, READ, WRITE, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.directory import Directory
from yardgate.core.model.kinds import check
from yardgate.core.model.needs import Need, Wish
from yardgate.core.model.plan import EVERYONE, GUEST, Group, GroupQuota, Place, Plan, Target, User
from yardgate.core.model.share import HostRule, Service, Share
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.findings import BY_KIND, CHECKS, Case, Finding, find, standing
from yardgate.core.policy.impact import effect

RW, RO, PT, NA = Level.RW, Level.RO, Level.PT, Level.NA


def yard(**parts: Any) -> Plan:
    """A small yard in which nothing is found: two in the crew, one in the office, a backup; hulls shared over SMB."""
    users = {
        "ann": User(id="ann", name="ann", uid=1001),
        "bo": User(id="bo", name="bo", uid=1002),
        "cy": User(id="cy", name="cy", uid=1003),
        "backup": User(id="backup", name="backup", kind="service", uid=2001, jobs=("nightly",)),
    }
    groups = {
        "crew": Group(id="crew", name="crew", gid=3001, members=frozenset({"ann", "bo"})),
        "office": Group(id="office", name="office", gid=3002, members=frozenset({"cy"})),
        "machines": Group(id="machines", name="machines", gid=3003, members=frozenset({"backup"})),
    }
    places = {
        "keel": Place(id="keel", name="keel", kind="pool"),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel"),
        "petrel": Place(id="petrel", name="petrel", kind="folder", parent="hulls"),
    }
    plan = Plan(
        users=users,
        groups=groups,
        places=places,
        grants={"hulls": {"crew": RW, "office": RO, "backup": RO}},
        shares={"s": Share(id="s", name="hulls", place="hulls")},
    )
    return replace(plan, **parts)


def stored(own: Any = None, **fields: Any) -> dict[str, Place]:
    """The places of the yard, carried by lists; fields of hulls, its list among them."""
    places = yard().places
    style = own if own is not None else Ordered()
    fields = {"enforced_by": "storage", **fields}
    return {
        **places,
        "keel": replace(
            places["keel"], acl=Mode(0o755) if isinstance(style, Mode) else type(style)(), enforced_by="storage"
        ),
        "hulls": replace(places["hulls"], acl=own, **fields),
    }


def with_user(who: str, **fields: Any) -> Mapping[str, User]:
    users = yard().users
    return {**users, who: replace(users.get(who, User(id=who, name=who)), **fields)}


def with_group(who: str, *members: str) -> Mapping[str, Group]:
    return {**yard().groups, who: Group(id=who, name=who, members=frozenset(members))}


def with_share(**fields: Any) -> dict[str, Share]:
    return {"s": replace(yard().shares["s"], **fields)}


def on_hulls(**grants: Level) -> dict[str, dict[str, Level]]:
    return {"hulls": {**yard().grants["hulls"], **grants}}


def petrel(plan: Plan, **fields: Any) -> Plan:
    return replace(plan, places={**plan.places, "petrel": replace(plan.places["petrel"], **fields)})


def by_hand_alone(own: Posix) -> Plan:
    """Nothing is granted: the list of hulls by hand says what people get, and keel lets everybody pass."""
    keel = replace(yard().places["keel"], acl=Posix((PosixEntry("other", "", 1),)), enforced_by="storage")
    return yard(places={**stored(own), "keel": keel}, grants={})


def nested(**fields: Any) -> Plan:
    """Hulls of ann's, with a dataset inside."""
    plan = yard(places=stored(Posix(), owner="ann", group="crew"))
    inner = Place(id="masts", name="masts", kind="dataset", parent="hulls", **fields)
    return replace(plan, places={**plan.places, "masts": inner})


def over_nfs(*rules: tuple[str, Level], target: Target | None = None, **fields: Any) -> Plan:
    hosts = tuple(HostRule(hosts=hosts, level=level) for hosts, level in rules)
    return yard(shares=with_share(smb=False, nfs=True, hosts=hosts, **fields), target=target or Target())


def two_over_nfs(level: Level) -> Plan:
    """A host that may write in hulls, and what it may do in a folder inside, by a share of its own."""
    plan = over_nfs(("192.0.2.20", RW))
    rule = HostRule(hosts="192.0.2.20", level=level)
    inner = Share(id="t", name="petrel", place="petrel", smb=False, nfs=True, hosts=(rule,))
    return replace(plan, shares={**plan.shares, "t": inner})


def needing(**wishes: Wish) -> Plan:
    """What some need in hulls, where the crew may write; of the others it does not matter."""
    users = with_user("dora")
    wanted: dict[str, Wish] = {**dict.fromkeys(users, "any"), **wishes}
    needs = [Need.of(who, "hulls", wish) for who, wish in wanted.items()]
    return yard(users=users, needs={need.id: need for need in needs})


DOMAIN = Directory(id="dom", name="DOM", domain="dom.example", low=100_000, high=100_100)


def joined(number: int | None, name: str = "dee") -> Plan:
    dee = User(id="dee", name=name, uid=number, origin="dom", key="S-1-5-21-1-2-3-1105", sid="S-1-5-21-1-2-3-1105")
    groups = {**yard().groups, "office": replace(yard().groups["office"], members=frozenset({"cy", "dee"}))}
    return yard(users={**yard().users, "dee": dee}, groups=groups, directories={"dom": DOMAIN})


SECRET = Promise(
    id="m", who=EVERYONE, except_for=frozenset({"crew", "office", "backup"}), must=False, act="read", place="hulls"
)
MANY = {f"g{n:02}": Group(id=f"g{n:02}", name=f"g{n:02}", gid=4000 + n, members=frozenset({"ann"})) for n in range(17)}
GIVES = Posix((PosixEntry("group", "crew", 6),), (PosixEntry("group", "crew", 6),))
WHOLE = Posix((PosixEntry("group", "crew", 7),), (PosixEntry("group", "crew", 7),))
TO_HOST = [("192.0.2.20", RW)]

CASES: dict[str, tuple[Plan, Plan]] = {
    "refusal-beats": (
        yard(grants=on_hulls(late=NA), groups=with_group("late", "bo")),
        yard(grants=on_hulls(late=NA), groups=with_group("late", "dora"), users=with_user("dora")),
    ),
    "everyone-writes": (yard(grants=on_hulls(everyone=RW)), yard(grants=on_hulls(everyone=RO))),
    "refusal-idle": (
        yard(grants=on_hulls(late=NA), groups=with_group("late", "dora"), users=with_user("dora")),
        yard(grants=on_hulls(late=NA), groups=with_group("late", "bo")),
    ),
    "personal-repeats": (yard(grants=on_hulls(ann=RW)), yard(grants=on_hulls(cy=RW))),
    "need-unmet": (needing(cy="change"), needing(cy="read")),
    "need-forbidden": (needing(ann="must not"), needing(dora="must not")),
    "need-exceeded": (needing(ann="change", bo="read"), needing(ann="change", bo="change")),
    "world-writable": (yard(places=stored(Mode(0o777))), yard(places=stored(Mode(0o1777)))),
    "everyone-full": (
        yard(places=stored(Ordered((Entry("allow", EVERYONE, FULL),)))),
        yard(places=stored(Ordered((Entry("allow", EVERYONE, WRITE),)))),
    ),
    "service-lost": (
        petrel(yard(places=stored(Ordered())), inheritance_stops=True, acl=Ordered((Entry("allow", "crew", WRITE),))),
        petrel(
            yard(places=stored(Ordered())), inheritance_stops=True, acl=Ordered((Entry("allow", "machines", READ),))
        ),
    ),
    "service-data": (
        petrel(
            yard(places=stored(Ordered())),
            owner="backup",
            inheritance_stops=True,
            acl=Ordered((Entry("allow", "crew", WRITE),)),
        ),
        petrel(yard(places=stored(Ordered())), owner="backup"),
    ),
    "nested-root": (nested(), nested(owner="ann")),
    "owner-limited": (
        yard(places=stored(Ordered(), owner="cy")),
        yard(places=stored(Ordered(), owner="ann")),
    ),
    "style-unfit": (yard(places=stored(Mode(0o770))), replace(over_nfs(*TO_HOST), places=stored(Mode(0o770)))),
    "case-two": (
        yard(places=stored(case_sensitive=True)),
        replace(over_nfs(*TO_HOST), places=stored(case_sensitive=True)),
    ),
    "quota-beyond": (
        petrel(yard(places=stored(quota=1 << 30)), quota=2 << 30),
        petrel(yard(places=stored(quota=2 << 30)), quota=2 << 30),
    ),
    "group-quota-beyond": (
        yard(places=stored(quota=1 << 30, group_quotas=(GroupQuota(group="crew", bytes=2 << 30),))),
        yard(places=stored(quota=1 << 30, group_quotas=(GroupQuota(group="crew", bytes=1 << 30),))),
    ),
    "push-wipes": (
        petrel(yard(places=stored(Ordered())), inheritance_stops=True, acl=Ordered((Entry("allow", "crew", WRITE),))),
        petrel(yard(places=stored(Ordered())), inheritance_stops=True),
    ),
    "storage-unshared": (
        yard(places=stored(Ordered((Entry("allow", "dora", READ),)), enforced_by="both"), users=with_user("dora")),
        yard(places=stored(Ordered((Entry("allow", "dora", READ),))), users=with_user("dora")),
    ),
    "guest-shut-out": (
        yard(places=stored(Ordered()), grants=on_hulls(everyone=RO)),
        yard(places=stored(Ordered()), grants=on_hulls(everyone=RO), shares=with_share(guests=RO)),
    ),
    "guest-promised-away": (
        yard(shares=with_share(guests=RO), promises={"m": SECRET}),
        yard(
            shares=with_share(guests=RO), promises={"m": replace(SECRET, must=True, who=GUEST, except_for=frozenset())}
        ),
    ),
    "hidden-guests": (yard(shares=with_share(hidden=True, guests=RO)), yard(shares=with_share(hidden=True))),
    "share-empty": (yard(grants={}), yard(grants={"hulls": {"cy": RO}})),
    "share-unoffered": (
        yard(shares={**with_share(), "t": Share(id="t", name="masts", place="petrel", smb=False)}),
        yard(shares={**with_share(), "t": Share(id="t", name="masts", place="petrel")}),
    ),
    "service-off": (
        yard(services={"smb": Service(id="smb", on=False)}),
        yard(services={"nfs": Service(id="nfs", on=False)}),
    ),
    "share-new": (yard(), yard()),
    "share-names": (
        yard(shares={**with_share(), "t": Share(id="t", name="Hulls", place="petrel")}),
        yard(shares={**with_share(), "t": Share(id="t", name="hulls-2", place="petrel")}),
    ),
    "runner-not-granted": (
        yard(shares=with_share(administrator="dora"), users=with_user("dora")),
        yard(shares=with_share(administrator="office")),
    ),
    "unreached": (
        yard(
            grants={**on_hulls(), "logs": {"cy": RW}},
            places={**yard().places, "logs": Place(id="logs", name="logs", kind="dataset", parent="keel")},
        ),
        yard(grants={**on_hulls(), "petrel": {"cy": RW}}),
    ),
    "two-identities": (
        yard(
            shares={
                **with_share(),
                "n": Share(
                    id="n",
                    name="n",
                    place="hulls",
                    smb=False,
                    nfs=True,
                    hosts=(HostRule(hosts="192.0.2.20", level=RW),),
                ),
            }
        ),
        yard(
            shares={
                **with_share(),
                "n": Share(
                    id="n",
                    name="n",
                    place="hulls",
                    smb=False,
                    nfs=True,
                    hosts=(HostRule(hosts="192.0.2.20", level=RO),),
                ),
            }
        ),
    ),
    "root-unsquashed": (over_nfs(("192.0.2.0/24", RW), squash="none"), over_nfs(("192.0.2.20", RW), squash="none")),
    "host-wide": (
        over_nfs(("192.0.2.0/24", RW), note="for 192.0.2.20"),
        over_nfs(("192.0.2.0/24", RW), note="for 198.51.100.20"),
    ),
    "host-never": (
        over_nfs(("192.0.2.0/24", RW), ("192.0.2.20", RO), target=Target(host_rules="first")),
        over_nfs(("192.0.2.0/24", RW), ("192.0.2.20", RO)),
    ),
    "nfs-inside": (two_over_nfs(RO), two_over_nfs(RW)),
    "many-groups": (
        replace(over_nfs(*TO_HOST), groups={**yard().groups, **MANY}),
        replace(yard(), groups={**yard().groups, **MANY}),
    ),
    "no-hosts": (over_nfs(), over_nfs(*TO_HOST)),
    "person-runs-job": (yard(users=with_user("ann", jobs=("nightly backup",))), yard()),
    "shut-and-granted": (
        yard(users=with_user("cy", enabled=False), grants=on_hulls(cy=RW)),
        yard(users=with_user("cy", expires=date(2027, 1, 2)), grants=on_hulls(cy=RW)),
    ),
    "shared-service": (yard(users=with_user("backup", jobs=("nightly", "scanner"))), yard()),
    "service-too-much": (
        yard(grants={"hulls": {"crew": RW, EVERYONE: RO}}),
        yard(grants={"hulls": {"crew": RW, "backup": RO}}),
    ),
    "group-circle": (
        yard(
            groups={
                **with_group("inner", "crew"),
                "crew": replace(yard().groups["crew"], members=frozenset({"ann", "bo", "inner"})),
            }
        ),
        yard(groups=with_group("inner", "crew")),
    ),
    "name-means-two": (joined(100_105, "ann"), joined(100_105, "dee")),
    "no-group": (yard(users=with_user("dora")), yard(users=with_user("dora", primary_group="office"))),
    "empty-group": (yard(groups=with_group("late")), yard(groups=with_group("late", "ann"))),
    "more-than-granted": (
        replace(yard(), grants={**on_hulls(), "petrel": {"ann": RW, "bo": RO, "cy": RO, "backup": RO}}),
        petrel(
            replace(yard(), grants={**on_hulls(), "petrel": {"ann": RW, "bo": RO, "cy": RO, "backup": RO}}),
            acl=Ordered(),
            inheritance_stops=True,
            enforced_by="storage",
        ),
    ),
    "less-than-granted": (
        yard(places=stored(Mode(), group="crew"), users=with_user("dora")),
        yard(places=stored(Mode(), group="crew"), users=with_user("dora"), grants={"hulls": {"crew": RW}}),
    ),
    "enter-missing": (by_hand_alone(GIVES), by_hand_alone(WHOLE)),
    "path-unseen": (
        petrel(yard(places=stored(Ordered()), grants={"petrel": {"ann": RW}}), enforced_by="storage"),
        petrel(yard(places=stored(Ordered()), grants={**on_hulls(), "petrel": {"ann": RW}}), enforced_by="storage"),
    ),
    "unplanned": (yard(), yard(places=stored(Ordered()))),
    "sign-in-name": (
        yard(users=with_user("ann", name="ann.lee", aliases=("ann@yard.example",))),
        yard(users=with_user("ann", aliases=("ann@yard.example",))),
    ),
    "number-trouble": (joined(1500), joined(100_105)),
    "number-missing": (joined(None), joined(100_105)),
    "odd-account": (joined(100_105, "dee dee"), joined(100_105, "dee")),
}


BLOCKED = yard(
    places={
        **stored(Ordered()),
        "keel": replace(
            yard().places["keel"], enforced_by="storage", acl=Ordered((Entry("deny", "crew", EXECUTE, 0),))
        ),
    }
)
ONLY = {"smb": Service(id="smb", allowed=frozenset({"crew", "machines"}))}
NUMBERLESS = replace(over_nfs(*TO_HOST), users=with_user("ann", uid=None), groups=yard().groups)

CAUSES: dict[str, tuple[Plan, str, str]] = {
    "the way": (
        BLOCKED,
        "keel above it does not let them pass",
        "Let them pass through keel; nothing else in there opens.",
    ),
    "a line by hand": (
        yard(places=stored(Ordered((Entry("deny", "cy", FULL),)))),
        "the list of keel/hulls does not give it",
        "Remove the lines by hand for cy from the list of keel/hulls.",
    ),
    "no entering": (
        yard(places=stored(GIVES)),
        "the list of keel/hulls does not give it",
        "Remove the lines by hand for crew from the list of keel/hulls.",
    ),
    "the share alone": (
        yard(places=stored(Ordered(), enforced_by="share")),
        "keel above it does not let them pass",
        "Let the list of keel/hulls carry the grants, too.",
    ),
    "mode bits": (
        yard(places=stored(Mode(), group="crew"), users=with_user("dora")),
        "the list of keel/hulls does not give it",
        "Give keel/hulls a POSIX list, which can name more than one group.",
    ),
    "guests": (
        yard(places=stored(Ordered()), shares=with_share(guests=RO)),
        "keel above it does not let them pass",
        "Close hulls to guests, who get no more there anyway.",
    ),
    "read-only": (
        yard(shares=with_share(read_only=True)),
        "hulls is read-only, whatever is granted",
        "Let hulls be written to by whom that is granted.",
    ),
    "the service": (
        yard(services=ONLY),
        "SMB is only for some, and it is not among them",
        "Let office use SMB.",
    ),
    "hosts": (over_nfs(("192.0.2.20", RO)), "over hulls no host gets more", ""),
    "no number": (NUMBERLESS, "over NFS they count only by a uid, and have none", ""),
    "granted deeper": (
        yard(grants={"petrel": {"ann": RW}}),
        "hulls lets in whom keel/hulls is granted to, and no others",
        "Plan an ordered list on keel/hulls and keel/hulls/petrel, from what is granted there.",
    ),
}


@pytest.mark.parametrize("cause", CAUSES)
def test_who_gets_less_is_told_why_and_offered_what_is_right(cause: str) -> None:
    plan, why, does = CAUSES[cause]
    found = found_in(plan, "less-than-granted")
    assert len(found) == 1, [one.sentence for one in found]
    assert found[0].sentence.endswith(f": {why}."), found[0].sentence
    assert found[0].repair.does == does
    if does:
        after, _ = apply(plan, found[0].repair.edits)
        assert found_in(after, "less-than-granted") == []
        assert effect(keep(outcome(resolve(plan, ON))), found[0].repair.edits).price.nothing


def found_in(plan: Plan, kind: str, in_force: Plan | None = None) -> list[Finding]:
    assert check(plan) == ()
    case = Case(outcome(resolve(plan, ON)), in_force)
    return [finding for finding in find(case) if finding.kind == kind]


def test_every_kind_has_a_plan_of_its_own() -> None:
    assert set(CASES) == {check.kind for check in CHECKS}
    assert all(check.run.__doc__ and "\n\n" in check.run.__doc__ for check in CHECKS)


@pytest.mark.parametrize("kind", CASES)
def test_each_kind_is_found_and_what_is_close_is_not(kind: str) -> None:
    raising, close = CASES[kind]
    in_force = replace(raising, shares={}) if kind == "share-new" else None
    found = found_in(raising, kind, in_force)
    assert len(found) == 1, found
    assert BY_KIND[kind].kind == kind
    assert found[0].sentence.endswith(".")
    known = raising.users.keys() | raising.groups.keys() | raising.places.keys() | raising.shares.keys()
    known |= (
        raising.directories.keys()
        | raising.promises.keys()
        | {*PROTOCOLS, *(r.hosts for s in raising.shares.values() for r in s.hosts)}
    )
    assert set(found[0].about) <= known
    assert found_in(close, kind, close if in_force else None) == []


FIXABLE = [
    kind for kind, (raising, _) in CASES.items() if any(finding.repair.edits for finding in found_in(raising, kind))
]


def test_most_kinds_can_be_mended() -> None:
    assert len(FIXABLE) >= 26, set(CASES) - set(FIXABLE)


@pytest.mark.parametrize("kind", FIXABLE)
def test_a_fix_removes_what_was_found_and_changes_only_the_cells_announced(kind: str) -> None:
    plan = CASES[kind][0]
    finding = found_in(plan, kind)[0]
    assert finding.repair.does.endswith(".")
    announced = effect(keep(outcome(resolve(plan, ON))), finding.repair.edits)
    after, back = apply(plan, finding.repair.edits)
    assert finding.id not in {other.id for other in found_in(after, kind)}
    assert {(shift.subject, shift.place) for shift in announced.shifts} == moved(plan, after)
    assert apply(after, back)[0] == plan


def test_an_accepted_finding_is_marked_until_its_day() -> None:
    plan = CASES["everyone-writes"][0]
    accepted = Accepted(id="everyone-writes:hulls", reason="until the move", until=date(2027, 1, 2))
    case = Case(outcome(resolve(replace(plan, accepted={accepted.id: accepted}), ON)))
    assert {f.kind: ok for f, ok in standing(case, find(case))}["everyone-writes"] is True
    late = replace(accepted, until=ON)
    case = Case(outcome(resolve(replace(plan, accepted={late.id: late}), ON)))
    assert {f.kind: ok for f, ok in standing(case, find(case))}["everyone-writes"] is False


def test_a_wildcard_for_addresses_never_matches_where_they_mean_names() -> None:
    plan = over_nfs(("192.0.2.*", RW), target=Target(wildcards="names"))
    assert [f.about for f in found_in(plan, "host-never")] == [("s", "192.0.2.*")]
    assert found_in(over_nfs(("192.0.2.*", RW)), "host-never") == []


def test_a_refusal_that_keeps_out_what_comes_down_is_not_idle() -> None:
    """Without it the same person's grant further up would count here."""
    top = Place(id="top", name="top", kind="pool", acl=Ordered(()), enforced_by="storage")
    inner = Place(id="inner", name="inner", kind="folder", parent="top")
    plan = Plan(
        target=Target(precedence="nearest"),
        users={one: User(id=one, name=one) for one in ("ann", "bo")},
        places={"top": top, "inner": inner},
        grants={"top": {"ann": Level.RO, EVERYONE: Level.NA}, "inner": {"ann": Level.NA, "bo": Level.RW}},
        shares={"top": Share(id="top", name="top", place="top")},
    )
    found = find(Case(outcome(resolve(plan, ON))))
    assert ("inner", "ann") not in [finding.about for finding in found if finding.kind == "refusal-idle"]
    assert moved(plan, apply(plan, [SetGrant("inner", "ann", None)])[0]) == {("ann", "inner")}
