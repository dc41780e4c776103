"""Who counts as what."""

from tests.conftest import ON
from yardgate.core.access.membership import cycles, in_baseline, tier, token, unlisted
from yardgate.core.access.spec.explain import explain
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import EVERYONE, Group, Place, Plan, Target, User


def plan_of(groups: dict[str, set[str]], **more: object) -> Plan:
    return Plan(
        users={
            "ann": User(id="ann", name="ann", primary_group="home"),
            "far": User(id="far", name="far", origin="elsewhere", key="S-1-5-21-1-2-3-4"),
        },
        groups={
            name: Group(id=name, name=name, members=frozenset(members))
            for name, members in {"home": set(), **groups}.items()
        },
        **more,  # type: ignore[arg-type]
    )


def test_a_token_holds_groups_of_groups_and_the_shortest_way_to_each() -> None:
    plan = plan_of({"a": {"ann"}, "b": {"a"}, "c": {"b", "home"}})
    assert token(plan, "ann") == {
        "ann": ("ann",),
        "a": ("ann", "a"),
        "home": ("ann", "home"),
        "b": ("ann", "a", "b"),
        "c": ("ann", "home", "c"),
        EVERYONE: ("ann", EVERYONE),
    }


def test_groups_that_somebody_is_in_without_being_named_there() -> None:
    plan = plan_of(
        {"a": {"ann"}, "b": {"a"}, "base": set(), "all": {"base"}},
        target=Target(baseline="base", baseline_covers_directory=False),
    )
    assert set(unlisted(plan, "ann")) == {"b", "base", "all"}
    assert unlisted(plan, "far") == (), "of a directory, which the baseline does not cover"
    assert (unlisted(plan, "a"), unlisted(plan, "base")) == ((), ()), (
        "a group is in the baseline where one names it, and nowhere else"
    )


def test_circles_are_walked_once_and_reported() -> None:
    plan = plan_of({"a": {"ann", "c"}, "b": {"a"}, "c": {"b"}, "self": {"self"}})
    assert set(token(plan, "ann")) == {"ann", "home", "a", "b", "c", EVERYONE}
    assert sorted(sorted(circle) for circle in cycles(plan)) == [["a", "b", "c"], ["self"]]


def test_groups_that_meet_again_are_no_circle() -> None:
    assert cycles(plan_of({"top": {"left", "right"}, "left": {"base"}, "right": {"base"}, "base": {"ann"}})) == ()


def test_nesting_a_thousand_deep_is_walked() -> None:
    chain = {f"g{i}": {f"g{i - 1}"} for i in range(1, 1000)} | {"g0": {"ann"}}
    plan = plan_of(chain)
    assert len(token(plan, "ann")["g999"]) == 1001
    assert cycles(plan) == ()


def test_the_baseline_holds_everybody_and_leaves_out_directory_users_where_the_target_says_so() -> None:
    everybody = plan_of({"base": set()}, target=Target(baseline="base"))
    local = plan_of({"base": set()}, target=Target(baseline="base", baseline_covers_directory=False))
    assert (in_baseline(everybody, "far"), in_baseline(local, "far"), in_baseline(local, "ann")) == (True, False, True)
    assert tier(everybody, "ann", "base") == "all"


def test_a_group_that_holds_the_baseline_holds_everybody_but_counts_as_a_group() -> None:
    plan = plan_of({"base": set(), "outer": {"base"}}, target=Target(baseline="base"))
    assert token(plan, "far")["outer"] == ("far", "base", "outer")
    assert tier(plan, "far", "outer") == "group"


def test_a_reason_names_the_way_and_the_sentence() -> None:
    plan = plan_of(
        {"inner": {"ann"}, "outer": {"inner"}},
        places={"p": Place(id="p", name="payroll", kind="pool")},
        grants={"p": {"outer": Level.RW, "home": Level.NA}},
    )
    reason = explain(plan, "ann", "p", ON)
    assert (reason.level, reason.source, reason.clash) == (Level.NA, "group", True)
    share = reason.gates[1]
    assert share.sentence == "home: no access. A refusal wins."
    assert [(line.who, line.verdict, line.way) for line in share.lines] == [
        ("outer", "outranked", ("ann", "inner", "outer")),
        ("home", "decides", ("ann", "home")),
    ]


def test_without_a_refusal_the_reason_does_not_speak_of_one(lantern: Plan) -> None:
    reason = explain(lantern, "tomas-brandt", "petrel-9", ON)
    assert reason.gates[1].sentence == "Their own grant: read-write. Nobody refuses, so the widest counts."
    assert explain(lantern, "mira-oyelaran", "petrel-9", ON).gates[1].sentence == "Draughting: read-only."


def test_a_reason_for_a_shut_account_is_the_account() -> None:
    plan = Plan(
        users={"ann": User(id="ann", name="ann", enabled=False), "bob": User(id="bob", name="bob", expires=ON)},
        places={"p": Place(id="p", name="p", kind="pool")},
        grants={"p": {EVERYONE: Level.RW}},
    )
    for user, words in (("ann", "disabled"), ("bob", f"expired on {ON}")):
        reason = explain(plan, user, "p", ON)
        assert (reason.level, reason.source, reason.clash) == (Level.NA, "account", False)
        assert reason.gates[0].decides
        assert words in reason.gates[0].sentence


def test_administrators_get_read_write_whatever_is_granted() -> None:
    plan = plan_of(
        {"bosses": {"ann"}},
        target=Target(administrators="bosses"),
        places={"p": Place(id="p", name="p", kind="pool")},
        grants={"p": {"ann": Level.NA}},
    )
    reason = explain(plan, "ann", "p", ON)
    assert (reason.level, reason.source, reason.clash) == (Level.RW, "admin", False)
    assert [line.verdict for line in reason.gates[1].lines] == ["decides", "outranked"]


def test_nothing_said_is_told_apart_from_grants_to_others() -> None:
    plan = plan_of(
        {"g": set()},
        places={"p": Place(id="p", name="p", kind="pool"), "q": Place(id="q", name="q", kind="pool")},
        grants={"p": {"g": Level.RW}},
    )
    assert explain(plan, "ann", "p", ON).gates[1].sentence.startswith("No grant here concerns them")
    assert explain(plan, "ann", "q", ON).gates[1].sentence.startswith("Nothing is granted here at all")
