"""Whom a share names: everybody gets in as planned, by groups where these say it."""

from collections import Counter
from dataclasses import replace

from hypothesis import given, seed, settings

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import token
from yardgate.core.access.paths import lets_in
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.share_lists import GROUP_MARK, ShareLists, share_lists
from yardgate.core.host.state import OPEN, System
from yardgate.core.host.steps import steps
from yardgate.core.model.checks import PlanError
from yardgate.core.model.names import unix_trouble
from yardgate.core.model.plan import EVERYONE, Group, Place, Plan, Target, User
from yardgate.core.model.share import Over, Service, Share

NA, RO, RW = Level.NA, Level.RO, Level.RW


def lists(plan: Plan, share: str = "s") -> ShareLists:
    return share_lists(resolve(plan, ON), plan.shares[share], {u: u for u in plan.users}, {g: g for g in plan.groups})


def test_everybody_gets_what_the_share_shall_let_through_by_the_lists_alone() -> None:
    tally = Counter[str]()

    def right(plan: Plan) -> None:
        matrix = resolve(plan, ON)
        for share in plan.shares.values():
            found = share_lists(matrix, share, {u: u for u in plan.users}, {g: g for g in plan.groups})
            codes = lets_in(matrix, Over(share.id, "smb"))
            for user in plan.users.values():
                if user.active(ON):
                    groups = (
                        () if user.uid == 0 else (f"{GROUP_MARK}{g}" for g in token(plan, user.id) if g in plan.groups)
                    )
                    wanted = LEVELS[codes[matrix.counting.number[user.id]]]
                    assert found.gives({user.id, *groups}) == wanted, (user.id, share.name)
            tally["shares"] += 1
            tally["by people"] += bool(found.people)
            tally["groups"] += bool(found.named - found.people)

    settings(max_examples=times(300, 5000))(given(plans(shares=True))(right))()
    print(dict(tally))
    assert tally["groups"] > times(10, 100)


def office(*grants: tuple[str, Level], target: Target | None = None, **more: object) -> Plan:
    """Ada and Ben in the crew, Ben and Cy in the office; one share with grants at itself alone."""
    return replace(
        Plan(name="n", target=target or Target()),
        users={who: User(id=who, name=who) for who in ("ada", "ben", "cy")},
        groups={
            "crew": Group(id="crew", name="crew", members=frozenset({"ada", "ben"})),
            "office": Group(id="office", name="office", members=frozenset({"ben", "cy"})),
        },
        places={
            "tank": Place(id="tank", name="tank", kind="pool"),
            "jobs": Place(id="jobs", name="jobs", kind="folder", parent="tank"),
        },
        shares={"s": Share(id="s", name="s", place="jobs", smb=True, **more)},  # type: ignore[arg-type]
        grants={"jobs": dict(grants)},
    )


WIDEST, NARROWEST = Target(combining="widest"), Target(combining="narrowest")


def test_some_write_and_some_read_as_anybody_would_write_it_down() -> None:
    assert lists(office(("crew", RW))) == ShareLists(usual=RW, enters=("@crew",))
    assert lists(office(("crew", RO))) == ShareLists(reads=("@crew",))
    both = (("crew", RW), ("office", RO))
    assert lists(office(*both, target=WIDEST)) == ShareLists(writes=("@crew",), reads=("@office",))
    assert lists(office(*both, target=NARROWEST)) == ShareLists(usual=RW, enters=("@crew",), reads=("@office",))
    assert lists(office((EVERYONE, RO), ("crew", RW), target=WIDEST)) == ShareLists(everybody=True, writes=("@crew",))
    assert lists(office(("crew", RW), ("office", NA))) == ShareLists(usual=RW, enters=("@crew",), refused=("@office",))
    assert lists(office(("crew", RW), read_only=True)) == ShareLists(reads=("@crew",))


def test_people_are_named_where_no_group_says_it() -> None:
    assert lists(office(("crew", RW), ("cy", RO), target=WIDEST)) == ShareLists(reads=("cy",), writes=("@crew",))
    refused = office(("crew", RW), ("ben", NA))
    assert lists(refused) == ShareLists(usual=RW, enters=("@crew",), refused=("ben",))
    # A refusal beats all at such a server: so the office is not refused as a group, since Ben gets in by his own grant.
    nearest = Target(precedence="nearest")
    assert lists(office(("crew", RW), ("office", NA), ("ben", RW), target=nearest)) == ShareLists(
        usual=RW, enters=("@crew",)
    )


def test_whoever_joins_a_group_later_gets_what_the_plan_would_give() -> None:
    plan = office(("crew", RW), ("office", RO), target=WIDEST)
    found = lists(plan)
    for group, level in (("crew", RW), ("office", RO)):
        later = replace(plan, users={**plan.users, "dan": User(id="dan", name="dan")})
        later = replace(
            later,
            groups={**later.groups, group: replace(later.groups[group], members=later.groups[group].members | {"dan"})},
        )
        assert found.gives({"dan", f"@{group}"}) == level
        assert lists(later) == found, "and the share is the same"


def test_a_share_for_some_names_those_the_service_is_for() -> None:
    only = office(("crew", RW))
    only = replace(only, services={"smb": Service(id="smb", on=True, allowed=frozenset({"office"}))})
    found = lists(only)
    assert [
        found.gives({who, *groups})
        for who, groups in (("ada", ["@crew"]), ("ben", ["@crew", "@office"]), ("cy", ["@office"]))
    ] == [NA, RW, NA]
    assert len(found.people) == 1
    off = replace(only, services={"smb": Service(id="smb", on=False)})
    assert lists(off) == ShareLists(usual=RW)


def test_with_groups_of_its_own_a_share_names_nobody_and_everybody_gets_the_same() -> None:
    tally = Counter[str]()

    def same(plan: Plan) -> None:
        told = {grouped: replace(plan.target, share_groups=grouped) for grouped in (False, True)}
        try:
            by_name, by_group = (
                compiled(resolve(replace(plan, target=target), ON), "/srv", plan.directories).system
                for target in told.values()
            )
        except PlanError:
            return
        theirs = {share.name for share in plan.shares.values() if plan.places[share.place].folder_of is not None}
        named = {name: {*offer.named, *offer.roots} for name, offer in by_group.offers.items()}
        assert all(who.startswith(GROUP_MARK) for name in named.keys() - theirs for who in named[name])
        assert all(by_group.offers[name] == by_name.offers[name] for name in named.keys() & theirs)
        made = by_group.groups.keys() - by_name.groups.keys()
        assert made == by_group.members.keys() - by_name.members.keys()
        before = {name for offer in by_name.offers.values() for name in (*offer.named, *offer.roots)}
        assert made == {name[1:] for some in named.values() for name in some - before}
        assert all(unix_trouble(name) is None and by_group.members[name].users for name in made)
        for system in (by_name, by_group):
            assert {name: one for name, one in system.members.items() if name not in made} == by_name.members
        inside = {
            who: {who, *(f"{GROUP_MARK}{name}" for name, one in by_group.members.items() if who in one.users)}
            for who in {*by_name.accounts, *(who for one in by_group.members.values() for who in one.users)}
        }
        for name, offer in by_name.offers.items():
            for names in inside.values():
                assert by_group.offers[name].gives(names) == offer.gives(names)
                assert names.isdisjoint(by_group.offers[name].roots) == names.isdisjoint(offer.roots)
            tally["groups of their own"] += bool(offer.people)
        tally["shares"] += len(by_name.offers)

    for number in range(8):  # of one run many plans are often alike
        seed(number)(settings(max_examples=max(20, times(40, 400)))(given(plans(lists=True, shares=True))(same)))()
    print(dict(tally))
    assert tally["groups of their own"] > times(4, 100)


def test_what_somebody_is_granted_by_name_is_a_membership_and_no_change_of_the_share() -> None:
    def system(*grants: tuple[str, Level]) -> System:
        plan = office(*grants, target=Target(combining="widest", share_groups=True))
        plan = replace(
            plan, places={**plan.places, "jobs": replace(plan.places["jobs"], enforced_by="share", acl=OPEN)}
        )
        return compiled(resolve(plan, ON), "/srv").system

    one, two = system(("crew", RO), ("cy", RW)), system(("crew", RO), ("cy", RW), ("ben", RW))
    assert one.offers == two.offers
    assert [str(step.part) for step in steps(one, two)] == ["members"]
    assert two.members["s-write"].users == {"ben", "cy"}
