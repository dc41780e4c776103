"""Lists as text: of the places from one down, for setfacl(1) and nfs4_setfacl(1), and a single one that somebody writes."""

import re
from collections.abc import Iterator
from datetime import date

from yardgate.core.access.bitsets import count
from yardgate.core.access.storage import Nfs4State, PlaceState, PosixState, storage_state
from yardgate.core.acl import Mode, Ordered, OwnList, Posix, posix
from yardgate.core.acl.mode import SETGID, STICKY, entries_of
from yardgate.core.model.plan import ROOT, Plan, User
from yardgate.formats import nfs4_text, posix_text
from yardgate.formats.host_names import HostNames
from yardgate.formats.listed import ListStyle, from_getfacl, nfs4_entries, posix_said
from yardgate.formats.reading import FormatError, Unknown

# --- all of them --------------------------------------------------------------------------------------------------------------


def write_restore(plan: Plan, at: str, listing: str | None = None, *, only_folders: bool = False) -> str:
    """Owners, flags and lists as `setfacl --restore` reads them, for the places from `at` down; paths begin with its name.

    listing: getfacl output of the real tree; then every file and folder in it gets what the plan has for it, those that just
    follow included. Raises FormatError for a place whose list is ordered or not planned, FormatError for a bad listing.
    """
    storage = storage_state(plan, count(plan, date.min))
    here = {(plan.places[at].name, *path): place for path, place in _below(plan, at)}
    wanted = [(path, True) for path in sorted(here)]
    if listing is not None:
        names, wrong = HostNames(plan, {}), list[FormatError]()
        found = list(from_getfacl(listing, names, only_folders, wrong))
        if wrong:
            raise wrong[0]
        depth = len(found[0].path)
        wanted = [((plan.places[at].name, *one.path[depth:]), one.folder) for one in found]
    written = []
    for path, folder in wanted:
        nearest = next(path[:depth] for depth in range(len(path), 0, -1) if path[:depth] in here)
        stored = storage.get(here[nearest])
        if stored is None or not isinstance(stored.list, PosixState):
            raise FormatError(f"{plan.path_name(here[nearest])} has no POSIX list or mode bits to write for setfacl")
        written.append(_restore_block(plan, stored, stored.list, path, below=len(path) - len(nearest), folder=folder))
    return "\n".join(written)


def _below(plan: Plan, at: str) -> Iterator[tuple[tuple[str, ...], str]]:
    depth = len(plan.path(at))
    for place in plan.places:
        steps = plan.path(place)
        if steps[:depth] == plan.path(at):
            yield tuple(plan.places[step].name for step in steps[depth:]), place


def _restore_block(
    plan: Plan, stored: PlaceState, listed: PosixState, path: tuple[str, ...], *, below: int, folder: bool
) -> str:
    access, default, sticky = listed.access, listed.default, listed.sticky
    if below > (0 if folder else 1):  # it is, or lies in, a folder that just follows
        access, sticky = posix.base(access) if default is None else default, False
    if not folder:
        access = posix.file_in(access, default)
    flags = ("-s" if listed.setgid and folder else "--") + ("t" if sticky and folder else "-")
    lines = [
        f"# file: {posix_text.escape('/'.join(path), chr(10) + chr(13))}",
        f"# owner: {posix_text.escape_name(_account(plan, stored.owner))}",
        f"# group: {posix_text.escape_name(_account(plan, stored.group))}",
        *([f"# flags: {flags}"] if flags != "---" else []),
        *(posix_text.entry_text(e, _account(plan, e.who)) for e in access),
        *(posix_text.entry_text(e, _account(plan, e.who), default=True) for e in (default or ()) if folder),
    ]
    return "\n".join(lines) + "\n"


def _account(plan: Plan, who: str) -> str:
    """The name by which the appliance knows somebody: a directory's accounts as SHORT\\name, which no local one has."""
    return plan.called(who)


def _over_nfs(plan: Plan, who: str) -> str:
    """The name by which an NFS server knows somebody: with the domain, where that is known (RFC 8881 section 5.9); where it has a blank, the number."""
    account = plan.account(who)
    if account is None:
        return who
    number = account.uid if isinstance(account, User) else account.gid
    if re.search(r"[:\s]", account.name) and number is not None:
        return str(number)
    source = plan.directories.get(account.origin)
    domain = source.domain if source is not None else plan.target.nfs_domain
    is_whole = "@" in account.name or account.name.isdecimal() or not domain
    return account.name if is_whole else f"{account.name}@{domain}"


def write_nfs4(plan: Plan, at: str) -> str:
    """Ordered lists as specs for `nfs4_setfacl -S`, one block a place, each headed by its path.

    Raises FormatError for a place without an ordered list, and for names that nfs4_acl(5) cannot write.
    """
    storage = storage_state(plan, count(plan, date.min))
    blocks = []
    for steps, place in sorted(_below(plan, at)):
        path = (plan.places[at].name, *steps)
        stored = storage.get(place)
        if stored is None or not isinstance(stored.list, Nfs4State):
            raise FormatError(f"{plan.path_name(place)} has no ordered list to write for nfs4_setfacl")
        lines = [
            nfs4_text.entry_text(entry, _over_nfs(plan, entry.who), group=entry.who in plan.groups)
            for entry in stored.list.entries
        ]
        blocks.append("\n".join([f"# file: {'/'.join(path)}", *lines]) + "\n")
    return "\n".join(blocks)


# --- one list ---------------------------------------------------------------------------------------------------------


def list_text(plan: Plan, own: OwnList) -> str:
    """A place's own list as text: nfs4_acl(5) lines, getfacl(1) entries, or an octal mode. Names that nfs4_acl(5) cannot write
    are written as they are."""
    match own:
        case Ordered(entries):
            return "\n".join(
                nfs4_text.entry_text(e, _account(plan, e.who), group=e.who in plan.groups, strict=False)
                for e in entries
            )
        case Posix(access, default):
            lines = [posix_text.entry_text(e, _account(plan, e.who)) for e in access]
            return "\n".join(
                lines + [posix_text.entry_text(e, _account(plan, e.who), default=True) for e in default or ()]
            )
        case Mode(bits):
            return "" if bits is None else f"{bits:04o}"


def list_from_text(plan: Plan, text: str, style: ListStyle) -> tuple[OwnList, tuple[Unknown, ...]]:
    """A list from such text, and who in it is unknown. Raises FormatError with line and column."""
    names = HostNames(plan, {})
    match style:
        case "mode":
            return Mode(posix_text.mode(text)), ()
        case "posix":
            if posix_text.is_mode(text):
                bits = posix_text.mode(text)
                own: OwnList = Posix(entries_of(bits), setgid=bool(bits & SETGID), sticky=bool(bits & STICKY))
            else:
                access, default, flags = posix_text.entries(text)
                listed = posix_said(access, names), posix_said(default, names) if default else None
                own = Posix(*listed, setgid=flags[1] == "s", sticky=flags[2] == "t")
        case "ordered":
            found = next(nfs4_text.blocks(text))
            own = Ordered(nfs4_entries(found, names))
    rooted = tuple(Unknown(1, ROOT, "group" if kind == "group" else "who") for kind, _ in names.roots if names.edits)
    return own, (*names.unknown, *rooted)
