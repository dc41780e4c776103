"""One act on many things: the same as on one after the other, and taken back whole; more of the same gets the same."""

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.comparison import gets
from yardgate.core.access.outcome import outcome
from yardgate.core.edits.apply import apply
from yardgate.core.edits.many import added, copied, numbered, shared
from yardgate.core.edits.offices import OFFICES, Office, begin
from yardgate.core.edits.records import Edit
from yardgate.core.host.typed import NamedKind, better, refused
from yardgate.core.model.behaviour import PROFILES, QUESTIONS, answering, open_questions
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import LOCAL, Plan, Target, same
from yardgate.core.policy.stages import Known, stages


def one_by_one(plan: Plan, edits: tuple[Edit, ...]) -> Plan:
    for edit in edits:
        plan, _ = apply(plan, [edit])
    return plan


@settings(max_examples=times(150, 2000))
@given(plans(shares=True), st.data())
def test_an_act_on_many_is_that_on_one_after_the_other_and_undone_it_is_the_plan_before(
    plan: Plan, data: st.DataObject
) -> None:
    assume(plan.users or plan.groups)
    # of two shares for the folders of one person, the one that comes first has the name itself
    assume(sum(p.personal_folders is not None and p.personal_folders.shared for p in plan.places.values()) < 2)
    whos = data.draw(st.lists(st.sampled_from(sorted({*plan.users, *plan.groups})), unique=True))
    places = data.draw(st.lists(st.sampled_from(sorted(plan.places)), unique=True, max_size=3))
    names = [(f"new.{number}", f"New {number}") for number in range(data.draw(st.integers(1, 4)))]
    groups = [group.id for group in plan.groups.values() if group.origin == LOCAL][:2]
    for edits in (numbered(plan, whos), shared(plan, places), added(plan, names, "person", groups)):
        after, inverse = apply(plan, edits)
        assert check(after) == ()
        assert same(after, one_by_one(plan, edits)), "at once, or one after the other"
        assert same(apply(after, inverse)[0], plan)
    alone = plan
    for who in whos:
        alone, _ = apply(alone, numbered(alone, [who]))
    assert same(alone, apply(plan, numbered(plan, whos))[0]), "each alone gets what it gets among many"


@settings(max_examples=times(150, 2000))
@given(plans(lists=True, shares=True), st.booleans(), st.data())
def test_more_of_the_same_can_always_be_had_and_undone(plan: Plan, grants: bool, data: st.DataObject) -> None:
    like = data.draw(st.sampled_from(sorted({*plan.users, *plan.groups, *plan.shares, *plan.places})))
    assume(like not in plan.places or plan.places[like].parent is not None)
    made = copied(plan, like, "another-one", grants=grants)
    assert made is not None
    after, inverse = apply(plan, made.edits)
    assert check(after) == ()
    assert same(apply(after, inverse)[0], plan)


@settings(max_examples=times(100, 2000))
@given(plans(lists=True, shares=False), st.data())
def test_somebody_made_like_another_gets_what_that_one_gets(plan: Plan, data: st.DataObject) -> None:
    fixed = {place.owner for place in plan.places.values()} | {p.folder_of for p in plan.places.values()}
    fixed |= {one for group in plan.groups.values() if group.origin != LOCAL for one in group.members}
    places = {key: replace(place, personal_folders=None) for key, place in plan.places.items()}
    plan = replace(plan, places=places)
    can = [u.id for u in plan.users.values() if u.origin == LOCAL and u.uid != 0 and u.active(ON) and u.id not in fixed]
    if not can:
        return
    like = data.draw(st.sampled_from(sorted(can)))
    made = copied(plan, like, "another-one", grants=True)
    assert made is not None
    matrix = resolve(apply(plan, made.edits)[0], ON)
    for place in plan.places:
        assert matrix.level(made.id, place) == matrix.level(like, place), place


def test_somebody_made_like_another_without_grants_is_in_the_groups_alone(quay: Plan) -> None:
    made = copied(quay, "tomas-brandt", "rosa.lind", "Rosa Lind", grants=False)
    assert made is not None
    after, _ = apply(quay, made.edits)
    assert after.users[made.id].name == "rosa.lind"
    assert {g for g in after.groups if made.id in after.groups[g].members} == {
        g for g in quay.groups if "tomas-brandt" in quay.groups[g].members
    }
    assert all(made.id not in lines for lines in after.grants.values())
    assert copied(quay, "nobody-at-all", "x", grants=True) is None


def test_a_folder_tree_is_made_again_with_its_lists_and_grants_or_bare(quay: Plan) -> None:
    for grants in (True, False):
        made = copied(quay, "hulls", "hulls-2027", grants=grants)
        assert made is not None
        after, _ = apply(quay, made.edits)
        inside = {after.places[one].name: one for one in after.inside[made.id]}
        assert set(inside) == {quay.places[one].name for one in quay.inside["hulls"]}
        assert after.grants.get(inside["warranty"], {}) == (quay.grants["warranty"] if grants else {})
        assert (after.places[inside["warranty"]].acl is not None) is grants


def test_shares_take_names_that_are_free(quay: Plan) -> None:
    after, _ = apply(quay, shared(quay, ["nightly", "hulls", "warranty"]))
    new = {share.name: share.place for share in after.shares.values() if share.id not in quay.shares}
    assert set(new.values()) == {"nightly", "hulls", "warranty"}
    assert len({name.lower() for name in (share.name for share in after.shares.values())}) == len(after.shares)
    odd = replace(quay, places={**quay.places, "hulls": replace(quay.places["hulls"], name="a:b")})
    with pytest.raises(PlanError, match="no share can be called"):
        shared(replace(odd, places={**odd.places, "keel": replace(odd.places["keel"], name="k?")}), ["hulls"])


@pytest.mark.parametrize("office", OFFICES, ids=lambda office: office.id)
def test_an_office_to_begin_from_gives_everybody_what_is_granted(office: Office) -> None:
    plan = begin(office)
    assert check(plan) == ()
    found = gets(outcome(resolve(plan, ON)))
    assert (found.count("more"), found.count("less")) == (0, 0)
    done = {stage.id: stage.done for stage in stages(plan, Known(), ON)}
    assert [one for one, is_done in done.items() if not is_done] == ["appliance", "rollout", "keep"]


def test_stages_say_what_is_missing_and_are_done_when_it_is_there(quay: Plan) -> None:
    empty = {stage.id: stage for stage in stages(Plan(), Known(), ON)}
    assert [stage.id for stage in empty.values() if stage.begun] == ["appliance"]
    assert empty["people"].todo[0].act == "add-person"

    bare = replace(quay, users={**quay.users, "mira-oyelaran": replace(quay.users["mira-oyelaran"], uid=None)})
    people = next(stage for stage in stages(bare, Known(), ON) if stage.id == "people")
    assert people.todo[0].act == "number"
    assert people.todo[0].ids == ("mira-oyelaran",)
    assert "1 without a uid" in people.says
    mended, _ = apply(bare, numbered(bare, people.todo[0].ids))
    assert next(stage for stage in stages(mended, Known(), ON) if stage.id == "people").done

    unshared = replace(quay, shares={})
    share = next(stage for stage in stages(unshared, Known(), ON) if stage.id == "shares")
    after, _ = apply(unshared, shared(unshared, share.todo[0].ids))
    assert next(stage for stage in stages(after, Known(), ON) if stage.id == "shares").done

    soon = replace(quay.users["mira-oyelaran"], expires=ON + timedelta(days=9))
    ending = replace(quay, users={**quay.users, soon.id: soon})
    stands = Known(more=1, less=2, serious=1, broken=1, reached=True, rolled=3, moved=True)
    last = {stage.id: stage for stage in stages(ending, stands, ON)}
    assert [todo.act for todo in last["try"].todo] == ["off", "promises", "findings"]
    assert last["rollout"].says == "Changed since it was put there · 3 cells come out otherwise there"
    assert last["keep"].todo[0].ids == ("mira-oyelaran",)
    assert next(s for s in stages(quay, Known(rolled=0), ON) if s.id == "rollout").done


def test_every_answer_can_be_given_and_a_profile_answers_all() -> None:
    for question in QUESTIONS:
        for choice in question.choices:
            target = answering(choice.on(Target()), question.id, known=True)
            assert choice.holds(target)
            assert [other.id for other in question.choices if other.holds(target)] == [choice.id]
            assert target.answered == (question.id,)
            assert answering(target, question.id, known=False).answered == ()
    for profile in PROFILES:
        target = profile.on(Target(baseline="crew", addresses=("quay",)))
        assert open_questions(Plan(target=target)) == []
        assert (target.baseline, target.addresses) == ("crew", ("quay",)), "what is no behaviour stays"
        assert all(sum(choice.holds(target) for choice in question.choices) == 1 for question in QUESTIONS)


@pytest.mark.parametrize(
    ("kind", "name", "why", "instead"),
    [
        ("account", "mira.o", None, None),
        ("account", "Backup job", "has a space", "backup.job"),
        ("account", "backup", "Linux hosts have for themselves", "backup-account"),
        ("account", "mira.oyelaran", "already", "mira.oyelaran-2"),
        ("account", "José Núñez", "has a space", "jose.nunez"),
        ("account", "日本", "has", ""),
        ("account", "4711", "a number", "user-4711"),
        ("group", "Everyone", "of its own", "Everyone-group"),
        ("group", "Front Office", None, None),
        ("share", "homes", "SMB servers", "homes-files"),
        ("share", "a/b", "which no server takes", "a-b"),
        ("place", "a/b", "separates folders", "a-b"),
    ],
)  # fmt: skip
def test_a_name_is_refused_where_it_is_typed_with_one_that_works(
    quay: Plan, kind: NamedKind, name: str, why: str | None, instead: str | None
) -> None:
    found = refused(quay, kind, name)
    assert found == why or (why is not None and found is not None and why in found)
    if instead is not None:
        assert better(quay, kind, name) == instead


@settings(max_examples=times(150, 2000))
@given(plans(), st.sampled_from(["account", "group", "share", "place"]), st.text(max_size=90))
def test_a_better_name_is_never_refused(plan: Plan, kind: NamedKind, name: str) -> None:
    found = better(plan, kind, name)
    assert found == "" or refused(plan, kind, found) is None
