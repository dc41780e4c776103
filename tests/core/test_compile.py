"""What is granted comes out of the compiled lists, for every account, under every rule, in every style."""

import itertools
from collections.abc import Collection, Mapping
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import LEVELS, plans
from tests.tries import times
from yardgate.core.access.bitsets import Classes, Counting, count
from yardgate.core.access.combining import RULES
from yardgate.core.access.compile import Grant, ListSpec, ordered_list
from yardgate.core.access.membership import token
from yardgate.core.access.storage import Nfs4State, PlaceState, PosixState, rights_on, storage_state, tier_of, unsaid
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, nfs4
from yardgate.core.acl.rights import FULL, READ, Level, Rights, level
from yardgate.core.model.plan import EVERYONE, Grants, Group, Place, Plan, Target, User

NA, PT, RO, RW = Level.NA, Level.PT, Level.RO, Level.RW
STYLES: Mapping[str, OwnList] = {"ordered": Ordered(), "posix": Posix(), "mode": Mode()}


def carried_by_storage(plan: Plan, style: str, rule: tuple[str, str]) -> Plan:
    """The plan's grants carried by lists of one style; owners, groups and cuts stay, entries written by hand go."""
    places = {
        place.id: replace(
            place,
            acl=STYLES[style] if place.kind == "pool" else None,
            enforced_by="storage" if place.kind == "pool" else None,
        )
        for place in plan.places.values()
    }
    users = {user.id: replace(user, uid=None if user.uid == 0 else user.uid) for user in plan.users.values()}
    tiers, within = rule
    target = replace(plan.target, precedence=tiers, combining=within, traverse="checked")
    return replace(plan, users=users, places=places, target=target)


def compare(plan: Plan, counting: Counting, names: Mapping[str, Collection[str]]) -> tuple[int, int]:
    """Every account and every group on every place: as wished, or reported; (cells, reported)."""
    cells = reported = 0
    for place, here in storage_state(plan, counting).items():
        if here.list is None or not (here.grants or here.passes):
            continue
        wish = ListSpec(plan.target, here.grants, here.passes)
        report = {cell.subject: (cell.wanted, cell.gets) for cell in unsaid(plan, counting, here)}
        for subject, ways in names.items():
            wanted, gets = wish.expected(ways), level(rights_on(plan, here, subject, ways))
            assert report.get(subject) == (None if wanted == gets else (wanted, gets)), (place, subject)
            if subject in plan.users:
                assert gets <= wanted, "a compiled list never gives an account more than is granted"
                assert gets == wanted or here.list.style == "mode", (
                    "ordered and POSIX lists can say it for every account"
                )
            assert gets == wanted or here.list.style != "ordered", "an ordered list can say it for every group too"
        cells += len(names)
        reported += len(report)
    return cells, reported


@settings(max_examples=times(400, 2000))
@given(plan=plans(most=4, lists=False))
def test_every_account_gets_what_the_rule_says_or_is_reported(plan: Plan) -> None:
    first = carried_by_storage(plan, "ordered", RULES[0])
    counting = count(first, ON)
    names = {subject: frozenset(token(first, subject)) for subject in (*plan.users, *plan.groups)}
    for style, rule in itertools.product(STYLES, RULES):
        compare(carried_by_storage(plan, style, rule), counting, names)


@settings(max_examples=times(200, 2000))
@given(
    plan=plans(),
    grants=st.lists(
        st.tuples(st.sampled_from(("u0", "u1", "g0", "g1", "g2", EVERYONE)), LEVELS),
        max_size=6,
        unique_by=lambda one: one[0],
    ),
    passes=st.lists(st.sampled_from(("u0", "u2", "g1", "g3", EVERYONE)), unique=True),
)
def test_the_levels_of_all_classes_at_once_are_those_of_each(
    plan: Plan, grants: list[tuple[str, Level]], passes: list[str]
) -> None:
    there = {*plan.users, *plan.groups, EVERYONE}
    for tiers, within in RULES:
        target = replace(plan.target, precedence=tiers, combining=within)
        lines = tuple(
            Grant(who, said, tier_of(replace(plan, target=target), who), "p0") for who, said in grants if who in there
        )
        spec = ListSpec(target, lines, tuple(who for who in passes if who in there))
        found = Classes(count(plan, ON), spec.whos)
        assert spec.levels(found) == tuple(spec.expected(one.names) for one in found)


# --- by example -------------------------------------------------------------------------------------------------------


def office(
    grants: Grants, style: str = "ordered", owner: str | None = None, group: str | None = None, **target: str
) -> Plan:
    """Ann in makers, Ben in makers and guests, Cy in guests, Di in nothing."""
    return Plan(
        target=Target(**target),  # type: ignore[arg-type]
        users={name: User(id=name, name=name) for name in ("ann", "ben", "cy", "di")},
        groups={
            "makers": Group(id="makers", name="makers", members=frozenset({"ann", "ben"})),
            "guests": Group(id="guests", name="guests", members=frozenset({"ben", "cy"})),
        },
        places={
            "top": Place(
                id="top", name="top", kind="pool", acl=STYLES[style], enforced_by="storage", owner=owner, group=group
            ),
            "shop": Place(id="shop", name="shop", kind="folder", parent="top"),
            "bench": Place(id="bench", name="bench", kind="folder", parent="shop"),
        },
        grants=grants,  # type: ignore[arg-type]
    )


def stored(plan: Plan, place: str) -> PlaceState:
    return storage_state(plan, count(plan, ON))[place]


def lines(plan: Plan, place: str) -> list[str]:
    found = stored(plan, place).list
    if isinstance(found, Nfs4State):
        return [
            f"{line.entry.type} {line.entry.who} {line.entry.mask:x} {line.entry.flags:x} {line.made}"
            for line in found.lines
        ]
    assert isinstance(found, PosixState)
    return [f"{entry.tag}:{entry.who}:{entry.perms}" for entry in found.access]


def test_a_refusal_that_changes_something_stands_first_and_one_that_does_not_is_left_out() -> None:
    both = office({"top": {"makers": RW, "guests": NA}})
    assert lines(both, "top") == ["deny guests 1f01ff 3 grant", "allow makers 1301ff 3 grant"]
    nobody_in_both = replace(
        both, groups={**both.groups, "guests": Group(id="guests", name="guests", members=frozenset({"cy"}))}
    )
    assert lines(nobody_in_both, "top") == ["allow makers 1301ff 3 grant"]


def test_the_narrowest_rule_takes_writing_away_before_it_is_given() -> None:
    plan = office({"top": {"makers": RW, "guests": RO}}, combining="narrowest")
    assert lines(plan, "top")[0] == "deny guests 10156 3 grant"
    assert lines(office({"top": {"makers": RW, "guests": RO}}), "top") == [
        "allow makers 1301ff 3 grant",
        "allow guests 1200a9 3 grant",
    ]


def test_folders_above_let_through_those_who_are_granted_something_deeper_and_nobody_else() -> None:
    plan = office({"bench": {"cy": RW}})
    for place in ("top", "shop"):
        assert lines(plan, place) == ["allow cy 1000a0 0 pass"]
        above = stored(plan, place)
        assert level(rights_on(plan, above, "cy", {"cy"})) == PT
        assert level(rights_on(plan, above, "ann", {"ann", "makers"})) == NA
    assert level(rights_on(plan, stored(plan, "bench"), "cy", {"cy"})) == RW
    assert lines(replace(plan, grants={}), "top") == [], "no longer needed, no longer there"
    assert lines(office({"top": {EVERYONE: RO}, "bench": {"cy": RW}}), "top") == ["allow everyone 1200a9 3 grant"]


def test_a_posix_list_names_people_where_their_groups_cannot_say_it() -> None:
    plan = office({"top": {"makers": RW, "guests": NA}}, "posix")
    assert lines(plan, "top") == [
        "user::7",
        "user:ben:0",
        "group::0",
        "group:guests:0",
        "group:makers:7",
        "mask::7",
        "other::0",
    ]
    found = stored(plan, "top").list
    assert isinstance(found, PosixState)
    assert found.personal == ("ben",)


def test_who_only_passes_a_folder_passes_no_folder_that_is_made_in_it() -> None:
    """The way to a place that everyone may read leads through this one, not through what is made beside it."""
    plan = office({"top": {"makers": RW}, "bench": {EVERYONE: RO}}, "posix")
    found = stored(plan, "top").list
    assert isinstance(found, PosixState)
    assert found.default is not None
    others = [next(entry.perms for entry in listed if entry.tag == "other") for listed in (found.access, found.default)]
    assert others == [1, 0]


def test_somebody_refused_is_refused_although_linux_skips_lists_with_an_empty_mask() -> None:
    plan = office({"top": {"ann": NA, EVERYONE: RO}}, "posix")
    top = stored(plan, "top")
    assert lines(plan, "top") == ["user::7", "user:ann:0", "group::0", "mask::7", "other::5"]
    assert level(rights_on(plan, top, "ann", {"ann", EVERYONE})) == NA


def test_mode_bits_never_give_more_and_the_rest_is_reported() -> None:
    plan = office({"top": {"makers": RW, "guests": NA, "cy": RO}}, "mode", group="makers")
    top = stored(plan, "top")
    assert lines(plan, "top") == ["user::7", "group::0", "other::0"]
    report = {cell.subject: (cell.wanted, cell.gets) for cell in unsaid(plan, count(plan, ON), top)}
    assert report == {"ann": (RW, NA), "makers": (RW, NA)}, (
        "ben is refused, so the group's bits can give nobody anything"
    )
    fits = office({"top": {"makers": RW, "ann": RW}}, "mode", owner="ann", group="makers")
    assert lines(fits, "top") == ["user::7", "group::7", "other::0"]
    assert unsaid(fits, count(fits, ON), stored(fits, "top")) == ()


def test_grants_come_down_until_the_same_who_is_told_something_else_or_nothing_comes_down() -> None:
    plan = office({"top": {"makers": RW, "guests": RO}, "shop": {"guests": NA}})
    assert [(g.who, g.level, g.said_on) for g in stored(plan, "bench").grants] == [
        ("guests", NA, "shop"),
        ("makers", RW, "top"),
    ]
    cut = replace(plan, places={**plan.places, "bench": replace(plan.places["bench"], inheritance_stops=True)})
    assert stored(cut, "bench").grants == ()
    other = replace(plan, places={**plan.places, "bench": replace(plan.places["bench"], acl=Posix())})
    assert stored(other, "bench").grants == (), (
        "no list comes down into another style, and no grant that a list carries"
    )


def test_entries_by_hand_stay_first_and_come_down_after_what_is_granted() -> None:
    by_hand = Ordered((Entry("deny", "ann", FULL), Entry("allow", "di", READ)))
    plan = office({"top": {"makers": RW}, "shop": {"cy": RW}})
    plan = replace(plan, places={**plan.places, "top": replace(plan.places["top"], acl=by_hand)})
    assert lines(plan, "top") == [
        "deny ann 1f01ff 3 hand",
        "allow di 1200a9 3 hand",
        "allow makers 1301ff 3 grant",
        "allow cy 1000a0 0 pass",
    ]
    assert lines(plan, "shop")[:2] == ["allow cy 1301ff 3 grant", "allow makers 1301ff 3 grant"]
    assert lines(plan, "shop")[2:] == ["deny ann 1f01ff 83 hand", "allow di 1200a9 83 hand"]
    report = [(c.subject, c.wanted, c.gets) for c in unsaid(plan, count(plan, ON), stored(plan, "top"))]
    assert report == [("ann", RW, NA)], "no grant speaks of di, so what they get by hand contradicts none"


@settings(max_examples=times(60, 1000))
@given(plan=plans())
def test_no_refusal_of_a_compiled_list_is_idle(plan: Plan) -> None:
    """Each takes something from somebody: told by reading the list without it, entry by entry."""
    for rule in RULES:
        wanted = carried_by_storage(plan, "ordered", rule)
        counting = count(wanted, ON)
        names = {subject: token(wanted, subject) for subject in (*wanted.users, *wanted.groups)}
        for here in storage_state(wanted, counting).values():
            assert isinstance(here.list, Nfs4State)
            wish = ListSpec(wanted.target, here.grants, here.passes)
            own = [made.entry for made in ordered_list(wish, Classes(counting, wish.whos))]

            def gets(entries: list[Entry], names: Mapping[str, Collection[str]] = names) -> list[Level]:
                files = nfs4.files_of(entries)
                reads = ((nfs4.allowed(entries, ways), nfs4.allowed(files, ways)) for ways in names.values())
                return [level(Rights(*rights)) for rights in reads]

            for at, entry in enumerate(own):
                if entry.type == "deny":
                    assert gets(own[:at] + own[at + 1 :]) != gets(own), entry
