"""Findings about grants: those that do nothing, that lose to others, or that cannot come out as they were meant."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import repeat

import numpy as np

from yardgate.core.access.batch.combine import parts, weigh_told
from yardgate.core.access.bitsets import Bits
from yardgate.core.access.outcome import shifts
from yardgate.core.access.paths import counted_as
from yardgate.core.access.storage import granted_on, has_hand, tier_of
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.plan import EVERYONE
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings

BLOCK = 512  # lists weighed at once


def refusal_idle(case: Case) -> Findings:
    """A refusal that decides for nobody, here and wherever lists hand it down: without it, everybody gets just what they get with it.

    It was perhaps meant for a group that got a grant later, or that has left. Take it away: what remains says the same and
    is easier to read."""
    for place, who in without_effect(case, [(p, w) for p, w, level in _lines(case) if level == Level.NA]):
        fix = (SetGrant(place, who, None),)
        said = f"No access for {case.plan.named(who)} on {case.path(place)} decides for nobody."
        yield Finding(
            "refusal-idle", "note", (place, who), said, (), fix, "Remove the refusal; nothing changes for anybody."
        )


def personal_repeats(case: Case) -> Findings:
    """A personal grant that repeats what the person's groups give them already.

    It does nothing today, and keeps giving when they leave the group. Take it away."""
    people = {user.id for user in case.plan.users.values() if user.kind == "person" and user.active(case.on)}
    personal = [(p, w) for p, w, level in _lines(case) if w in people and level != Level.NA]
    for place, who in without_effect(case, personal):
        level = case.plan.grants[place][who]
        if case.matrix.level(who, place) == level:
            said = f"{case.plan.named(who)} has a personal grant of {level.words} on {case.path(place)}, which their groups give them anyway."
            fix = (SetGrant(place, who, None),)
            does = "Remove the personal grant; nothing changes for anybody."
            yield Finding("personal-repeats", "note", (place, who), said, ((who, place),), fix, does)


def _lines(case: Case) -> Iterator[tuple[str, str, Level]]:
    return ((place, who, level) for place, said in case.plan.grants.items() for who, level in said.items())


def without_effect(case: Case, lines: Sequence[CellKey]) -> Iterator[CellKey]:
    """The lines (place, who) without which everybody gets the same, wherever they count: here, and below, where lists hand them down. By the grants
    alone, where shares or compiled lists go by these; where a list has entries by hand, cannot say it all, or guests are concerned, tried."""
    counts = {line: case.handed_down.get((line[1], line[0]), line[:1]) for line in lines}
    settled = _same_without(case, [(place, line) for line, where in counts.items() for place in where])
    for (place, who), where in counts.items():
        if not all((here, (place, who)) in settled for here in where):
            continue
        alone = len(case.plan.grants[place]) == 1  # without it the place says nothing itself
        passing = case.plan.grants[place][who] != Level.NA and _lets_pass(case, place, who)
        plain = who != EVERYONE and not alone and not passing and not _hides(case, place, who)
        if plain and all(_goes_by_grants(case, here) for here in where):
            yield place, who
            continue
        after = case.after((SetGrant(place, who, None),))
        if not shifts(case.outcome, after) and case.costs(after).nothing:
            yield place, who


def _same_without(case: Case, asked: Sequence[tuple[str, CellKey]]) -> set[tuple[str, CellKey]]:
    """Of lines where they count (place, line), those without which the grants there come to the same for every user, passing through included."""
    counting, target = case.matrix.counting, case.plan.target
    said = {place: granted_on(case.plan, case.storage, place) for place in dict.fromkeys(place for place, _ in asked)}
    level = dict(zip(said, _levels(case, list(said.values())), strict=True))
    asked_to = _let_through(case, list(said)) if target.traverse == "checked" else {}
    found = set()
    for start in range(0, len(asked), BLOCK):
        some = asked[start : start + BLOCK]
        less = [{w: given for w, given in said[place].items() if w != line[1]} for place, line in some]
        for one, then in zip(some, _levels(case, less), strict=True):
            differ = level[one[0]] ^ then
            through = asked_to.get(one[0], np.uint64(0))  # who is told nothing else is let through, to what lies deeper
            if not ((differ[0] | differ[1] | differ[2] & through) & counting.active).any():
                found.add(one)
    return found


def _let_through(case: Case, places: Sequence[str]) -> Mapping[str, Bits]:
    """Who has to get through each place whose storage is planned, because of what lies inside."""
    planned = [place for place in places if place in case.storage]
    inside = case.plan.inside
    names = [
        dict.fromkeys((who for inner in inside.get(place, ()) for who in case.storage[inner].deeper), Level.RO)
        for place in planned
    ]
    return dict(zip(planned, parts(case.plan.target, case.matrix.counting, names).concerned, strict=True))


def _levels(case: Case, lists: Sequence[Mapping[str, Level]]) -> Bits:
    """(lists, 3, words): high and low plane of what grants come to, and who is told anything."""
    counting, target = case.matrix.counting, case.plan.target
    planes = np.stack(weigh_told(target, counting, lists), axis=1)
    for at, said in enumerate(lists):
        if said or not case.storage:
            planes[at] |= counting.boss  # administrators get all, where anything is granted
    return planes


def _hides(case: Case, place: str, who: str) -> bool:
    """Whether a line stands in the place of one from above of the same who, which may come down without it."""
    above = case.storage.get(case.plan.places[place].parent or "")
    return above is not None and any(grant.who == who for grant in above.grants)


def _goes_by_grants(case: Case, place: str) -> bool:
    """Whether what a place gives is what its grants come to: by the share alone, or by a list made of them that can say it all."""
    stored = case.storage.get(place)
    if stored is None or stored.list is None or stored.enforced_by == "share":
        return True
    return stored.list.style != "mode" and not has_hand(stored.list)


def _lets_pass(case: Case, place: str, who: str) -> bool:
    """Whether folders above a place let somebody through by name, perhaps because of a grant there."""
    return any(who in case.storage[above].passes for above in case.plan.path(place)[:-1] if above in case.storage)


def refusal_beats(case: Case) -> Findings:
    """A refusal takes away what another group, or the person's own grant, gives.

    That may be just what is meant; often somebody was put into a group and nobody thought of what that group is refused.
    Look at the people it names: if one of them should get in, the remedies of their cell say how."""
    if case.plan.target.combining != "refusal":
        return
    mixed = [
        place for place, said in case.plan.grants.items() if Level.NA in said.values() and len(set(said.values())) > 1
    ]
    lists = [granted_on(case.plan, case.storage, place) for place in mixed]
    near = parts(case.plan.target, case.matrix.counting, lists).near
    for number, (place, said) in enumerate(zip(mixed, lists, strict=True)):
        own = case.plan.grants[place]
        given = _counted(case, [who for who, level in said.items() if level != Level.NA])
        given &= _counted(case, [who for who, level in own.items() if level != Level.NA])
        given &= ~case.matrix.counting.boss
        for refuser in (who for who, level in own.items() if level == Level.NA and said.get(who) == Level.NA):
            counts = near[tier_of(case.plan, refuser)][number] if case.plan.target.precedence == "nearest" else given
            people = case.users(_counted(case, [refuser]) & given & counts, at=(place, Level.NA))
            if not people:
                continue
            loses = f"{case.plan.named(refuser)} has no access to {case.path(place)}"
            sentence = f"{loses}, and that beats what {case.names(people)} {'are' if len(people) > 1 else 'is'} granted there otherwise."
            cells = tuple(zip(people, repeat(place)))
            yield Finding("refusal-beats", "note", (place, refuser), sentence, cells)


def _counted(case: Case, whos: Sequence[str]) -> Bits:
    """The subjects that count as one of some."""
    nobody = np.zeros_like(case.matrix.counting.active)
    found: Bits = np.bitwise_or.reduce([nobody, *(counted_as(case.matrix, who) for who in whos)])
    return found


def everyone_writes(case: Case) -> Findings:
    """Everyone is granted read-write.

    It is often done to make something work, and stays. Grant it to the group that needs it; here everyone keeps reading."""
    for place, grants in case.plan.grants.items():
        if grants.get(EVERYONE) == Level.RW:
            who = case.reaching(place, Level.RW)
            sentence = f"Everyone is granted read-write on {case.path(place)}."
            cells = tuple((subject, place) for subject in who)
            fix = (SetGrant(place, EVERYONE, Level.RO),)
            yield Finding(
                "everyone-writes", "consider", (place,), sentence, cells, fix, "Grant everyone read-only in its place."
            )


CHECKS = (
    Check("refusal-beats", "note", "A refusal beats a grant", refusal_beats),
    Check("everyone-writes", "consider", "Everyone is granted read-write", everyone_writes),
    Check("refusal-idle", "note", "A refusal that decides for nobody", refusal_idle),
    Check("personal-repeats", "note", "A personal grant repeats a group's", personal_repeats),
)
