"""What a Linux file server has: accounts in passwd(5), POSIX lists, an SMB server, the kernel's NFS server."""

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, timedelta
from ipaddress import ip_network

from yardgate.core.acl import Posix, PosixEntry, posix
from yardgate.core.host.bounds import LOWEST, HostAccounts
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import (
    OPEN,
    PARTS,
    Export,
    Folder,
    HostAccount,
    HostGroup,
    HostService,
    Members,
    Offer,
    RecordKind,
    System,
    known_places,
)
from yardgate.core.model.naming import fold
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux import datasets
from yardgate.drivers.linux.command import FILES, Command, Files, Runner
from yardgate.formats import accounts, descriptor, posix_text, smbconf, usermap
from yardgate.formats import exports as exports_text
from yardgate.formats.reading import FormatError

EPOCH = date(1970, 1, 1)
SHUT = EPOCH + timedelta(days=1)  # the day of expiry (shadow(5)) of an account that is shut
DOMAIN = "S-1-5-21-"  # how SIDs of a domain begin, and those that an SMB server gives to accounts of its own (MS-DTYP, 2.4.2.4)
NEVER = date(2036, 2, 6)  # what the SMB server's accounts have for no day


def read(run: Runner, asked: System, files: Files = FILES, parts: Collection[RecordKind] = PARTS) -> System:
    """What the host has of the accounts, groups and folders that are asked about, and all shares that are ours.

    parts: only these of it. Raises ApplianceError, where it cannot be read or holds what this cannot say.
    """
    found = System()
    if {"groups", "members", "accounts"} & set(parts):
        found = _people(run, asked, parts, files)
    if "datasets" in parts:
        found = replace(found, datasets=datasets.read(run, asked.datasets, asked.groups, files))
    if "folders" in parts:
        found = replace(found, folders=_folders(run, asked.folders))
    try:
        if "offers" in parts:
            offers = smbconf.read(_text(run, files.smb, missing=""))
            found = replace(found, offers={one.name: one for one in _in_effect(run, offers, files)})
        if "exports" in parts:
            exports = exports_text.read(_text(run, files.exports, missing=""))
            found = replace(found, exports={one.name: one for one in _exported(run, exports)})
    except FormatError as error:
        raise ApplianceError(f"a file that only rollouts should write was changed by hand: {error}") from None
    if "services" in parts and asked.services:
        found = replace(found, services=_services(run, asked.services))
    return found


def _services(run: Runner, names: Collection[str]) -> dict[str, HostService]:
    """Whether the servers of some protocols take connections (over NFS at their port, RFC 7530 section 3.1), and start with the host."""
    asking = Command(
        ("sh", "-euc", SERVING, "sh", *sorted(names)), "ask the host's servers whether they run", changes=False
    )
    rows = [line.split() for line in run(asking).needed(asking.why).splitlines()]
    if any(len(row) != 3 for row in rows):
        raise ApplianceError("asked whether its servers run, the host said something else")
    return {name: HostService(name=name, running=runs == "yes", enabled=starts == "yes") for name, runs, starts in rows}


SERVING = """for name; do
  case $name in
    smb) units='smbd smb'; smbcontrol smbd ping > /dev/null 2>&1 && runs=yes || runs=no ;;
    *) units='nfs-kernel-server nfs-server'; test -n "$(ss -Hltn 'sport = :2049')" && runs=yes || runs=no ;;
  esac
  starts=no
  for unit in $units; do
    if test -d /run/systemd/system; then systemctl is-enabled --quiet "$unit" 2> /dev/null && starts=yes
    else set -- /etc/rc[2-5].d/S??"$unit"; test -e "$1" && starts=yes; fi
  done
  echo "$name $runs $starts"
done"""


def _in_effect(run: Runner, written: Sequence[Offer], files: Files) -> Iterator[Offer]:
    """Of the shares that rollouts wrote those that the server's whole configuration has, as it has them: its own parser says so."""
    if not written:
        return
    asking = Command(
        ("testparm", "--suppress-prompt", files.smb_main), "read the SMB server's whole configuration", changes=False
    )
    there = smbconf.in_effect(run(asking).needed(asking.why))
    for one in written:
        if (found := there.get(fold(one.name))) is not None:
            yield replace(found, name=one.name)


def _exported(run: Runner, written: Sequence[Export]) -> Iterator[Export]:
    """Of the exports that rollouts wrote those that the host's NFS server has taken up, as exportfs(8) tells. Hosts by name alone are taken up
    only where the host can look them up, which may be later: these stand as they are written."""
    if not written:
        return
    asking = Command(("exportfs", "-s"), "ask what the NFS server exports", changes=False)
    said = run(asking)
    listed = {
        re.sub(r"\\([0-7]{3})", lambda c: chr(int(c[1], 8)), line.partition("  ")[0]) for line in said.out.splitlines()
    }
    for one in written:
        if said.code or one.path in listed or not any(_is_network(rule.hosts) for rule in one.rules):
            yield one


def _is_network(hosts: str) -> bool:
    try:
        ip_network(hosts, strict=False)
    except ValueError:
        return hosts == "*"
    return True


def smb_runs(run: Runner) -> bool:
    """Whether the SMB server that clients connect to is there and answers."""
    return run(Command(("smbcontrol", "smbd", "ping"), "ask whether the SMB server runs", changes=False)).code == 0


def about(run: Runner, files: Files = FILES) -> HostAccounts:
    """All accounts and groups of the host's own files, from which numbers on it keeps people's (login.defs(5)), and how it calls those of its
    domain. Raises ApplianceError."""
    users, groups = (
        {row[0]: int(row[2]) for row in _rows(run, path, fields)}
        for path, fields in (("/etc/passwd", 7), ("/etc/group", 4))
    )
    said = dict(
        re.findall(r"^\s*(UID_MIN|GID_MIN)\s+([0-9]{1,10})\b", _text(run, "/etc/login.defs", missing=""), re.MULTILINE)
    )
    lowest_uid, lowest_gid = (int(said.get(name, LOWEST)) for name in ("UID_MIN", "GID_MIN"))
    name = _text(run, "/proc/sys/kernel/hostname").strip()
    asking = ("testparm", "--suppress-prompt", "--parameter-name=winbind use default domain", files.smb_main)
    plain = run(Command(asking, "ask how the SMB server calls accounts of its domain", changes=False, root=False)).out
    return HostAccounts(
        users=users,
        groups=groups,
        lowest_uid=lowest_uid,
        lowest_gid=lowest_gid,
        name=name,
        plain_names=plain.strip().casefold() == "yes",
    )


def _people(run: Runner, asked: System, parts: Collection[RecordKind], files: Files) -> System:
    """Accounts, groups and who is in them: those asked about by name, and those with a number asked about."""
    groups: dict[str, list[str]] = {}
    for name, password, gid, users in _rows(run, "/etc/group", 4):  # a group may go on in another line
        before = f"{groups[name][3]}," if name in groups and groups[name][2] == gid else ""
        groups[name] = [name, password, gid, before + users]
    gids = {str(record.gid) for record in asked.groups.values() if record.gid is not None}
    mine = [row for row in groups.values() if row[0] in {*asked.groups, *asked.members} or row[2] in gids]
    passwd = _rows(run, "/etc/passwd", 7)
    members = (Members(name=row[0], users=frozenset(name for name in row[3].split(",") if name)) for row in mine)
    found = System(
        groups={row[0]: HostGroup(name=row[0], gid=int(row[2])) for row in mine},
        members={one.name: one for one in members},
    )
    if "accounts" not in parts:
        return found
    numbers = {str(record.uid) for record in asked.accounts.values() if record.uid is not None}
    expiry = {row[0]: row[7] for line in _text(run, "/etc/shadow").splitlines() if len(row := line.split(":")) > 7}
    group_of = {row[2]: row[0] for row in reversed(groups.values())}
    people = [row for row in passwd if row[0] in asked.accounts or row[2] in numbers]
    smb = _smb_accounts(run, [row[0] for row in people])
    aliases = _aliases(run, files)
    them = (_account(row, group_of, expiry.get(row[0], ""), smb.get(row[0])) for row in people)
    return replace(found, accounts={one.name: replace(one, aliases=aliases.get(one.name, ())) for one in them})


def _aliases(run: Runner, files: Files) -> Mapping[str, tuple[str, ...]]:
    """Account -> its other names, as far as the SMB server's configuration has the file that says them."""
    text = _text(run, files.users, missing="")
    if not text:
        return {}
    asking = ("testparm", "--suppress-prompt", "--parameter-name=username map", files.smb_main)
    said = run(Command(asking, "ask where the SMB server's other names stand", changes=False)).out
    return usermap.read(text) if said.strip() == files.users else {}


def _rows(run: Runner, path: str, fields: int) -> list[list[str]]:
    """The lines of /etc/passwd or /etc/group that say an account, as the C library has it: with all fields, and a number."""
    rows = (line.split(":") for line in _text(run, path).split("\n"))
    return [row for row in rows if len(row) == fields and re.fullmatch("[0-9]{1,10}", row[2])]


def _text(run: Runner, path: str, missing: str | None = None) -> str:
    done = run(Command(("cat", "--", path), f"read {path}", changes=False, root="shadow" in path))
    if done.code and missing is None:
        raise ApplianceError(f"{path} cannot be read: {done.err.strip()}")
    return missing if done.code and missing is not None else done.out


def _account(
    row: Sequence[str], group_of: Mapping[str, str], expiry: str, smb: tuple[bool, date | None] | None
) -> HostAccount:
    name, _, uid, gid, comment, *_ = row
    day = EPOCH + timedelta(min(int(expiry), (date.max - EPOCH).days)) if re.fullmatch("[0-9]+", expiry[:20]) else None
    shut = day is not None and day <= SHUT
    enabled = not shut and (smb is None or smb[0])
    agreed = smb is None or smb[1] == (None if day is None or day >= NEVER else day)
    return HostAccount(
        name=name,
        uid=int(uid),
        full_name=comment.split(",")[0],
        primary=group_of.get(gid, gid),
        smb=smb is not None,
        enabled=enabled,
        expires=day if enabled and agreed else None,
    )


def _smb_accounts(run: Runner, names: Sequence[str]) -> dict[str, tuple[bool, date | None]]:
    """Sign-in name -> whether the SMB server lets it in, and until which day. Where one is asked about, as after each step, no other is read."""
    known = passdb(run, names[0]) if len(names) == 1 else passdb(run)
    return {name: (accounts.is_open(said), _day(said.get("Kickoff time", ""))) for name, said in known.items()}


def passdb(run: Runner, only: str | None = None) -> dict[str, dict[str, str]]:
    """Sign-in name -> all that the SMB server says of the account; of every account, or of one."""
    which = "--list" if only is None else f"--user={only}"
    done = run(
        Command(("pdbedit", which, "--verbose", "--debuglevel=0"), "read the SMB server's accounts", changes=False)
    )
    if done.code and only is not None and "Username not found" in done.err:
        return {}
    if done.code:
        raise ApplianceError(f"the SMB server's accounts cannot be read: {done.err.strip() or done.out.strip()}")
    return accounts.smb_accounts(done.out)


_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def _day(text: str) -> date | None:
    """The day of “Mon, 01 Mar 2027 00:00:00 UTC”; None for never."""
    found = re.search(r"(\d{1,2}) (\w{3}) (\d{4})", text)
    if found is None or found[2] not in _MONTHS:
        return None
    try:
        day = date(int(found[3]), _MONTHS.index(found[2]) + 1, int(found[1]))
    except ValueError:
        raise ApplianceError(f"the SMB server says a day that does not exist: {found[0]}") from None
    return None if day >= NEVER else day


def _folders(run: Runner, asked: Mapping[str, Folder]) -> dict[str, Folder]:
    found = posix_lists(run, asked)
    found |= {path: _kept(found[path], kept) for path, kept in ordered_lists(run, found).items()}
    return known_places(found, asked)


def posix_lists(run: Runner, paths: Collection[str]) -> dict[str, Folder]:
    """Owners and lists of what is there of some paths, as the file system has them. Raises ApplianceError."""
    if not paths:
        return {}
    asked = frozenset(paths)
    given = "".join(f"{path}\0" for path in sorted(asked))
    there = run(Command(("xargs", "-0", "-r", "getfacl", "-p", "--"), "read owners and lists", given, changes=False))
    if not there.out.strip():
        if there.code and "No such file" not in there.err:
            raise ApplianceError(f"lists cannot be read: {there.err.strip()}")
        return {}
    try:
        return {path: folder for path, folder in _listed(there.out) if path in asked}
    except FormatError as error:
        raise ApplianceError(f"owners and lists cannot be read: {error}") from None


def _listed(text: str) -> Iterator[tuple[str, Folder]]:
    """What getfacl(1) says of each file; most say the same but for the name. Raises FormatError."""
    known: dict[str, Folder] = {}
    for block in text.strip("\n").split("\n\n"):
        head, _, said = block.partition("\n")
        if said not in known:
            known[said] = _folder(next(posix_text.blocks(block)))
        path = posix_text.unescape(head.removeprefix("# file: "))
        yield path, replace(known[said], name=path)


def ordered_lists(run: Runner, paths: Iterable[str]) -> dict[str, descriptor.DescriptorList]:
    """The ordered lists that the SMB server keeps beside files and folders, by path. Raises ApplianceError."""
    asked = frozenset(paths)
    given = "".join(f"{path}\0" for path in sorted(asked))
    asking = ("getfattr", "--absolute-names", f"--name={descriptor.ATTRIBUTE}", "--encoding=hex", "--")
    said = run(Command(("xargs", "-0", "-r", *asking), "read ordered lists", given, changes=False))
    values: dict[str, bytes] = {}
    path = ""
    for line in said.out.split("\n"):
        if line.startswith("# file: "):
            path = posix_text.unescape(line.removeprefix("# file: "))
        elif line.startswith(f"{descriptor.ATTRIBUTE}=0x"):
            values[path] = _bytes(line.partition("=0x")[2])
    if not values:
        return {}
    try:
        kinds = {value: descriptor.sids(value) for value in set(values.values())}
        known = _names(run, {sid for sids in kinds.values() for sid in sids})
        read = {value: descriptor.read(value, lambda sid: known.get(sid, sid)) for value in kinds}
    except FormatError as error:
        raise ApplianceError(f"ordered lists cannot be read: {error}") from None
    return {path: read[value] for path, value in values.items() if path in asked}


def _bytes(text: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError:
        raise ApplianceError("ordered lists cannot be read: what the host says of one is cut off") from None


def _names(run: Runner, sids: Collection[str]) -> dict[str, str]:
    """How the host calls the accounts and groups that SIDs stand for; its SMB server has other ones for accounts of its own, and those of
    the directory that it is joined to have the directory's."""
    known: dict[str, str] = {}
    if any(sid.startswith(DOMAIN) for sid in sids):
        known |= {said["User SID"]: name for name, said in passdb(run).items() if "User SID" in said}
        known |= _of_directory(run, sorted(sid for sid in sids if sid.startswith(DOMAIN) and sid not in known))
    for kind, database in descriptor.UNIX.items():
        numbers = sorted(sid.removeprefix(kind) for sid in sids if sid.startswith(kind))
        asked = Command(
            ("xargs", "-r", "getent", database),
            "read whose numbers these are",
            "\n".join(numbers),
            changes=False,
            root=False,
        )
        mark = GROUP_MARK if database == "group" else ""
        known |= {f"{kind}{number}": f"{mark}{number}" for number in numbers}
        rows = (line.split(":") for line in run(asked).out.splitlines())
        known |= {f"{kind}{row[2]}": f"{mark}{row[0]}" for row in rows if len(row) > 2}
    return known


def _of_directory(run: Runner, sids: Sequence[str]) -> dict[str, str]:
    """What winbindd(8) says that SIDs are called, where the host is joined to a directory."""
    if not sids:
        return {}
    said = run(Command(("sh", "-euc", CALLED, "sh", *sids), "ask the directory whose they are", changes=False)).out
    found = re.findall(r"^(S-1-[\d-]+) (.+) ([124])$", said, re.MULTILINE)
    return {sid: name if kind == "1" else f"{GROUP_MARK}{name}" for sid, name, kind in found}


CALLED = """for sid; do printf '%s ' "$sid"; wbinfo --sid-to-name="$sid" 2> /dev/null || echo; done"""
"""With a name goes what it is: 1, a user; 2 or 4, a group (MS-LSAT, 2.2.13, SID_NAME_USE)."""


def _kept(folder: Folder, kept: descriptor.DescriptorList) -> Folder:
    beneath = None if folder.listed == OPEN else folder.listed
    assert beneath is None or isinstance(beneath, Posix)
    return Folder(name=folder.name, owner=kept.owner, group=kept.group, listed=kept.listed, beneath=beneath)


def _folder(block: posix_text.PosixBlock) -> Folder:
    def entries(said: Iterable[posix_text.PosixLine]) -> tuple[PosixEntry, ...]:
        return posix.in_order(PosixEntry(tag, name, perms) for _, tag, name, perms in said)

    own = Posix(
        entries(block.access),
        entries(block.default) if block.default else None,
        setgid=block.flags[1] == "s",
        sticky=block.flags[2] == "t",
    )
    owner, group = (said[1] if said is not None else "" for said in (block.owner, block.group))
    return Folder(name=block.path, owner=owner, group=group, listed=own)
