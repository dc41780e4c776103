"""One user, one place, explained gate by gate. The readable reference: `resolve` must give the same for every cell."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from datetime import date
from typing import Literal

from yardgate.core.access.bitsets import count
from yardgate.core.access.combining import WITHIN_WORDS, LevelSource, TieredGrant, Verdict, decide
from yardgate.core.access.membership import Tier, tier, token
from yardgate.core.access.storage import (
    EntryLine,
    Maker,
    Nfs4State,
    PlaceState,
    PosixState,
    StorageState,
    names_on,
    rights_on,
    storage_state,
)
from yardgate.core.acl import nfs4, posix
from yardgate.core.acl.nfs4 import GROUP, OWNER, Entry
from yardgate.core.acl.posix import PosixEntry
from yardgate.core.acl.rights import EXECUTE, Level, Rights, keeper, level, odd
from yardgate.core.model.plan import EVERYONE, Enforcement, Plan

COMPUTED: Literal["computed"] = "computed"


@dataclass(frozen=True, slots=True)
class GrantLine:
    """A grant that took part. `way` leads from the one asked about to the one granted: ids, both ends included. said_on:
    the place where it was granted."""

    who: str
    level: Level
    tier: Tier | Literal["admin"]
    verdict: Verdict
    way: tuple[str, ...]
    said_on: str


@dataclass(frozen=True, slots=True)
class ListLine:
    """A line of the storage list, and its part in what somebody gets there.

    says: allow or deny of an ordered list, or the tag of a POSIX entry. mask: an access mask; for a POSIX entry, 0 to 7.
    folder, file: the rights that it decided, on the folder and on a file in it. made: by hand, from a grant, to let
    somebody pass to a place deeper down, or computed (a mask).
    """

    says: Literal["allow", "deny", "user", "group", "mask", "other"]
    who: str
    mask: int
    flags: int
    said_on: str
    made: Maker | Literal["computed"]
    verdict: Literal["decides", "too late", "not theirs", "not here", "limits", "idle"]
    folder: int
    file: int
    way: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class WayStep:
    """A place above, and whether it lets somebody enter."""

    place: str
    enters: bool


@dataclass(frozen=True, slots=True)
class Gate:
    """One of the gates in a row; the result is the lowest level that any of them lets through."""

    kind: Literal["account", "service", "share", "way", "list"]
    title: str
    level: Level
    decides: bool
    sentence: str
    lines: tuple[GrantLine, ...] = ()
    steps: tuple[WayStep, ...] = ()
    entries: tuple[ListLine, ...] = ()


@dataclass(frozen=True, slots=True)
class Reason:
    """Why `subject` gets `level` in `place`. `clash`: grants disagree, or the level is not the one granted.

    rights: what the list alone gives, on the folder and on an ordinary file in it; None where storage is not planned.
    odd: those are none of the usual sets. keeper: they include changing the list or the owner.
    """

    subject: str
    place: str
    level: Level
    granted: Level
    source: LevelSource
    clash: bool
    enforced_by: Enforcement
    rights: Rights | None
    odd: bool
    keeper: bool
    gates: tuple[Gate, ...]


def explain(plan: Plan, subject: str, place: str, on: date, storage: StorageState | None = None) -> Reason:
    """The reason for one cell on one day. `subject`: a user, or a group (then: somebody who is in this group alone).

    `storage`: how storage stands (`Matrix.storage`), where the caller has it. Raises KeyError for an id that is not in the plan.
    """
    if subject not in plan.users and subject not in plan.groups:
        raise KeyError(subject)
    plan.places[place]
    storage = storage_state(plan, count(plan, on)) if storage is None else storage
    ways = token(plan, subject)
    stored = storage.get(place)
    account = account_gate(plan, subject, on)
    granted = grants_gate(plan, place, stored, ways)
    by_share = stored is None or stored.by_share
    gates = [account, granted if by_share else replace(granted, level=Level.RW)]
    rights = None
    if stored is not None and stored.list is not None:
        rights = rights_on(plan, stored, subject, ways)
        gates += [way_gate(plan, storage, subject, place, ways), list_gate(plan, stored, subject, place, ways, rights)]
    result = min(gate.level for gate in gates)
    passed = {"account", "way"} if result > Level.NA else set()  # these let through or refuse, nothing between
    candidates = [gate for gate in gates if gate.level == result and gate.kind not in passed]
    deciding = next((gate for gate in candidates if by_share or gate.kind != "share"), gates[1])
    source = _source(account, granted, gates, result, by_share)
    concerned = bool(granted.lines)
    clash = account.level != Level.NA and (_disagree(granted) or (concerned and result != granted.level))
    asked = plan.target.traverse == "checked"
    return Reason(
        subject,
        place,
        result,
        granted.level,
        source,
        clash,
        stored.enforced_by if stored is not None else "share",
        rights,
        rights is not None and odd(rights, traverse_checked=asked),
        rights is not None and keeper(rights),
        tuple(replace(gate, decides=gate is deciding) for gate in gates),
    )


def _source(account: Gate, granted: Gate, gates: list[Gate], result: Level, by_share: bool) -> LevelSource:
    """Where the level comes from, in a word."""
    if account.level == Level.NA:
        return "account"
    if result == granted.level and (by_share or granted.lines):
        return nearest(granted)
    way, listed = gates[2], gates[3]
    if not granted.lines and result == Level.NA and not any(line.way for line in listed.entries):
        return "nothing"
    return "way" if way.level == Level.NA else "list"


def account_gate(plan: Plan, subject: str, on: date) -> Gate:
    user = plan.users.get(subject)
    if user is None:
        name = plan.groups[subject].name
        return Gate(
            "account", "Account", Level.RW, False, f"Asked for somebody who is in {name} and in no other group."
        )
    if not user.enabled:
        return Gate(
            "account", "Account", Level.NA, True, f"{plan.named(subject)} is disabled and gets nothing anywhere."
        )
    if not user.active(on):
        return Gate(
            "account",
            "Account",
            Level.NA,
            True,
            f"{plan.named(subject)} expired on {user.expires} and gets nothing anywhere.",
        )
    return Gate("account", "Account", Level.RW, False, f"{plan.named(subject)} may sign in.")


def grants_gate(plan: Plan, place: str, stored: PlaceState | None, ways: Mapping[str, tuple[str, ...]]) -> Gate:
    """The grants that count on the place, weighed by the clash rule; the administrators setting goes before it."""
    title = f"Grants on {plan.places[place].name}"
    said = stored.grants if stored is not None else None
    if said is not None:
        concerned = [(grant.who, grant.level, grant.said_on) for grant in said if grant.who in ways]
    else:
        concerned = [(who, level, place) for who, level in plan.grants.get(place, {}).items() if who in ways]
    subject = next(iter(ways))
    parts = [TieredGrant(tier(plan, subject, who), level) for who, level, _ in concerned]
    level, verdicts = decide(plan.target, parts)
    lines = tuple(
        GrantLine(who, part.level, part.tier, verdict, ways[who], said_on)
        for (who, _, said_on), part, verdict in zip(concerned, parts, verdicts, strict=True)
    )
    boss = plan.target.administrators
    if boss is not None and boss in ways and (stored is None or stored.by_share or stored.grants):
        overruled = tuple(replace(line, verdict="outranked") for line in lines)
        first = GrantLine(boss, Level.RW, "admin", "decides", ways[boss], place)
        sentence = (
            f"Members of {plan.named(boss)} always get read-write here; the grants below change nothing for them."
        )
        return Gate("share", title, Level.RW, False, sentence, (first, *overruled))
    others = len(said) if said is not None else len(plan.grants.get(place, {}))
    sentence = _sentence(plan, subject, others, level, lines)
    if stored is not None and not stored.by_share:
        sentence += " The list enforces this; the share lets everybody through."
    return Gate("share", title, level, False, sentence, lines)


def _sentence(plan: Plan, subject: str, others: int, level: Level, lines: tuple[GrantLine, ...]) -> str:
    if not lines:
        said = "Nothing is granted here at all" if not others else "No grant here concerns them"
        return f"{said}, and nothing said gives no access."
    names = " and ".join(_grantee(plan, subject, line) for line in lines if line.verdict == "decides")
    if len({line.level for line in lines}) == 1:
        return f"{names}: {level.words}. The grants agree." if len(lines) > 1 else f"{names}: {level.words}."
    if any(line.verdict == "farther" for line in lines):
        return f"{names}: {level.words}. The nearest grants decide, so farther ones do not count."
    if plan.target.combining == "refusal" and level != Level.NA:
        return f"{names}: {level.words}. Nobody refuses, so the widest counts."
    return f"{names}: {level.words}. {WITHIN_WORDS[plan.target.combining].capitalize()}."


def _grantee(plan: Plan, subject: str, line: GrantLine) -> str:
    if line.who == EVERYONE:
        return "Everyone"
    return "Their own grant" if line.who == subject and subject in plan.users else plan.named(line.who)


def nearest(granted: Gate) -> LevelSource:
    deciding = {line.tier for line in granted.lines if line.verdict == "decides"}
    for near in ("admin", "own", "group", "all"):
        if near in deciding:
            return near
    return "nothing"


def _disagree(granted: Gate) -> bool:
    """Grants that disagree come out differently under another rule (widest against narrowest, all counting together)."""
    return len({line.level for line in granted.lines}) > 1 and all(line.tier != "admin" for line in granted.lines)


# --- storage ----------------------------------------------------------------------------------------------------------


def way_gate(
    plan: Plan, storage: StorageState, subject: str, place: str, ways: Collection[str], start: str | None = None
) -> Gate:
    """Every folder from the pool, or `start`, down to the place lets somebody enter, or the way ends there."""
    path = plan.path(place)
    above = path[0 if start is None else path.index(start) : -1]
    if plan.target.traverse == "bypassed":
        return Gate("way", "Way there", Level.RW, False, "This appliance asks no right for passing through folders.")
    steps = tuple(WayStep(p, bool(rights_on(plan, storage[p], subject, ways).folder & EXECUTE)) for p in above)
    shut = next((step.place for step in steps if not step.enters), None)
    name = plan.named(subject)
    if shut is not None:
        sentence = f"{name} may not enter {plan.path_name(shut)}, so nothing below it can be reached."
        return Gate("way", "Way there", Level.NA, False, sentence, steps=steps)
    sentence = f"{name} may enter every folder above." if steps else "There is no folder above."
    return Gate("way", "Way there", Level.RW, False, sentence, steps=steps)


def list_gate(
    plan: Plan, stored: PlaceState, subject: str, place: str, ways: Mapping[str, tuple[str, ...]], rights: Rights
) -> Gate:
    """What the list gives, and each line's part in it."""
    title = f"List of {plan.places[place].name}"
    result = level(rights, traverse_checked=plan.target.traverse == "checked")
    user = plan.users.get(subject)
    if user is not None and user.uid == 0:
        return Gate("list", title, result, False, f"{plan.named(subject)} has uid 0, and root passes every list.")
    names = names_on(plan, stored.owner, stored.group, subject, ways)
    if isinstance(stored.list, Nfs4State):
        entries = _ordered_lines(stored.list.lines, names, stored, ways)
    else:
        assert stored.list is not None
        entries = _posix_lines(stored.list, names, stored, ways)
    return Gate("list", title, result, False, _list_sentence(plan, subject, entries, result), entries=entries)


def _list_sentence(plan: Plan, subject: str, entries: tuple[ListLine, ...], result: Level) -> str:
    deciding = [line for line in entries if line.verdict == "decides" and (line.folder or line.file)]
    if not deciding:
        return f"No line of the list gives {plan.named(subject)} anything: {result.words}."
    names = list(dict.fromkeys(_line_name(plan, line) for line in deciding))
    return f"{' and '.join(names[:3])}{' and others' if len(names) > 3 else ''}: {result.words}."


def _line_name(plan: Plan, line: ListLine) -> str:
    if line.who:
        return plan.named(line.who)
    return {"user": "The owner's entry", "group": "The owning group's entry"}.get(line.says, "Everybody else's entry")


def _ordered_lines(
    lines: tuple[EntryLine, ...], names: Collection[str], stored: PlaceState, ways: Mapping[str, tuple[str, ...]]
) -> tuple[ListLine, ...]:
    entries = [line.entry for line in lines]
    files: list[Entry | None] = [nfs4.on_file(entry) for entry in entries]
    on_folder = nfs4.decided(entries, names)
    here = iter(nfs4.decided([file for file in files if file is not None], names))
    on_file = [next(here) if file is not None else 0 for file in files]
    found = []
    for line, folder, file, inherited in zip(lines, on_folder, on_file, files, strict=True):
        entry = line.entry
        verdict: Literal["decides", "too late", "not theirs", "not here"] = "decides"
        if entry.who not in names:
            verdict = "not theirs"
        elif not entry.counts_here and inherited is None:
            verdict = "not here"
        elif not folder and not file:
            verdict = "too late"
        way = _way_to(entry.who, stored, ways) if entry.who in names and entry.counts_here else ()
        found.append(
            ListLine(
                entry.type, entry.who, entry.mask, entry.flags, line.said_on, line.made, verdict, folder, file, way
            )
        )
    return tuple(found)


def _way_to(who: str, stored: PlaceState, ways: Mapping[str, tuple[str, ...]]) -> tuple[str, ...]:
    """From somebody to an entry's who; owner@ by way of themselves, group@ by way of the owning group."""
    if who == OWNER:
        return (next(iter(ways)), OWNER)
    return (*ways[stored.group], GROUP) if who == GROUP else ways[who]


def _posix_lines(
    laid_list: PosixState, names: Collection[str], stored: PlaceState, ways: Mapping[str, tuple[str, ...]]
) -> tuple[ListLine, ...]:
    owner, in_group = OWNER in names, GROUP in names
    parts = []
    for entries in (laid_list.access, laid_list.file):
        deciding = posix.matching(entries, names, owner, in_group)
        parts.append({(e.tag, e.who): e.perms for e in deciding})
    on_folder, on_file = parts
    mask = posix.mask_of(laid_list.access)
    held = {key: perms for part in parts for key, perms in part.items()}
    found = []
    for entry in laid_list.access:
        key = (entry.tag, entry.who)
        origin = laid_list.origins.get(key)
        said_on, made = origin if origin is not None else ("", COMPUTED)
        folder = (
            posix.rights_on_folder([PosixEntry(entry.tag, entry.who, on_folder[key])], owner) if key in on_folder else 0
        )
        file = posix.rights_on_file([PosixEntry(entry.tag, entry.who, on_file[key])], owner) if key in on_file else 0
        theirs = _theirs(entry, names, owner, in_group) and not (entry.who and not mask)
        verdict: Literal["decides", "too late", "not theirs", "limits", "idle"] = "not theirs"
        if entry.tag == "mask":
            limited = any(
                e.perms & ~entry.perms for e in laid_list.access if (e.tag, e.who) in held and e.tag != "other"
            )
            verdict = "decides" if key in held else "limits" if limited and not owner else "idle"
        elif key in held:
            verdict = "decides"
        elif theirs:
            verdict = "too late"
        elif entry.who and not mask:
            verdict = "idle"
        way: tuple[str, ...] = ()
        if theirs and entry.tag != "mask":
            special = {"user": OWNER, "group": GROUP, "other": EVERYONE}[entry.tag]
            way = _way_to(entry.who or special, stored, ways)
        if entry.tag == "other" and (verdict != "decides" or not entry.perms):
            way = ()
        found.append(ListLine(entry.tag, entry.who, entry.perms, 0, said_on, made, verdict, folder, file, way))
    return tuple(found)


def _theirs(entry: PosixEntry, names: Collection[str], owner: bool, in_group: bool) -> bool:
    match entry.tag:
        case "user":
            return entry.who in names if entry.who else owner
        case "group":
            return entry.who in names if entry.who else in_group
        case _:
            return entry.tag == "other"
