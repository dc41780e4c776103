"""Findings about shares: who gets in at the share and who in storage, guests, services, names."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from yardgate.core.access.bitsets import unpack
from yardgate.core.access.membership import token
from yardgate.core.access.paths import PROTOCOLS, is_on, members
from yardgate.core.access.storage import Nfs4State, granted_on, rights_on
from yardgate.core.access.visibility import listing
from yardgate.core.acl import Entry
from yardgate.core.acl.rights import LEVELS, Level, level
from yardgate.core.edits.records import Edit, PutService, PutShare, RemoveShare, SetGrant
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import EVERYONE, GUEST, Plan
from yardgate.core.model.share import Over, Service, Share
from yardgate.core.policy.findings.case import Case, Check, Finding, Findings


def storage_unshared(case: Case) -> Findings:
    """Storage lets somebody in by a line by hand, and the share does not: two layers decide, and only one was edited.

    Grant it at the share as well."""
    for share in case.plan.shares.values():
        stored = case.storage.get(share.place)
        if not share.smb or stored is None or stored.list is None or not stored.by_share or not is_on(case.plan, "smb"):
            continue
        edits: list[Edit] = []
        stopped: list[str] = []
        for who in _by_hand(case, share.place):
            granted = granted_on(case.plan, case.storage, share.place)
            gets = _by_list(case, who, share.place)
            told = granted.keys() & token(case.plan, who).keys()
            if gets >= Level.RO and not told:
                edits.append(SetGrant(share.place, who, gets))
                stopped.append(who)
        if stopped:
            said = f"The list of {case.path(share.place)} lets {case.names(stopped)} in, and the share {share.name} says nothing of them."
            cells = tuple((who, share.place) for who in _people(case.plan, stopped))
            yield Finding(
                "storage-unshared",
                "consider",
                (share.id,),
                said,
                cells,
                tuple(edits),
                "Grant them the same at the share.",
            )


def _by_hand(case: Case, place: str) -> Iterable[str]:
    """Users and groups that lines by hand on a place give something."""
    listed = case.storage[place].list
    if isinstance(listed, Nfs4State):
        entries = [line.entry for line in listed.lines if line.made == "hand"]
        named = [e.who for e in entries if isinstance(e, Entry) and e.type == "allow"]
    else:
        named = [
            who for (_, who), (_, made) in (listed.origins.items() if listed is not None else ()) if made == "hand"
        ]
    return (who for who in dict.fromkeys(named) if case.plan.account(who) is not None)


def _by_list(case: Case, who: str, place: str) -> Level:
    rights = rights_on(case.plan, case.storage[place], who, token(case.plan, who))
    return level(rights, traverse_checked=case.plan.target.traverse == "checked")


def _people(plan: Plan, whos: Iterable[str]) -> list[str]:
    """The users whom some users and groups take in."""
    wanted = set(whos)
    return [user for user in plan.users if not wanted.isdisjoint(token(plan, user))]


def guest_shut_out(case: Case) -> Findings:
    """Everyone is granted the place, and the share lets no guests in.

    That is right where everyone means all who have an account. Where it is a public folder, let guests in at the share, too."""
    for share in case.plan.shares.values():
        stored = case.storage.get(share.place)
        said = case.plan.grants.get(share.place, {}).get(EVERYONE, Level.NA)
        if (
            share.guests == Level.NA
            and share.smb
            and said > Level.NA
            and stored is not None
            and stored.list is not None
        ):
            sentence = f"Everyone is granted {case.path(share.place)}, and {share.name} lets no guests in."
            open_ = (PutShare(replace(share, guests=said)),)
            fix = () if case.price(open_).takes else open_
            does = f"Let guests in at the share: {said.words}." if fix else ""
            yield Finding("guest-shut-out", "note", (share.id,), sentence, ((GUEST, share.place),), fix, does)


def guest_promised_away(case: Case) -> Findings:
    """Guests get in where a promise says that they, or all others, must not.

    Close the share to guests."""
    for promise in case.plan.promises.values():
        if promise.must or promise.who not in (GUEST, EVERYONE):
            continue
        for share in case.shared.get(promise.place, ()):
            if share.guests != Level.NA and share.smb and case.level(GUEST, promise.place) > Level.NA:
                said = f"{share.name} lets guests into {case.path(promise.place)}, and a promise says they must not."
                fix = (PutShare(replace(share, guests=Level.NA)),)
                yield Finding(
                    "guest-promised-away",
                    "serious",
                    (share.id, promise.id),
                    said,
                    ((GUEST, promise.place),),
                    fix,
                    "Close the share to guests.",
                )


def hidden_guests(case: Case) -> Findings:
    """A share is hidden and lets guests in. Hiding keeps its name from a list and nobody from its contents.

    Whoever knows the name gets in without an account. Close it to guests, or show it."""
    for share in case.plan.shares.values():
        if share.hidden and share.guests != Level.NA and share.smb:
            said = f"{share.name} is not listed, and whoever knows its name gets in without an account ({share.guests.words})."
            fix = (PutShare(replace(share, guests=Level.NA)),)
            yield Finding(
                "hidden-guests",
                "consider",
                (share.id,),
                said,
                ((GUEST, share.place),),
                fix,
                "Close the share to guests.",
            )


def share_empty(case: Case) -> Findings:
    """Nobody gets in over a share, though its service is on.

    Grant its place to somebody, or stop sharing it."""
    for share in case.plan.shares.values():
        overs = [over for over in case.outcome.over if over.share == share.id]
        if overs and all(not _enters(case, over).any() for over in overs):
            said = f"Nobody gets in over {share.name}."
            yield Finding("share-empty", "serious", (share.id,), said)


def _enters(case: Case, over: Over) -> np.ndarray:
    users = case.matrix.counting.users
    columns = case.outcome.over[over]
    top = columns[case.plan.shares[over.share].place]
    return np.append(top[:users], top[-1]) > Level.NA.code


def share_unoffered(case: Case) -> Findings:
    """A share is offered over no protocol: nobody can see it.

    Switch a protocol on for it, or take it away."""
    for share in case.plan.shares.values():
        if not share.smb and not share.nfs:
            yield Finding(
                "share-unoffered",
                "consider",
                (share.id,),
                f"{share.name} is offered over no protocol.",
                (),
                (RemoveShare(share.id),),
                "Stop sharing it; the place stays as it is.",
            )


def service_off(case: Case) -> Findings:
    """A share is offered over a service that is switched off.

    Switch the service on."""
    for protocol in PROTOCOLS:
        shares = [share for share in case.plan.shares.values() if share.over(protocol)]
        if shares and not is_on(case.plan, protocol):
            name = protocol.upper()
            said = f"{name} is switched off, and {_share_names(shares)} {'are' if len(shares) > 1 else 'is'} offered over it."
            service = case.plan.services.get(protocol, Service(id=protocol))
            fix = (PutService(replace(service, on=True)),)
            yield Finding("service-off", "serious", (protocol,), said, (), fix, f"Switch {name} on.")


def _share_names(shares: Sequence[Share]) -> str:
    names = [share.name for share in shares]
    if len(names) > 4:
        return f"{len(names)} shares"
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def share_new(case: Case) -> Findings:
    """A share is new: the appliance has to read its configuration again before anybody sees it.

    The rollout does that; clients that were open all the while see it after they connect again."""
    if case.in_force is None:
        return
    there = {share.id for share in case.in_force.shares.values()}
    for share in case.plan.shares.values():
        if share.id not in there and (share.smb or share.nfs):
            said = f"{share.name} is new: nobody sees it until the service has read its configuration again."
            yield Finding("share-new", "note", (share.id,), said)


def share_names(case: Case) -> Findings:
    """Two shares have names that differ only in case. To a client they are one, and the server takes the later one's settings.

    Rename one of them."""
    first: dict[str, Share] = {}
    taken = {fold(share.name) for share in case.plan.shares.values()}
    for share in sorted(case.plan.shares.values(), key=lambda share: share.id):
        other = first.setdefault(fold(share.name), share)
        if other is not share:
            number = next(n for n in range(2, len(taken) + 3) if fold(f"{share.name}-{n}") not in taken)
            fix = (PutShare(replace(share, name=f"{share.name}-{number}")),)
            said = f"{other.name} ({case.path(other.place)}) and {share.name} ({case.path(share.place)}) are one name to a client."
            yield Finding(
                "share-names",
                "serious",
                (share.id, other.id),
                said,
                (),
                fix,
                f"Call the second one {share.name}-{number}.",
            )


def runner_not_granted(case: Case) -> Findings:
    """Somebody runs a share and may not enter it: acting as root inside lifts nothing that is decided before.

    Grant them the share's place."""
    for share in case.plan.shares.values():
        over = Over(share.id, "smb")
        who = share.administrator
        if who is None or over not in case.outcome.over:
            continue
        shut = [
            user
            for user in _people(case.plan, [who])
            if case.plan.users[user].active(case.on)
            and LEVELS[case.outcome.over[over][share.place][case.outcome.number(user)]] == Level.NA
        ]
        if shut and case.plan.grants.get(share.place, {}).get(who) is None:
            said = f"{case.plan.named(who)} runs {share.name}, and {case.names(shut)} may not enter it."
            granted = (SetGrant(share.place, who, Level.RW),)
            fix = () if case.price(granted).takes else granted
            cells = tuple((user, share.place) for user in shut)
            yield Finding(
                "runner-not-granted",
                "serious",
                (share.id, who),
                said,
                cells,
                fix,
                f"Grant {case.plan.named(who)} read-write on {case.path(share.place)}." if fix else "",
            )


def unreached_grants(case: Case) -> Findings:
    """Somebody is granted a place that no share leads to: nobody can use what they are given.

    Share it, or share something above it."""
    if not case.plan.shares:
        return
    above = {step for share in case.plan.shares.values() for step in case.plan.path(share.place)}
    for place, said in case.plan.grants.items():
        whos = [who for who, level in said.items() if level > Level.NA]
        if whos and place not in above and place not in case.shared:
            are = "are" if len(whos) > 1 else "is"
            sentence = f"{case.names(whos)} {are} granted {case.path(place)}, and no share leads there."
            yield Finding("unreached", "consider", (place,), sentence)


def path_unseen(case: Case) -> Findings:
    """Somebody is granted a place deep in a share and may only pass through the folders above it: they see no names there.

    They have to know the path and type it. That may be just what is meant; else share the place itself, or grant reading above."""
    granted = [place for place, said in case.plan.grants.items() if any(level > Level.NA for level in said.values())]
    lists = listing(case.matrix, {step for place in granted for step in case.plan.path(place)[:-1]})
    size, users = len(case.matrix.counting.subjects), case.matrix.counting.users
    for place in granted:
        named = np.zeros(users, dtype=np.bool_)
        for who, said in case.plan.grants[place].items():
            if said > Level.NA and who != EVERYONE:
                named |= members(case.matrix, who)[:users]
        gets_in = case.outcome.best["smb"][place][:users] >= Level.RO.code
        sees = np.zeros(users, dtype=np.bool_)
        for way in case.outcome.ways_to(place, "smb"):
            path = case.plan.path(place)
            steps = path[path.index(case.plan.shares[way.share].place) : -1]
            here = case.outcome.over[way][place][:users] >= Level.RO.code
            for step in steps:
                here &= unpack(lists[step], size)[:users] if step in lists else True
            sees |= here
        blind = [case.matrix.counting.subjects[n] for n in np.flatnonzero(named & gets_in & ~sees).tolist()]
        if blind:
            cells = tuple((who, place) for who in blind)
            one = len(blind) == 1
            sentence = f"{case.names(blind)} {'gets' if one else 'get'} into {case.path(place)}, and {'does' if one else 'do'} not see the way there: in a folder above it no names are shown to them."
            yield Finding("path-unseen", "note", (place,), sentence, cells)


def two_identities(case: Case) -> Findings:
    """The same folder is written over SMB and over NFS, by different identities.

    Files made over NFS belong to the numbers that the host claims, or to the guest, and carry its mode; people over SMB may
    find that they cannot change them, and the other way round. Let the folder keep its group (setgid) with a default list, or
    write over one of the two only."""
    for share in case.plan.shares.values():
        over = Over(share.id, "nfs")
        if over not in case.outcome.over:
            continue
        for place, column in case.outcome.over[over].items():
            smb = case.outcome.best["smb"][place]
            both = bool((column == Level.RW.code).any() and (smb == Level.RW.code).any())
            stored = case.storage.get(place)
            kept = (
                stored is not None
                and stored.list is not None
                and stored.list.style == "posix"
                and stored.list.default is not None
            )
            if both and not kept and (place == share.place or place in case.plan.grants):
                said = f"{case.path(place)} is written over SMB and, through {share.name}, over NFS; files of the one may be shut to the other."
                yield Finding("two-identities", "consider", (place, share.id), said)
                break


CHECKS = (
    Check("storage-unshared", "consider", "Storage opens and the share does not", storage_unshared),
    Check("guest-shut-out", "note", "Everyone is granted and guests are not let in", guest_shut_out),
    Check("guest-promised-away", "serious", "Guests get in where a promise says no", guest_promised_away),
    Check("hidden-guests", "consider", "A hidden share lets guests in", hidden_guests),
    Check("share-empty", "serious", "Nobody gets in over a share", share_empty),
    Check("share-unoffered", "consider", "A share is offered over no protocol", share_unoffered),
    Check("service-off", "serious", "A share is on a service that is off", service_off),
    Check("share-new", "note", "A new share waits for the service", share_new),
    Check("share-names", "serious", "Two shares are one name to a client", share_names),
    Check("runner-not-granted", "serious", "Who runs a share may not enter it", runner_not_granted),
    Check("unreached", "consider", "Granted, and no share leads there", unreached_grants),
    Check("path-unseen", "note", "Granted deep down, and the way is not shown", path_unseen),
    Check("two-identities", "consider", "One folder written over SMB and NFS", two_identities),
)
