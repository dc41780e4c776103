"""Id mapping: which uid or gid a directory's account has on the appliance; and what is wrong with its accounts here."""

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Literal, get_args

from yardgate.core.access.storage import StorageState, named_by
from yardgate.core.model.directory import Directory, Linked, rid_of
from yardgate.core.model.mentions import mentioned
from yardgate.core.model.names import unix_trouble
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import LOCAL, Group, Plan, User


def numbers(
    directory: Directory, accounts: Mapping[str, Linked], kept: Mapping[str, int]
) -> tuple[Mapping[str, int | None], Directory]:
    """Key -> uid or gid, and the directory with its table brought up to date. kept: the numbers that accounts have now.

    Users and groups draw from one range, as Windows accounts do: a SID stands for one or the other, never for both.
    """
    match directory.numbering:
        case "offset":
            return {key: _offset(directory, account.record.sid) for key, account in accounts.items()}, directory
        case "directory":
            return {key: account.record.number for key, account in accounts.items()}, directory
        case "table":
            return _table(directory, accounts, kept)


def _offset(directory: Directory, sid: str | None) -> int | None:
    rid = rid_of(sid) if sid is not None else None
    number = None if rid is None else directory.low + rid
    return number if number is not None and number <= directory.high else None


def _table(
    directory: Directory, accounts: Collection[str], kept: Mapping[str, int]
) -> tuple[Mapping[str, int | None], Directory]:
    """Who has a number of the range keeps it; the others get the next that nobody has had, in the order of their keys."""
    found: dict[str, int | None] = {}
    used = {number for number in kept.values() if directory.low <= number <= directory.high}
    following = max([directory.low, directory.next or 0, *(number + 1 for number in used)])
    for key in sorted(accounts):
        number = kept.get(key)
        if number is None or number not in used:
            number, following = (following, following + 1) if following <= directory.high else (None, following)
        found[key] = number
    return found, replace(directory, next=following)


NumberKind = Literal["collision", "local range", "beyond", "missing", "unmapped"]
NUMBER_KINDS = get_args(NumberKind)


@dataclass(frozen=True, slots=True)
class AccountTrouble:
    """Something wrong with accounts of a directory on this appliance, mostly with their numbers. whos: their ids in the plan."""

    kind: NumberKind | Literal["name", "unknown member"]
    whos: tuple[str, ...]
    words: str


def troubles(plan: Plan, directory: Directory) -> tuple[AccountTrouble, ...]:
    """What is wrong with a directory's accounts that are still there: with their numbers, their names, and their members."""
    return (
        *_collisions(plan, directory),
        *_in_local_range(plan, directory),
        *_without(plan, directory),
        *_odd_names(plan, directory),
        *_unknown_members(plan, directory),
    )


def _mapped(plan: Plan) -> Iterator[tuple[str, str, str, int | None]]:
    """(what, id, origin, number) of all users and groups that are still there."""
    yield from (("uid", user.id, user.origin, user.uid) for user in plan.users.values() if not user.gone)
    yield from (("gid", group.id, group.origin, group.gid) for group in plan.groups.values() if not group.gone)


def _collisions(plan: Plan, directory: Directory) -> Iterator[AccountTrouble]:
    at: dict[tuple[str, int], list[tuple[str, str]]] = {}
    for what, who, origin, number in _mapped(plan):
        if number is not None:
            at.setdefault((what, number), []).append((who, origin))
    for (what, number), found in at.items():
        if len(found) > 1 and any(origin == directory.id for _, origin in found):
            whos = tuple(who for who, _ in found)
            names = " and ".join(plan.called(who) for who in whos)
            yield AccountTrouble("collision", whos, f"{names} have one {what}, {number}: on storage they are the same")


def _in_local_range(plan: Plan, directory: Directory) -> Iterator[AccountTrouble]:
    local = [number for _, _, origin, number in _mapped(plan) if origin == LOCAL and number is not None]
    if not local:
        return
    low, high = min(local), max(local)
    for what, who, origin, number in _mapped(plan):
        if origin == directory.id and number is not None and low <= number <= high:
            yield AccountTrouble(
                "local range",
                (who,),
                f"the {what} {number} of {plan.called(who)} lies among those of local accounts ({low} to {high}): the next local account may get it",
            )


def _without(plan: Plan, directory: Directory) -> Iterator[AccountTrouble]:
    for what, who, origin, number in _mapped(plan):
        if origin != directory.id or number is not None:
            continue
        sid = (plan.users.get(who) or plan.groups[who]).sid
        rid = rid_of(sid) if sid is not None else None
        if directory.numbering == "directory":
            attribute = "uidNumber" if what == "uid" else "gidNumber"
            yield AccountTrouble(
                "missing", (who,), f"{plan.called(who)} has no {attribute} in the directory: no {what} here"
            )
        elif directory.numbering == "table":
            yield AccountTrouble(
                "beyond", (who,), f"the range up to {directory.high} is used up: no {what} for {plan.called(who)}"
            )
        elif rid is None:
            yield AccountTrouble(
                "unmapped", (who,), f"{plan.called(who)} is not an account of the domain itself: no {what} by RID"
            )
        else:
            yield AccountTrouble(
                "beyond",
                (who,),
                f"the RID {rid} of {plan.called(who)} leads beyond {directory.high}: no {what}; widen the range",
            )


def _odd_names(plan: Plan, directory: Directory) -> Iterator[AccountTrouble]:
    """Names that Unix tools refuse, those of one kind together: a domain has many with a space."""
    by_reason: dict[str, list[User | Group]] = {}
    accounts: tuple[User | Group, ...] = (*plan.users.values(), *plan.groups.values())
    for account in accounts:
        if account.origin == directory.id and not account.gone and (why := unix_trouble(account.name)):
            by_reason.setdefault(why, []).append(account)
    for why, odd in by_reason.items():
        names = ", ".join(account.name for account in odd[:5]) + (f" and {len(odd) - 5} more" if len(odd) > 5 else "")
        words = f"{names}: {why}, which tools on Unix refuse in a name"
        yield AccountTrouble("name", tuple(account.id for account in odd), words)


def _unknown_members(plan: Plan, directory: Directory) -> Iterator[AccountTrouble]:
    for group in plan.groups.values():
        if group.origin == directory.id and group.unknown:
            words = f"{plan.called(group.id)} names {len(group.unknown)} who are not among the accounts read: {'; '.join(group.unknown[:3])}"
            yield AccountTrouble("unknown member", (group.id,), words)


@dataclass(frozen=True, slots=True)
class Move:
    """An account whose number becomes another. owns, listed: places whose owner or group it is, and whose list names it."""

    who: str
    was: int | None
    becomes: int | None
    owns: tuple[str, ...]
    listed: tuple[str, ...]


def moves(before: Plan, after: Plan, storage: StorageState) -> tuple[Move, ...]:
    """Accounts that get another number than they have, with the places where the appliance has the old one written down,
    such accounts first.

    storage: how storage stands in the plan before.
    """
    was = {who: number for _, who, _, number in _mapped(before)}
    moved = {who: number for _, who, _, number in _mapped(after) if was.get(who) is not None and was[who] != number}
    owns: dict[str, list[str]] = {}
    listed: dict[str, list[str]] = {}
    for place in before.places.values():
        stored = storage.get(place.id)
        owners = (stored.owner, stored.group) if stored is not None else ()
        named = set(named_by(stored.list)) if stored is not None and stored.list is not None else mentioned(place)
        for who in moved.keys() & set(owners):
            owns.setdefault(who, []).append(place.id)
        for who in moved.keys() & named:
            listed.setdefault(who, []).append(place.id)
    found = (
        Move(who, was[who], number, tuple(owns.get(who, ())), tuple(listed.get(who, ())))
        for who, number in moved.items()
    )
    return tuple(sorted(found, key=lambda move: (not (move.owns or move.listed), fold(before.called(move.who)))))
