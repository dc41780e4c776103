"""Ways in: what somebody gets over one share and protocol. `explain_over` gate by gate, `resolve_over` for everybody at once.

The gates, in order: the account, the service, the share (over SMB the grants it carries, over NFS the host), the way there,
the list. The lowest counts, and the first that is as low is the reason.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.combine import weigh
from yardgate.core.access.batch.resolve import Codes, Matrix, by_way_and_list, lowest, to_codes
from yardgate.core.access.bitsets import Bits, Classes, count, pack, unpack
from yardgate.core.access.membership import Token, token
from yardgate.core.access.nfs_hosts import most
from yardgate.core.access.spec.explain import Gate, Reason, account_gate, grants_gate, list_gate, nearest, way_gate
from yardgate.core.access.storage import StorageState, granted_on, named_by, rights_on, storage_state
from yardgate.core.acl.rights import EVERYTHING, Level, keeper, level, odd
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import EVERYONE, GUEST, LOCAL, Plan
from yardgate.core.model.share import Over, Protocol, ServiceId, Share, Squash, host_rule

CLAIMED = 16  # supplementary groups that fit into an AUTH_SYS credential (RFC 5531 appendix A)
PROTOCOLS: tuple[Protocol, ...] = ("smb", "nfs")


def offered(plan: Plan) -> Iterator[Over]:
    """Every way in that the plan offers: shares, over protocols whose service is on."""
    for share in plan.shares.values():
        for protocol in PROTOCOLS:
            if share.over(protocol) and is_on(plan, protocol):
                yield Over(share.id, protocol)


def is_on(plan: Plan, service: ServiceId) -> bool:
    return service not in plan.services or plan.services[service].on


def kept_to(plan: Plan, service: ServiceId) -> frozenset[str] | None:
    """The users and groups that a service is for; None: everybody."""
    return plan.services[service].allowed if service in plan.services else None


def may_use(plan: Plan, who: str, service: ServiceId) -> bool:
    """Whether a service is on and lets a user or a group's members use it."""
    only = kept_to(plan, service)
    return is_on(plan, service) and (only is None or any(one in only for one in token(plan, who)))


def inside(plan: Plan, share: Share) -> Sequence[str]:
    """The place that a share offers, and all below it, depth first and by name."""
    found: list[str] = []
    stack = [share.place]
    while stack:
        here = stack.pop()
        found.append(here)
        stack += sorted(plan.inside.get(here, ()), key=lambda place: fold(plan.places[place].name), reverse=True)
    return found


def identity(plan: Plan, subject: str, over: Over) -> tuple[str, Token]:
    """As whom storage sees somebody, and all that they count as there.

    Over SMB a share may have everybody act as one user, or be in one group besides (smb.conf(5), force user and force group), which takes the
    place of a primary group (`displaced`). A guest is the account that the host has for it, where the plan knows that.
    Over NFS a client claims numeric ids: root, or everybody, may be squashed to the guest (exports(5)), and of more groups
    than fit only the first are sent, in the order of their numbers.
    """
    share = plan.shares[over.share]
    if over.protocol == "nfs":
        return _squashed(plan, subject, share.squash)
    who, ways = _as(plan, share.acts_as or subject)
    also = share.acts_as_group
    if also is None:
        return who, ways
    lost = displaced(plan, share, who)
    kept = {one: way for one, way in ways.items() if one != lost}
    return who, kept if also in kept else {**kept, also: (who, also)}


def displaced(plan: Plan, share: Share, who: str) -> str | None:
    """The primary group as which somebody does not count inside a share, since the group that all are in takes its place.

    So it is with accounts of a directory, whose primary group their list of groups does not have once more (MS-PAC 2.5, GroupIds); a
    host's own accounts are in theirs twice (initgroups(3)).
    """
    user = plan.users.get(who)
    if share.acts_as_group is None or user is None or user.origin == LOCAL or user.primary_group == share.acts_as_group:
        return None
    return user.primary_group


def _as(plan: Plan, subject: str) -> tuple[str, Token]:
    if subject != GUEST:
        return subject, token(plan, subject)
    account = plan.guest_account
    ways = {GUEST: (GUEST,), EVERYONE: (GUEST, EVERYONE)}
    if account is None:
        return GUEST, ways
    return account, {**{who: way for who, way in token(plan, account).items() if who != plan.target.baseline}, **ways}


def _squashed(plan: Plan, subject: str, squash: Squash) -> tuple[str, Token]:
    user = plan.users.get(subject)
    if subject == GUEST or squash == "all":
        return _as(plan, GUEST)
    ways = token(plan, subject)
    left_out = set(unclaimed(plan, subject, ways))
    if squash == "root":  # gid 0 as well; the other groups stay, even those of root
        left_out |= {who for who in ways if who in plan.groups and plan.groups[who].gid == 0}
        if user is not None and user.uid == 0:
            left_out.add(subject)
            subject, ways = plan.guest_account or GUEST, {GUEST: (GUEST,), **ways}
    return subject, {who: way for who, way in ways.items() if who not in left_out}


def way_over(plan: Plan, storage: StorageState, subject: str, place: str, over: Over) -> Gate:
    """The way gate over one way in.

    Over NFS somebody is squashed inside a share; above its top, where folders ask the right to enter at all
    (`Target.nfs_traverse`), nobody is, root neither: the server shows those folders on its own account (RFC 7530 section 7.3).
    """
    who, ways = identity(plan, subject, over)
    if over.protocol == "smb":
        return way_gate(plan, storage, who, place, ways)
    top = plan.shares[over.share].place
    within = way_gate(plan, storage, who, place, ways, top)
    if plan.target.nfs_traverse == "bypassed" or plan.target.traverse == "bypassed":
        return within
    claimed, claims = _squashed(plan, subject, "none")
    above = way_gate(plan, storage, claimed, top, claims)
    shown = above if above.level == Level.NA or (within.level == Level.RW and not within.steps) else within
    return replace(shown, steps=above.steps + within.steps)


def unclaimed(plan: Plan, subject: str, ways: Token) -> Sequence[str]:
    """The groups that an NFS client cannot claim beside the others. The primary group is claimed apart from them."""
    user = plan.users.get(subject)
    if user is None:
        return ()
    groups = [plan.groups[who] for who in ways if who in plan.groups and who != user.primary_group]
    groups.sort(key=lambda group: (group.gid is None, group.gid, group.id))
    return [group.id for group in groups[CLAIMED:]]


# --- one user, one place ----------------------------------------------------------------------------------------------


def explain_over(
    plan: Plan, subject: str, place: str, over: Over, on: date, storage: StorageState | None = None
) -> Reason:
    """The reason for one cell over one way in. subject: a user, a group (somebody in it alone), or the guest.

    Raises KeyError for an id that is not in the plan, and where the share does not reach the place.
    """
    share = plan.shares[over.share]
    if share.place not in plan.path(place):
        raise KeyError(place)
    storage = storage_state(plan, count(plan, on)) if storage is None else storage
    stored = storage.get(place)
    who, ways = identity(plan, subject, over)
    shared = _share_gate(plan, subject, over, storage)
    gates = [_account(plan, subject, over, on), _service(plan, subject, over), shared]
    rights = None
    if stored is not None and stored.list is not None:
        rights = rights_on(plan, stored, who, ways)
        if over.protocol == "smb" and share.administrator in _as(plan, subject)[1]:
            rights = EVERYTHING
            words = f"{plan.named(subject)} runs this share and acts as root inside it."
            title = f"List of {plan.places[place].name}"
            gates += [Gate("way", "Way there", Level.RW, False, words), Gate("list", title, Level.RW, False, words)]
        else:
            way = way_over(plan, storage, subject, place, over)
            gates += [way, list_gate(plan, stored, who, place, ways, rights)]
    result = min(gate.level for gate in gates)
    passed = {"account", "service", "way"} if result > Level.NA else set()
    if rights is not None and over.protocol == "smb" and not is_by_share(storage, share):
        passed |= {"share"} if shared.level == Level.RW else set()  # the list carries the grants: that decides
    deciding = next(gate for gate in gates if gate.level == result and gate.kind not in passed)
    return Reason(
        subject,
        place,
        result,
        shared.level,
        nearest(shared) if deciding is shared and shared.lines else deciding.kind,
        False,
        stored.enforced_by if stored is not None else "share",
        rights,
        rights is not None and odd(rights, traverse_checked=plan.target.traverse == "checked"),
        rights is not None and keeper(rights),
        tuple(replace(gate, decides=gate is deciding) for gate in gates),
    )


def _account(plan: Plan, subject: str, over: Over, on: date) -> Gate:
    user = plan.users.get(subject)
    if subject == GUEST:
        return Gate("account", "Account", Level.RW, False, "A guest needs no account.")
    if over.protocol == "smb" or user is None:
        return account_gate(plan, subject, on)
    if user.uid is None and plan.shares[over.share].squash != "all":
        return Gate(
            "account", "Account", Level.NA, False, f"{plan.named(subject)} has no uid that a client could claim."
        )
    claim = "whoever asks is taken for the guest" if user.uid is None else f"the client claims the uid {user.uid}"
    words = f"NFS asks no password and no account: {claim}."
    if not user.active(on):
        words += " That the account is disabled or expired does not matter to it."
    return Gate("account", "Account", Level.RW, False, words)


def _service(plan: Plan, subject: str, over: Over) -> Gate:
    share, name = plan.shares[over.share], over.protocol.upper()
    service = plan.services.get(over.protocol)
    if not share.over(over.protocol):
        return Gate("service", "Service", Level.NA, False, f"{share.name} is not offered over {name}.")
    if service is None or (service.on and service.allowed is None):
        return Gate("service", "Service", Level.RW, False, f"{name} is on, and {share.name} is offered over it.")
    if not service.on:
        return Gate("service", "Service", Level.NA, False, f"{name} is switched off.")
    fitting = [who for who in token(plan, subject) if who in (service.allowed or ())] if subject != GUEST else []
    if not fitting:
        return Gate("service", "Service", Level.NA, False, f"{plan.named(subject)} may not use {name}.")
    return Gate("service", "Service", Level.RW, False, f"{plan.named(fitting[0])} may use {name}.")


def _share_gate(plan: Plan, subject: str, over: Over, storage: StorageState) -> Gate:
    share = plan.shares[over.share]
    if over.protocol == "nfs":
        found = _host_gate(plan, share, over)
    elif subject == GUEST:
        words = "does not let guests in" if share.guests == Level.NA else f"lets guests in: {share.guests.words}"
        found = Gate("share", f"Share {share.name}", share.guests, False, f"{share.name} {words}.")
    else:
        granted = _granted_gate(plan, subject, share, storage)
        found = granted if is_by_share(storage, share) else replace(granted, level=Level.RW)
        if (lost := displaced(plan, share, share.acts_as or subject)) is not None:
            words = f"Inside, {plan.named(share.acts_as_group or '')} takes the place of their primary group {plan.named(lost)}"
            found = replace(found, sentence=f"{found.sentence} {words}, which does not count there.")
    if share.read_only and found.level > Level.RO:
        return replace(
            found,
            level=Level.RO,
            sentence=f"{found.sentence} {share.name} is read-only, whatever is granted.",
            lines=(),
        )
    return found


def _granted_gate(plan: Plan, subject: str, share: Share, storage: StorageState) -> Gate:
    """What is granted somebody at a share: by its own list, or by its place."""
    ways = token(plan, subject)
    if share.grants is None:
        return grants_gate(plan, share.place, storage.get(share.place), ways)
    own = replace(plan, grants={share.place: share.grants})
    return replace(grants_gate(own, share.place, None, ways), title=f"List of share {share.name}")


def granted_at(plan: Plan, storage: StorageState, share: Share) -> Mapping[str, Level]:
    """The grants that count at a share: its own, or those of its place."""
    return share.grants if share.grants is not None else granted_on(plan, storage, share.place)


def _host_gate(plan: Plan, share: Share, over: Over) -> Gate:
    title = f"Hosts of {share.name}"
    if over.address is None:
        level = most(share.hosts, plan.target.host_rules, plan.target.wildcards)
        words = f"The most that any host gets: {level.words}." if share.hosts else "No host may mount it."
        return Gate("share", title, level, False, words)
    rule = host_rule(share.hosts, plan.target.host_rules, over.address, over.host, plan.target.wildcards)
    if rule is None:
        return Gate(
            "share", title, Level.NA, False, f"No host rule takes in {over.address}, so it may not mount {share.name}."
        )
    return Gate("share", title, rule.level, False, f"{over.address} falls under {rule.hosts}: {rule.level.words}.")


def is_by_share(storage: StorageState, share: Share) -> bool:
    """Whether a share holds people to what is granted, rather than storage alone."""
    stored = storage.get(share.place)
    return share.grants is not None or stored is None or stored.by_share


# --- everybody at once ------------------------------------------------------------------------------------------------


def resolve_over(matrix: Matrix, over: Over, places: Sequence[str] | None = None) -> dict[str, Codes]:
    """The level of every subject in every place of a share, over one way in: place id -> uint8 (subjects,), `Level.code`.

    places: only these of the share's places.
    """
    plan, counting, share = matrix.plan, matrix.counting, matrix.plan.shares[over.share]
    places, size = inside(plan, share) if places is None else places, len(counting.subjects)
    high, low = _let_in(matrix, over)
    free = over.protocol == "nfs" and plan.target.nfs_traverse == "bypassed"
    none = np.zeros_like(high)
    root = (
        counted_as(matrix, share.administrator) if over.protocol == "smb" and share.administrator is not None else none
    )
    found = {}
    for place in places:
        list_high, list_low = by_way_and_list(matrix, place, share.place if free else None)
        if over.protocol == "nfs" and share.squash == "all":  # everybody alike, behind the way to the share's top
            code = _by_storage(plan, matrix.storage, place, over, GUEST, within=True).code
            way = way_to(matrix, over)
            list_high, list_low = (way if code & bit else ~way & way for bit in (2, 1))
        if over.protocol == "smb" and share.acts:
            list_high, list_low = _acting(matrix, over, place)
        found[place] = to_codes(*lowest(high, low, list_high | root, list_low | root), size)
    if over.protocol == "nfs":
        for number in seen_otherwise(matrix):
            subject = counting.subjects[number]
            for place in places:
                found[place][number] = explain_over(plan, subject, place, over, matrix.on, matrix.storage).level.code
    return found


def _acting(matrix: Matrix, over: Over, place: str) -> tuple[Bits, Bits]:
    """High and low plane of what storage lets those do who act as somebody else, or in one group more."""
    codes = np.zeros(len(matrix.counting.subjects), dtype=np.uint8)
    for alike in told_apart(matrix, over, place):
        subject = matrix.counting.subjects[alike[0]]
        codes[list(alike)] = _by_storage(matrix.plan, matrix.storage, place, over, subject).code
    words = len(matrix.counting.active) * 64
    planes = (np.pad(codes & bit > 0, (0, words - len(codes))) for bit in (2, 1))
    high, low = (pack(plane) for plane in planes)
    return high, low


def told_apart(matrix: Matrix, over: Over, place: str) -> Iterator[Sequence[int]]:
    """The subjects, by number, in sets of which storage sees all alike on the way to a place."""
    plan, counting, storage = matrix.plan, matrix.counting, matrix.storage
    share = plan.shares[over.share]
    if share.acts_as is not None:
        yield range(len(counting.subjects))
        return
    whos: dict[str, None] = {}
    for stored in (storage[step] for step in plan.path(place) if step in storage):
        owners = [who for who in (stored.owner, stored.group) if plan.account(who) is not None]
        whos |= dict.fromkeys([*(named_by(stored.list) if stored.list is not None else ()), *owners])
    for one in Classes(counting, list(whos)):
        apart: dict[tuple[bool, str | None], list[int]] = {}
        for subject in (*one.users, *one.groups):
            user = plan.users.get(subject)
            lost = displaced(plan, share, subject)
            key = user is not None and user.uid == 0, lost if lost in whos else None
            apart.setdefault(key, []).append(counting.number[subject])
        yield from apart.values()


def lets_in(matrix: Matrix, over: Over) -> Codes:
    """What account, service and share alone let through, before storage has its say: uint8 (subjects,), `Level.code`."""
    return to_codes(*_let_in(matrix, over), len(matrix.counting.subjects))


def members(matrix: Matrix, who: str) -> NDArray[np.bool_]:
    """Which subjects count as a user or a group: bool (subjects,)."""
    return unpack(counted_as(matrix, who), len(matrix.counting.subjects))


def guest_over(plan: Plan, over: Over, places: Iterable[str], storage: StorageState) -> dict[str, Level]:
    """What the guest gets in places of a share, over one way in."""
    share = plan.shares[over.share]
    gates = (_service(plan, GUEST, over), _share_gate(plan, GUEST, over, storage))
    let_in = min(gate.level for gate in gates)
    if let_in == Level.NA:
        return dict.fromkeys(places, Level.NA)
    if over.protocol == "smb" and share.administrator in _as(plan, GUEST)[1]:
        return dict.fromkeys(places, let_in)
    return {place: min(let_in, _by_storage(plan, storage, place, over, GUEST)) for place in places}


def _by_storage(plan: Plan, storage: StorageState, place: str, over: Over, subject: str, within: bool = False) -> Level:
    """The level that way and list let through. within: the way from the share's top on alone."""
    stored = storage.get(place)
    if stored is None or stored.list is None:
        return Level.RW
    who, ways = identity(plan, subject, over)
    top = plan.shares[over.share].place
    way = way_gate(plan, storage, who, place, ways, top) if within else way_over(plan, storage, subject, place, over)
    if way.level == Level.NA:
        return Level.NA
    return level(rights_on(plan, stored, who, ways), traverse_checked=plan.target.traverse == "checked")


def way_to(matrix: Matrix, over: Over) -> Bits:
    """Whom the folders above a share's top let pass, squashing and what a client cannot claim left aside: uint64 (words,)."""
    top = matrix.plan.shares[over.share].place
    if top not in matrix.ways or (over.protocol == "nfs" and matrix.plan.target.nfs_traverse == "bypassed"):
        return np.full(matrix.counting.bits.shape[1], ~np.uint64(0))
    return matrix.ways[top]


def unreached(plan: Plan) -> Sequence[str]:
    """The places that no way in reaches, pools and places above a share left out: nobody is meant to stand there."""
    reached = {place for over in offered(plan) for place in inside(plan, plan.shares[over.share])}
    above = {step for place in reached for step in plan.path(place)}
    return [place.id for place in plan.places.values() if place.kind != "pool" and place.id not in reached | above]


def _may_use(matrix: Matrix, over: Over) -> Bits:
    plan, counting = matrix.plan, matrix.counting
    if over.protocol == "nfs":
        return (
            np.full_like(counting.numbered, ~np.uint64(0))
            if plan.shares[over.share].squash == "all"
            else counting.numbered
        )
    only = kept_to(plan, "smb")
    if only is None:
        return counting.active
    admitted = np.zeros_like(counting.active)
    for who in only:
        admitted |= counted_as(matrix, who)
    return admitted & counting.active


def counted_as(matrix: Matrix, who: str) -> Bits:
    """The subjects that count as a user or a group: uint64 (words,)."""
    counting = matrix.counting
    number = counting.number[who]
    if number >= counting.users:
        counted: Bits = counting.bits[number - counting.users]
        return counted
    flags = np.zeros(counting.bits.shape[1] * 64, dtype=np.bool_)
    flags[number] = True
    return pack(flags)


def _let_in(matrix: Matrix, over: Over) -> tuple[Bits, Bits]:
    """High and low plane of what account, service and share let through."""
    plan, counting, share = matrix.plan, matrix.counting, matrix.plan.shares[over.share]
    everybody = np.full(counting.bits.shape[1], ~np.uint64(0))
    if not share.over(over.protocol) or not is_on(plan, over.protocol):
        return ~everybody, ~everybody
    if over.protocol == "nfs":
        code = _host_gate(plan, share, over).level.code
        high, low = (everybody if code & bit else ~everybody for bit in (2, 1))
    elif is_by_share(matrix.storage, share):
        planes = weigh(plan.target, counting, [granted_at(plan, matrix.storage, share)])
        high, low = planes[0][0] | counting.boss, planes[1][0] | counting.boss
    else:
        high, low = everybody, everybody
    admitted = _may_use(matrix, over)
    return high & admitted, (low & ~high if share.read_only else low) & admitted


def seen_otherwise(matrix: Matrix) -> Sequence[int]:
    """Numbers of the users whom storage may see over NFS as somebody else, or as less, than it does otherwise: root, who is in many groups, and whose group is root's."""
    counting = matrix.counting
    many = set(np.flatnonzero(counting.groups_of > CLAIMED).tolist())
    many |= set(np.flatnonzero(unpack(counting.root, counting.users)).tolist())
    for group in matrix.plan.groups.values():
        if group.gid == 0:
            many |= set(np.flatnonzero(members(matrix, group.id)).tolist())
    return sorted(many)
