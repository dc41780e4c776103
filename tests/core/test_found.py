"""What somebody finds at an appliance by its own records is what the plan says that they find, which was compiled to these records."""

from ipaddress import ip_address

import pytest

from tests.conftest import ON
from tests.real.test_host import office
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled, host_names, paths
from yardgate.core.host.evaluate import found, found_over_nfs, groups_of
from yardgate.core.host.probe import Abilities, differs, over_nfs, stands_alone
from yardgate.core.model.plan import GUEST, LOCAL, Place, Plan, User
from yardgate.core.model.share import HostRule, Over, Share
from yardgate.core.policy.compliance import keep

WITH_MODES = [seed for seed in range(45) if seed % 3 != 2]  # the others have a server that asks no right to pass


@pytest.mark.parametrize("plan", [*map(office, WITH_MODES), demo.plan()], ids=lambda plan: plan.name)
def test_the_records_give_what_the_plan_says(plan: Plan) -> None:
    matrix = resolve(plan, ON)
    system = compiled(matrix, "/srv").system
    for share in (share for share in plan.shares.values() if share.smb):
        for who in [*(user.id for user in plan.users.values() if user.origin == LOCAL and user.uid != 0), GUEST]:
            visits = walk(plan, who, Over(share.id, "smb"), ON, matrix.storage)
            depth = len(plan.path(share.place))
            folders = ["/".join(plan.places[p].name for p in plan.path(v.place)[depth:]) for v in visits]
            account = "" if who == GUEST else plan.users[who].name
            answers = found(system, share.name, account, groups_of(system, account), folders, ON)
            assert (answers is not None) == visits[0].shown, (share.name, who)
            if answers is not None:
                assert answers == [Abilities(v.looks, v.adds) for v in visits], (share.name, who)


OWN = ("192.0.2.9", "127.0.0.1")


def test_over_nfs_the_records_give_what_a_host_asks_itself() -> None:
    """Of shares that stand alone, asked from the host's own address: what the plan says, by the records alone."""
    asked = refused = 0
    for seed in WITH_MODES:
        plan = office(seed)
        matrix = resolve(plan, ON)
        system, kept = compiled(matrix, "/srv").system, keep(outcome(matrix))
        there = {user.id for user in plan.users.values() if len(groups_of(system, user.name)) <= 17}
        for one in over_nfs(kept, host_names(plan), there, OWN, paths(plan, "/srv")):
            answers = found_over_nfs(system, one.exported, one.account, one.folders, ip_address(one.address))
            assert differs(plan, one, answers) == ()
            asked, refused = asked + len(one.folders), refused + (answers is None)
    print(f"{asked} folders asked about, {refused} refused")
    assert asked > 100
    assert refused


def test_what_is_asked_over_nfs_and_from_where() -> None:
    """From the address that gets most; once where none is let in; never where a name decides, or one share lies in another."""

    def share(name: str, *rules: tuple[str, Level]) -> Share:
        listed = tuple(HostRule(hosts=one, level=level) for one, level in rules)
        return Share(id=name, name=name, place=name, smb=False, nfs=True, hosts=listed)

    shares = [
        share("lan", ("192.0.2.0/24", Level.RW)),
        share("mine", ("127.0.0.1", Level.RW), ("192.0.2.0/24", Level.RO)),
        share("others", ("198.51.100.0/24", Level.RW)),
        share("byname", ("*.quay.example", Level.RW), ("*", Level.RO)),
        share("outer", ("*", Level.RO)),
        share("inner", ("192.0.2.0/24", Level.RW)),
    ]
    places = {one: Place(id=one, name=one, kind="pool") for one in ("lan", "mine", "others", "byname", "outer")}
    places["inner"] = Place(id="inner", name="inner", kind="dataset", parent="outer")
    users = {name: User(id=name, name=name, uid=number) for number, name in enumerate(("ann", "bo"), 4001)}
    plan = Plan(users=users, places=places, shares={one.id: one for one in shares})
    kept = keep(outcome(resolve(plan, ON)))
    asked = over_nfs(kept, host_names(plan), users, OWN, paths(plan, "/srv"))
    assert [(one.share, one.account, one.address) for one in asked] == [
        ("lan", "ann", "192.0.2.9"),
        ("lan", "bo", "192.0.2.9"),
        ("mine", "ann", "127.0.0.1"),
        ("mine", "bo", "127.0.0.1"),
        ("others", "ann", "192.0.2.9"),
    ]
    assert asked[-1].expected is None
    assert not stands_alone(plan, plan.shares["outer"])
    assert asked[0].expected is not None
    found = differs(plan, asked[0], None)
    assert found == ("ann may not connect to lan over NFS from 192.0.2.9; the plan says otherwise",)
    assert {(one.share, one.account) for one in over_nfs(kept, host_names(plan), users, OWN, paths(plan, "/srv"), 3)} == {
        ("lan", "ann"), ("mine", "ann"), ("others", "ann"),
    }  # fmt: skip
