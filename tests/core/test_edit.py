"""Edits and their inverses."""

from contextlib import nullcontext
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl import Entry, Mode, Ordered
from yardgate.core.acl.rights import PASS, Level
from yardgate.core.edits.apply import apply, exactly
from yardgate.core.edits.describe import describe, proposal, sentence
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import (
    Join,
    Leave,
    PutGroup,
    PutPlace,
    PutUser,
    RemoveGroup,
    RemovePlace,
    RemoveUser,
    SetGrant,
    SetTarget,
    SetTitle,
)
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import WORKED_OUT, Group, Place, Plan, User, same
from yardgate.core.policy.instead import group_instead


@settings(max_examples=times(300, 1500))
@given(plans(), st.data())
def test_an_edit_followed_by_its_inverse_gives_the_identical_plan(plan: Plan, data: st.DataObject) -> None:
    made = []
    now = plan
    for _ in range(data.draw(st.integers(1, 4))):
        edit = data.draw(edits(now))
        try:
            now, _ = exactly(now, [edit])
        except PlanError:
            continue
        assert check(now) == ()
        assert {name: getattr(now, name) for name in WORKED_OUT} == {
            name: getattr(replace(now), name) for name in WORKED_OUT
        }
        made.append(edit)
    after, inverse = exactly(plan, made)
    assert same(after, now)
    back, again = exactly(after, inverse)
    assert same(back, plan)
    assert same(exactly(back, again)[0], after)


@settings(max_examples=times(500, 2000))
@given(plans(), plans())
def test_the_difference_of_two_plans_turns_one_into_the_other(before: Plan, after: Plan) -> None:
    found = difference(before, after)
    reached, inverse = exactly(before, found)
    assert same(reached, after)
    assert same(exactly(reached, inverse)[0], before)
    assert difference(after, after) == ()
    assert all(sentence(before, after, edit) for edit in found)


def test_a_batch_is_kept_whole_or_not_at_all(lantern: Plan) -> None:
    with pytest.raises(PlanError, match="no user or group “nobody”"):
        apply(lantern, [SetGrant("payroll", "office", Level.RW), SetGrant("payroll", "nobody", Level.RW)])


def test_removing_takes_along_what_refers_to_it_and_the_inverse_brings_it_back(lantern: Plan) -> None:
    for edit in (RemoveUser("saskia-de-wit"), RemoveGroup("all-staff"), RemovePlace("keel")):
        after, inverse = apply(lantern, [edit])
        assert check(after) == ()
        assert same(apply(after, inverse)[0], lantern)
    after, _ = apply(lantern, [RemoveGroup("all-staff")])
    assert after.target.baseline is None
    after, _ = apply(lantern, [RemovePlace("keel")])
    assert {place.name for place in after.places.values()} == {"ballast", "backups", "nightly", "vm-images"}


def test_a_grant_can_be_put_at_a_line_and_keeps_its_line_when_changed(lantern: Plan) -> None:
    order = list(lantern.grants["toolpaths"])
    assert order[:2] == ["apprentices", "draughting"]
    moved, _ = apply(lantern, [SetGrant("toolpaths", "draughting", Level.RW, 0)])
    assert list(moved.grants["toolpaths"])[:2] == ["draughting", "apprentices"]
    changed, _ = apply(lantern, [SetGrant("toolpaths", "apprentices", Level.RO)])
    assert list(changed.grants["toolpaths"]) == order


@pytest.mark.parametrize(
    ("edit", "message"),
    [
        (PutUser(User(id="x", name="mira.oyelaran")), "used twice"),
        (PutUser(User(id="x", name="MIRA.Oyelaran")), "used twice"),
        (PutUser(User(id="x", name="x", aliases=("mira@lanternquay.example",))), "used twice"),
        (PutUser(User(id="x", name="a\nb")), "control character or line break"),
        (PutUser(User(id="x", name="a\u202eb")), "direction mark"),
        (PutUser(User(id="x", name="")), "is empty"),
        (PutUser(User(id="x", name=" x")), "begins or ends with a space"),
        (PutUser(User(id="x", name="x" * 256)), "256 characters"),
        (PutUser(User(id="x", name="x", uid=-1)), "outside 0 to"),
        (PutUser(User(id="x", name="x", primary_group="nowhere")), "is not a group"),
        (PutUser(User(id="draughting", name="x")), "taken by a group"),
        (PutUser(User(id="everyone", name="x")), "built-in"),
        (PutGroup(Group(id="x", name="Everyone")), "a group cannot be called “Everyone”: that name means all accounts"),
        (PutGroup(Group(id="x", name="root")), "a group cannot be called “root”: every appliance has one of its own"),
        (PutUser(User(id="root", name="Root")), "a person cannot be called “Root”: every appliance has one"),
        (PutGroup(Group(id="mira-oyelaran", name="x")), "taken by a user"),
        (PutGroup(Group(id="x", name="x", members=frozenset({"ghost"}))), "not a user or group"),
        (PutPlace(Place(id="x", name="x", kind="dataset")), "nowhere"),
        (PutPlace(Place(id="x", name="a/b", kind="folder", parent="keel")), "separates folders"),
        (PutPlace(Place(id="x", name="..", kind="folder", parent="keel")), "dot name"),
        (PutPlace(Place(id="x", name="x", kind="dataset", parent="toolpaths")), "cannot lie in folder"),
        (PutPlace(Place(id="x", name="Payroll", kind="folder", parent="office-2")), "used twice"),
        (PutPlace(Place(id="drawings", name="drawings", kind="folder", parent="toolpaths")), "lies inside itself"),
        (
            PutPlace(Place(id="office-2", name="office", kind="folder", parent="keel")),
            "dataset “payroll” cannot lie in folder",
        ),
        (PutPlace(Place(id="x", name="x", kind="pool", parent="keel")), "cannot lie inside"),
        (SetGrant("payroll", "office", Level.PT), "only RW, RO and NA"),
        (SetGrant("payroll", "office", Level.RW, -1), "lines count from 0"),
        (SetGrant("nowhere", "office", Level.RW), "no place “nowhere”"),
        (Join("nowhere", "mira-oyelaran"), "no group “nowhere”"),
        (Leave("nowhere", "mira-oyelaran"), "no group “nowhere”"),
        (RemoveUser("ghost"), "no user “ghost”"),
        (SetTitle("", ""), "is empty"),
    ],
)
def test_what_cannot_stand_is_refused_by_name(lantern: Plan, edit: object, message: str) -> None:
    with pytest.raises(PlanError, match=message):
        apply(lantern, [edit])  # type: ignore[list-item]


def test_words_name_people_as_people_do(lantern: Plan) -> None:
    def words(*made: object) -> str:
        after, _ = apply(lantern, made)  # type: ignore[arg-type]
        return describe(lantern, after, made)  # type: ignore[arg-type]

    mira = lantern.users["mira-oyelaran"]
    assert (
        words(SetGrant("toolpaths", "mira-oyelaran", Level.RO)) == "Mira Oyelaran on keel/drawings/toolpaths: read-only"
    )
    assert words(SetGrant("toolpaths", "apprentices", None)) == "Apprentices on keel/drawings/toolpaths: not set"
    assert words(SetGrant("toolpaths", "draughting", Level.RW, 0)).endswith("read-write, line 1")
    assert words(PutUser(replace(mira, enabled=False))) == "disabled Mira Oyelaran"
    assert words(PutUser(replace(mira, name="mira.o"))) == "renamed person mira.oyelaran to mira.o"
    ledger = lantern.groups["ledger"]
    both = replace(ledger, name="Books", members=ledger.members | {"mira-oyelaran"})
    assert words(PutGroup(both)) == "renamed group Ledger to Books and Mira Oyelaran joined Books"
    assert words(Join("ledger", "mira-oyelaran")) == "Mira Oyelaran joined Ledger"
    assert words(RemovePlace("payroll")) == "removed keel/office/payroll from the plan"
    assert (
        words(PutPlace(replace(lantern.places["payroll"], parent="keel")))
        == "moved keel/office/payroll to keel/payroll"
    )
    assert words(SetTarget(replace(lantern.target, combining="widest"))) == "when several grants apply: the widest wins"
    assert (
        words(*(SetGrant("payroll", who, Level.NA) for who in ("yard", "rigging", "shopfloor", "draughting")))
        == "4 grants set"
    )
    assert words(SetGrant("toolpaths", "apprentices", Level.NA)) == "Apprentices on keel/drawings/toolpaths: no access"


def test_a_group_grant_is_offered_where_it_does_the_same(lantern: Plan) -> None:
    now = outcome(resolve(replace(lantern, shares={}), ON))
    offers = group_instead(now, "petrel-9", "tomas-brandt", Level.RW)
    first = offers[0]
    assert first.edit == SetGrant("petrel-9", "draughting", Level.RW)
    assert {change.subject for change in first.others} == {"mira-oyelaran", "priya-natarajan", "edda-lindqvist"}
    assert all(change.after == Level.RW for change in first.others)
    assert group_instead(now, "toolpaths", "juno-harker", Level.RW)[0].edit.who == "apprentices"


def test_offers_count_what_lies_below_too(quay: Plan) -> None:
    """A grant that a list carries comes down, so a group's grant changes cells of other places as well."""
    now = outcome(resolve(apply(quay, [SetGrant("drawings", "gwen-castellan", Level.RW)])[0], ON))
    offer = next(o for o in group_instead(now, "drawings", "gwen-castellan", Level.RW) if o.edit.who == "yard")
    assert {change.place for change in offer.others} >= {"drawings"}


def test_what_is_proposed_is_said_as_something_to_do(quay: Plan) -> None:
    def words(edit: Leave | Join | PutPlace | RemoveUser | SetGrant) -> str:
        return proposal(quay, apply(quay, [edit])[0], edit)

    member = next(iter(quay.groups["apprentices"].members))
    name = quay.named(member)
    assert words(Leave("apprentices", member)) == f"Take {name} out of Apprentices"
    assert words(Join("directors", member)) == f"Add {name} to Directors"
    assert words(PutPlace(Place(id="new", name="new", kind="folder", parent="minutes"))).startswith("Add folder ")
    assert words(RemoveUser(member)) == f"Remove {name}"
    assert words(SetGrant("minutes", "apprentices", Level.RO)) == "Apprentices on keel/office/minutes: read-only"


def test_changes_of_storage_in_words(quay: Plan) -> None:
    def words(place: Place) -> str:
        after, _ = apply(quay, [PutPlace(place)])
        return sentence(quay, after, PutPlace(place))

    minutes = quay.places["minutes"]
    assert (
        words(replace(minutes, acl=Ordered()))
        == "list of keel/office/minutes without “Directors: read-write + changing the list”"
    )
    opened = Ordered((Entry("allow", "everyone", PASS, 0), *minutes.acl.entries))
    assert words(replace(minutes, acl=opened)) == (
        "list of keel/office/minutes with “Everyone: pass through, this folder only”"
    )
    assert words(replace(minutes, acl=Mode(0o750))) == "changed list of folder minutes"
    assert (
        words(replace(minutes, owner="oskar-dahl", group="ledger")) == "changed owner, owning group of folder minutes"
    )
    assert words(replace(minutes, inheritance_stops=False)) == "let inheritance through again to keel/office/minutes"
    toolpaths = quay.places["toolpaths"]
    assert words(replace(toolpaths, inheritance_stops=True, acl=Ordered((Entry("allow", "yard", 1),)))) == (
        "stopped inheritance at keel/drawings/toolpaths and changed its list"
    )


@pytest.mark.parametrize(
    ("address", "fits"),
    [
        ("keelson", True),
        ("files.quay.example", True),
        ("192.0.2.10", True),
        ("2001:db8::7", True),
        ("3com", True),
        ("", False),
        ("192.0.2", False),
        ("a..b", False),
        ("-a", False),
        ("quay_2", False),
        ("smb://keelson", False),
        ("a b", False),
    ],
)
def test_a_server_is_reached_by_host_names_and_addresses(address: str, fits: bool) -> None:
    plan = Plan()
    with nullcontext() if fits else pytest.raises(PlanError, match="cannot reach the server"):
        assert apply(plan, [SetTarget(replace(plan.target, addresses=(address,)))])[0].target.addresses == (address,)
    with pytest.raises(PlanError, match="twice"):
        apply(plan, [SetTarget(replace(plan.target, addresses=("keelson", "KEELSON")))])
