"""A folder for every member of a group: made in one act, in step with the group, and taken back exactly."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import token
from yardgate.core.access.walk import walk
from yardgate.core.acl import Mode, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply, exactly, in_step
from yardgate.core.edits.personal_folders import entitled, members
from yardgate.core.edits.records import (
    Edit,
    Join,
    Leave,
    PutGroup,
    PutPlace,
    PutUser,
    RemovePlace,
    RemoveUser,
    SetGrant,
)
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Group, PersonalFolders, Place, Plan, User, same
from yardgate.core.model.share import Over, Service

RW, RO, NA = Level.RW, Level.RO, Level.NA


def office(**more: object) -> Plan:
    users = {name: User(id=name, name=name) for name in ("ann", "bo", "cy", "scan")}
    groups = {
        "crew": Group(id="crew", name="crew", members=frozenset({"ann", "late"})),
        "late": Group(id="late", name="late", members=frozenset({"bo"})),
    }
    places = {
        "keel": Place(id="keel", name="keel", kind="pool", acl=Posix(), enforced_by="storage"),
        "desks": Place(id="desks", name="desks", kind="dataset", parent="keel"),
    }
    return replace(Plan(users=users, groups=groups, places=places), **more)  # type: ignore[arg-type]


def with_desks(plan: Plan, **more: object) -> Plan:
    each = PersonalFolders(group="crew", managers=frozenset({"scan"}), **more)  # type: ignore[arg-type]
    return apply(plan, [PutPlace(replace(plan.places["desks"], personal_folders=each))])[0]


def levels(plan: Plan) -> dict[str, dict[str, Level]]:
    matrix = resolve(plan, ON)
    return {
        place.name: {user: matrix.level(user, place.id) for user in plan.users}
        for place in plan.places.values()
        if place.folder_of is not None
    }


def test_every_member_has_a_folder_that_nobody_else_but_the_keepers_gets_into() -> None:
    assert levels(with_desks(office())) == {
        "ann": {"ann": RW, "bo": NA, "cy": NA, "scan": RW},
        "bo": {"ann": NA, "bo": RW, "cy": NA, "scan": RW},
    }


def test_whoever_joins_gets_one_and_what_a_leaver_has_is_kept_and_closed() -> None:
    plan = apply(with_desks(office(), shared=True), [Join("late", "cy"), Leave("crew", "ann")])[0]
    assert set(levels(plan)) == {"ann", "bo", "cy"}
    assert plan.grants["desks-ann"] == {"scan": RW}
    assert {share.name for share in plan.shares.values()} == {"bo", "cy"}
    assert all(share.hidden for share in plan.shares.values())
    back = apply(plan, [Join("crew", "ann")])[0]
    assert back.grants["desks-ann"]["ann"] == RW
    assert {share.name for share in back.shares.values()} == {"ann", "bo", "cy"}
    assert len(levels(back)) == 3


def test_a_user_who_is_removed_leaves_a_closed_folder_that_is_for_nobody() -> None:
    plan = apply(with_desks(office(), shared=True), [RemoveUser("bo")])[0]
    folder = next(place for place in plan.places.values() if place.name == "bo")
    assert folder.folder_of is None
    assert plan.grants[folder.id] == {"scan": RW}
    assert {share.name for share in plan.shares.values()} == {"ann"}


def test_what_somebody_sets_on_a_folder_or_takes_away_stands() -> None:
    plan = with_desks(office())
    plan = apply(plan, [SetGrant("desks-ann", "ann", RO), SetGrant("desks-bo", "cy", RO), RemovePlace("desks-bo")])[0]
    later = apply(plan, [PutUser(User(id="dora", name="dora")), Join("crew", "dora")])[0]
    assert later.grants["desks-ann"]["ann"] == RO
    assert set(levels(later)) == {"ann", "dora"}


def test_keepers_come_and_go_with_their_grants() -> None:
    plan = with_desks(office())
    each = plan.places["desks"].personal_folders
    assert each is not None
    plan = apply(
        plan, [PutPlace(replace(plan.places["desks"], personal_folders=replace(each, managers=frozenset({"cy"}))))]
    )[0]
    assert plan.grants["desks-ann"] == {"ann": RW, "cy": RW}
    undone = apply(plan, [PutPlace(replace(plan.places["desks"], personal_folders=None))])[0]
    assert undone.grants["desks-ann"] == plan.grants["desks-ann"]


def test_services_have_none_unless_asked_and_chosen_people_have_one_whatever_their_groups() -> None:
    robot = User(id="robot", name="robot", kind="service")
    plan = apply(office(), [PutUser(robot), Join("crew", "robot")])[0]
    assert set(levels(with_desks(plan))) == {"ann", "bo"}
    assert set(levels(with_desks(plan, users=frozenset({"cy"})))) == {"ann", "bo", "cy"}
    assert set(levels(with_desks(plan, users=frozenset({"robot"})))) == {"ann", "bo", "robot"}
    asked = with_desks(plan, services=True)
    assert set(levels(asked)) == {"ann", "bo", "robot"}
    chosen = replace(asked.places["desks"], personal_folders=PersonalFolders(users=frozenset({"cy"})))
    fewer = apply(asked, [PutPlace(chosen)])[0]
    assert levels(fewer)["ann"]["ann"] == NA, "kept and closed"
    assert levels(fewer)["cy"]["cy"] == RW
    gone = apply(fewer, [RemoveUser("cy")])[0]
    assert gone.places["desks"].personal_folders is None, "nobody is left to have one"


def test_somebody_with_a_folder_in_two_places_has_two_shares() -> None:
    plan = office()
    attic = Place(id="attic", name="attic", kind="dataset", parent="keel")
    each = PersonalFolders(group="late", shared=True)
    desks = replace(plan.places["desks"], personal_folders=each)
    plan = apply(plan, [PutPlace(replace(attic, personal_folders=each)), PutPlace(desks)])[0]
    assert {share.name: plan.path_name(share.place) for share in plan.shares.values()} == {
        "bo": "keel/desks/bo",
        "bo-2": "keel/attic/bo",
    }


def test_readers_read_and_become_managers_and_nobody_again() -> None:
    plan = with_desks(office(), readers=frozenset({"cy"}))
    assert levels(plan)["ann"] == {"ann": RW, "bo": NA, "cy": RO, "scan": RW}
    each = plan.places["desks"].personal_folders
    assert each is not None
    swapped = replace(each, managers=frozenset({"cy"}), readers=frozenset())
    plan = apply(plan, [PutPlace(replace(plan.places["desks"], personal_folders=swapped))])[0]
    assert levels(plan)["ann"] == {"ann": RW, "bo": NA, "cy": RW, "scan": NA}


def test_a_folder_and_its_share_follow_a_new_sign_in_name_where_they_had_the_old_one() -> None:
    plan = with_desks(office(), shared=True)
    plan = apply(plan, [PutPlace(replace(plan.places["desks-bo"], name="bo's own"))])[0]
    plan = apply(plan, [PutUser(replace(plan.users[who], name=f"{who}-new")) for who in ("ann", "bo")])[0]
    assert plan.places["desks-ann"].name == "ann-new"
    assert plan.places["desks-bo"].name == "bo's own", "somebody named it so"
    assert {share.place: share.name for share in plan.shares.values()} == {"desks-ann": "ann-new", "desks-bo": "bo"}
    assert levels(plan)["ann-new"]["ann"] == RW


def test_one_share_leads_everybody_to_their_own_folder_and_shows_no_other() -> None:
    plan = office(services={"smb": Service(id="smb")})
    plan = with_desks(plan, one_share=True, readers=frozenset({"cy"}))
    share = next(iter(plan.shares.values()))
    assert (share.name, share.place, share.hide_unreadable) == ("desks", "desks", True)
    seen = {
        who: {
            plan.places[visit.place].name: (visit.shown, visit.adds)
            for visit in walk(plan, who, Over(share.id, "smb"), ON)
        }
        for who in plan.users
    }
    own = {"desks": (True, False)}
    assert seen["ann"] == {**own, "ann": (True, True), "bo": (False, False)}
    assert seen["bo"] == {**own, "ann": (False, False), "bo": (True, True)}
    assert seen["cy"] == {**own, "ann": (True, False), "bo": (True, False)}
    assert seen["scan"] == {**own, "ann": (True, True), "bo": (True, True)}
    late = apply(plan, [PutUser(User(id="dora", name="dora")), Join("crew", "dora")])[0]
    visits = {late.places[v.place].name: v.adds for v in walk(late, "dora", Over(share.id, "smb"), ON)}
    assert visits["dora"], "who joins gets in, too"
    each = late.places["desks"].personal_folders
    assert each is not None
    ended = apply(late, [PutPlace(replace(late.places["desks"], personal_folders=replace(each, one_share=False)))])[0]
    assert not ended.grants.get("desks")


def test_where_mode_bits_say_who_gets_in_the_folder_is_theirs() -> None:
    keel = Place(id="keel", name="keel", kind="pool", acl=Mode(0o755), enforced_by="storage")
    desks = replace(office().places["desks"], acl=Mode(0o711))
    plan = office(places={"keel": keel, "desks": desks})
    each = PersonalFolders(group="crew")
    plan = apply(plan, [PutPlace(replace(plan.places["desks"], personal_folders=each))])[0]
    assert levels(plan) == {
        "ann": {"ann": RW, "bo": NA, "cy": NA, "scan": NA},
        "bo": {"ann": NA, "bo": RW, "cy": NA, "scan": NA},
    }


def test_names_that_are_taken_or_no_share_can_have_are_got_around() -> None:
    plan = office()
    taken = Place(id="x", name="Ann", kind="folder", parent="desks")
    odd = User(id="odd", name="a/b+c")
    plan = apply(plan, [PutPlace(taken), PutUser(odd), Join("crew", "odd")])[0]
    plan = with_desks(plan, shared=True)
    assert {place.name for place in plan.places.values() if place.folder_of} == {"ann-2", "bo", "a-b+c"}
    assert {share.name for share in plan.shares.values()} == {"ann-2", "bo"}


def test_the_baseline_is_everybody_and_those_gone_from_a_directory_are_nobody() -> None:
    plan = office(target=replace(office().target, baseline="crew"))
    assert members(plan, "crew") == ["ann", "bo", "cy", "scan"]
    assert members(office(), "crew") == ["ann", "bo"]
    circle = office(
        groups={**office().groups, "late": Group(id="late", name="late", members=frozenset({"crew", "bo"}))}
    )
    assert members(circle, "late") == ["ann", "bo"]


@settings(max_examples=times(100, 400))
@given(plans())
def test_its_members_are_those_who_count_as_the_group(plan: Plan) -> None:
    there = [user for user in plan.users.values() if not user.gone]
    for group in plan.groups:
        assert set(members(plan, group)) == {user.id for user in there if group in token(plan, user.id)}


@pytest.mark.parametrize(
    "each", [PersonalFolders(group="nobody"), PersonalFolders(group="crew", managers=frozenset({"nobody"}))]
)
def test_folders_for_whom_nobody_knows_are_refused(each: PersonalFolders) -> None:
    with pytest.raises(PlanError, match=r"not a (group|user or group) of this plan"):
        apply(office(), [PutPlace(replace(office().places["desks"], personal_folders=each))])


@settings(max_examples=times(150, 1000))
@given(plans(lists=True), st.data())
def test_after_any_edits_all_members_who_came_have_one_and_undoing_gives_the_identical_plan(
    plan: Plan, data: st.DataObject
) -> None:
    if not plan.groups:
        return
    group = data.draw(st.sampled_from(sorted(plan.groups)))
    more = {name: data.draw(st.booleans()) for name in ("services", "shared", "one_share")}
    each = PersonalFolders(group=group, users=frozenset(sorted(plan.users)[:1]), **more)  # type: ignore[arg-type]
    steps: list[Edit] = [PutPlace(replace(plan.places["p0"], personal_folders=each))]
    now = plan
    for _ in range(data.draw(st.integers(1, 4))):
        for edit in steps:
            before = now
            whole = in_step(before, (edit,))
            now, inverse = exactly(before, whole)
            assert check(now) == ()
            assert same(now, apply(before, [edit])[0])
            assert same(exactly(now, inverse)[0], before)
            here = now.places.get("p0")
            was = before.places.get("p0")
            if here is not None and here.personal_folders == each and was is not None:
                had = set(entitled(before, was.personal_folders)) if was.personal_folders is not None else set()
                have = {now.places[child].folder_of for child in now.inside.get("p0", ())}
                assert set(entitled(now, each)) - had <= have
                for child in now.inside.get("p0", ()):
                    of = now.places[child].folder_of
                    if of in had - set(entitled(now, each)):
                        assert of not in now.grants.get(child, {})
        try:
            edit = data.draw(edits(now))
            apply(now, [edit])
            steps = [edit]
        except PlanError:
            steps = []


def test_a_group_that_is_put_whole_counts_as_its_members_do() -> None:
    plan = with_desks(office())
    crew = replace(plan.groups["crew"], members=frozenset({"cy"}))
    plan = apply(plan, [PutGroup(crew)])[0]
    assert {place.name for place in plan.places.values() if place.folder_of} == {"ann", "bo", "cy"}
    assert levels(plan)["ann"] == {"ann": NA, "bo": NA, "cy": NA, "scan": RW}
