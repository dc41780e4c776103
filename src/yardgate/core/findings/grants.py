"""Findings about grants: those that do nothing, that lose to others, or that cannot come out as they were meant."""

from collections.abc import Iterator, Sequence

import numpy as np

from yardgate.core.arrange import restyle, style_of
from yardgate.core.edit import Edit, SetGrant, apply
from yardgate.core.findings.case import Case, Cell, Check, Finding, Found
from yardgate.core.membership import token
from yardgate.core.plan import EVERYONE
from yardgate.core.reason import GrantLine, explain
from yardgate.core.resolve import resolve
from yardgate.core.rewrite import let_through, without_lines
from yardgate.core.rights import Level
from yardgate.core.storage import granted_on, unsaid
from yardgate.core.ways import counted_as
from yardgate.core.weighing import weigh


def refusal_idle(case: Case) -> Found:
    """A refusal that decides for nobody: without it, everybody gets just what they get with it.

    It was perhaps meant for a group that got a grant later, or that has left. Take it away: what remains says the same and
    is easier to read."""
    for place, who in _without_effect(case, [(p, w) for p, w, level in _lines(case) if level == Level.NA]):
        fix = (SetGrant(place, who, None),)
        said = f"No access for {case.plan.named(who)} on {case.path(place)} decides for nobody."
        yield Finding(
            "refusal-idle", "note", (place, who), said, (), fix, "Take the refusal away; nothing changes for anybody."
        )


def personal_repeats(case: Case) -> Found:
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


def _without_effect(case: Case, lines: Sequence[Cell]) -> Iterator[Cell]:
    """The lines (place, who) without which everybody gets the same. First those that grants alone let seem so, then tried."""
    now = case.matrix
    lists = [granted_on(case.plan, case.laying, place) for place, _ in lines]
    less = [{w: level for w, level in said.items() if w != who} for said, (_, who) in zip(lists, lines, strict=True)]
    if not lines:
        return
    high, low = weigh(case.plan.target, now.counting, lists)
    other_high, other_low = weigh(case.plan.target, now.counting, less)
    differ = ((high ^ other_high) | (low ^ other_low)) & now.counting.active
    for (place, who), plane in zip(lines, differ, strict=True):
        if not case.users(plane) and not case.trial((SetGrant(place, who, None),)):
            yield place, who


def refusal_beats(case: Case) -> Found:
    """A refusal takes away what another group, or the person's own grant, gives.

    That may be just what is meant; often somebody was put into a group and nobody thought of what that group is refused.
    Look at the people it names: if one of them should get in, the remedies of their cell say how."""
    if case.plan.target.within != "refusal":
        return
    beaten: dict[Cell, list[str]] = {}
    for place, said in case.plan.grants.items():
        refused = [who for who, level in said.items() if level == Level.NA]
        given = [who for who, level in said.items() if level != Level.NA]
        if not refused or not given:
            continue
        for who in _in_both(case, refused, given):
            reason = explain(case.plan, who, place, case.on, case.laying)
            lines = next(gate for gate in reason.gates if gate.kind == "share").lines
            if reason.level == Level.NA and _beaten(lines):
                for line in lines:
                    if line.level == Level.NA and line.verdict == "decides" and line.said_on == place:
                        beaten.setdefault((place, line.who), []).append(who)
    for (place, refuser), people in beaten.items():
        loses = f"{case.plan.named(refuser)} has no access to {case.path(place)}"
        sentence = f"{loses}, and that beats what {case.names(people)} {'are' if len(people) > 1 else 'is'} granted there otherwise."
        yield Finding("refusal-beats", "consider", (place, refuser), sentence, tuple((who, place) for who in people))


def _in_both(case: Case, refused: Sequence[str], given: Sequence[str]) -> tuple[str, ...]:
    planes = [np.bitwise_or.reduce([counted_as(case.matrix, who) for who in some]) for some in (refused, given)]
    return case.users(planes[0] & planes[1])


def _beaten(lines: Sequence[GrantLine]) -> bool:
    return any(line.level > Level.NA for line in lines) and any(
        line.level == Level.NA and line.verdict == "decides" for line in lines
    )


def way_blocked(case: Case) -> Found:
    """Somebody is granted a place, and may not enter a folder above it: they never get there.

    Let them pass through the folder above (this folder only, nothing in it opens to them), or grant deeper down."""
    for place, people in _granted_and_stopped(case).items():
        by_step: dict[str, list[str]] = {}
        for who in people:
            way = next(g for g in explain(case.plan, who, place, case.on, case.laying).gates if g.kind == "way")
            for step in (step.place for step in way.steps if not step.enters):
                by_step.setdefault(step, []).append(who)
        first = next(step for step in case.plan.path(place) if step in by_step)
        whos = {step: _as_granted(case, place, stopped) for step, stopped in by_step.items()}
        fix = tuple(edit for step, who in whos.items() for edit in let_through(case.plan, case.laying, step, who))
        said = f"{case.names(people)} {'are' if len(people) > 1 else 'is'} granted {case.path(place)} and may not enter {case.path(first)} above it."
        cells = tuple((who, place) for who in people)
        does = (
            f"Let them pass through {' and '.join(case.path(step) for step in by_step)}; nothing else in there opens."
        )
        yield Finding("way-blocked", "serious", (place, first), said, cells, fix, does)


def _granted_and_stopped(case: Case) -> dict[str, tuple[str, ...]]:
    found = {}
    for place, said in case.plan.grants.items():
        if place not in case.matrix.ways or all(level == Level.NA for level in said.values()):
            continue
        high, _ = weigh(case.plan.target, case.matrix.counting, [granted_on(case.plan, case.laying, place)])
        stopped = case.users(high[0] & ~case.matrix.ways[place] & ~case.matrix.counting.root)
        if stopped:
            found[place] = stopped
    return found


def _as_granted(case: Case, place: str, people: Sequence[str]) -> tuple[str, ...]:
    """The whos of the grants on a place by which some people get there."""
    said = [who for who, level in granted_on(case.plan, case.laying, place).items() if level != Level.NA]
    return tuple(who for who in said if any(who in token(case.plan, person) for person in people))


def unsayable(case: Case) -> Found:
    """What is granted does not come out of the list: its style cannot say it, or lines by hand say otherwise.

    A mode knows one owner and one group; a POSIX list has no refusal for one group of two. Give the place another list
    style, take the lines by hand away, or grant otherwise."""
    for place, laid in case.laying.items():
        said_here = place in case.plan.grants
        wrong = [u for u in unsaid(case.plan, case.matrix.counting, laid) if u.subject in case.plan.users]
        wrong = [u for u in wrong if (u.subject, place) in case.off]
        if not said_here or not wrong:
            continue
        lead = wrong[0]
        sentence = f"The list of {case.path(place)} does not give what is granted: {case.plan.named(lead.subject)} gets {case.level(lead.subject, place).words} in place of {lead.wanted.words}"
        sentence += f", and {len(wrong) - 1} more fare likewise." if len(wrong) > 1 else "."
        fix, does = _sayable(case, place, [u.subject for u in wrong])
        cells = tuple((u.subject, place) for u in wrong)
        yield Finding("unsayable", "serious", (place,), sentence, cells, fix, does)


def _sayable(case: Case, place: str, whos: Sequence[str]) -> tuple[tuple[Edit, ...], str]:
    """Edits after which the list says what is granted, and what they do; nothing where none of those tried comes out so."""
    lines = tuple(edit for who in whos for edit in without_lines(case.plan, place, who))
    tried: list[tuple[tuple[Edit, ...], str]] = (
        [(lines[:1], "Take away the line by hand that says otherwise.")] if lines else []
    )
    if case.plan.places[place].own is not None and style_of(case.plan, place) == "mode":
        tried.append(
            (restyle(case.plan, place, "posix").edits, "Give it a POSIX list, which can name more than one group.")
        )
    for edits, does in tried:
        plan = apply(case.plan, edits)[0]
        after = resolve(plan, case.on, case.matrix)
        if not any(u.subject in whos for u in unsaid(plan, after.counting, after.laying[place])):
            return edits, does
    return (), ""


def everyone_writes(case: Case) -> Found:
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
    Check("way-blocked", "serious", "Way blocked above a grant", way_blocked),
    Check("unsayable", "serious", "The list does not give what is granted", unsayable),
    Check("refusal-beats", "consider", "A refusal beats a grant", refusal_beats),
    Check("everyone-writes", "consider", "Everyone is granted read-write", everyone_writes),
    Check("refusal-idle", "note", "A refusal that decides for nobody", refusal_idle),
    Check("personal-repeats", "note", "A personal grant repeats a group's", personal_repeats),
)
