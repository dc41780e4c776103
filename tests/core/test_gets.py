"""What everybody gets beside what is granted to them: the same one by one, by the gates."""

from dataclasses import replace
from typing import Any
from unittest.mock import patch

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.gates import everything
from tests.plans import edits, plans
from tests.tries import times
from yardgate.core.access import comparison
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.comparison import STATES, gets, price, said_at
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import Outcome, outcome, outcome_of
from yardgate.core.access.paths import offered
from yardgate.core.access.spec.explain import grants_gate
from yardgate.core.access.walk import walk
from yardgate.core.acl import Mode, Posix
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.edits.apply import PlanError, apply
from yardgate.core.edits.records import PutPlace, SetGrant
from yardgate.core.model.plan import EVERYONE, GUEST, Place, Plan, User
from yardgate.core.model.share import HostRule, Share
from yardgate.core.policy.findings import Case, find

RW, RO, NA = Level.RW, Level.RO, Level.NA


@settings(max_examples=times(200, 2000))
@given(plans(shares=True))
def test_every_cell_is_told_as_the_gates_have_it(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    told, cells, storage = gets(found), everything(plan), found.matrix.storage
    for place, stands in told.places.items():
        at, ways = said_at(found, place), found.ways_to(place)
        for number, user in enumerate(found.matrix.counting.subjects[: found.matrix.counting.users]):
            level = max((cells.get((user, place, protocol), Level.NA) for protocol in ("smb", "nfs")), default=Level.NA)
            gate = None if at is None else grants_gate(plan, at, storage.get(at), token(plan, user))
            granted = level if gate is None else gate.level
            assert LEVELS[stands.granted[number]] == granted
            runs = {plan.shares[way.share].administrator for way in ways if way.protocol == "smb"} & {
                *token(plan, user)
            }
            said = {line.level for line in gate.lines} if gate is not None else set()
            boss = gate is not None and any(line.tier == "admin" for line in gate.lines)
            if not ways:
                state = "not shared"
            elif plan.users[user].active(ON) and level < granted:
                state = "less"
            elif (
                plan.users[user].active(ON)
                and level > max(granted, Level.PT)
                and not runs
                and plan.users[user].uid != 0
            ):
                state = "more"
            elif level == Level.NA and not said:
                state = "not set"
            else:
                state = "settled" if len(said) > 1 and not boss else "as granted"
            assert STATES[stands.state[number]] == state, (user, place, level, granted)


@settings(max_examples=times(60, 2000))
@given(plans(shares=True))
def test_a_cell_of_the_board_is_the_best_that_somebody_finds_who_walks_in(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    whos = [*found.matrix.counting.subjects[: found.matrix.counting.users], GUEST]
    walked = dict.fromkeys(((who, place) for who in whos for place in plan.places), NA)
    for over in offered(plan):
        for who in whos:
            for visit in walk(plan, who, over, ON, found.matrix.storage):
                walked[who, visit.place] = max(walked[who, visit.place], visit.level)
                assert visit.gate.decides
                assert visit.level < RO or (visit.enters and visit.reads), "who reads gets in and reads"
                assert visit.level < RW or (visit.changes and visit.adds), "who writes changes files and adds some"
    for place in plan.places if plan.shares else ():
        column = found.best[None][place]
        for number, who in [*enumerate(whos[:-1]), (-1, GUEST)]:
            assert LEVELS[column[number]] == walked[who, place], (who, place)


@settings(max_examples=times(100, 1000))
@given(plans(shares=True), st.data())
def test_the_price_of_an_edit_is_what_looking_at_every_place_says(plan: Plan, data: st.DataObject) -> None:
    try:
        after, _ = apply(plan, [data.draw(edits(plan))])
    except PlanError:
        return
    before = outcome(resolve(plan, ON))
    then = outcome_of(after, before)

    def all_of_both(one: Outcome, other: Outcome) -> list[str]:
        return [place for place in other.matrix.plan.places if place in one.matrix.plan.places]

    found = price(before, then)
    with patch.object(comparison, "_perhaps_otherwise", all_of_both):
        assert price(before, then) == found


def office(**more: Any) -> Plan:
    """Everyone writes in the office, over SMB; in it lies personnel, meant for two."""
    users = {name: User(id=name, name=name, uid=1000 + n) for n, name in enumerate(("ann", "bo", "cy", "di"))}
    places = {
        "tank": Place(id="tank", name="tank", kind="pool"),
        "office": Place(id="office", name="office", kind="dataset", parent="tank"),
        "personnel": Place(id="personnel", name="personnel", kind="dataset", parent="office"),
    }
    grants = {"office": {EVERYONE: RW}, "personnel": {"ann": RW, "bo": RO}}
    shares = {"office": Share(id="office", name="office", place="office", smb=True)}
    return Plan(**{"users": users, "places": places, "grants": grants, "shares": shares, **more})


def told(plan: Plan, place: str) -> dict[str, tuple[Level, Level, str]]:
    """Who -> granted, gets, and how the one stands to the other."""
    found = gets(outcome(resolve(plan, ON)))
    column, stands = found.outcome.best[None][place], found.places[place]
    whos = [*found.outcome.matrix.counting.subjects, GUEST]
    return {
        who: (LEVELS[stands.granted[n]], LEVELS[column[n]], STATES[stands.state[n]])
        for n, who in enumerate(whos)
        if who in (*plan.users, GUEST)
    }


def test_a_folder_for_two_in_a_share_for_all_is_open_to_all_and_says_so() -> None:
    plan = office()
    assert told(plan, "personnel") == {
        "ann": (RW, RW, "as granted"),
        "bo": (RO, RW, "more"),
        "cy": (NA, RW, "more"),
        "di": (NA, RW, "more"),
        GUEST: (NA, NA, "not set"),
    }
    assert {state for *_, state in told(plan, "office").values()} == {"as granted", "not set"}, "guests are not let in"
    refused, _ = apply(plan, [SetGrant("personnel", "cy", NA)])
    assert told(refused, "personnel")["cy"] == (NA, RW, "more"), "to refuse it there changes nothing"
    planned = replace(plan.places["personnel"], acl=Posix(()), inheritance_stops=True, enforced_by="both")
    closed, _ = apply(plan, [PutPlace(planned)])
    assert told(closed, "personnel")["cy"] == (NA, NA, "not set")
    assert told(closed, "personnel")["ann"][2] == "as granted"


def test_homes_that_everybody_can_read_are_counted_one_by_one() -> None:
    plan = office()
    whos = tuple(plan.users)
    homes = {f"home-{who}": Place(id=f"home-{who}", name=who, kind="folder", parent="office") for who in whos}
    grants = {"office": {EVERYONE: RO}, **{f"home-{who}": {who: RW} for who in whos}}
    found = gets(outcome(resolve(replace(plan, places=plan.places | homes, grants=grants), ON)))
    more = {(off.subject, off.place) for off in found.off("more")}
    assert {cell for cell in more if cell[1] != "personnel"} == {
        (who, home) for who in whos for home in homes if home != f"home-{who}"
    }
    less = {(off.subject, off.granted, off.gets) for off in found.off("less")}
    assert less == {(who, RW, RO) for who in whos}, "the share holds them to reading"
    assert (found.count("more"), found.count("less")) == (len(more), len(less))


def test_where_no_share_leads_nobody_gets_in_and_over_nfs_hosts_are_asked_and_no_grants() -> None:
    plan = office(shares={})
    hosts = (HostRule(hosts="192.0.2.0/24", level=RW),)
    nfs = Share(id="x", name="x", place="personnel", smb=False, nfs=True, hosts=hosts)
    over = told(replace(plan, shares={"x": nfs}), "personnel")
    assert over["ann"] == (RW, RW, "as granted")
    assert over["cy"] == (NA, RW, "more")
    assert over[GUEST][2] == "more", "whoever a client claims to be, and nobody is refused"
    assert {state for *_, state in told(replace(plan, shares={"x": nfs}), "office").values()} == {"not shared"}


def test_guests_are_held_beside_what_the_share_lets_them_do() -> None:
    plan = office()
    plan = replace(plan, shares={"office": replace(plan.shares["office"], guests=RO)}, grants={"office": {"ann": RW}})
    assert told(plan, "office")[GUEST] == (RO, RO, "as granted")
    closed = replace(plan.places["office"], acl=Mode(0o770), inheritance_stops=True, enforced_by="both")
    assert told(apply(plan, [PutPlace(closed)])[0], "office")[GUEST] == (RO, NA, "less")


def test_lists_that_begin_below_where_the_share_alone_is_said_to_hold_people_are_mended_too() -> None:
    plan = office()
    above = replace(plan.places["office"], enforced_by="share")
    below = replace(plan.places["personnel"], acl=Mode(0o777))
    plan = replace(plan, places=plan.places | {"office": above, "personnel": below})
    assert told(plan, "personnel")["cy"] == (NA, RW, "more")
    now = outcome(resolve(plan, ON))
    more = next(finding for finding in find(Case(now)) if finding.kind == "more-than-granted")
    mended, _ = apply(plan, more.repair.edits)
    assert told(mended, "personnel")["cy"][2] == "not set"


@settings(max_examples=times(100, 2000))
@given(st.data(), plans())
def test_what_stands_after_edits_is_told_from_what_stood_before(data: st.DataObject, plan: Plan) -> None:
    before = gets(outcome(resolve(plan, ON)))
    edit = data.draw(edits(plan))
    try:
        after, _ = apply(plan, [edit])
    except PlanError:
        return
    told, anew = gets(outcome_of(after, before.outcome), before), gets(outcome(resolve(after, ON)))
    for place, stands in anew.places.items():
        assert np.array_equal(told.places[place].granted, stands.granted), (place, edit)
        assert np.array_equal(told.places[place].state, stands.state), (place, edit)
