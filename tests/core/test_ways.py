"""Shares and ways in: gate by gate and all at once the same; host rules; names that no server takes."""

from dataclasses import replace
from ipaddress import ip_address

import pytest
from hypothesis import given, settings

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import token
from yardgate.core.access.nfs_hosts import classes
from yardgate.core.access.outcome import outcome
from yardgate.core.access.paths import (
    PROTOCOLS,
    explain_over,
    identity,
    inside,
    is_on,
    kept_to,
    may_use,
    offered,
    resolve_over,
    seen_otherwise,
    unclaimed,
)
from yardgate.core.access.walk import walk
from yardgate.core.acl import Mode, Posix, PosixEntry
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.directory import Directory
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import GUEST, Group, Place, Plan, Target, User
from yardgate.core.model.share import HostRule, Over, Service, Share, host_rule, hosts, share_name_trouble

RW, RO, PT, NA = Level.RW, Level.RO, Level.PT, Level.NA


@settings(max_examples=times(200, 2000))
@given(plans(shares=True))
def test_every_cell_over_every_way_in_is_what_the_gates_say(plan: Plan) -> None:
    assert check(plan) == ()
    matrix = resolve(plan, ON)
    most: dict[tuple[str, str], Level] = {}
    for share in plan.shares.values():
        for protocol in PROTOCOLS:
            over = Over(share.id, protocol)
            found = resolve_over(matrix, over)
            assert list(found) == list(inside(plan, share))
            for place in found if over in offered(plan) else ():
                most[GUEST, place] = max(
                    most.get((GUEST, place), NA), explain_over(plan, GUEST, place, over, ON, matrix.storage).level
                )
            for place, row in found.items():
                for number, subject in enumerate(matrix.counting.subjects):
                    reason = explain_over(plan, subject, place, over, ON, matrix.storage)
                    assert LEVELS[row[number]] == reason.level, (over, place, subject, reason)
                    assert sum(gate.decides for gate in reason.gates) == 1
                    if over in offered(plan):
                        most[subject, place] = max(most.get((subject, place), NA), reason.level)
    came_out = outcome(matrix)
    for place in plan.places:
        for subject in (*matrix.counting.subjects, GUEST):
            assert came_out.level(subject, place) == most.get((subject, place), NA)


def office(**share: object) -> Plan:
    users = {"ann": User(id="ann", name="ann", uid=1001), "bo": User(id="bo", name="bo", enabled=False, uid=1002)}
    places = {
        "keel": Place(id="keel", name="keel", kind="pool"),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel"),
        "petrel": Place(id="petrel", name="petrel", kind="folder", parent="hulls"),
    }
    shares = {"s": Share(**{"id": "s", "name": "hulls", "place": "hulls", **share})}  # type: ignore[arg-type]
    groups = {"crew": Group(id="crew", name="crew", members=frozenset({"ann"}))}
    return Plan(users=users, groups=groups, places=places, grants={"hulls": {"crew": RW}}, shares=shares)


def level(plan: Plan, who: str, place: str, over: Over) -> tuple[Level, str]:
    reason = explain_over(plan, who, place, over, ON)
    return reason.level, next(gate.kind for gate in reason.gates if gate.decides)


def test_each_gate_says_no_for_its_own_reason() -> None:
    smb = Over("s", "smb")
    assert level(office(), "ann", "petrel", smb) == (RW, "share")
    assert level(office(), "bo", "petrel", smb) == (NA, "account")
    assert level(office(read_only=True), "ann", "petrel", smb) == (RO, "share")
    assert level(office(smb=False), "ann", "petrel", smb) == (NA, "service")
    assert level(office(), GUEST, "petrel", smb) == (NA, "share")
    assert level(office(guests=RO), GUEST, "petrel", smb) == (RO, "share")
    with pytest.raises(KeyError):
        explain_over(office(), "ann", "keel", smb, ON)


def test_a_group_that_all_are_in_takes_the_place_of_a_primary_group_of_the_domain() -> None:
    """As a real member server has it (tests/real/test_domain.py): a domain's account loses its primary group, the host's own does not."""
    domain = Directory(id="north", name="NORTH", domain="north.example")
    plan = replace(
        office(acts_as_group="desk"),
        directories={"north": domain},
        users={
            "ann": User(id="ann", name="ann", uid=1001, primary_group="all"),
            "cy": User(id="cy", name="cy", uid=100_001, origin="north", key="S-1-5-21-1-2-3-1", primary_group="all"),
        },
        groups={
            "all": Group(id="all", name="all", gid=100_513),
            "desk": Group(id="desk", name="desk", gid=3000, members=frozenset({"cy"})),
        },
        grants={"hulls": {"all": RW, "desk": RW}},
    )
    entries = PosixEntry("group", "all", 7), PosixEntry("mask", "", 7), PosixEntry("other", "", 0)
    named = Posix(entries, entries)
    plan = replace(plan, places={**plan.places, "hulls": replace(plan.places["hulls"], acl=named)})
    over = Over("s", "smb")
    assert level(plan, "ann", "hulls", over)[0] == RW
    assert level(plan, "cy", "hulls", over) == (NA, "list")
    gate = next(gate for gate in explain_over(plan, "cy", "hulls", over, ON).gates if gate.kind == "share")
    assert "desk takes the place of their primary group all" in gate.sentence
    without = replace(plan, shares={"s": replace(plan.shares["s"], acts_as_group=None)})
    assert level(without, "cy", "hulls", over)[0] == RW
    assert check(plan) == ()


def test_a_service_that_is_off_or_for_some_only() -> None:
    def with_service(service: Service) -> Plan:
        plan = office(guests=RW)
        return Plan(
            **{
                **{f: getattr(plan, f) for f in ("users", "groups", "places", "grants", "shares")},
                "services": {service.id: service},
            }
        )

    smb = Over("s", "smb")
    assert level(with_service(Service(id="smb", on=False)), "ann", "hulls", smb) == (NA, "service")
    assert level(with_service(Service(id="smb", allowed=frozenset({"crew"}))), "ann", "hulls", smb) == (RW, "share")
    assert level(with_service(Service(id="smb", allowed=frozenset({"bo"}))), "ann", "hulls", smb) == (NA, "service")
    assert level(with_service(Service(id="smb", allowed=frozenset())), GUEST, "hulls", smb) == (NA, "service")
    troubles = check(with_service(Service(id="nfs", allowed=frozenset({"crew"}))))
    assert [trouble.message for trouble in troubles] == [
        "NFS does not ask who somebody is, so it cannot be kept to some; say by host rules who may mount a share"
    ]


def test_over_nfs_the_host_counts_and_the_account_does_not() -> None:
    rules = (HostRule(hosts="192.0.2.0/24", level=RO), HostRule(hosts="192.0.2.41", level=RW))
    plan = office(smb=False, nfs=True, hosts=rules)
    at = {text: Over("s", "nfs", ip_address(text)) for text in ("192.0.2.41", "192.0.2.7", "198.51.100.1")}
    assert level(plan, "ann", "petrel", at["192.0.2.41"]) == (RW, "share")
    assert level(plan, "bo", "petrel", at["192.0.2.41"]) == (RW, "share")  # disabled, and yet
    assert level(plan, "ann", "petrel", at["192.0.2.7"]) == (RO, "share")
    assert level(plan, "ann", "petrel", at["198.51.100.1"]) == (NA, "share")
    assert level(plan, "ann", "petrel", Over("s", "nfs")) == (RW, "share")
    assert level(office(nfs=True), "ann", "petrel", Over("s", "nfs")) == (NA, "share")


@pytest.mark.parametrize(
    ("order", "address", "name", "taken"),
    [
        ("narrowest", "10.0.0.1", "", "10.0.0.1"),
        ("narrowest", "10.0.0.2", "", "10.0.0.0/24"),
        ("narrowest", "10.1.0.2", "", "10.0.0.0/8"),
        ("narrowest", "192.0.2.1", "bench.yard.example", "bench.yard.example"),
        ("narrowest", "192.0.2.1", "Lathe.yard.example", "*.yard.example"),
        ("narrowest", "fd00::5", "", "fd00::/8"),
        ("narrowest", "192.0.2.1", "", "*"),
        ("first", "10.0.0.1", "", "*"),
    ],
)
def test_which_host_rule_counts(order: str, address: str, name: str, taken: str) -> None:
    texts = ("*", "10.0.0.0/8", "10.0.0.0/24", "10.0.0.1", "*.yard.example", "bench.yard.example", "fd00::/8")
    found = host_rule([HostRule(hosts=text, level=RO) for text in texts], order, ip_address(address), name)  # type: ignore[arg-type]
    assert found is not None
    assert found.hosts == taken


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "needs an address"),
        ("10.0.0.5/24", "the network is 10.0.0.0/24"),
        ("10.0.0.0/33", "is not a network of IPv4 or IPv6"),
        ("10.0.0.0/0.0.0.255", "the wrong way round"),
        ("10.0.0.300", "is not an address"),
        ("10.0.300", "is not an address"),
        ("10.0.0.9-10.0.0.1", "is a range"),
        ("fd00::1::2", "is not an address of IPv4 or IPv6"),
        ("fd00::1/64", "the network is fd00::/64"),
        ("bench/24", "is not a network"),
        ("a b", "is neither an address"),
        ("bench(rw)", "is neither an address"),
        ("-bench", "is neither an address"),
        ("bench..example", "is neither an address"),
        ("x" * 300, "needs an address"),
    ],
)
def test_host_rules_with_garbage_are_refused_in_words(text: str, why: str) -> None:
    with pytest.raises(ValueError, match=why):
        hosts(text)
    plan = office(nfs=True, hosts=(HostRule(hosts=text, level=RO),))
    assert [trouble.message for trouble in check(plan) if trouble.message.startswith("host rule 1 of share “hulls”: ")]


@pytest.mark.parametrize(
    "text",
    [
        "*",
        "10.0.0.1",
        "10.0.0.0/24",
        "10.0.0.0/255.255.255.0",
        "fd00::/8",
        "::1",
        "10.0.*",
        "bench",
        "*.yard.example",
        "a_b.example",
    ],
)
def test_host_rules_as_people_write_them_are_understood(text: str) -> None:
    hosts(text)


@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("drawings", None),
        ("Büro 2", None),
        ("a/b", "has /, which no server takes in the name of a share"),
        ("a[b]", "has [ ], which no server takes in the name of a share"),
        ("a%u", "has %, which no server takes in the name of a share"),
        ("Global", "is a name that SMB servers have their own use for"),
        ("IPC$", "is a name that SMB servers have their own use for"),
        ("x" * 81, "has 81 characters; the name of a share has at most 80"),
        (".hidden", "begins or ends with a dot"),
    ],
)
def test_names_that_no_server_takes(name: str, why: str | None) -> None:
    assert share_name_trouble(name) == why


def test_of_more_than_sixteen_groups_only_the_first_are_claimed_over_nfs() -> None:
    plan = office(nfs=True, hosts=(HostRule(hosts="*", level=RW),))
    groups = {
        f"g{n:02}": Group(id=f"g{n:02}", name=f"g{n:02}", gid=2000 + n, members=frozenset({"ann"})) for n in range(20)
    }
    both = (PosixEntry("group", "g03", 7), PosixEntry("group", "g18", 7), PosixEntry("mask", "", 7))
    own, late = Posix(both, both), Posix(both[1:], both[1:])
    places = {
        "keel": Place(id="keel", name="keel", kind="pool", acl=Posix((PosixEntry("other", "", 5),))),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel", acl=own, inheritance_stops=True),
        "petrel": Place(id="petrel", name="petrel", kind="folder", parent="hulls", acl=late, inheritance_stops=True),
    }
    plan = Plan(users=plan.users, groups=groups, places=places, shares=plan.shares)
    assert check(plan) == ()
    nfs, smb = Over("s", "nfs"), Over("s", "smb")
    assert level(plan, "ann", "hulls", nfs)[0] == RW
    assert level(plan, "ann", "petrel", nfs) == (NA, "list")
    assert explain_over(plan, "ann", "petrel", smb, ON).gates[-1].level == RW
    assert LEVELS[resolve_over(resolve(plan, ON), nfs)["petrel"][0]] == NA


def test_hiding_goes_by_what_the_list_tells() -> None:
    """Somebody refused by name where others may read sees the name, and is refused (`told`); nobody else is shown more than opens."""
    refused = (PosixEntry("user", "ann", 0), PosixEntry("mask", "", 7), PosixEntry("other", "", 5))
    shut = (PosixEntry("other", "", 0),)
    places = {
        "keel": Place(id="keel", name="keel", kind="pool", acl=Posix((PosixEntry("other", "", 5),))),
        "hulls": Place(id="hulls", name="hulls", kind="dataset", parent="keel"),
        "petrel": Place(
            id="petrel",
            name="petrel",
            kind="folder",
            parent="hulls",
            acl=Posix(refused, refused),
            inheritance_stops=True,
        ),
        "curlew": Place(
            id="curlew", name="curlew", kind="folder", parent="hulls", acl=Posix(shut, shut), inheritance_stops=True
        ),
    }
    for hides, shown in ((False, {"petrel", "curlew"}), (True, {"petrel"})):
        plan = replace(office(hide_unreadable=hides), places=places, grants={"hulls": {"ann": RO}})
        assert check(plan) == ()
        visits = {visit.place: visit for visit in walk(plan, "ann", Over("s", "smb"), ON)}
        assert {place for place, visit in visits.items() if visit.shown} == {"hulls", *shown}
        assert not visits["petrel"].enters


def test_over_nfs_the_folders_above_a_share_ask_whom_the_client_claims_to_be_or_nothing() -> None:
    def shut_above(squash: str, nfs_traverse: str) -> Plan:
        plan = office(place="petrel", smb=False, nfs=True, hosts=(HostRule(hosts="*", level=RW),), squash=squash)
        hulls = replace(plan.places["hulls"], acl=Mode(0o700), owner="ann", enforced_by="storage")
        petrel = replace(plan.places["petrel"], acl=Mode(0o755), inheritance_stops=True)
        users = {**plan.users, "boss": User(id="boss", name="boss", uid=0)}
        places = {**plan.places, "hulls": hulls, "petrel": petrel}
        return replace(plan, users=users, places=places, grants={}, target=Target(nfs_traverse=nfs_traverse))  # type: ignore[arg-type]

    nfs = Over("s", "nfs")
    for squash in ("root", "all"):
        asked = shut_above(squash, "checked")
        assert level(asked, "ann", "petrel", nfs) == ((RW, "share") if squash == "root" else (RO, "list"))
        assert level(asked, "bo", "petrel", nfs) == (NA, "way")
        assert level(asked, "boss", "petrel", nfs) == (RO, "list")  # root passes above, squashed or not
        assert level(shut_above(squash, "bypassed"), "bo", "petrel", nfs) == (RO, "list")
        for nfs_traverse in ("checked", "bypassed"):
            plan = shut_above(squash, nfs_traverse)
            codes = resolve_over(resolve(plan, ON), nfs)["petrel"]
            for number, user in enumerate(plan.users):
                assert LEVELS[codes[number]] == level(plan, user, "petrel", nfs)[0], (squash, nfs_traverse, user)


def test_root_that_is_squashed_keeps_its_groups_but_for_gid_0() -> None:
    plan = office(nfs=True, hosts=(HostRule(hosts="*", level=RW),))
    users = {**plan.users, "boss": User(id="boss", name="boss", uid=0)}
    groups = {
        "crew": Group(id="crew", name="crew", gid=5, members=frozenset({"boss"})),
        "wheel": Group(id="wheel", name="wheel", gid=0, members=frozenset({"boss", "ann"})),
    }
    plan = replace(plan, users=users, groups=groups, grants={})
    assert list(identity(plan, "boss", Over("s", "nfs"))[1]) == ["guest", "crew", "everyone"]
    assert list(identity(plan, "ann", Over("s", "nfs"))[1]) == ["ann", "everyone"]
    unsquashed = replace(plan, shares={"s": replace(plan.shares["s"], squash="none")})
    assert identity(unsquashed, "boss", Over("s", "nfs"))[0] == "boss"


def test_a_service_that_the_plan_does_not_name_is_on_and_for_everybody() -> None:
    plan = office()
    assert (is_on(plan, "smb"), kept_to(plan, "smb"), may_use(plan, "ann", "smb")) == (True, None, True)
    for service, used in (
        (Service(id="smb", on=False), (False, None, False)),
        (Service(id="smb", allowed=frozenset({"crew"})), (True, {"crew"}, True)),
        (Service(id="smb", allowed=frozenset({"bo"})), (True, {"bo"}, False)),
        (Service(id="smb", on=False, allowed=frozenset({"crew"})), (False, {"crew"}, False)),
    ):
        named = replace(plan, services={"smb": service})
        assert (is_on(named, "smb"), kept_to(named, "smb"), may_use(named, "ann", "smb")) == used


def test_who_has_no_uid_gets_in_over_nfs_only_where_everybody_is_the_guest() -> None:
    rules = (HostRule(hosts="*", level=RW),)
    for squash, expected in (("none", (NA, "account")), ("root", (NA, "account")), ("all", (RW, "share"))):
        plan = office(nfs=True, hosts=rules, squash=squash)
        plan = replace(plan, users={**plan.users, "cy": User(id="cy", name="cy")})
        assert level(plan, "cy", "petrel", Over("s", "nfs")) == expected
        assert level(plan, "crew", "petrel", Over("s", "nfs"))[0] == RW, "somebody in a group has one"
        matrix = resolve(plan, ON)
        assert LEVELS[resolve_over(matrix, Over("s", "nfs"))["petrel"][matrix.counting.number["cy"]]] == expected[0]


def test_whom_storage_may_see_as_somebody_else_over_nfs() -> None:
    def in_groups(number: int, gid: int = 100) -> Plan:
        groups = {
            f"g{n:02}": Group(id=f"g{n:02}", name=f"g{n:02}", gid=gid + n, members=frozenset({"ann"}))
            for n in range(number)
        }
        return replace(office(), groups=groups, grants={})

    def seen(plan: Plan) -> list[str]:
        matrix = resolve(plan, ON)
        return sorted({matrix.counting.subjects[number] for number in seen_otherwise(matrix)} & plan.users.keys())

    assert seen(in_groups(16)) == []
    assert seen(in_groups(17)) == ["ann"]
    assert seen(in_groups(1, gid=0)) == ["ann"]
    root = in_groups(1)
    assert seen(replace(root, users={**root.users, "bo": replace(root.users["bo"], uid=0)})) == ["bo"]


def test_groups_are_claimed_by_number_beside_the_primary_one() -> None:
    plan = office()
    groups = {
        f"g{n:02}": Group(id=f"g{n:02}", name=f"g{n:02}", gid=None if n == 3 else 900 - n, members=frozenset({"ann"}))
        for n in range(18)
    }
    plan = replace(plan, groups=groups, grants={})
    assert unclaimed(plan, "ann", token(plan, "ann")) == ["g00", "g03"], (
        "the highest number, and who has none, after all"
    )
    primary = replace(plan, users={"ann": replace(plan.users["ann"], primary_group="g00")})
    assert unclaimed(primary, "ann", token(primary, "ann")) == ["g03"]
    assert unclaimed(plan, "g01", token(plan, "g01")) == ()


def test_where_the_list_enforces_the_grants_the_list_decides_and_not_the_share() -> None:
    everybody = Posix((PosixEntry("other", "", 7),), (PosixEntry("other", "", 7),))
    plan = office()
    hulls = replace(plan.places["hulls"], acl=everybody, enforced_by="storage", inheritance_stops=True)
    keel = replace(plan.places["keel"], acl=Posix((PosixEntry("other", "", 5),)))
    plan = replace(plan, places={**plan.places, "keel": keel, "hulls": hulls}, grants={})
    assert level(plan, "ann", "hulls", Over("s", "smb")) == (RW, "list")
    by_share = replace(
        plan, places={**plan.places, "hulls": replace(hulls, enforced_by="both")}, grants={"hulls": {"crew": RO}}
    )
    assert level(by_share, "ann", "hulls", Over("s", "smb")) == (RO, "share")


def test_every_class_of_hosts_has_its_words_and_one_of_its_addresses() -> None:
    found = [
        (one.words, str(one.address), one.name)
        for one in classes(["192.0.2.0/24", "192.0.2.7", "*.yard.example"], "names")
    ]
    assert found == [
        ("the rest of 192.0.2.0/24", "192.0.2.0", ""),
        ("192.0.2.7", "192.0.2.7", ""),
        ("every other host", "0.0.0.0", ""),
        ("every other host by IPv6", "::", ""),
        ("a host named *.yard.example", "0.0.0.0", "x.yard.example"),
    ]
    assert [one.words for one in classes(["192.0.2.1.*"], "both")] == [
        "every other host",
        "every other host by IPv6",
    ], "no address has five parts"


def test_the_way_there_in_words() -> None:
    """At the top of everything there is no folder above."""
    plan = office()
    keel = replace(plan.places["keel"], acl=Posix((PosixEntry("other", "", 5),)))
    plan = replace(plan, places={**plan.places, "keel": keel}, shares={"s": replace(plan.shares["s"], place="keel")})

    def said(place: str) -> str:
        return next(
            gate.sentence for gate in explain_over(plan, "ann", place, Over("s", "smb"), ON).gates if gate.kind == "way"
        )

    assert said("keel") == "There is no folder above."
    assert said("hulls") == "ann may enter every folder above."
