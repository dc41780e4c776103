"""From what an appliance has to what a plan comes to: in order, nothing deleted, each step there and back."""

from collections.abc import Iterator
from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import Compiled, compiled
from yardgate.core.host.dependencies import chosen, needs
from yardgate.core.host.evaluate import groups_of
from yardgate.core.host.state import Export, Folder, HostAccount, HostGroup, Members, Offer, System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import after, removals, sign_in_again, stands, steps, walked
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import HostRule

NAMES = st.sampled_from(["ann", "bo", "cy", "dora", "eve"])
GROUPS = st.sampled_from(["crew", "late", "office"])
ENTRIES = st.lists(
    st.one_of(
        st.builds(PosixEntry, st.just("user"), NAMES, st.integers(0, 7)),
        st.builds(PosixEntry, st.just("group"), GROUPS, st.integers(0, 7)),
    ),
    max_size=3,
).map(posix.in_order)
PATHS = st.sampled_from(["/srv/keel", "/srv/keel/hulls", "/srv/keel/hulls/petrel", "/srv/keel/office"])


def by_name(records: list) -> dict:
    return {record.name: record for record in records}


@st.composite
def systems(draw: st.DrawFn) -> System:
    def some(names: st.SearchStrategy, **parts: st.SearchStrategy) -> list:
        chosen = draw(st.lists(names, unique=True, max_size=4))
        return [{"name": name, **{key: draw(value) for key, value in parts.items()}} for name in chosen]

    listed = st.builds(Posix, ENTRIES, st.none() | ENTRIES, st.booleans(), st.booleans())
    hosts = st.lists(st.sampled_from(["192.0.2.7", "192.0.2.0/28"]), min_size=1, unique=True)
    users = st.lists(NAMES, max_size=3, unique=True).map(lambda names: tuple(sorted(names)))
    numbers = draw(st.just([None] * 3) | st.permutations([3001, 3002, 3003, 3004]))
    groups = [HostGroup(**one, gid=gid) for one, gid in zip(some(GROUPS), numbers, strict=False)]
    return System(
        groups=by_name(groups),
        accounts=by_name(
            [
                HostAccount(**one)
                for one in some(
                    NAMES, primary=GROUPS, enabled=st.booleans(), expires=st.sampled_from([None, date(2027, 3, 1)])
                )
            ]
        ),
        members=by_name([Members(name=g.name, users=frozenset(draw(users))) for g in groups]),
        folders=by_name([Folder(**one) for one in some(PATHS, owner=NAMES, group=GROUPS, listed=listed)]),
        offers=by_name(
            [Offer(**one) for one in some(st.sampled_from(["a", "b"]), path=PATHS, reads=users, hidden=st.booleans())]
        ),
        exports=by_name(list(once(some(st.sampled_from(["a", "b", "c"]), path=PATHS, hosts=hosts)))),
    )


def spoken(system: System) -> set[str]:
    """The groups that folders name. A real appliance has none there that it does not know by a number."""
    listed = [
        (f.group, [e.who for e in (*f.listed.access, *(f.listed.default or ())) if e.tag == "group"])
        for f in system.folders.values()
    ]
    return {name for group, others in listed for name in (group, *others)}


def once(exports: list) -> Iterator[Export]:
    """Each folder and host in one of them, as such a server knows it."""
    taken: set[tuple[str, str]] = set()
    for one in exports:
        mine = [host for host in one["hosts"] if (one["path"], host) not in taken]
        taken |= {(one["path"], host) for host in mine}
        if mine:
            rules = tuple(HostRule(hosts=host, level=Level.RO) for host in mine)
            yield Export(name=one["name"], path=one["path"], rules=rules)


@settings(max_examples=times(300, 1200))
@given(systems(), systems())
def test_steps_lead_there_delete_nothing_and_lead_back(now: System, wanted: System) -> None:
    found = steps(now, wanted)
    then = after(now, found)
    for part in ("groups", "accounts", "members", "folders", "offers", "exports"):
        for name, record in wanted.part(part).items():  # type: ignore[arg-type]
            assert stands(then.part(part).get(name), record)  # type: ignore[arg-type]
    assert steps(then, wanted) == ()
    assert not any(step.destroys for step in found)
    kept = {f.name for f in now.folders.values()} | {f.name for f in wanted.folders.values()}
    assert then.folders.keys() == kept
    assert then.offers.keys() == wanted.offers.keys()
    assert all(
        then.accounts[name].enabled is False
        for name in now.accounts.keys() - wanted.accounts.keys()
        if name in then.accounts
    )
    assert all(words(step) and words(step.back()) for step in found)
    if not any(step.does == "rename" for step in found) and (
        all(spoken(one) <= one.groups.keys() for one in (now, wanted)) or not any(step.renumbers for step in found)
    ):
        assert after(then, tuple(step.back() for step in reversed(found))) == now


@given(systems(), systems())
def test_what_a_step_needs_comes_before_it_and_is_left_with_it(now: System, wanted: System) -> None:
    found = steps(now, wanted)
    order = {step.id: number for number, step in enumerate(found)}
    assert len(order) == len(found)
    hangs = needs(found)
    for step in found:
        assert all(order[need] < order[step.id] for need in hangs[step.id]), step
    for step in found:
        left = chosen(found, {step.id})
        assert step not in left
        assert all(hangs[one.id] <= {other.id for other in left} for one in left)


def test_an_account_with_the_number_of_another_is_that_one_renamed() -> None:
    now = System(
        groups=by_name([HostGroup(name="crew", gid=3001)]),
        accounts=by_name([HostAccount(name="ann", uid=1001, primary="crew")]),
        members=by_name([Members(name="crew", users=frozenset({"ann"}))]),
        folders=by_name(
            [Folder(name="/srv/keel", owner="ann", group="crew", listed=Posix((PosixEntry("user", "ann", 7),)))]
        ),
        offers=by_name([Offer(name="keel", path="/srv/keel", writes=("ann",))]),
    )
    wanted = System(
        groups=by_name([HostGroup(name="hands", gid=3001)]),
        accounts=by_name([HostAccount(name="anna", uid=1001, primary="hands")]),
        members=by_name([Members(name="hands", users=frozenset({"anna"}))]),
        folders=by_name(
            [Folder(name="/srv/keel", owner="anna", group="hands", listed=Posix((PosixEntry("user", "anna", 7),)))]
        ),
        offers=by_name([Offer(name="keel", path="/srv/keel", writes=("anna",))]),
    )
    assert [words(step) for step in steps(now, wanted)] == [
        "rename the group crew to hands",
        "rename the account ann to anna",
        "share keel over SMB: anna writes, ann is no longer named",
    ]


def test_a_place_that_lies_in_the_same_folder_under_another_name_is_renamed_with_all_that_is_in_it() -> None:
    now = System(
        folders=by_name(
            [
                Folder(name="/srv/keel", place="keel"),
                Folder(name="/srv/keel/desks", place="desks"),
                Folder(name="/srv/keel/desks/ann", place="ann", owner="ann"),
                Folder(name="/srv/keel/desks/bo", place="bo"),
            ]
        ),
        accounts=by_name([HostAccount(name="ann", uid=1001, primary="ann")]),
    )
    wanted = System(
        folders=by_name(
            [
                Folder(name="/srv/keel", place="keel"),
                Folder(name="/srv/keel/tables", place="desks"),
                Folder(name="/srv/keel/tables/anna", place="ann", owner="anna"),
                Folder(name="/srv/keel/bo", place="bo"),
            ]
        ),
        accounts=by_name([HostAccount(name="anna", uid=1001, primary="ann")]),
    )
    found = steps(now, wanted)
    assert [words(step) for step in found] == [
        "rename the account ann to anna",
        "rename the folder /srv/keel/desks to /srv/keel/tables, with all that is in it",
        "rename the folder /srv/keel/tables/ann to /srv/keel/tables/anna, with all that is in it",
        "make the folder /srv/keel/bo with its owner and list",
    ], "what shall lie elsewhere is made anew, and left where it was"
    then = after(now, found)
    assert "/srv/keel/tables/bo" in then.folders
    assert after(then, tuple(step.back() for step in reversed(found))) == now
    assert needs(found)["folders:/srv/keel/tables/ann>/srv/keel/tables/anna"] == {
        "accounts:ann>anna",
        "folders:/srv/keel/desks>/srv/keel/tables",
    }
    unknown = replace(now, folders={path: replace(one, place="") for path, one in now.folders.items()})
    assert not any(step.does == "rename" for step in steps(unknown, wanted) if step.part == "folders")


@settings(max_examples=times(300, 1200))
@given(systems(), systems(), st.data())
def test_no_folder_is_ever_exported_twice_to_one_host(now: System, wanted: System, data: st.DataObject) -> None:
    found = steps(now, wanted)
    left = data.draw(st.sets(st.sampled_from([step.id for step in found])) if found else st.just(set()))
    doing = chosen(found, left)
    for step, there in walked(now, doing):
        held = [(one.path, rule.hosts) for one in step.onto(there).exports.values() for rule in one.rules]
        assert len(held) == len(set(held)), words(step)
    changed = {step.record.name for step in found if step.part == "exports"}
    assert changed == {
        name for name in now.exports.keys() | wanted.exports if now.exports.get(name) != wanted.exports.get(name)
    }


def test_exports_that_change_places_are_ended_and_made_anew() -> None:
    rules = (HostRule(hosts="192.0.2.7", level=Level.RO),)
    now = System(
        exports=by_name(
            [Export(name="a", path="/srv/keel", rules=rules), Export(name="b", path="/srv/hulls", rules=rules)]
        )
    )
    wanted = System(
        exports=by_name(
            [Export(name="a", path="/srv/hulls", rules=rules), Export(name="b", path="/srv/keel", rules=rules)]
        )
    )
    found = steps(now, wanted)
    assert [(step.record.name, step.does) for step in found] == [
        ("a", "remove"),
        ("b", "remove"),
        ("a", "make"),
        ("b", "make"),
    ]
    assert chosen(found, {"exports:b>"}) == (), "what b has still is not taken, and a is not ended for nothing"


def test_lists_follow_no_new_number_and_are_set_anew() -> None:
    def there(ann: int, bo: int) -> System:
        listed = Posix(
            (
                PosixEntry("user", "", 7),
                PosixEntry("user", "ann", 6),
                PosixEntry("group", "", 5),
                PosixEntry("mask", "", 7),
                PosixEntry("other", "", 0),
            )
        )
        ordered = Ordered((Entry("allow", "bo", 7, 0),))
        folders = [Folder(name="/srv/keel", owner="ann", listed=listed), Folder(name="/srv/hulls", listed=ordered)]
        accounts = [HostAccount(name="ann", uid=ann, primary="crew"), HostAccount(name="bo", uid=bo, primary="crew")]
        return System(accounts=by_name(accounts), folders=by_name(folders))

    now, wanted = there(2001, 2002), there(2002, 2003)
    found = steps(now, wanted)
    assert [step.id for step in found] == ["accounts:bo", "accounts:ann", "folders:/srv/hulls", "folders:/srv/keel"]
    assert needs(found)["accounts:ann"] == {"accounts:bo"}
    assert words(found[3]) == "folder /srv/keel: owner ann, list (2001 rw- to nothing, ann nothing to rw-)"
    assert after(now, found[:1]).folders["/srv/hulls"].listed == Ordered((Entry("allow", "2002", 7, 0),))
    assert after(now, found[:2]).folders["/srv/hulls"].listed == Ordered((Entry("allow", "ann", 7, 0),)), (
        "whoever has the number now"
    )
    assert after(now, found) == wanted
    assert after(wanted, [step.back() for step in reversed(found)]) == now


def test_shares_end_first_and_begin_last_and_removals_are_apart() -> None:
    now = System(
        accounts=by_name([HostAccount(name="ann", primary="crew")]),
        folders=by_name([Folder(name="/srv/old"), Folder(name="/srv/old/deep")]),
        offers=by_name([Offer(name="old", path="/srv/old")]),
    )
    wanted = System(folders=by_name([Folder(name="/srv/new")]), offers=by_name([Offer(name="new", path="/srv/new")]))
    assert [words(step) for step in steps(now, wanted)] == [
        "stop sharing old over SMB; /srv/old stays as it is",
        "account ann: disable it",
        "make the folder /srv/new with its owner and list",
        "share /srv/new as new over SMB",
    ]
    gone = removals(now, wanted)
    assert [words(step) for step in gone] == [
        "delete the account ann",
        "delete the folder /srv/old/deep and all that is in it",
        "delete the folder /srv/old and all that is in it",
    ]
    assert all(step.destroys for step in gone)


def test_who_must_sign_in_again_is_whose_groups_or_account_changed() -> None:
    now = System(members=by_name([Members(name="crew", users=frozenset({"ann", "bo"}))]))
    wanted = System(members=by_name([Members(name="crew", users=frozenset({"bo", "cy"}))]))
    assert sign_in_again(steps(now, wanted)) == {"ann", "cy"}
    assert sign_in_again(steps(System(), wanted)) == {"bo", "cy"}


def test_the_demo_comes_to_accounts_lists_and_shares(quay: Plan) -> None:
    host = replace(
        quay, places={p.id: replace(p, acl=Posix()) if isinstance(p.acl, Ordered) else p for p in quay.places.values()}
    )
    found = compiled(resolve(host, ON), "/srv")
    assert isinstance(found, Compiled)
    system = found.system
    assert "/srv/keel/drawings/toolpaths" in system.folders
    assert "priya.natarajan" in system.accounts
    assert "priya.natarajan" in system.members["Draughting"].users
    assert system.groups["front-desk"].name == "front-desk"
    assert system.offers["payroll"].hidden is False
    payroll = system.offers["payroll"]
    assert payroll.gives({"priya.natarajan", *(f"@{g}" for g in groups_of(system, "priya.natarajan"))}) == Level.NA
    assert any("the host is not joined to it" in line for line in found.left_out)


def test_a_host_that_is_joined_names_the_directorys_people_and_groups_but_makes_none(quay: Plan) -> None:
    odd = replace(quay.users["dana-rook"], name="dana,rook")
    big = replace(quay.users["viktor-sand"], name="Viktor.Sand")
    plan = replace(quay, users={**quay.users, odd.id: odd, big.id: big})
    found = compiled(resolve(plan, ON), "/srv", ("lanternquay",))
    here = compiled(resolve(plan, ON), "/srv").system
    assert found.system.accounts == here.accounts
    assert found.system.groups == here.groups
    assert found.system.members["Shopfloor"].users - here.members["Shopfloor"].users == {"LANTERNQUAY\\viktor.sand"}
    named = {
        name for one in found.system.offers.values() for name in (*one.enters, *one.reads, *one.writes, *one.refused)
    }
    assert "@LANTERNQUAY\\contract staff" in named
    assert not any("dana" in name for name in named)
    assert (
        "accounts of a directory that have no number, or a name that a host's lists cannot hold: “dana,rook”"
        in found.left_out
    )
    listed = found.system.folders["/srv/keel/office"].listed
    assert isinstance(listed, Ordered)
    assert "@LANTERNQUAY\\contract staff" in {entry.who for entry in listed.entries}


def test_names_that_a_host_cannot_have_are_refused_with_the_reason_and_of_groups_made_anew(quay: Plan) -> None:
    groups = {**quay.groups, "all-staff": replace(quay.groups["all-staff"], name="all staff; rm -rf /")}
    found = compiled(resolve(replace(quay, groups=groups), ON), "/srv").system
    assert "all-staff-rm-rf" in found.groups
    user = next(iter(quay.users.values()))
    odd = {**quay.users, user.id: replace(user, name="$(reboot)")}
    with pytest.raises(PlanError, match="cannot be an account of the host: it has “"):
        compiled(resolve(replace(quay, users=odd), ON), "/srv")


def test_a_share_whose_folder_would_not_be_made_is_refused(lantern: Plan) -> None:
    with pytest.raises(PlanError, match="“hulls” offers keel/hulls, for which no list is planned"):
        compiled(resolve(lantern, ON), "/srv")
    assert not compiled(resolve(replace(lantern, shares={}), ON), "/srv").system.offers


def test_what_a_host_has_for_itself_is_not_taken_over(quay: Plan) -> None:
    groups = {**quay.groups, "all-staff": replace(quay.groups["all-staff"], name="staff")}
    assert "group-staff" in compiled(resolve(replace(quay, groups=groups), ON), "/srv").system.groups
    user = next(iter(quay.users.values()))
    odd = {**quay.users, user.id: replace(user, name="backup")}
    with pytest.raises(PlanError, match="“backup” is an account that hosts have for themselves"):
        compiled(resolve(replace(quay, users=odd), ON), "/srv")
