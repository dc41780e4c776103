"""Shares as sections of an SMB server's configuration, and what such a file cannot carry."""

from dataclasses import replace

import pytest

from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl.rights import Level
from yardgate.core.host.state import Offer
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.core.model.share import Share
from yardgate.formats import smbconf
from yardgate.formats.reading import FormatError

USERS = {name: User(id=name, name=name, enabled=name != "cleo") for name in ("ann", "bo", "cleo", "dag")}
PLAN = Plan(
    users=USERS,
    places={"keel": Place(id="keel", name="keel", kind="pool")},
    grants={"keel": {"ann": Level.RW, "bo": Level.RO, "cleo": Level.RW, "dag": Level.NA}},
    shares={"s": Share(id="s", name="keel", place="keel", guests=Level.RO, administrator="ann", hidden=True)},
)


def written(plan: Plan, path: str = "/srv/keel") -> list[str]:
    assert check(plan) == ()
    return smbconf.write(resolve(plan, ON), lambda _: path).splitlines()


def test_everybody_who_gets_in_is_named() -> None:
    assert written(PLAN) == [
        "[keel]",
        " path = /srv/keel",
        " read only = yes",
        " valid users = ann, bo, nobody",
        " write list = ann",
        " admin users = ann",
        " guest ok = yes",
        " browseable = no",
        " hide unreadable = no",
        " inherit permissions = yes",
    ]


def test_groups_are_named_and_people_beside_them_with_the_reason() -> None:
    crew = Group(id="crew", name="Crew", members=frozenset({"ann", "bo"}))
    share = Share(id="s", name="keel", place="keel")
    plan = replace(
        PLAN, groups={"crew": crew}, grants={"keel": {"crew": Level.RW, "dag": Level.RO}}, shares={"s": share}
    )
    lines = written(plan)
    assert lines[:6] == [
        "[keel]",
        " path = /srv/keel",
        " # named themselves, since their groups give something else: dag",
        " read only = yes",
        " valid users = @Crew, dag",
        " write list = @Crew",
    ]
    (offer,) = smbconf.read("\n".join(lines))
    assert (offer.writes, offer.reads, offer.people) == (("@Crew",), ("dag",), {"dag"})
    spaced = smbconf.render([replace(offer, reads=("@QUAY\\contract staff",))])
    assert '"@QUAY\\contract staff"' in spaced
    assert smbconf.read(spaced)[0].reads == ("@QUAY\\contract staff",)
    for odd in ("@a,b", '@a"b', "@a%u", "@+a", "@", "@a\nb"):
        with pytest.raises(FormatError, match="cannot be named"):
            smbconf.render([replace(offer, reads=(odd,))])


def test_a_note_is_a_comment_and_cannot_be_more() -> None:
    """Lines of a note are comments, whatever ends them and whatever they end with; they make no step."""
    odd = "Ask Ann first.\n[global]\r guest ok = yes\u2028path = /etc \\"
    offer = Offer(name="work", path="/srv/work", everybody=True, note=odd)
    told = smbconf.render([offer])
    assert [line for line in told.splitlines() if line.startswith(" #")] == [
        " # Ask Ann first.", " # [global]", " #  guest ok = yes", " # path = /etc",
    ]  # fmt: skip
    assert smbconf.read(told) == (replace(offer, note=""),) == (offer,)


def test_a_share_for_nobody_is_not_offered() -> None:
    """`valid users` left empty would let everybody in."""
    share = replace(PLAN.shares["s"], guests=Level.NA, administrator=None)
    assert " available = no" in written(replace(PLAN, grants={}, shares={"s": share}))
    assert " available = no" in written(
        replace(PLAN, shares={"s": replace(share, smb=True)}, grants={"keel": {"cleo": Level.RW}})
    )


@pytest.mark.parametrize("name", ["a b", "a,b", "@crew", "a%u", 'a"b', "+a", "a;b", "a#b"])
def test_a_name_that_would_mean_something_else_is_refused(name: str) -> None:
    with pytest.raises(FormatError, match="cannot be named in a configuration"):
        written(replace(PLAN, users={**USERS, "ann": replace(USERS["ann"], name=name)}))


@pytest.mark.parametrize("path", ["/srv/%u", "/srv/a\nroot preexec = x", "/srv/a\\", '/srv/"a'])
def test_a_path_that_would_mean_something_else_is_refused(path: str) -> None:
    with pytest.raises(FormatError, match="cannot stand in a configuration"):
        written(PLAN, path)
