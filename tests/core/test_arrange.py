"""Pushing down, changing style, starting kinds: edits that say what they overwrite or lose."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Mode, Ordered, Posix, PosixEntry
from yardgate.core.acl.rights import FULL, READ, WRITE
from yardgate.core.edits.apply import apply
from yardgate.core.edits.transforms import converted, push_down, restyle, starts, style_of
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, Plan, same


def test_pushing_down_leaves_cut_places_alone_and_says_so(quay: Plan) -> None:
    push = push_down(quay, "hulls", everything=False)
    assert {(o.place, o.left) for o in push.places} == {("curlew-31", False), ("petrel-9", False), ("warranty", True)}
    assert next(o.words for o in push.places if o.place == "petrel-9") == ("1 entry by hand", "7 grants")
    after, inverse = apply(quay, push.edits)
    assert after.grants.keys() >= {"warranty"}
    assert "curlew-31" not in after.grants
    assert after.places["petrel-9"].acl is None
    assert same(apply(after, inverse)[0], quay)


def test_pushing_down_cuts_included_makes_everything_below_follow(quay: Plan) -> None:
    push = push_down(quay, "hulls", everything=True)
    after, _ = apply(quay, push.edits)
    matrix = resolve(after, ON)
    for place in ("curlew-31", "petrel-9", "warranty"):
        for user in quay.users:
            assert matrix.level(user, place) == matrix.level(user, "hulls") or matrix.level(user, "hulls") == "PT"


@settings(max_examples=times(100, 400))
@given(plans(lists=True), st.booleans(), st.data())
def test_pushing_down_anywhere_can_be_done_and_undone(plan: Plan, everything: bool, data: st.DataObject) -> None:
    place = data.draw(st.sampled_from(sorted(plan.places)))
    push = push_down(plan, place, everything=everything)
    after, inverse = apply(plan, push.edits)
    assert check(after) == ()
    assert same(apply(after, inverse)[0], plan)
    if everything:
        again = push_down(after, place, everything=True)
        assert again.edits == (), "everything follows already"


@pytest.mark.parametrize("style", ["ordered", "posix", "mode"])
@settings(max_examples=times(60, 240))
@given(plan=plans(lists=True))
def test_every_list_of_every_plan_can_be_said_in_another_style(style: str, plan: Plan) -> None:
    for place in plan.places:
        after, inverse = apply(plan, restyle(plan, place, style).edits)  # type: ignore[arg-type]
        assert check(after) == ()
        assert style_of(after, place) == style
        assert same(apply(after, inverse)[0], plan)


def test_what_another_style_cannot_say_is_said_in_words(quay: Plan) -> None:
    own = Ordered(
        (Entry("deny", "apprentices", FULL), Entry("allow", "draughting", WRITE), Entry("allow", EVERYONE, READ, 5))
    )
    made, lost = converted(quay, own, "posix")
    assert made == Posix(
        (PosixEntry("group", "draughting", 7), PosixEntry("other", "", 5)),
        (PosixEntry("group", "draughting", 7), PosixEntry("other", "", 5)),
    )
    assert lost[0] == "refusing Apprentices everything: a POSIX list cannot refuse what another entry gives"
    assert any("one level only for Everyone" in word for word in lost)
    _, more = converted(quay, own, "mode")
    assert "group Draughting: mode bits name nobody but owner and group" in more
    assert (
        converted(quay, Mode(0o2750), "posix")
        == (
            Posix(
                (PosixEntry("group", "", 5), PosixEntry("other", "", 0), PosixEntry("user", "", 7)), None, setgid=True
            ),
            (),
        )
        or converted(quay, Mode(0o2750), "posix")[1] == ()
    )


def test_starting_kinds_say_what_they_set_and_stand(quay: Plan) -> None:
    kinds = {start.id: start for start in starts(quay, quay.places["training"])}
    assert set(kinds) >= {"windows", "mixed", "linux", "service-scan-station"}
    for start in kinds.values():
        plan = replace(quay, places={**quay.places, "training": start.place})
        assert check(plan) == ()
        assert resolve(plan, ON).rows["training"].any()
    assert kinds["service-scan-station"].place.owner == "scan-station"
