"""Findings about grants: those that do nothing, that lose to others, or that cannot come out as they were meant."""

from collections.abc import Iterator, Sequence

import numpy as np

from yardgate.core.access.batch.combine import parts, weigh
from yardgate.core.access.bitsets import Bits
from yardgate.core.access.outcome import shifts
from yardgate.core.access.paths import counted_as
from yardgate.core.access.storage import granted_on, tier_of
from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import SetGrant
from yardgate.core.edits.transforms import is_bare
from yardgate.core.model.plan import EVERYONE
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings


def refusal_idle(case: Case) -> Findings:
    """A refusal that decides for nobody: without it, everybody gets just what they get with it.

    It was perhaps meant for a group that got a grant later, or that has left. Take it away: what remains says the same and
    is easier to read."""
    for place, who in _without_effect(case, [(p, w) for p, w, level in _lines(case) if level == Level.NA]):
        fix = (SetGrant(place, who, None),)
        said = f"No access for {case.plan.named(who)} on {case.path(place)} decides for nobody."
        yield Finding(
            "refusal-idle", "note", (place, who), said, (), fix, "Take the refusal away; nothing changes for anybody."
        )


def personal_repeats(case: Case) -> Findings:
    """A personal grant that repeats what the person's groups give them already.

    It does nothing today, and keeps giving when they leave the group. Take it away."""
    people = {user.id for user in case.plan.users.values() if user.kind == "person" and user.active(case.on)}
    personal = [(p, w) for p, w, level in _lines(case) if w in people and level != Level.NA]
    for place, who in _without_effect(case, personal):
        level = case.plan.grants[place][who]
        if case.matrix.level(who, place) == level:
            said = f"{case.plan.named(who)} has a personal grant of {level.words} on {case.path(place)}, which their groups give them anyway."
            fix = (SetGrant(place, who, None),)
            does = "Take the personal grant away; nothing changes for anybody."
            yield Finding("personal-repeats", "note", (place, who), said, ((who, place),), fix, does)


def _lines(case: Case) -> Iterator[tuple[str, str, Level]]:
    return ((place, who, level) for place, said in case.plan.grants.items() for who, level in said.items())


def _without_effect(case: Case, lines: Sequence[CellKey]) -> Iterator[CellKey]:
    """The lines (place, who) without which everybody gets the same. First those that grants alone let seem so; then, where a list says
    them as well, or guests hear them, tried."""
    now = case.matrix
    lists = [granted_on(case.plan, case.storage, place) for place, _ in lines]
    less = [{w: level for w, level in said.items() if w != who} for said, (_, who) in zip(lists, lines, strict=True)]
    if not lines:
        return
    high, low = weigh(case.plan.target, now.counting, lists)
    other_high, other_low = weigh(case.plan.target, now.counting, less)
    differ = ((high ^ other_high) | (low ^ other_low)) & now.counting.active
    for (place, who), plane in zip(lines, differ, strict=True):
        if case.users(plane):
            continue
        if who != EVERYONE and not _listed(case, place):
            yield place, who
            continue
        after = case.after((SetGrant(place, who, None),))
        if not shifts(case.outcome, after) and case.costs(after).nothing:
            yield place, who


def _listed(case: Case, place: str) -> bool:
    """Whether a list is planned for a place or below it."""
    here = [place]
    while here:
        inner = here.pop()
        if not is_bare(case.storage, inner):
            return True
        here.extend(case.plan.inside.get(inner, ()))
    return False


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
            named = case.users(_counted(case, [refuser]) & given & counts)
            people = [who for who in named if case.matrix.level(who, place) == Level.NA]
            if not people:
                continue
            loses = f"{case.plan.named(refuser)} has no access to {case.path(place)}"
            sentence = f"{loses}, and that beats what {case.names(people)} {'are' if len(people) > 1 else 'is'} granted there otherwise."
            cells = tuple((who, place) for who in people)
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
