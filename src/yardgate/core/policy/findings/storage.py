"""Findings about storage: lists that say too much or too little, owners, styles, cuts, quotas."""

from dataclasses import replace

from yardgate.core.access.comparison import said_at
from yardgate.core.access.membership import token
from yardgate.core.access.storage import Nfs4State, PosixState, granted_on, rights_on
from yardgate.core.acl import Entry
from yardgate.core.acl.posix import R, W, X
from yardgate.core.acl.rights import (
    CHANGE,
    EXECUTE,
    READ_DATA,
    WRITE_ACL,
    WRITE_DATA,
    WRITE_OWNER,
    Level,
    keeper,
    level,
)
from yardgate.core.acl.words import rwx
from yardgate.core.edits.list_edits import retouched
from yardgate.core.edits.records import Edit, PutPlace, SetGrant
from yardgate.core.edits.transforms import restyle, style_of
from yardgate.core.model.naming import size
from yardgate.core.model.plan import EVERYONE, ROOT, Place, Plan
from yardgate.core.policy.findings.case import Case, Check, Finding, Findings


def enter_missing(case: Case) -> Findings:
    """A list gives reading, and not entering: nobody can open what they may read, because the folder does not let them in.

    Give entering (execute) to the lines that give reading."""
    if case.plan.target.traverse != "checked":
        return
    for place in case.plan.places.values():
        if place.acl is None:
            continue
        fix = retouched(
            case.plan, [place.id], _enters_too, lambda _tag, _who, perms: perms | (X if perms & (R | W) else 0)
        )
        risen = [change for change in case.trial(fix) if change.after > change.before]
        if risen and said_at(case.outcome, place.id) is None:  # else it is among those who get less than is granted
            whos, cells = dict.fromkeys(c.subject for c in risen), tuple((c.subject, c.place) for c in risen)
            said = f"The list of {case.path(place.id)} gives {case.names(whos)} reading or writing without the right to enter, so they cannot open what is inside."
            yield Finding("enter-missing", "serious", (place.id,), said, cells, fix, "Let each such line enter, too.")


def _enters_too(entry: Entry) -> int:
    return entry.mask | (EXECUTE if entry.type == "allow" and entry.mask & (READ_DATA | WRITE_DATA) else 0)


def world_writable(case: Case) -> Findings:
    """A line by hand lets everybody write: the others of a mode, or everyone of a list.

    It is often done to make something work, and stays. Take writing from that line, and grant it to the group that needs it."""
    for place, said in _everybody_by_hand(case, WRITE_DATA, W):
        fix = retouched(
            case.plan,
            [place],
            lambda e: (
                e.mask & ~(CHANGE | WRITE_ACL | WRITE_OWNER) if e.type == "allow" and e.who == EVERYONE else e.mask
            ),
            lambda tag, _who, perms: perms & ~W if tag == "other" else perms,
        )
        cells = tuple((who, place) for who in case.reaching(place, Level.RW))
        sentence = f"The list of {case.path(place)} lets everybody write ({said})."
        yield Finding("world-writable", "serious", (place,), sentence, cells, fix, "Remove writing from that line.")


def everyone_full(case: Case) -> Findings:
    """Everyone has full control by a line of the list: whoever gets in may change the list and the owner, too.

    Leave everyone what they need to work, and keep changing the list to the owner."""
    for place, _ in _everybody_by_hand(case, WRITE_ACL | WRITE_OWNER, 0):
        fix = retouched(
            case.plan,
            [place],
            lambda e: e.mask & ~(WRITE_ACL | WRITE_OWNER) if e.type == "allow" and e.who == EVERYONE else e.mask,
            lambda _tag, _who, perms: perms,
        )
        said = f"Everyone may change the list or the owner of {case.path(place)}, and so give themselves everything."
        cells = tuple((who, place) for who in case.reaching(place))
        yield Finding(
            "everyone-full",
            "serious",
            (place,),
            said,
            cells,
            fix,
            "Remove changing the list and the owner from everyone.",
        )


def _everybody_by_hand(case: Case, mask: int, perms: int) -> list[tuple[str, str]]:
    """Places whose own list gives everybody some of the rights by a line by hand, with that line in words."""
    found = []
    for place, stored in case.storage.items():
        own = case.plan.places[place].acl
        if own is None:
            continue
        match stored.list:
            case Nfs4State() as listed:
                lines = [line.entry for line in listed.lines if line.made == "hand" and line.said_on == place]
                if any(e.type == "allow" and e.who == EVERYONE and e.mask & mask and e.counts_here for e in lines):
                    found.append((place, "everyone"))
            case PosixState() as listed if perms:
                mine = listed.origins.get(("other", "")) == (place, "hand")
                if mine and any(e.tag == "other" and e.perms & perms for e in listed.access) and not listed.sticky:
                    found.append((place, f"others: {rwx(next(e.perms for e in listed.access if e.tag == 'other'))}"))
            case _:
                pass
    return found


def nested_root(case: Case) -> Findings:
    """A dataset inside another belongs to root, though what lies around it belongs to somebody.

    A new dataset begins with root as its owner; whoever owns the rest cannot change anything about it. Set owner and group."""
    for place in case.plan.places.values():
        stored, above = case.storage.get(place.id), case.storage.get(place.parent or "")
        if place.kind != "dataset" or stored is None or stored.list is None or above is None or place.owner is not None:
            continue
        if above.owner != ROOT and stored.owner == ROOT:
            said = f"{case.path(place.id)} belongs to root, and {case.path(place.parent or '')} around it to {case.plan.named(above.owner)}."
            group = place.group or (above.group if above.group in case.plan.groups else None)
            fix = (PutPlace(replace(place, owner=above.owner, group=group)),)
            yield Finding(
                "nested-root", "consider", (place.id,), said, (), fix, f"Make {case.plan.named(above.owner)} its owner."
            )


def owner_limited(case: Case) -> Findings:
    """Somebody owns a place and gets less than read-write in it: as the owner they can change the list that limits them.

    Give the place to root, or to somebody who may have everything there."""
    for place, stored in case.storage.items():
        owner = case.plan.users.get(stored.owner)
        if stored.list is None or owner is None or owner.uid == 0 or not owner.active(case.on):
            continue
        if case.plan.places[place].owner != owner.id:
            continue
        rights = rights_on(case.plan, stored, owner.id, token(case.plan, owner.id))
        listed = level(rights, traverse_checked=case.plan.target.traverse == "checked")
        if listed < Level.RW and (keeper(rights) or isinstance(stored.list, PosixState)):
            said = f"{case.plan.named(owner.id)} gets {listed.words} in {case.path(place)} and owns it, so they can change the list that limits them."
            fix: tuple[Edit, ...] = (PutPlace(replace(case.plan.places[place], owner=ROOT)),)
            fix = fix if case.price(fix).nothing else ()
            does = "Give the place to root." if fix else ""
            yield Finding("owner-limited", "consider", (place, owner.id), said, ((owner.id, place),), fix, does)


def style_unfit(case: Case) -> Findings:
    """The list style does not suit the clients: mode bits behind a share for Windows, or an ordered list that only NFS hosts use.

    Behind SMB shares mode bits know one owner and one group only, and what clients set is lost. Over NFS hosts see an ordered
    list as a mode. A POSIX list serves both."""
    for place in case.plan.places.values():
        if place.acl is None:
            continue
        style = style_of(case.plan, place.id)
        shares = case.shared.get(place.id, ())
        smb, nfs = any(share.smb for share in shares), any(share.nfs for share in shares)
        if (style == "mode" and smb) or (style == "ordered" and nfs and not smb):
            what = (
                "mode bits, and is shared over SMB" if style == "mode" else "an ordered list, and only NFS hosts use it"
            )
            fix = restyle(case.plan, place.id, "posix").edits
            said = f"{case.path(place.id)} has {what}."
            yield Finding(
                "style-unfit",
                "consider",
                (place.id,),
                said,
                (),
                fix,
                "Give it a POSIX list that says the same as nearly as can be.",
            )


def case_two(case: Case) -> Findings:
    """Names that differ only in case are two names in this dataset, and it is shared over SMB, where they are one.

    A Windows client shows one of two such files and opens the other. Make the dataset take no notice of case; it is often
    possible only when it is made."""
    for place in case.plan.places.values():
        shares = [share for share in case.shared.get(place.id, ()) if share.smb]
        if place.case_sensitive and shares:
            said = f"{case.path(place.id)} has case-sensitive names, and is shared over SMB as {shares[0].name}."
            fix = (PutPlace(replace(place, case_sensitive=False)),)
            yield Finding("case-two", "consider", (place.id,), said, (), fix, "Make its names case-insensitive.")


def push_wipes(case: Case) -> Findings:
    """Places inside have lines of their own, behind a cut, that pushing down everything from above would wipe.

    Nothing is wrong now. Before pushing down, choose “only what follows”, or look at what is listed there."""
    for place, inside in case.plan.inside.items():
        own = [
            inner
            for inner in inside
            if case.plan.places[inner].inheritance_stops and _has_lines(case.plan, case.plan.places[inner])
        ]
        if place is not None and own:
            names = " and ".join(case.plan.places[inner].name for inner in own)
            said = f"Pushing down everything from {case.path(place)} would wipe what {names} {'have' if len(own) > 1 else 'has'} of {'their' if len(own) > 1 else 'its'} own."
            yield Finding("push-wipes", "note", (place, *own), said)


def _has_lines(plan: Plan, place: Place) -> bool:
    return (place.acl is not None and place.acl != type(place.acl)()) or bool(plan.grants.get(place.id))


def service_lost(case: Case) -> Findings:
    """A service has access to the place above and none to this one, where inheritance is cut.

    A backup that reads all but one folder is noticed on the day it is needed. Grant the service what it has above."""
    services = [user for user in case.plan.users.values() if user.kind == "service" and user.active(case.on)]
    for place in case.plan.places.values():
        if not place.inheritance_stops or place.parent is None:
            continue
        for user in services:
            above = case.matrix.level(user.id, place.parent)
            granted = granted_on(case.plan, case.storage, place.parent)
            meant = [who for who in token(case.plan, user.id) if granted.get(who, Level.NA) > Level.NA]
            if all(who in (EVERYONE, case.plan.target.baseline) for who in meant):
                continue
            if above >= Level.RO and case.matrix.level(user.id, place.id) == Level.NA:
                said = f"{case.plan.named(user.id)} gets {above.words} in {case.path(place.parent)}, and nothing in {case.path(place.id)}, where inheritance stops."
                refused = case.plan.grants.get(place.id, {}).get(user.id) == Level.NA
                fix = () if refused else (SetGrant(place.id, user.id, above),)
                does = f"Grant {case.plan.named(user.id)} {above.words} there." if fix else ""
                yield Finding("service-lost", "serious", (place.id, user.id), said, ((user.id, place.id),), fix, does)


def owner_service_lost(case: Case) -> Findings:
    """A service owns a place and cannot read and change what is in it: an application has lost its own data.

    It happens when a list is pushed down over it. Grant the service read-write there."""
    for place, stored in case.storage.items():
        user = case.plan.users.get(stored.owner)
        if (
            user is None
            or user.kind != "service"
            or case.plan.places[place].owner != user.id
            or not user.active(case.on)
        ):
            continue
        gets = case.matrix.level(user.id, place)
        if gets < Level.RO:
            fix: tuple[Edit, ...] = (SetGrant(place, user.id, Level.RW),)
            mended = any(c.subject == user.id and c.place == place and c.after >= Level.RO for c in case.trial(fix))
            fix = fix if mended else ()
            said = f"{user.name} owns {case.path(place)} and gets {gets.words} there."
            yield Finding(
                "service-data",
                "serious",
                (place, user.id),
                said,
                ((user.id, place),),
                fix,
                f"Grant {user.name} read-write there." if fix else "",
            )


def quota_beyond(case: Case) -> Findings:
    """The quotas inside a place add up to more than the place has.

    The last to fill theirs finds the disk full before. Lower a quota, or say that it is meant so by accepting this."""
    for place in case.plan.places.values():
        inner = [case.plan.places[child] for child in case.plan.inside.get(place.id, ())]
        quotas = [child.quota for child in inner if child.quota is not None]
        if place.quota is not None and sum(quotas) > place.quota:
            said = f"The quotas in {case.path(place.id)} add up to {size(sum(quotas))}, and it has {size(place.quota)}."
            yield Finding("quota-beyond", "consider", (place.id,), said)


def group_quota_beyond(case: Case) -> Findings:
    """What groups may take in a place adds up to more than the place has, or one of them may take more than all of it.

    A quota beyond what there is holds nobody back, and the last group to fill theirs finds the disk full before. Lower it, or say
    that it is meant so by accepting this."""
    for place in case.plan.places.values():
        room = _room(case.plan, place)
        if room is None or not place.group_quotas:
            continue
        beyond = [quota.group for quota in place.group_quotas if quota.bytes > room]
        total = sum(quota.bytes for quota in place.group_quotas)
        has = f"{case.path(place.id)} has {size(room)}"
        if beyond:
            said = f"{case.names(beyond)} may take more in {case.path(place.id)} than there is: {has}."
            yield Finding("group-quota-beyond", "consider", (place.id, *beyond), said)
        elif total > room:
            yield Finding(
                "group-quota-beyond",
                "consider",
                (place.id,),
                f"What groups may take adds up to {size(total)}, and {has}.",
            )


def _room(plan: Plan, place: Place) -> int | None:
    """What a place can hold at most: the least of its own quota and of those above it; None where nobody said."""
    return min((quota for step in plan.path(place.id) if (quota := plan.places[step].quota) is not None), default=None)


CHECKS = (
    Check("enter-missing", "serious", "A folder that can be read and not entered", enter_missing),
    Check("world-writable", "serious", "A list lets everybody write", world_writable),
    Check("everyone-full", "serious", "Everyone has full control", everyone_full),
    Check("service-lost", "serious", "A service is missing where inheritance stops", service_lost),
    Check("service-data", "serious", "An application has lost its own data", owner_service_lost),
    Check("nested-root", "consider", "A nested dataset still belongs to root", nested_root),
    Check("owner-limited", "consider", "An owner can rewrite the list that limits them", owner_limited),
    Check("style-unfit", "consider", "The list style does not suit the clients", style_unfit),
    Check("case-two", "consider", "Case-sensitive names behind an SMB share", case_two),
    Check("quota-beyond", "consider", "Quotas add up to more than there is", quota_beyond),
    Check("group-quota-beyond", "consider", "Groups may take more than there is", group_quota_beyond),
    Check("push-wipes", "note", "A push-down would wipe lines of its own", push_wipes),
)
