"""Clash rules, by the example of an apprentice draughtsman."""

import pytest

from yardgate.core.access.combining import RULES, TieredGrant, decide, rule_words
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Target

NA, RO, RW = Level.NA, Level.RO, Level.RW
OWN_RO, GROUP_RW, GROUP_NA, ALL_RO, ALL_NA = (
    TieredGrant("own", RO),
    TieredGrant("group", RW),
    TieredGrant("group", NA),
    TieredGrant("all", RO),
    TieredGrant("all", NA),
)


@pytest.mark.parametrize(
    ("tiers", "within", "parts", "level"),
    [
        ("pooled", "refusal", [GROUP_RW, GROUP_NA], NA),
        ("pooled", "refusal", [GROUP_RW, ALL_RO], RW),
        ("pooled", "refusal", [OWN_RO, ALL_NA], NA),
        ("pooled", "widest", [GROUP_NA, GROUP_RW], RW),
        ("pooled", "widest", [GROUP_NA], NA),
        ("pooled", "narrowest", [GROUP_RW, ALL_RO], RO),
        ("pooled", "narrowest", [GROUP_RW, ALL_NA], NA),
        ("pooled", "first", [ALL_RO, GROUP_RW], RO),
        ("pooled", "first", [GROUP_RW, ALL_RO], RW),
        ("nearest", "refusal", [GROUP_NA, OWN_RO], RO),
        ("nearest", "refusal", [GROUP_RW, ALL_NA], RW),
        ("nearest", "widest", [OWN_RO, GROUP_RW], RO),
        ("nearest", "narrowest", [GROUP_RW, GROUP_NA, ALL_RO], NA),
        ("nearest", "first", [ALL_NA, GROUP_RW, GROUP_NA], RW),
    ],
)
def test_what_grants_add_up_to(tiers: str, within: str, parts: list[TieredGrant], level: Level) -> None:
    assert decide(Target(precedence=tiers, combining=within), parts)[0] == level


@pytest.mark.parametrize(("tiers", "within"), RULES)
def test_nothing_said_gives_no_access_under_every_rule(tiers: str, within: str) -> None:
    assert decide(Target(precedence=tiers, combining=within), []) == (NA, ())


@pytest.mark.parametrize(("tiers", "within"), RULES)
def test_grants_that_agree_all_decide(tiers: str, within: str) -> None:
    assert decide(Target(precedence=tiers, combining=within), [GROUP_RW])[1] == ("decides",)


def test_verdicts_say_what_became_of_each_grant() -> None:
    assert decide(Target(), [GROUP_NA, GROUP_RW, OWN_RO])[1] == ("decides", "outranked", "outranked")
    assert decide(Target(combining="first"), [GROUP_RW, GROUP_RW, OWN_RO])[1] == ("decides", "too late", "too late")
    assert decide(Target(precedence="nearest"), [ALL_RO, GROUP_RW, OWN_RO])[1] == ("farther", "farther", "decides")
    assert decide(Target(precedence="nearest", combining="first"), [ALL_RO, GROUP_RW, GROUP_NA])[1] == (
        "farther",
        "decides",
        "too late",
    )


def test_every_rule_has_words_of_its_own() -> None:
    assert len({rule_words(Target(precedence=tiers, combining=within)) for tiers, within in RULES}) == 8


def test_levels_compare_by_what_they_allow() -> None:
    assert sorted([RW, Level.PT, NA, RO]) == [NA, Level.PT, RO, RW]
    assert [level.code for level in (NA, Level.PT, RO, RW)] == [0, 1, 2, 3]
    assert max(NA, RO) is RO
    assert {Level("RW"): 1}[RW] == 1
