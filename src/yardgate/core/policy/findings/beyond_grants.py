"""Findings about who gets more, and who gets less, than is granted to them: one for each cause, with the first repair that is right.

A repair is right where everybody it is for gets what is granted to them by it, nobody else gets more or less than is granted to them, and no host
may do anything else. What is tried is led by the cause; what is offered was worked out for the whole plan.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.bitsets import unpack
from yardgate.core.access.comparison import LESS, MORE, Off, stands
from yardgate.core.access.membership import token
from yardgate.core.access.paths import explain_over, kept_to
from yardgate.core.access.storage import granted_on
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, posix
from yardgate.core.acl.rights import EXECUTE, LEVELS, READ_DATA, WRITE_DATA, Level
from yardgate.core.acl.words import ARTICLES, STYLES, Style
from yardgate.core.edits.list_edits import let_through, retouched, without_lines
from yardgate.core.edits.records import Edit, PutPlace, PutService, PutShare
from yardgate.core.edits.transforms import begun, is_bare, planned, restyle, style_of
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import EVERYONE, GUEST
from yardgate.core.model.share import Over
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings, Repair

TRIED = 40  # causes for which a repair is looked for, so that asking for all of them ends

CauseKind = Literal[
    "unplanned", "share alone", "list", "way", "service", "read only", "hosts", "at the share", "number"
]


class Cause(NamedTuple):
    """Why somebody gets something else than is granted to them. at: the id of the pool, place, share or protocol where it lies."""

    kind: CauseKind
    at: str


Attempt = tuple[tuple[Edit, ...], str]
"""A repair that is to be tried."""


def more_than_granted(case: Case) -> Findings:
    """Somebody gets more in a place than is granted to them there, over some share: what is granted to others, or refused to them, does not hold.

    Mostly no lists are planned there, so that whoever gets into the share above gets in as well; over NFS the hosts are asked and no grants at all.
    Plan lists that carry the grants. Where lists are planned, look which of their lines gives more."""
    found: dict[Cause, list[Off]] = {}
    for off in case.off.values():
        if off.gets > off.granted:
            found.setdefault(_of_more(case, off.place), []).append(off)
    for number, (cause, offs) in enumerate(sorted(found.items(), key=lambda one: -len(one[1]))):
        said = f"{_who_gets(case, offs)} without being granted it: {_why_more(case, cause, offs[0])}."
        about = (cause.at, *(place for place in dict.fromkeys(off.place for off in offs) if place != cause.at))
        search = partial(_repair, case, _against_more, cause, offs) if number < TRIED else None
        yield Finding("more-than-granted", "serious", about[:2], said, _cells(offs), search=search)


def less_than_granted(case: Case) -> Findings:
    """Somebody gets less in a place than is granted to them there, over every share: they may not enter a folder above, or the list, the share or its
    service holds them back.

    Where it is meant so, grant them less. Otherwise let them pass the folder above, let the list enforce what is granted, or change what the share lets
    them do."""
    by_place: dict[str, list[Off]] = {}
    for off in case.off.values():
        if off.gets < off.granted:
            by_place.setdefault(off.place, []).append(off)
    causes: dict[CellKey, Cause] = {}
    for place in sorted(by_place, key=lambda place: len(case.plan.path(place))):
        for off, cause in zip(by_place[place], _of_less(case, place, by_place[place]), strict=True):
            here = (off.subject, place)
            above = (off.subject, cause.at)  # who does not get there has one trouble, not two
            causes[here] = causes.get(above, cause) if cause.kind == "way" else cause
    found: dict[Cause, list[Off]] = {}
    for cell, cause in causes.items():
        found.setdefault(cause, []).append(case.off[cell])
    for number, (cause, offs) in enumerate(sorted(found.items(), key=lambda one: -len(one[1]))):
        said = f"{_who_gets(case, offs)}, and {'is' if _one(offs) else 'are'} granted {_levels(off.granted for off in offs)}: {_why_less(case, cause, offs)}."
        about = tuple(dict.fromkeys((*_about(cause, offs), offs[0].place)))
        search = partial(_repair, case, _against_less, cause, offs) if number < TRIED else None
        yield Finding("less-than-granted", "serious", tuple(dict.fromkeys(about)), said, _cells(offs), search=search)


def _about(cause: Cause, offs: Sequence[Off]) -> tuple[str, ...]:
    match cause.kind:
        case "number":
            return cause.at, offs[0].subject
        case "hosts":
            return cause.at, "nfs"
        case "at the share":
            return cause.at, "smb"
        case _:
            return (cause.at,)


def unplanned(case: Case) -> Findings:
    """Places are shared for which no list is planned: the share alone holds people to their grants, and to those on its own place.

    Such a plan cannot go to a Linux host. Plan lists for all of it; or, on an appliance whose shares alone decide, accept this."""
    for pool in (place.id for place in case.plan.places.values() if place.parent is None):
        bare = [
            share
            for share in case.plan.shares.values()
            if (share.smb or share.nfs)
            and case.plan.path(share.place)[0] == pool
            and is_bare(case.storage, share.place)
        ]
        if bare:
            names = " and ".join(share.name for share in bare) if len(bare) < 3 else f"{len(bare)} shares"
            said = (
                f"No lists are planned for what {names} {'offers' if len(bare) == 1 else 'offer'} of {case.path(pool)}."
            )
            yield Finding("unplanned", "consider", (pool,), said, search=partial(_plan_lists, case, pool))


def _plan_lists(case: Case, pool: str) -> Repair:
    """The first way to plan lists for a pool by which nobody gets more or less than is granted to them."""
    return next((Repair(*one) for one in _planned(case, pool) if case.price(one[0]).nothing), Repair())


# --- in words ---------------------------------------------------------------------------------------------------------


def _cells(offs: Sequence[Off]) -> tuple[tuple[str, str], ...]:
    return tuple((off.subject, off.place) for off in offs)


def _one(offs: Sequence[Off]) -> bool:
    return len({off.subject for off in offs}) == 1 and offs[0].subject != GUEST


def _names(case: Case, whos: Sequence[str]) -> str:
    if GUEST not in whos:
        return case.names(whos)
    people = [who for who in whos if who != GUEST]
    return f"{case.names(people)}, and guests," if people else "Guests"


def _who_gets(case: Case, offs: Sequence[Off]) -> str:
    places = list(dict.fromkeys(off.place for off in offs))
    whos = list(dict.fromkeys(off.subject for off in offs))
    where = case.path(places[0]) if len(places) == 1 else f"{case.path(places[0])} and {len(places) - 1} more"
    one = len(whos) == 1 and whos != [GUEST]
    return f"{_names(case, whos)} {'gets' if one else 'get'} {_levels(off.gets for off in offs)} in {where}"


def _levels(levels: Iterable[Level]) -> str:
    return " or ".join(level.words for level in sorted(set(levels), reverse=True))


def _why_more(case: Case, cause: Cause, off: Off) -> str:
    levels = case.outcome.levels(off.subject, off.place)
    way = max(levels, key=lambda one: levels[one])
    name = case.plan.shares[way.share].name
    gates = (
        f"over NFS, through {name}, hosts are asked and no grants"
        if way.protocol == "nfs"
        else f"over SMB whoever gets into {name} gets in here as well"
    )
    match cause.kind:
        case "unplanned":
            return f"no list is planned there, and {gates}"
        case "share alone":
            return f"only the share enforces its grants, and {gates}"
        case _:
            return f"the list of {case.path(cause.at)} gives more than the grants"


def _why_less(case: Case, cause: Cause, offs: Sequence[Off]) -> str:
    plan, whos = case.plan, {off.subject for off in offs}
    name = plan.shares[cause.at].name if cause.at in plan.shares else ""
    match cause.kind:
        case "way":
            return f"{case.path(cause.at)} above it does not let them pass"
        case "service":
            return (
                f"{cause.at.upper()} is only for some, and {'they are' if len(whos) > 1 else 'it is'} not among them"
                if GUEST not in whos
                else f"{cause.at.upper()} is only for some, and guests are not among them"
            )
        case "read only":
            return f"{name} is read-only, whatever is granted"
        case "hosts":
            return f"over {name} no host gets more"
        case "at the share":
            return f"{name} lets in whom {case.path(plan.shares[cause.at].place)} is granted to, and no others"
        case "number":
            return "over NFS they count only by a uid, and have none"
        case _:
            return f"the list of {case.path(cause.at)} does not give it"


# --- causes -----------------------------------------------------------------------------------------------------------


def _of_more(case: Case, place: str) -> Cause:
    if is_bare(case.storage, place):
        return Cause("unplanned", case.plan.path(place)[0])
    if case.storage[place].enforced_by == "share":
        return Cause("share alone", _carrier(case, place))
    return Cause("list", place)


def _carrier(case: Case, place: str) -> str:
    """The place where it is said what carries the grants of one."""
    path = case.plan.path(place)
    return next((step for step in reversed(path) if case.plan.places[step].enforced_by is not None), path[0])


def _of_less(case: Case, place: str, offs: Sequence[Off]) -> Iterator[Cause]:
    """The cause for each: the first thing that holds them back on the way in that lets them furthest."""
    found = case.outcome
    doors = _doors(case, place) if case.plan.target.traverse == "checked" else []
    ways = sorted(found.ways_to(place), key=lambda way: way.protocol != "smb")
    let_in = np.array([found.let_in[way] for way in ways])
    best = let_in.argmax(axis=0) if ways else None
    for off in offs:
        if off.subject == GUEST and ways:
            yield _of_guest(case, off, ways)
            continue
        number = found.number(off.subject)
        closed = next((step for step, open_ in doors if not open_[number]), None)
        if best is not None and (most := LEVELS[int(let_in[best[number], number])]) < off.granted:
            yield _at_share(case, ways[best[number]], off, most)
        elif closed is not None:
            yield Cause("way", closed)
        else:
            yield Cause("list", place)


def _doors(case: Case, place: str) -> list[tuple[str, NDArray[np.bool_]]]:
    """The folders above a place whose lists are planned, and whom each lets enter: bool (subjects + 1,); of a guest it is not known."""
    size, lists = len(case.matrix.counting.subjects), case.matrix.lists
    return [
        (step, np.append(unpack(lists[step][0], size), False)) for step in case.plan.path(place)[:-1] if step in lists
    ]


def _of_guest(case: Case, off: Off, ways: Sequence[Over]) -> Cause:
    """Guests are let in over SMB alone: the first gate there that holds them back where a share would let them do it."""
    smb = [way for way in ways if way.protocol == "smb"]
    best = max(smb, key=lambda way: case.plan.shares[way.share].guests)
    for gate in explain_over(case.plan, GUEST, off.place, best, case.on, case.storage).gates:
        if gate.level < off.granted:
            match gate.kind:
                case "service":
                    return Cause("service", "smb")
                case "share":
                    return Cause("read only", best.share)
                case "way":
                    return Cause("way", next(step.place for step in gate.steps if not step.enters))
                case _:
                    break
    return Cause("list", off.place)


def _at_share(case: Case, way: Over, off: Off, let_in: Level) -> Cause:
    share, user = case.plan.shares[way.share], case.plan.users[off.subject]
    only = kept_to(case.plan, way.protocol)
    if way.protocol == "nfs" and user.uid is None and share.squash != "all":
        return Cause("number", share.id)
    if way.protocol == "smb" and only is not None and not any(who in only for who in token(case.plan, user.id)):
        return Cause("service", "smb")
    if share.read_only and off.granted > let_in == Level.RO:
        return Cause("read only", share.id)
    return Cause("hosts" if way.protocol == "nfs" else "at the share", share.id)


# --- repairs ----------------------------------------------------------------------------------------------------------


def _repair(
    case: Case, against: Callable[[Case, Cause, Sequence[Off]], Iterator[Attempt]], cause: Cause, offs: Sequence[Off]
) -> Repair:
    """The first repair after which all of them get what is granted to them; else the one that mends most of them; nothing where none is right."""
    best: tuple[int, Repair] = (0, Repair())
    for edits, does in against(case, cause, offs):
        mended = _mended(case, offs, edits) if edits else 0
        if mended == len(offs):
            return Repair(edits, does)
        best = max(best, (mended, Repair(edits, does)), key=lambda one: one[0])
    return best[1]


def _mended(case: Case, offs: Sequence[Off], edits: Sequence[Edit]) -> int:
    """How many of them get what is granted to them after edits; 0 where somebody else pays for it."""
    try:
        after = case.after(edits)
    except PlanError:
        return 0
    if not case.costs(after).nothing:
        return 0
    states = {place: stands(after, place).state for place in {off.place for off in offs}}
    return sum(
        states[off.place][after.number(off.subject)] not in (MORE, LESS)
        and (off.gets < off.granted or after.level(off.subject, off.place) <= max(off.granted, Level.PT))
        for off in offs
    )


def _against_more(case: Case, cause: Cause, offs: Sequence[Off]) -> Iterator[Attempt]:
    plan, places = case.plan, list(dict.fromkeys(off.place for off in offs))
    match cause.kind:
        case "unplanned":
            yield from _planned(case, cause.at)
            yield from ((fix, does) for place in places[:3] for fix, does in _planned(case, place))
        case "share alone":
            here = plan.places[cause.at]
            yield (
                (PutPlace(replace(here, enforced_by="both")),),
                f"Let the list of {case.path(here.id)} carry the grants, too.",
            )
            listed = places[0] if is_bare(case.storage, here.id) else here.id  # lists may begin further down
            yield from _another_list(case, listed, [off.subject for off in offs])
        case _:
            yield from _another_list(case, places[0], [off.subject for off in offs])


def _against_less(case: Case, cause: Cause, offs: Sequence[Off]) -> Iterator[Attempt]:
    plan, whos = case.plan, [off.subject for off in offs]
    yield from _by_cause(case, cause, offs)
    if set(whos) == {GUEST}:
        shares = [share for share in plan.shares.values() if share.guests and share.place in plan.path(offs[0].place)]
        names = " and ".join(share.name for share in shares)
        shut = tuple(PutShare(replace(share, guests=Level.NA)) for share in shares)
        yield shut, f"Close {names} to guests, who get no more there anyway."


def _by_cause(case: Case, cause: Cause, offs: Sequence[Off]) -> Iterator[Attempt]:
    plan, whos = case.plan, [off.subject for off in offs]
    match cause.kind:
        case "way":
            yield from _passing(case, offs)
        case "list":
            yield from _another_list(case, cause.at, whos)
            yield from _passing(case, offs)
        case "read only":
            share = plan.shares[cause.at]
            yield (
                (PutShare(replace(share, read_only=False)),),
                f"Let {share.name} be written to by whom that is granted.",
            )
        case "at the share":
            yield from _planned(case, plan.path(plan.shares[cause.at].place)[0])
        case "service" if cause.at in plan.services:
            service = plan.services[cause.at]
            more = frozenset(
                who for off in offs for who in _as_granted(case, off.place, [off.subject]) if who != EVERYONE
            )
            yield (
                (PutService(replace(service, allowed=(service.allowed or frozenset()) | more)),),
                f"Let {case.names(sorted(more))} use {cause.at.upper()}.",
            )
        case _:
            return


def _planned(case: Case, top: str) -> Iterator[Attempt]:
    for style, edits in planned(case.plan, case.storage, top):
        places = [case.path(edit.place.id) for edit in edits]
        named = " and ".join(places) if len(places) < 3 else f"{places[0]} and {len(places) - 1} more places"
        yield edits, f"Plan {ARTICLES[style]}{STYLES[style]} on {named}, from what is granted there."


def _another_list(case: Case, place: str, whos: Sequence[str]) -> Iterator[Attempt]:
    """Other lists for one place: without a line by hand, entered where it is read, carrying the grants, in another style, of the grants alone."""
    plan, path = case.plan, case.path(place)
    here, styled = plan.places[place], next(s for s in reversed(plan.path(place)) if plan.places[s].acl is not None)
    counted = dict.fromkeys(who for one in whos for who in (token(plan, one) if one != GUEST else (EVERYONE,)))
    for step in [one for one in reversed(plan.path(place)) if plan.places[one].acl is not None]:
        for who in counted:
            yield (
                without_lines(plan, step, who),
                f"Remove the lines by hand for {plan.named(who)} from the list of {case.path(step)}.",
            )
    yield retouched(plan, [styled], _enters_too, _enters_by_mode), f"Let whoever may read {case.path(styled)} enter it."
    if case.storage[place].enforced_by == "share":
        yield (PutPlace(replace(here, enforced_by="both")),), f"Let the list of {path} carry the grants, too."
    if style_of(plan, place) != "posix":
        yield (
            restyle(plan, styled, "posix").edits,
            f"Give {case.path(styled)} a POSIX list, which can name more than one group.",
        )
    bare_lists: dict[Style, OwnList] = {"ordered": Ordered(), "posix": Posix(), "mode": Mode()}
    own = bare_lists[style_of(plan, place) or "posix"]
    carried = "both" if case.storage[place].enforced_by == "share" else here.enforced_by
    for cut in (False, True):
        bare = replace(here, acl=own, inheritance_stops=cut, enforced_by=carried)
        yield (
            (PutPlace(bare),),
            f"Make the list of {path} of what is granted alone{', and let nothing come down from above' if cut else ''}.",
        )
    styles: tuple[Style, ...] = ("posix", "ordered")
    for style in styles:
        yield (
            (PutPlace(begun(plan, here, style)),),
            f"Plan {ARTICLES[style]}{STYLES[style]} on {path}, from what is granted there, and let nothing come down from above.",
        )


def _enters_too(entry: Entry) -> int:
    return entry.mask | (EXECUTE if entry.type == "allow" and entry.mask & (READ_DATA | WRITE_DATA) else 0)


def _enters_by_mode(_tag: posix.Tag, _who: str, perms: int) -> int:
    return perms | (posix.X if perms & (posix.R | posix.W) else 0)


def _passing(case: Case, offs: Sequence[Off]) -> Iterator[Attempt]:
    """Each folder on the way lets through those whom it stops, by the users and groups to whom it is granted."""
    plan = case.plan
    stopped: dict[str, dict[str, None]] = {}
    for place in dict.fromkeys(off.place for off in offs):
        people = [off.subject for off in offs if off.place == place]
        for step, open_ in _doors(case, place):
            shut_out = [person for person in people if not open_[case.outcome.number(person)]]
            if shut_out:
                stopped.setdefault(step, {}).update(dict.fromkeys(_as_granted(case, place, shut_out)))
    edits = tuple(edit for step, whos in stopped.items() for edit in let_through(plan, case.storage, step, whos))
    placed = [p for p in dict.fromkeys(off.place for off in offs) if p in case.storage]
    alone = list(dict.fromkeys(_carrier(case, place) for place in placed if case.storage[place].enforced_by == "share"))
    if alone:
        names = " and ".join(map(case.path, alone))
        yield (
            tuple(PutPlace(replace(plan.places[p], enforced_by="both")) for p in alone),
            f"Let the list of {names} carry the grants, too.",
        )
    yield edits, f"Let them pass through {' and '.join(map(case.path, stopped))}; nothing else in there opens."


def _as_granted(case: Case, place: str, people: Sequence[str]) -> tuple[str, ...]:
    """The users and groups by whose grants on a place some people get there."""
    said = [who for who, level in granted_on(case.plan, case.storage, place).items() if level != Level.NA]
    return tuple(
        who for who in said if any(who in (token(case.plan, one) if one != GUEST else (EVERYONE,)) for one in people)
    )


CHECKS = (
    Check("more-than-granted", "serious", "Somebody gets more than is granted", more_than_granted),
    Check("less-than-granted", "serious", "Somebody gets less than is granted", less_than_granted),
    Check("unplanned", "consider", "Shared, and no list is planned", unplanned),
)
