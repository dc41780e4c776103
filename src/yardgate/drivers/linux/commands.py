"""A Linux file server: accounts in passwd(5), POSIX lists, an SMB server, the kernel's NFS server.

`read` tells what it has of what is asked about; `commands` says by which commands a step is done. Nothing is ever handed to a
shell as text: what names somebody or something is an argument of its own, or stands in a file that was checked.
"""

import re
import shlex
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Literal, NamedTuple

from yardgate.core.acl import Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.rights import letters
from yardgate.core.host.bounds import LOWEST, HostAccounts
from yardgate.core.host.state import (
    GROUP_MARK,
    OPEN,
    PARTS,
    Folder,
    HostAccount,
    HostGroup,
    Members,
    Offer,
    RecordKind,
    System,
    whos,
)
from yardgate.core.host.steps import Step
from yardgate.drivers.appliance import ApplianceError
from yardgate.formats import accounts, descriptor, posix_text, smbconf
from yardgate.formats import exports as exports_text
from yardgate.formats.notation import flag_letters
from yardgate.formats.reading import FormatError

EPOCH = date(1970, 1, 1)
SHUT = EPOCH + timedelta(days=1)  # the day of expiry (shadow(5)) of an account that is shut
LANGUAGE = "LC_ALL=C.UTF-8"  # in which commands speak, so that what they say is understood
NO_SHELL = "/usr/sbin/nologin"
DOMAIN = "S-1-5-21-"  # how SIDs of a domain begin, and those that an SMB server gives to accounts of its own (MS-DTYP, 2.4.2.4)
NEVER = date(2036, 2, 6)  # what the SMB server's accounts have for no day


@dataclass(frozen=True, slots=True)
class Command:
    """A program with its arguments, and what it reads. why: what it is for, in a few words. changes: whether it changes anything.

    shown: the same as a person would type it, where that is shorter. by_hand: the same in a runbook, by one of the `helpers` that stand at its
    head, and what that reads, if anything. root: whether only root may do it.
    """

    argv: tuple[str, ...]
    why: str
    given: str = ""
    changes: bool = True
    shown: str = ""
    by_hand: tuple[str, str | None] | None = None
    root: bool = True


class Done(NamedTuple):
    code: int
    out: str
    err: str

    def needed(self, why: str) -> str:
        """What it said, of what must not fail. Raises ApplianceError."""
        if self.code:
            raise ApplianceError(f"could not {why}: {self.err.strip() or self.out.strip()}")
        return self.out


Runner = Callable[[Command], Done]


@dataclass(frozen=True, slots=True)
class Files:
    """Where the host keeps what a rollout writes. smb: the file that the SMB server's configuration includes."""

    smb: str = "/etc/samba/yardgate.conf"
    smb_main: str = "/etc/samba/smb.conf"
    exports: str = "/etc/exports.d/yardgate.exports"


FILES = Files()


# --- reading ----------------------------------------------------------------------------------------------------------


def read(run: Runner, asked: System, files: Files = FILES, parts: Collection[RecordKind] = PARTS) -> System:
    """What the host has of the accounts, groups and folders that are asked about, and all shares that are ours.

    parts: only these of it. Raises ApplianceError, where it cannot be read or holds what this cannot say.
    """
    found = System()
    if {"groups", "members", "accounts"} & set(parts):
        found = _people(run, asked, parts)
    if "folders" in parts:
        found = replace(found, folders=_folders(run, asked.folders))
    try:
        if "offers" in parts:
            offers = smbconf.read(_text(run, files.smb, missing=""))
            found = replace(found, offers={one.name: one for one in offers})
        if "exports" in parts:
            exports = exports_text.read(_text(run, files.exports, missing=""))
            found = replace(found, exports={one.name: one for one in exports})
    except FormatError as error:
        raise ApplianceError(f"a file that only rollouts should write was changed by hand: {error}") from None
    return found


def about(run: Runner) -> HostAccounts:
    """All accounts and groups of the host's own files, and from which numbers on it keeps people's (login.defs(5)). Raises ApplianceError."""
    users, groups = (
        {row[0]: int(row[2]) for row in _rows(run, path, fields)}
        for path, fields in (("/etc/passwd", 7), ("/etc/group", 4))
    )
    said = dict(re.findall(r"^\s*(UID_MIN|GID_MIN)\s+(\d+)", _text(run, "/etc/login.defs", missing=""), re.MULTILINE))
    lowest_uid, lowest_gid = (int(said.get(name, LOWEST)) for name in ("UID_MIN", "GID_MIN"))
    return HostAccounts(users=users, groups=groups, lowest_uid=lowest_uid, lowest_gid=lowest_gid)


def _people(run: Runner, asked: System, parts: Collection[RecordKind]) -> System:
    """Accounts, groups and who is in them: those asked about by name, and those with a number asked about."""
    groups = {row[0]: row for row in _rows(run, "/etc/group", 4)}
    gids = {str(record.gid) for record in asked.groups.values() if record.gid is not None}
    mine = [row for row in groups.values() if row[0] in {*asked.groups, *asked.members} or row[2] in gids]
    members = (Members(name=row[0], users=frozenset(name for name in row[3].split(",") if name)) for row in mine)
    found = System(
        groups={row[0]: HostGroup(name=row[0], gid=int(row[2])) for row in mine},
        members={one.name: one for one in members},
    )
    if "accounts" not in parts:
        return found
    numbers = {str(record.uid) for record in asked.accounts.values() if record.uid is not None}
    passwd = _rows(run, "/etc/passwd", 7)
    expiry = {row[0]: row[7] for line in _text(run, "/etc/shadow").splitlines() if len(row := line.split(":")) > 7}
    group_of = {row[2]: row[0] for row in reversed(groups.values())}
    people = [row for row in passwd if row[0] in asked.accounts or row[2] in numbers]
    smb = _smb_accounts(run, [row[0] for row in people])
    return replace(
        found, accounts={row[0]: _account(row, group_of, expiry.get(row[0], ""), smb.get(row[0])) for row in people}
    )


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
    known = _passdb(run, names[0]) if len(names) == 1 else _passdb(run)
    return {name: (accounts.is_open(said), _day(said.get("Kickoff time", ""))) for name, said in known.items()}


def _passdb(run: Runner, only: str | None = None) -> dict[str, dict[str, str]]:
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
    return found | {path: _kept(found[path], kept) for path, kept in ordered_lists(run, found).items()}


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
        known |= {said["User SID"]: name for name, said in _passdb(run).items() if "User SID" in said}
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


# --- doing ------------------------------------------------------------------------------------------------------------


def commands(step: Step, now: System, files: Files = FILES) -> tuple[Command, ...]:
    """The commands that do a step on a host that has `now`. Raises FormatError for what no command can carry."""
    match step.before, step.after:
        case (None | HostGroup()) as was, (None | HostGroup()) as group:
            found = _group_commands(was, group)
        case (None | HostAccount()) as was, (None | HostAccount()) as account:
            found = _account_commands(was, account)
        case ((None | Members()), (None | Members()) as members):
            found = _members_commands(step.record.name, members.users if members is not None else ())
        case (None | Folder()) as was, (None | Folder()) as folder:
            found = _folder_commands(was, folder, wipe=step.wipe)
        case ((None | Offer()), (None | Offer())):
            found = _offer_commands(step, step.onto(now), files)
        case _:
            found = _export_commands(step.onto(now), files)
    return tuple(found)


def _run(why: str, *argv: str, given: str = "") -> Command:
    return Command(argv, why, given)


def _script(why: str, script: str, *names: str, given: str = "") -> Command:
    """A few lines of shell that are always the same; what names something is handed to them as arguments."""
    typed = re.sub(r'"\$(\d)([.\w]*)"', lambda found: shlex.quote(names[int(found[1]) - 1] + found[2]), script).strip()
    return Command(("sh", "-euc", script, "sh", *names), why, given, shown=typed)


def _where(there: Literal["a", "no"], database: str, name: str, why: str, *argv: str) -> Command:
    """A command that is run only where there is such an account or group, or none, so that it can be given again."""
    script = WHERE if there == "a" else WHERE_NO
    return Command(("sh", "-euc", script, "sh", database, name, *argv), why, shown=shlex.join(argv))


def _when_free(account: str, why: str, *argv: str) -> Command:
    """A command that shadow's tools refuse while a process acts as the account: as a session of the SMB server that is just ending."""
    return Command(("sh", "-euc", WHEN_FREE, "sh", account, *argv), why, shown=shlex.join(argv))


WHEN_FREE = """for left in 9 8 7 6 5 4 3 2 1 0; do
  if ! getent passwd "$1" > /dev/null; then exit 0; fi
  said=$(shift; "$@" 2>&1) && exit 0
  case $left$said in [1-9]*"currently used by process"*) sleep 1 ;; *) printf '%s\\n' "$said" >&2; exit 1 ;; esac
done"""
WHERE = """if getent "$1" "$2" > /dev/null; then shift 2; "$@"; fi"""
WHERE_NO = """if ! getent "$1" "$2" > /dev/null; then shift 2; "$@"; fi"""


FORGETTING = Command(("net", "cache", "flush"), "let the SMB server forget whose the number was")


def _group_commands(was: HostGroup | None, now: HostGroup | None) -> Iterator[Command]:
    if was is None and now is not None:
        number = ("--gid", str(now.gid)) if now.gid is not None else ()
        yield _where("no", "group", now.name, "make the group", "groupadd", *number, "--", now.name)
    elif was is not None and now is None:
        # where it is there: userdel(8) takes a group along that has the name of the account
        yield _where("a", "group", was.name, "delete the group", "groupdel", "--", was.name)
    elif was is not None and now is not None:
        if was.name != now.name:
            renaming = ("groupmod", "--new-name", now.name, "--", was.name)
            yield _where("a", "group", was.name, "rename the group", *renaming)
        if now.gid is not None and was.gid != now.gid:
            yield _run("give it another number", "groupmod", "--gid", str(now.gid), "--", now.name)
            yield FORGETTING


def _account_commands(was: HostAccount | None, now: HostAccount | None) -> Iterator[Command]:
    if now is None:
        assert was is not None
        yield _script("end its account at the SMB server", FORGET, was.name)
        yield _when_free(was.name, "delete the account; its files stay", "userdel", "--", was.name)
        yield FORGETTING
        return
    if was is None:
        number = ("--uid", str(now.uid)) if now.uid is not None else ()
        making = ("useradd", "--no-create-home", "--shell", NO_SHELL, *number, "--gid", now.primary)
        making += ("--comment", now.full_name, "--", now.name)
        yield _where("no", "passwd", now.name, "make the account, which has no shell", *making)
        yield _script("make its account at the SMB server, with a password that nobody knows yet", ENTER, now.name)
    else:
        yield from _account_changes(was, now)
    if was is None or (was.enabled, was.expires, was.name, was.smb) != (now.enabled, now.expires, now.name, now.smb):
        day = SHUT if not now.enabled else now.expires
        yield _run(
            "say until when it is open",
            "usermod",
            "--expiredate",
            day.isoformat() if day is not None else "",
            "--",
            now.name,
        )
        stamp = "never" if now.expires is None or now.expires >= NEVER else str((now.expires - EPOCH).days * 86400)
        yield _script("say it to the SMB server", UNTIL, now.name, "-e" if now.enabled else "-d", stamp)


def _account_changes(was: HostAccount, now: HostAccount) -> Iterator[Command]:
    if was.name != now.name:
        yield _script("end its old account at the SMB server", FORGET, was.name)
        renaming = ("usermod", "--login", now.name, "--", was.name)
        yield _when_free(was.name, "rename the account", *renaming)
        yield FORGETTING
    if now.smb and (not was.smb or was.name != now.name):
        yield _script("make its account at the SMB server, with a password that nobody knows yet", ENTER, now.name)
    if was.smb and not now.smb:
        yield _script("end its account at the SMB server", FORGET, now.name)
    if was.full_name != now.full_name:
        yield _run("say whose it is", "usermod", "--comment", now.full_name, "--", now.name)
    if now.uid is not None and was.uid != now.uid:
        yield _run("give it another number", "usermod", "--uid", str(now.uid), "--", now.name)
        yield FORGETTING
    if was.primary != now.primary:
        yield _run("give it another primary group", "usermod", "--gid", now.primary, "--", now.name)


def _members_commands(group: str, users: Collection[str]) -> Iterator[Command]:
    yield from _known(users)
    setting = ("gpasswd", "--members", ",".join(sorted(users)), "--", group)
    yield _where("a", "group", group, "say who is in it", *setting)


def _known(names: Iterable[str]) -> Iterator[Command]:
    """A look whether the host knows those accounts that are a directory's, which tools refuse without saying why."""
    if found := sorted({name.removeprefix(GROUP_MARK) for name in names if "\\" in name}):
        typed = "\n".join(f"getent passwd {shlex.quote(name)} || getent group {shlex.quote(name)}" for name in found)
        yield Command(
            ("sh", "-euc", KNOWN, "sh", *found), "see that the host knows the directory's accounts", shown=typed
        )


KNOWN = """for name; do
  getent passwd "$name" > /dev/null || getent group "$name" > /dev/null || { echo "the host does not know $name; is it joined to the directory?" >&2; false; }
done"""
ENTER = """if ! pdbedit -u "$1" > /dev/null 2>&1; then
  p=$(head -c 24 /dev/urandom | base64)
  printf '%s\\n%s\\n' "$p" "$p" | smbpasswd -s -a "$1" > /dev/null
fi"""
FORGET = """if pdbedit -u "$1" > /dev/null 2>&1; then pdbedit -x -u "$1"; fi"""
UNTIL = """if pdbedit -u "$1" > /dev/null 2>&1; then
  smbpasswd "$2" "$1" > /dev/null
  pdbedit -r -u "$1" -K "$3" > /dev/null
fi"""
IN = """cd -P -- "$1" && test "$PWD" = "$1" || { echo "no folder of its own, or behind a link: $1" >&2; exit 1; }
"""
"""Go into a folder and look where one is then. From there it is named `.`: whatever its path leads to by now, nothing else is touched."""
DO_IN = f"""{IN}shift; "$@\""""
TAKE_FROM = f"""test -e "$1/$2" || exit 0
{IN}rmdir -- "./$2\""""
WIPE_FROM = f"""{IN}test -d "./$2" && test ! -L "./$2" || {{ echo "no folder of its own: $1/$2" >&2; exit 1; }}
rm --recursive --one-file-system -- "./$2\""""


def _in(why: str, folder: str, *argv: str, given: str | None = None) -> Command:
    """A command that is run within a folder."""
    typed = f"(cd -P {shlex.quote(folder)} && {shlex.join(argv)})"
    by_hand = (f"in_folder {shlex.quote(folder)} {shlex.join(argv)}", given)
    return Command(("sh", "-euc", DO_IN, "sh", folder, *argv), why, given or "", shown=typed, by_hand=by_hand)


def _from(why: str, script: str, folder: str, *argv: str) -> Command:
    """A script that is run within the folder above one, and names that one; typed, it is a command that does."""
    above, _, name = folder.rpartition("/")
    above, typed = above or "/", shlex.join((*argv, name))
    shown = f"(cd -P {shlex.quote(above)} && {typed})"
    by_hand = (f"in_folder {shlex.quote(above)} {typed}", None)
    return Command(("sh", "-euc", script, "sh", above, name), why, shown=shown, by_hand=by_hand)


def _folder_commands(was: Folder | None, now: Folder | None, *, wipe: bool) -> Iterator[Command]:
    if now is None:
        assert was is not None
        if wipe:
            deleting = ("rm", "--recursive", "--one-file-system", "--")
            yield _from("delete the folder and all that is in it", WIPE_FROM, was.name, *deleting)
        else:
            yield _from("take the folder away, when nothing is in it", TAKE_FROM, was.name, "rmdir", "--")
        return
    yield from _known((now.owner, now.group, *whos(now.listed)))
    if was is None:
        above, _, name = now.name.rpartition("/")
        making = ("mkdir", "--parents", "--mode=0700", "--", name)
        yield _in("make the folder, for nobody yet", above or "/", *making)
    if was is None or (was.owner, was.group) != (now.owner, now.group):
        yield _in("give it its owner", now.name, "chown", f"{now.owner}:{now.group}", ".")
    yield _in("take what new things in it get", now.name, "setfacl", "--remove-default", ".")
    if isinstance(now.listed, Ordered):
        text = descriptor_text(now)
        keep = _in("write its list, which the SMB server goes by", now.name, "sh", "-euc", KEEP, given=text)
        typed = f"(cd -P {shlex.quote(now.name)}\n{KEEP})"
        yield replace(keep, shown=typed, by_hand=(f"in_folder {shlex.quote(now.name)} keep_list", text))
    what = (
        "write its list"
        if isinstance(now.listed, Posix)
        else "open what the file system says, so that the list alone decides"
    )
    yield _in(what, now.name, "setfacl", "--set-file=-", ".", given=list_text(now.mode))
    bits = f"g{'+' if now.mode.setgid else '-'}s,a{'+' if now.mode.sticky else '-'}t"
    yield _in("say setgid and sticky", now.name, "chmod", bits, ".")
    if isinstance(now.listed, Posix) and was is not None and isinstance(was.listed, Ordered):
        dropping = _in("take the list away that the SMB server went by", now.name, "sh", "-euc", DROP)
        typed = f"in_folder {shlex.quote(now.name)} drop_list"
        yield replace(dropping, shown=f"(cd -P {shlex.quote(now.name)}\n{DROP})", by_hand=(typed, None))


def descriptor_text(folder: Folder) -> str:
    """An ordered list for KEEP: what it says, then the pieces of its descriptor."""
    assert isinstance(folder.listed, Ordered)
    said = (f"# {line}" for line in entries_text(folder.listed))
    return "".join(f"{line}\n" for line in (*said, *(f"{kind} {text}" for kind, text in descriptor.pieces(folder))))


def entries_text(own: Ordered) -> list[str]:
    """The entries of an ordered list, each a line to be read."""
    return [f"{e.type} {e.who} {letters(e.mask)} {flag_letters(e.flags)}".rstrip() for e in own.entries]


KEEP = """v=0x
while read -r kind said; do
  case $kind in
    '#') ;;
    hex) v=$v$said ;;
    *) n=$(getent "$kind" "$said" | cut -d: -f3); test -n "$n"
       v=$v$(printf %02x%02x%02x%02x $((n & 255)) $((n >> 8 & 255)) $((n >> 16 & 255)) $((n >> 24))) ;;
  esac
done
setfattr --name=security.NTACL --value="$v" -- "${1:-.}"
"""
DROP = """if getfattr --name=security.NTACL . > /dev/null 2>&1; then setfattr --remove=security.NTACL .; fi
"""


def list_text(own: Posix) -> str:
    """A list and its default list, as setfacl(1) reads them."""
    lines = [posix_text.entry_text(entry, entry.who) for entry in own.access]
    lines += [posix_text.entry_text(entry, entry.who, default=True) for entry in own.default or ()]
    return "".join(f"{line}\n" for line in lines)


WRITE_SMB = """umask 022; cat > "$1.new"
testparm --suppress-prompt "$1.new" > /dev/null 2> "$1.said" || { cat "$1.said" >&2; false; }
rm -f -- "$1.said"; mv -f -- "$1.new" "$1"
grep -qxF '# begin yardgate' "$2" || printf '# begin yardgate\\n[global]\\n include = %s\\n# end yardgate\\n' "$1" >> "$2"
"""
TAKE = """rm -f -- "$1"; d=$(dirname -- "$1"); test ! -d "$d" || rmdir --ignore-fail-on-non-empty -- "$d"
"""
TAKE_SMB = """sed -i '/^# begin yardgate$/,/^# end yardgate$/d' "$2"; rm -f -- "$1"
"""
WRITE = """umask 022; mkdir -p -- "$(dirname -- "$1")"; cat > "$1.new"; mv -f -- "$1.new" "$1"
"""


def _offer_commands(step: Step, after: System, files: Files) -> Iterator[Command]:
    section = smbconf.render([step.after] if isinstance(step.after, Offer) else ())
    by_hand = (f"keep_share {shlex.quote(step.record.name)}", section)
    text = smbconf.render(after.offers[name] for name in sorted(after.offers))
    if text:
        why = "write the shares, when the server's own parser takes them"
        writing = _script(why, WRITE_SMB, files.smb, files.smb_main, given=HEAD + text)
    else:
        writing = _script("take the file with the shares away", TAKE_SMB, files.smb, files.smb_main)
    yield replace(writing, by_hand=by_hand)
    yield _script("let the SMB server read it", "smbcontrol smbd reload-config 2> /dev/null || true")


def _export_commands(after: System, files: Files) -> Iterator[Command]:
    text = exports_text.render(after.exports[name] for name in sorted(after.exports))
    if text:
        yield _script("write the exports", WRITE, files.exports, given=HEAD + text)
    else:
        yield _script("take the file with the exports away", TAKE, files.exports)
    yield _run("let the NFS server read it", "exportfs", "-ra")


HEAD = "# Written by Yard Gate at each rollout. What is changed here by hand is shown as drift, and goes with the next one.\n"


# --- by hand ----------------------------------------------------------------------------------------------------------


def helpers(files: Files = FILES) -> dict[str, str]:
    """What stands at the head of a runbook, by name, so that its steps stay short."""
    smb = f"set -- {shlex.quote(files.smb)} {shlex.quote(files.smb_main)}"
    return {
        "in_folder": f"in_folder() (set -eu\n{DO_IN})\n",
        "keep_list": f"keep_list() (set -eu\n{KEEP})\n",
        "drop_list": f"drop_list() (set -eu\n{DROP})\n",
        "keep_share": f'keep_share() (set -eu; umask 022; export name="$1"\n{smb}\n{KEEP_SHARE})\n',
    }


KEEP_SHARE = f"""{{
  if test -e "$1"; then
    awk 'BEGIN {{ other = 1 }} /^\\[/ {{ other = $0 != "[" ENVIRON["name"] "]" }} other' "$1"
  fi
  cat
}} > "$1.all"
if grep -q '^\\[' "$1.all"; then
( {WRITE_SMB}) < "$1.all"
else
{TAKE_SMB}fi
rm -f -- "$1.all"
"""
