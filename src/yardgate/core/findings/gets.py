"""Findings about who gets more than is granted to them, whichever way they come in."""

from collections.abc import Iterator
from dataclasses import replace

from yardgate.core.arrange import starts
from yardgate.core.edit import Edit, PutPlace, apply
from yardgate.core.findings.case import Case, Check, Finding, Found
from yardgate.core.gets import LESS, MORE, Off, stands
from yardgate.core.outcome import Outcome, outcome_of
from yardgate.core.plan import Place

KINDS = {"windows": "an ordered list", "mixed": "a POSIX list"}  # with which a place may begin, and the words for it
TRIED = 40  # places for which a repair is looked for


def more_than_granted(case: Case) -> Found:
    """Somebody gets more in a place than is granted to them there, over some way in: what is granted to others, or refused to them, does not hold.

    Mostly no list is planned there, so that whoever gets into the share above gets into it, too; over NFS the hosts are asked and no grants at all.
    Plan a list that carries the grants. Where a list is planned, look which of its lines gives more."""
    by_place: dict[str, list[Off]] = {}
    for off in case.off.values():
        if off.gets > off.granted and not _by_list(case, off.place):
            by_place.setdefault(off.place, []).append(off)
    for number, (place, found) in enumerate(sorted(by_place.items(), key=lambda one: -len(one[1]))):
        laid = case.laying.get(place)
        planned = laid is not None and laid.list is not None
        fix, words = _repair(case, place) if number < TRIED else ((), "")
        whos = case.names([off.subject for off in found])
        cells = tuple((off.subject, place) for off in found)
        gets_words = " or ".join(sorted({off.gets.words for off in found}))
        if not planned:
            why = f"no list is planned there, and {_gates(case, found[0])}"
        elif laid is not None and laid.carried == "share":
            why = f"its grants are held to by the share alone, and {_gates(case, found[0])}"
        else:
            why = "its list gives more than the grants"
        said = f"{whos} {'gets' if len(found) == 1 else 'get'} {gets_words} in {case.path(place)} without being granted it: {why}."
        yield Finding("more-than-granted", "serious", (place,), said, cells, fix, words)


def _by_list(case: Case, place: str) -> bool:
    """Whether a list carries the grants of a place: that it says something else is another finding (`grants.unsayable`)."""
    laid = case.laying.get(place)
    return laid is not None and laid.list is not None and laid.carried != "share" and place in case.plan.grants


def _gates(case: Case, off: Off) -> str:
    """What lets somebody in all the same."""
    levels = case.outcome.levels(off.subject, off.place)
    way = max(levels, key=lambda one: levels[one])
    name = case.plan.shares[way.share].name
    return (
        f"over NFS, through {name}, hosts are asked and no grants"
        if way.protocol == "nfs"
        else f"over SMB whoever gets into {name} gets in here as well"
    )


def _repair(case: Case, place: str) -> tuple[tuple[Edit, ...], str]:
    """Edits after which nobody there or below gets more or less than is granted who did not before, and what they do."""
    for record, words in _carrying(case, place):
        fix = (PutPlace(record),)
        then = outcome_of(apply(case.plan, fix)[0], case.outcome)
        if _mends(case.outcome, then, place):
            return fix, words
    return (), ""


def _carrying(case: Case, place: str) -> Iterator[tuple[Place, str]]:
    """The place with a list that carries its grants."""
    laid, path = case.laying.get(place), case.path(place)
    if laid is not None and laid.list is not None:
        if laid.carried == "share":
            yield replace(case.plan.places[place], carried="both"), f"Let the list of {path} carry its grants, too."
        return
    kinds = ["mixed"] if any(way.protocol == "nfs" for way in case.outcome.ways_to(place)) else ["windows", "mixed"]
    possible = {start.id: start for start in starts(case.plan, place)}
    for kind in kinds:
        yield possible[kind].place, f"Plan {KINDS[kind]} on {path} that carries its grants."


def _mends(before: Outcome, after: Outcome, place: str) -> bool:
    plan = after.matrix.plan
    for one in plan.places:
        if place not in plan.path(one):
            continue
        was, now = stands(before, one).state, stands(after, one).state
        if (off := (now == MORE) | (now == LESS)).any() and (one == place or (off & (now != was)).any()):
            return False
    return True


CHECKS = (Check("more-than-granted", "serious", "Somebody gets more than is granted", more_than_granted),)
