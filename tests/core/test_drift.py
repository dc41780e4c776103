"""What was changed by hand at an appliance, taken into the plan: then the plan comes to just that."""

import random
from collections import Counter
from dataclasses import replace
from datetime import date

import pytest

from tests.conftest import ON
from tests.tries import times
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.rights import FULL, MASK_OF, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import SetGrant
from yardgate.core.host.compiled import compiled
from yardgate.core.host.drift import taken_in
from yardgate.core.host.state import Members, System
from yardgate.core.host.steps import drift

PLAN = demo.plan()
TOP = "/srv"
MATRIX = resolve(PLAN, ON)
LEFT = compiled(MATRIX, TOP).system


def changed(part: str, name: str, **fields: object) -> System:
    return LEFT.having(part, name, replace(LEFT.part(part)[name], **fields))  # type: ignore[arg-type,type-var]


def members(name: str, *, add: frozenset[str] = frozenset(), take: frozenset[str] = frozenset()) -> System:
    return LEFT.having("members", name, Members(name=name, users=(LEFT.members[name].users | add) - take))


@pytest.mark.parametrize(
    "found",
    [
        changed("accounts", "imke.brouwer", enabled=True),
        changed("accounts", "mira.oyelaran", enabled=False, expires=None),
        changed("accounts", "mira.oyelaran", expires=date(2027, 5, 1)),
        changed("accounts", "oskar.dahl", full_name="O. Dahl"),
        members("Directors", add=frozenset({"gwen.castellan"})),
        members("Apprentices", add=frozenset({"bo.hendrickx"})),
        members("share-minutes-write", add=frozenset({"gwen.castellan"})),
        members("share-office-read", add=frozenset({"bo.hendrickx", "tomas.brandt"})),
    ],
)
def test_what_is_taken_in_is_what_the_plan_comes_to_then(found: System) -> None:
    (step,) = drift(LEFT, found)
    after, _ = apply(PLAN, taken_in(MATRIX, (), [step], TOP)[0])
    then = compiled(resolve(after, ON), "/srv").system
    assert then.accounts == found.accounts
    name = step.record.name
    assert then.members.get(name) == found.members.get(name)


def test_who_is_put_into_a_group_of_a_share_s_own_is_granted_that_by_name_where_they_get_it_then() -> None:
    (step,) = drift(LEFT, members("share-minutes-write", add=frozenset({"gwen.castellan"})))
    assert taken_in(MATRIX, (), [step], TOP) == [(SetGrant("minutes", "gwen-castellan", Level.RW),)]
    (step,) = drift(LEFT, members("share-minutes-write", take=frozenset({"beatriz.almeida"})))
    assert taken_in(MATRIX, (), [step], TOP) == [(SetGrant("minutes", "beatriz-almeida", None),)]
    (step,) = drift(LEFT, members("share-minutes-write", add=frozenset({"noor.rahman"})))
    assert taken_in(MATRIX, (), [step], TOP) == [()]  # the apprentices are refused there, and a refusal wins


def test_who_was_taken_out_leaves_where_they_are_a_member_themselves() -> None:
    (step,) = drift(LEFT, members("Apprentices", take=frozenset({"noor.rahman"})))
    after, _ = apply(PLAN, taken_in(MATRIX, (), [step], TOP)[0])
    assert "noor-rahman" not in after.groups["apprentices"].members


@pytest.mark.parametrize(
    "found",
    [
        changed("folders", "/srv/keel", owner="somebody"),
        changed("offers", "hulls", refused=("mira.oyelaran",)),
        changed("accounts", "mira.oyelaran", uid=4711),
        members("Yard", take=frozenset({"idris.falk"})),
        members("Yard", add=frozenset({"somebody"})),
    ],
)
def test_what_only_a_person_can_say_is_left_to_them(found: System) -> None:
    (step,) = drift(LEFT, found)
    assert taken_in(MATRIX, (), [step], TOP)[0] == ()


@pytest.mark.parametrize(
    "found",
    [
        changed("folders", "/srv/keel", owner="mira.oyelaran"),
        changed("offers", "hulls", hidden=True),
        changed("offers", "notices", guests=Level.RW),
        demo.by_hand(LEFT).having("accounts", "imke.brouwer", LEFT.accounts["imke.brouwer"]),
    ],
)
def test_owners_lists_and_what_shares_say_are_taken_in_where_that_comes_to_the_same(found: System) -> None:
    (step,) = drift(LEFT, found)
    after, _ = apply(PLAN, taken_in(MATRIX, (), [step], TOP)[0])
    then = compiled(resolve(after, ON), TOP).system
    assert (
        then.part(step.part)[step.record.name]
        == found.part(step.part)[step.record.name]
        != LEFT.part(step.part)[step.record.name]
    )


def test_whatever_line_is_added_or_taken_by_hand_is_taken_in_or_left_and_never_otherwise() -> None:
    rng, counts = random.Random(8), Counter[bool]()
    folders = [folder for folder in LEFT.folders.values() if folder.name.count("/") > 2]
    for _ in range(times(60, 2000)):
        folder = rng.choice(folders)
        found = changed("folders", folder.name, listed=by_somebody(rng, folder.listed))
        for step in drift(LEFT, found):
            edits = taken_in(MATRIX, (), [step], TOP)[0]
            counts[bool(edits)] += 1
            if edits:
                then = compiled(resolve(apply(PLAN, edits)[0], ON, MATRIX), TOP).system
                assert then.folders[folder.name] == found.folders[folder.name]
    assert counts[True] > counts[False], counts


def by_somebody(rng: random.Random, listed: Posix | Ordered) -> Posix | Ordered:
    """A list with a line more, less, or otherwise."""
    who = rng.choice(["mira.oyelaran", "idris.falk", "gwen.castellan"])
    if isinstance(listed, Ordered):
        entry = Entry(rng.choice(["allow", "deny"]), who, rng.choice([FULL, MASK_OF[Level.RO], 1]), rng.choice([0, 3]))
        if rng.random() < 0.7:
            return Ordered((entry, *listed.entries))
        at = rng.randrange(len(listed.entries))
        return Ordered((*listed.entries[:at], *listed.entries[at + 1 :]))
    perms = rng.randrange(8)
    access = {(e.tag, e.who): e for e in listed.access}
    if rng.random() < 0.6 and any(e.tag == "mask" for e in listed.access):
        access["user", who] = PosixEntry("user", who, perms)
    else:
        access["other", ""] = PosixEntry("other", "", perms)
    return replace(listed, access=posix.in_order(access.values()))
