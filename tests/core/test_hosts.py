"""Classes of hosts: whatever host comes, it gets what its class gets; and the most that any host gets is what some host gets."""

from ipaddress import ip_address

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.plans import HOSTS, LEVELS
from tests.tries import times
from yardgate.core.access.nfs_hosts import classes, levels, most
from yardgate.core.acl.rights import Level
from yardgate.core.model.share import HostRule, Order, Wildcards, host_rule

ADDRESSES = (
    "10.0.0.1",
    "10.0.0.2",
    "10.0.0.200",
    "10.0.1.1",
    "10.1.0.1",
    "11.0.0.1",
    "192.0.2.6",
    "fd00::1",
    "fe80::1",
)
NAMES = ("", "bench.yard.example", "slip.yard.example", "elsewhere.example")
RULES = st.lists(
    st.builds(HostRule, hosts=HOSTS | st.sampled_from(["10.0.0.128/25", "0.0.0.0/0"]), level=LEVELS), max_size=5
)


@settings(max_examples=times(200, 5000))
@given(RULES.map(tuple), st.sampled_from(["narrowest", "first"]), st.sampled_from(["names", "both"]))
def test_no_host_gets_what_no_class_gets(rules: tuple[HostRule, ...], order: Order, wildcards: Wildcards) -> None:
    some = list(classes([rule.hosts for rule in rules], wildcards))
    got = levels(rules, order, wildcards, some)
    for one, level in zip(some, got, strict=True):
        rule = host_rule(rules, order, one.address, one.name, wildcards)
        assert level == (rule.level if rule is not None else Level.NA), one
    by_address = {level for one, level in zip(some, got, strict=True) if not one.name}
    for text in ADDRESSES:
        rule = host_rule(rules, order, ip_address(text), "", wildcards)
        assert (rule.level if rule is not None else Level.NA) in by_address, text
    everywhere = [host_rule(rules, order, ip_address(text), name, wildcards) for text in ADDRESSES for name in NAMES]
    highest = max((rule.level for rule in everywhere if rule is not None), default=Level.NA)
    assert most(rules, order, wildcards) >= highest
    assert most(rules, order, wildcards) == max(got, default=Level.NA)


def test_a_rule_that_never_counts_gives_nobody_anything() -> None:
    rules = (HostRule(hosts="*", level=Level.RO), HostRule(hosts="192.0.2.6", level=Level.RW))
    assert most(rules, "first", "both") == Level.RO
    assert most(rules, "narrowest", "both") == Level.RW
    halves = (HostRule(hosts="0.0.0.0/1", level=Level.NA), HostRule(hosts="128.0.0.0/1", level=Level.NA))
    assert most((*halves, HostRule(hosts="0.0.0.0/0", level=Level.RW)), "narrowest", "names") == Level.NA


def test_the_classes_are_told_in_words() -> None:
    words = [one.words for one in classes(["192.0.2.6", "192.0.2.*", "*.yard.example"], "both")]
    assert words == [
        "192.0.2.6",
        "the rest of 192.0.2.*",
        "every other host",
        "every other host by IPv6",
        "a host named *.yard.example",
    ]
