"""What somebody finds at the shares of an appliance that has what a `System` says: by its own records, with no plan behind them."""

from collections.abc import Collection, Sequence
from dataclasses import replace
from datetime import date

from yardgate.core.acl import Ordered, PosixEntry, nfs4, posix
from yardgate.core.acl.rights import ADD_FILE, EVERYTHING, EXECUTE, LIST_DIRECTORY, Level, Rights
from yardgate.core.host.probe import Abilities
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import ADMIN, Folder, Offer, System
from yardgate.core.model.plan import EVERYONE, GUEST_ACCOUNT
from yardgate.core.model.share import Address, Protocol, hosts

Acting = tuple[str, Collection[str]] | None
"""An account and the groups that it counts as; None: root."""


def groups_of(system: System, account: str) -> frozenset[str]:
    """The groups that somebody who signs in now counts as."""
    own = system.accounts.get(account)
    primary = {own.primary} if own is not None else set[str]()
    return frozenset(primary | {m.name for m in system.members.values() if account in m.users})


def let_in(system: System, offer: Offer, account: str, groups: Collection[str], on: date) -> Level:
    """What a share lets an account of these groups do before storage has its say; no account: a guest."""
    if not account:
        return offer.guests
    own = system.accounts.get(account)
    if own is None or not own.active(on):
        return Level.NA
    return offer.gives(_names(account, groups))


def _names(account: str, groups: Collection[str]) -> set[str]:
    """All that somebody goes by in lists."""
    return {account, *(f"{GROUP_MARK}{group}" for group in groups)}


def rights_in(folder: Folder, account: str, groups: Collection[str]) -> Rights:
    """What the list of a folder gives somebody of these groups there."""
    names = {EVERYONE, *_names(account, groups)}
    is_owner = account == folder.owner
    if isinstance(folder.listed, Ordered):
        names |= {nfs4.OWNER} if is_owner else set()
        entries = folder.listed.entries
        return Rights(nfs4.allowed(entries, names), nfs4.allowed(nfs4.files_of(entries), names))
    access, default = (_marked(part) for part in (folder.listed.access, folder.listed.default or ()))
    file = posix.file_in(access, default or None)
    in_group = folder.group in groups
    return posix.allowed(access, file, names, owner=is_owner, in_group=in_group, sticky=folder.listed.sticky)


def _marked(entries: Sequence[PosixEntry]) -> tuple[PosixEntry, ...]:
    return tuple(replace(e, who=f"{GROUP_MARK}{e.who}") if e.tag == "group" and e.who else e for e in entries)


def found(
    system: System, share: str, account: str, groups: Collection[str], folders: Sequence[str], on: date
) -> list[Abilities] | None:
    """What somebody finds in folders of a share, by their paths in it; None where they may not connect.

    groups: those that the session counts as, which may be older than who is in them now. Every folder on the way asks to be entered.
    """
    offer = system.offers.get(share)
    level = let_in(system, offer, account, groups, on) if offer is not None else Level.NA
    if offer is None or level == Level.NA:
        return None
    asking = _names(account or GUEST_ACCOUNT, groups)
    me = offer.acts_as or account or GUEST_ACCOUNT
    groups = frozenset(groups if not offer.acts_as else groups_of(system, me)) | {offer.acts_as_group} - {""}
    is_root = me == ADMIN or not asking.isdisjoint(offer.roots)
    return _abilities(system, offer.path, folders, None if is_root else (me, groups), level, "smb")


def found_over_nfs(
    system: System, exported: str, account: str, folders: Sequence[str], address: Address
) -> list[Abilities] | None:
    """The same over NFS, for an account's numbers that come from a host of this address."""
    export = next((one for one in system.exports.values() if one.path == exported), None)
    rules = export.rules if export is not None else ()
    level = next((rule.level for rule in rules if hosts(rule.hosts).take_in(address)), Level.NA)
    if export is None or level == Level.NA:
        return None
    squashed = export.squash == "all" or (export.squash == "root" and account == ADMIN)
    me = GUEST_ACCOUNT if squashed else account
    who = None if me == ADMIN else (me, groups_of(system, me))
    claimed = None if account == ADMIN else (account, groups_of(system, account))
    if not _enters(system, exported.rpartition("/")[0], claimed):  # above a share nobody is squashed
        return None
    return _abilities(system, exported, folders, who, level, "nfs")


def _rights(system: System, path: str, who: Acting) -> Rights:
    folder = system.folders.get(path)
    return EVERYTHING if who is None or folder is None else rights_in(folder, *who)


def _enters(system: System, path: str, who: Acting, first: str = "") -> bool:
    """Whether every folder on the way opens. first: the one from which on that is asked."""
    way = (path[:at] for at in range(1, len(path)) if path[at] == "/")
    asked = [one for one in (*way, path) if one and len(one) >= len(first)]
    return all(_rights(system, one, who).folder & EXECUTE for one in asked)


def _abilities(
    system: System, top: str, folders: Sequence[str], who: Acting, level: Level, over: Protocol
) -> list[Abilities]:
    """Over SMB the folders above the top are asked as well, and one must be entered to be listed (RFC 7530 section 16.24 does not ask that)."""
    first = top if over == "nfs" else ""
    answers = []
    for inner in folders:
        path = f"{top}/{inner}" if inner else top
        enters, here = _enters(system, path, who, first), _rights(system, path, who).folder
        opens = enters if over == "smb" else not inner or _enters(system, path.rpartition("/")[0], who, first)
        writes = enters and level == Level.RW
        answers.append(Abilities(bool(opens and here & LIST_DIRECTORY), bool(writes and here & ADD_FILE)))
    return answers
