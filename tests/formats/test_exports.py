"""Lines of exports(5): what they say, and what cannot be said in them."""

from dataclasses import replace

import pytest

from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Place, Plan, Target
from yardgate.core.model.share import HostRule, Service, Share
from yardgate.formats import exports
from yardgate.formats.reading import FormatError

RULES = (
    ("*.yard.example", Level.RO),
    ("192.0.2.0/24", Level.RW),
    ("192.0.2.128/25", Level.NA),
    ("192.0.2.7", Level.RO),
)
SHARE = Share(
    id="s",
    name="hulls",
    place="hulls",
    nfs=True,
    hosts=tuple(HostRule(hosts=hosts, level=level) for hosts, level in RULES),
)
YARD = Plan(places={"hulls": Place(id="hulls", name="hulls", kind="pool", parent=None)}, shares={"s": SHARE})
END = "root_squash,anonuid=65534,anongid=65534,sync,no_subtree_check)"


def lines(plan: Plan, path: str = "/srv/hulls") -> str:
    return exports.write(plan, {"hulls": path}.__getitem__)


def test_the_narrowest_rule_stands_first_and_a_refusal_asks_for_a_ticket() -> None:
    assert lines(YARD, "/srv/the\\ hulls") == (
        f'# share hulls\n"/srv/the\\134 hulls" 192.0.2.7(ro,sec=sys,{END} 192.0.2.128/25(ro,sec=krb5p,{END} '
        f"192.0.2.0/24(rw,sec=sys,{END} *.yard.example(ro,sec=sys,{END}\n"
    )


def test_a_read_only_share_writes_for_nobody_and_squash_is_told() -> None:
    share = replace(SHARE, read_only=True, squash="all", hosts=SHARE.hosts[1:2])
    assert "192.0.2.0/24(ro,sec=sys,all_squash," in lines(replace(YARD, shares={"s": share}))


def test_what_is_not_offered_over_nfs_has_no_line() -> None:
    assert lines(replace(YARD, shares={"s": replace(SHARE, nfs=False)})) == ""
    assert lines(replace(YARD, shares={"s": replace(SHARE, hosts=())})) == ""
    assert lines(replace(YARD, services={"nfs": Service(id="nfs", on=False)})) == ""


@pytest.mark.parametrize("path", ['/srv/"hulls', "/srv/hulls\n/ *(rw)", "srv"])
def test_a_path_that_would_say_something_else_is_refused(path: str) -> None:
    with pytest.raises(FormatError, match="cannot stand among exports"):
        lines(YARD, path)


def test_an_order_that_the_server_does_not_keep_is_refused() -> None:
    with pytest.raises(FormatError, match="a wider host rule before a narrower one"):
        lines(replace(YARD, target=Target(host_rules="first")))
