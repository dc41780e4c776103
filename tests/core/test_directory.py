"""Records of a directory, how they name each other, and what they make of a plan."""

from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.storage import storage_state
from yardgate.core.acl import Entry, Ordered
from yardgate.core.acl.rights import FULL, Level
from yardgate.core.directory.idmap import moves, troubles
from yardgate.core.directory.sync import Item, sync
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Join, PutGroup, SetGrant
from yardgate.core.model.checks import PlanError
from yardgate.core.model.directory import AccountRecord, Directory, Ref, dn_parts, linked, rid_of, same_dn, within_dn
from yardgate.core.model.kinds import check
from yardgate.core.model.names import Names, unix_trouble
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.formats.ldif import escaped

QUAY = Directory(id="quay", name="QUAY", domain="quay.example", base="DC=quay,DC=example", high=200_000)
SID = "S-1-5-21-1-2-3"


def user(rid: int, name: str, **more: object) -> AccountRecord:
    base = AccountRecord(
        key=f"{SID}-{rid}", sid=f"{SID}-{rid}", dn=f"CN={name},DC=quay,DC=example", kind="person", name=name
    )
    return replace(base, **more)  # type: ignore[arg-type]


def group(rid: int, name: str, *members: str, **more: object) -> AccountRecord:
    refs = tuple(Ref("dn", f"CN={member},DC=quay,DC=example") for member in members)
    return user(rid, name, kind="group", members=refs, **more)


def followed(plan: Plan, *records: AccountRecord, directory: Directory = QUAY) -> Plan:
    after, _ = apply(plan, sync(plan, directory, records).edits)
    assert check(after) == ()
    assert sync(after, after.directories["quay"], records).edits == ()
    return after


def told(plan: Plan, *records: AccountRecord) -> set[tuple[str, str]]:
    return {(item.what, item.words) for item in sync(plan, QUAY, records).items}


# --- names --------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("dn", "parts"),
    [
        ("", ()),
        ("CN=Ann,DC=quay", (("cn", "Ann"), ("dc", "quay"))),
        (r"CN=Smith\, Ann,DC=quay", (("cn", "Smith, Ann"), ("dc", "quay"))),
        (r"CN=Smith\2c Ann , dc = quay", (("cn", "Smith, Ann"), ("dc", "quay"))),
        (r"CN=back\\slash,DC=q", (("cn", r"back\slash"), ("dc", "q"))),
        (r"CN=\C3\9Cte,DC=q", (("cn", "Üte"), ("dc", "q"))),
        (r'CN="Smith, Ann",DC=q', (("cn", "Smith, Ann"), ("dc", "q"))),
        (r"CN=end\ ,DC=q", (("cn", "end "), ("dc", "q"))),
        ("OU=b+CN=a,DC=q", (("cn+ou", "a+b"), ("dc", "q"))),
    ],
)
def test_distinguished_names_are_read_as_rfc_4514_writes_them(dn: str, parts: object) -> None:
    assert dn_parts(dn) == parts


@given(st.text(min_size=1, max_size=12), st.text(min_size=1, max_size=12))
def test_any_value_survives_being_escaped(first: str, second: str) -> None:
    parts = dn_parts(f"CN={escaped(first)},OU={escaped(second)},DC=quay")
    assert parts == (("cn", first), ("ou", second), ("dc", "quay"))
    assert within_dn(f"CN={escaped(first)},OU={escaped(second)},DC=quay", f"ou={escaped(second)},dc=QUAY")


def test_what_is_no_distinguished_name_is_refused_and_still_compares() -> None:
    with pytest.raises(ValueError, match="needs name=value"):
        dn_parts("Ann,DC=quay")
    assert same_dn("Ann,DC=quay") == same_dn("ann,dc=QUAY")
    assert same_dn("CN=Ann,DC=quay") == same_dn("cn= ann , dc=Quay")
    assert not within_dn("CN=Ann,DC=elsewhere", "DC=quay")
    assert within_dn("CN=Ann,DC=elsewhere", "")


def test_the_last_part_of_a_domains_sid_is_the_rid() -> None:
    assert rid_of(f"{SID}-1105") == 1105
    assert rid_of("S-1-5-32-545") is None
    assert rid_of("S-1-5-11") is None


# --- links --------------------------------------------------------------------------------------------------------------


def test_members_are_found_by_name_in_any_spelling_by_sid_and_by_sign_in_name() -> None:
    crew = user(
        9,
        "crew",
        kind="group",
        members=(
            Ref("dn", "cn=ANN, dc=quay,DC=Example"),
            Ref("sid", f"{SID}-2"),
            Ref("name", "cleo"),
            Ref("dn", "CN=Nobody,DC=x"),
        ),
    )
    found = linked(QUAY, [user(1, "ann"), user(2, "bo"), user(3, "cleo"), crew])[f"{SID}-9"]
    assert found.members == {f"{SID}-1", f"{SID}-2", f"{SID}-3"}
    assert found.unknown == ("CN=Nobody,DC=x",)


def test_groups_for_mail_only_count_for_nothing_and_are_no_strangers() -> None:
    records = [user(1, "ann"), group(5, "news", "ann", mail_only=True), group(6, "crew", "news")]
    found = linked(QUAY, records)
    assert f"{SID}-5" not in found
    assert found[f"{SID}-6"].members == frozenset()
    assert found[f"{SID}-6"].unknown == ()


def test_what_is_not_to_come_in_stays_out() -> None:
    service = user(2, "scan", kind="service")
    records = [user(1, "ann"), service, group(6, "crew", "ann", "scan")]
    assert set(linked(replace(QUAY, services=False), records)) == {f"{SID}-1", f"{SID}-6"}
    assert set(linked(replace(QUAY, groups=False), records)) == {f"{SID}-1", f"{SID}-2"}
    assert set(linked(replace(QUAY, users=False), records)) == {f"{SID}-2", f"{SID}-6"}


# --- sync ---------------------------------------------------------------------------------------------------------------


def test_a_primary_group_counts_and_nesting_may_run_in_a_circle() -> None:
    domain = group(513, "Domain Users")
    records = [
        user(1, "ann", primary=Ref("sid", f"{SID}-513")),
        domain,
        group(6, "a", "b"),
        group(7, "b", "a", "Domain Users"),
    ]
    plan = followed(Plan(), *records)
    assert {plan.groups[who].name for who in token(plan, "ann") if who in plan.groups} == {"Domain Users", "a", "b"}


def test_accounts_are_followed_by_sid_through_a_new_name_with_all_that_was_granted() -> None:
    place = Place(id="yard", name="yard", kind="pool")
    plan = followed(Plan(places={"yard": place}), user(1, "ann"), group(6, "crew", "ann"))
    plan, _ = apply(plan, [SetGrant("yard", "ann", Level.RW)])
    after = followed(
        plan,
        user(1, "ann.wed", full_name="Ann Wed"),
        replace(group(6, "Crew 2"), members=(Ref("dn", "CN=ann.wed,DC=quay,DC=example"),)),
    )
    assert after.users["ann"].name == "ann.wed"
    assert after.grants == {"yard": {"ann": Level.RW}}
    assert after.groups["crew"].members == {"ann"}
    assert told(plan, user(1, "ann.wed"), group(6, "crew", "ann.wed")) == {("renamed", "ann is called ann.wed now")}


def test_who_is_gone_stays_with_grants_gets_nothing_and_may_come_back() -> None:
    place = Place(id="yard", name="yard", kind="pool")
    plan = followed(Plan(places={"yard": place}), user(1, "ann"), group(6, "crew", "ann"))
    plan, _ = apply(plan, [SetGrant("yard", "ann", Level.RW), SetGrant("yard", "crew", Level.RO)])
    gone = followed(plan)
    assert gone.users["ann"].gone
    assert gone.groups["crew"].gone
    assert gone.grants == plan.grants
    assert resolve(plan, ON).level("ann", "yard") == Level.RW
    assert resolve(gone, ON).level("ann", "yard") == Level.NA
    assert followed(gone, user(1, "ann"), group(6, "crew", "ann")) == plan
    anew = followed(gone, user(77, "ann"))  # another account of the same name inherits nothing
    assert {u.id: u.gone for u in anew.users.values()} == {"ann": True, "ann-2": False}
    assert resolve(anew, ON).level("ann-2", "yard") == Level.NA


def test_everything_that_changes_is_told() -> None:
    before = followed(Plan(), user(1, "ann"), user(2, "bo", number=5), group(6, "crew", "ann"))
    now = [
        user(1, "ann", enabled=False, expires=date(2027, 5, 1)),
        user(2, "bo", aliases=("b@quay.example",)),
        group(6, "crew", "bo"),
        user(3, "cleo"),
    ]
    assert told(before, *now) == {
        ("shut", "ann is disabled"),
        ("shut", "ann expires on 2027-05-01"),
        ("changed", "bo: sign-in names or kind changed"),
        ("joins", "bo joins crew"),
        ("leaves", "ann leaves crew"),
        ("new", "cleo is new"),
    }


def test_local_groups_keep_the_directorys_people_and_local_people_stay_local() -> None:
    plan = followed(
        Plan(users={"ann": User(id="ann", name="ann")}, groups={"desk": Group(id="desk", name="desk")}), user(1, "ann")
    )
    plan, _ = apply(plan, [Join("desk", "ann-2")])
    again = followed(plan, user(1, "ann", full_name="Ann"))
    assert again.groups["desk"].members == {"ann-2"}
    assert again.users["ann"] == plan.users["ann"]


def test_names_that_a_plan_cannot_have_are_left_out_and_said() -> None:
    records = [
        user(1, "ann"),
        user(2, "ANN", dn="CN=other,DC=quay,DC=example"),
        user(3, "bad\nname"),
        user(4, "bo", aliases=("ann", "b\x00", "good")),
    ]
    found = sync(Plan(), QUAY, records)
    assert {(out.key, out.why) for out in found.left_out} == {
        (f"{SID}-2", "“CN=other,DC=quay,DC=example” has the same name as “CN=ann,DC=quay,DC=example”"),
        (f"{SID}-3", "its name has a control character or line break (U+000A) at character 4"),
    }
    plan, _ = apply(Plan(), found.edits)
    assert plan.users["bo"].aliases == ("good",)


def test_an_account_needs_its_directory_and_a_key() -> None:
    with pytest.raises(PlanError, match="not a directory of this plan"):
        apply(Plan(), [PutGroup(Group(id="g", name="g", origin="quay", key="k"))])
    plan = followed(Plan(), user(1, "ann"))
    with pytest.raises(PlanError, match="no key to follow it by"):
        apply(plan, [PutGroup(Group(id="g", name="g", origin="quay"))])
    with pytest.raises(PlanError, match="is local; only a directory's accounts"):
        apply(plan, [PutGroup(Group(id="g", name="g", gone=True))])


# --- numbers ------------------------------------------------------------------------------------------------------------


def numbers(plan: Plan) -> dict[str, int | None]:
    return {u.name: u.uid for u in plan.users.values()} | {g.name: g.gid for g in plan.groups.values()}


def test_offset_is_the_start_of_the_range_plus_the_rid() -> None:
    plan = followed(
        Plan(), user(1105, "ann"), group(1200, "crew"), user(150_000, "far"), replace(user(1, "odd"), sid="S-1-5-32-7")
    )
    assert numbers(plan) == {"ann": 101_105, "crew": 101_200, "far": None, "odd": None}
    assert {(t.kind, t.words) for t in troubles(plan, QUAY)} == {
        ("beyond", "the RID 150000 of QUAY\\far leads beyond 200000: no uid; widen the range"),
        ("unmapped", "QUAY\\odd is not an account of the domain itself: no uid by RID"),
    }


def test_a_kept_table_gives_the_next_number_and_never_a_used_one() -> None:
    table = replace(QUAY, numbering="table", low=5000, high=5003)
    plan = followed(Plan(), user(2, "bo"), user(1, "ann"), directory=table)
    assert numbers(plan) == {"ann": 5000, "bo": 5001}
    plan = followed(plan, user(1, "ann"), user(3, "cleo"), directory=plan.directories["quay"])
    assert numbers(plan) == {"ann": 5000, "bo": 5001, "cleo": 5002}  # bo is gone; the number stays taken
    plan = followed(
        plan, user(1, "ann"), user(3, "cleo"), user(4, "dag"), user(5, "enno"), directory=plan.directories["quay"]
    )
    assert numbers(plan)["dag"] == 5003
    assert numbers(plan)["enno"] is None
    assert [t.words for t in troubles(plan, plan.directories["quay"])] == [
        "the range up to 5003 is used up: no uid for QUAY\\enno"
    ]


def test_numbers_of_the_directory_and_what_is_wrong_with_them() -> None:
    theirs = replace(QUAY, numbering="directory")
    local = Plan(users={"own": User(id="own", name="own", uid=1000), "other": User(id="other", name="other", uid=1010)})
    plan = followed(local, user(1, "ann", number=1000), user(2, "bo", number=1005), user(3, "cleo"), directory=theirs)
    assert {(t.kind, t.words) for t in troubles(plan, theirs)} == {
        ("collision", "own and QUAY\\ann have one uid, 1000: on storage they are the same"),
        (
            "local range",
            "the uid 1000 of QUAY\\ann lies among those of local accounts (1000 to 1010): the next local account may get it",
        ),
        (
            "local range",
            "the uid 1005 of QUAY\\bo lies among those of local accounts (1000 to 1010): the next local account may get it",
        ),
        ("missing", "QUAY\\cleo has no uidNumber in the directory: no uid here"),
    }


def test_names_that_tools_refuse_and_members_that_are_not_there_are_told() -> None:
    odd = [
        user(1, "ann lee"),
        user(2, "-bo"),
        user(3, "cleo"),
        user(4, "dag olsen"),
        group(6, "crew", "cleo", "Nobody"),
    ]
    assert [(t.kind, t.words) for t in troubles(followed(Plan(), *odd), QUAY)] == [
        ("name", "ann lee, dag olsen: has a space, which tools on Unix refuse in a name"),
        ("name", "-bo: begins with a hyphen, which tools on Unix refuse in a name"),
        ("unknown member", "QUAY\\crew names 1 who are not among the accounts read: CN=Nobody,DC=quay,DC=example"),
    ]


def test_another_mapping_says_whose_number_moves_and_where_it_is_written_down() -> None:
    records = [user(1, "ann", number=7), user(2, "bo", number=100_002), group(6, "crew", "ann")]
    plan = followed(Plan(), *records)
    places = {
        "yard": Place(id="yard", name="yard", kind="pool", acl=Ordered((Entry("allow", "crew", FULL, 3),))),
        "loft": Place(id="loft", name="loft", kind="dataset", parent="yard", owner="ann"),
    }
    plan = replace(plan, places=places)
    after = followed(plan, *records, directory=replace(QUAY, numbering="directory"))
    found = {
        m.who: (m.was, m.becomes, m.owns, m.listed) for m in moves(plan, after, storage_state(plan, count(plan, ON)))
    }
    assert found == {
        "ann": (100_001, 7, ("loft",), ()),
        "crew": (100_006, None, (), ("yard", "loft")),
    }


# --- who is meant -------------------------------------------------------------------------------------------------------


def test_two_accounts_of_one_name_are_told_apart_everywhere() -> None:
    plan = followed(
        Plan(name="keelson", users={"ann": User(id="ann", name="ann", full_name="Ann")}),
        user(1, "ann", full_name="Ann"),
    )
    assert (plan.named("ann"), plan.named("ann-2")) == ("Ann (local)", "Ann (QUAY)")
    assert (plan.called("ann"), plan.called("ann-2")) == ("ann", "QUAY\\ann")
    names = Names(plan)
    assert set(names.who("Ann")) == {"ann", "ann-2"}
    assert names.who("quay\\ANN") == names.who("ann@quay.example") == ("ann-2",)
    assert names.who("keelson\\ann") == names.who("ann@keelson") == ("ann",)


@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("ann.wed", None),
        ("nas$", None),
        ("Domain Users", "has a space"),
        ("-rf", "begins with a hyphen"),
        ("o'neil;x", "has “'”, “;”"),
        ("1000", "is a number, which tools take for a uid"),
        ("Jörn", "has “ö”"),
        ("a" * 33, "has 33 characters; Linux takes at most 32"),
    ],
)
def test_names_that_unix_cannot_carry(name: str, why: str | None) -> None:
    assert unix_trouble(name) == why


def test_items_name_whom_they_are_about() -> None:
    assert sync(Plan(), QUAY, [user(1, "ann", enabled=False)]).items == (Item("new", "ann", "ann is new, disabled"),)
