"""By which commands a step is done on a Linux file server, and taken back.

Nothing is ever handed to a shell as text: what names somebody or something is an argument of its own, or stands in a file that was
checked.
"""

import re
import shlex
from collections.abc import Collection, Iterable, Iterator
from dataclasses import replace
from itertools import chain
from typing import Literal

from yardgate.core.acl import Ordered, Posix
from yardgate.core.acl.rights import letters
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import Dataset, Folder, HostAccount, HostGroup, HostService, Members, Offer, System, whos
from yardgate.core.host.steps import Step
from yardgate.drivers.linux import datasets
from yardgate.drivers.linux.command import FILES, IN, Command, Files
from yardgate.drivers.linux.reading import EPOCH, NEVER, SHUT
from yardgate.drivers.linux.sign_in import UNKNOWN
from yardgate.formats import descriptor, posix_text, smbconf, usermap
from yardgate.formats import exports as exports_text
from yardgate.formats.notation import flag_letters

NO_SHELL = "/usr/sbin/nologin"


def commands(step: Step, now: System, files: Files = FILES) -> tuple[Command, ...]:
    """The commands that do a step on a host that has `now`. Raises FormatError for what no command can carry."""
    match step.before, step.after:
        case (None | HostGroup()) as was, (None | HostGroup()) as group:
            found = _group_commands(was, group)
        case (None | HostAccount()) as was, (None | HostAccount()) as account:
            found = chain(_account_commands(was, account), _alias_commands(was, account, step.onto(now), files))
        case ((None | Members()), (None | Members()) as members):
            found = _members_commands(step.record.name, members.users if members is not None else ())
        case (None | Dataset(), None | Dataset()):
            found = datasets.commands(step, now, files)
        case (None | Folder()) as was, (None | Folder()) as folder:
            found = _folder_commands(was, folder, wipe=step.wipe)
        case ((None | Offer()), (None | Offer())):
            found = _offer_commands(step, step.onto(now), files)
        case (None | HostService()) as was, (None | HostService()) as service:
            found = _service_commands(was, service)
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
        yield _script("say it to the SMB server", UNTIL, now.name, "no" if now.enabled else "yes", stamp)


def _alias_commands(was: HostAccount | None, now: HostAccount | None, after: System, files: Files) -> Iterator[Command]:
    had, has = ((one.name, one.aliases) if one is not None and one.aliases else None for one in (was, now))
    if had != has:
        why = "write who signs in under which other names"
        text = usermap.render(after.accounts.values())
        yield _script(
            why, WRITE_USERS if text else TAKE_USERS, files.users, files.smb_main, given=HEAD + text if text else ""
        )
        yield _script("let the SMB server read it", RELOAD)


WRITE_USERS = """umask 022; cat > "$1.new"
other=$(testparm -s --parameter-name='username map' "$2" 2> /dev/null || true)
if test -n "$other" && test "$other" != "$1"; then
  rm -f -- "$1.new"; echo "the SMB server has a username map already, $other" >&2; false
fi
mv -f -- "$1.new" "$1"
grep -qxF " username map = $1" "$2" || printf '# begin yardgate users\\n[global]\\n username map = %s\\n# end yardgate users\\n' "$1" >> "$2"
"""
TAKE_USERS = """sed -i '/^# begin yardgate users$/{N;N;N;/\\n# end yardgate users$/d}' "$2"; rm -f -- "$1"
"""


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
ENTER = f"""if ! pdbedit -u "$1" > /dev/null 2>&1; then
  p=$(head -c 24 /dev/urandom | base64)
  printf '%s\\n%s\\n' "$p" "$p" | smbpasswd -s -a "$1" > /dev/null
  since=$(pdbedit -v -u "$1" | sed -n 's/^Password last set: *//p')
  pdbedit -r -u "$1" -N "{UNKNOWN} ($since)" > /dev/null
fi"""
FORGET = """if pdbedit -u "$1" > /dev/null 2>&1; then pdbedit -x -u "$1"; fi"""
UNTIL = """if pdbedit -u "$1" > /dev/null 2>&1; then
  net sam set disabled "$1" "$2" > /dev/null
  pdbedit -r -u "$1" -K "$3" > /dev/null
fi"""
DO_IN = f"""{IN}shift; "$@\""""
TAKE_FROM = f"""test -e "$1/$2" || exit 0
{IN}rmdir -- "./$2\""""
WIPE_FROM = f"""{IN}test -d "./$2" && test ! -L "./$2" || {{ echo "no folder of its own: $1/$2" >&2; exit 1; }}
rm --recursive --one-file-system -- "./$2\""""
RENAME = """test -e "./$2" || mv --no-target-directory -- "./$1" "./$2\""""


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
    if was is not None and was.name != now.name:
        above, _, name = now.name.rpartition("/")
        script = ("sh", "-euc", RENAME, "sh", was.name.rpartition("/")[2], name)
        yield _in("rename it, with all that is in it", above or "/", *script)
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
grep -qxF " include = $1" "$2" || printf '# begin yardgate\\n[global]\\n include = %s\\n# end yardgate\\n' "$1" >> "$2"
"""
TAKE = """rm -f -- "$1"; d=$(dirname -- "$1"); test ! -d "$d" || rmdir --ignore-fail-on-non-empty -- "$d"
"""
TAKE_SMB = """sed -i '/^# begin yardgate$/{N;N;N;/\\n# end yardgate$/d}' "$2"; rm -f -- "$1"
"""  # those four lines, and no more where somebody took one away
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
    yield _script("let the SMB server read it", RELOAD)


def _export_commands(after: System, files: Files) -> Iterator[Command]:
    text = exports_text.render(after.exports[name] for name in sorted(after.exports))
    if text:
        yield _script("write the exports", WRITE, files.exports, given=HEAD + text)
    else:
        yield _script("take the file with the exports away", TAKE, files.exports)
    yield _run("let the NFS server read it", "exportfs", "-ra")


def _service_commands(was: HostService | None, now: HostService | None) -> Iterator[Command]:
    """What was not known before is left as it is when it is taken back."""
    if now is None:
        return
    before = was if was is not None else HostService(name=now.name, running=False, enabled=False)
    for has, shall, yes, no in (
        (before.enabled, now.enabled, "enable", "disable"),
        (before.running, now.running, "start", "stop"),
    ):
        if has != shall:
            act, units = yes if shall else no, UNITS[now.name]
            serving = _script(f"{act} the {now.name.upper()} server", SERVE, act, *units)
            by_hand = (f"serve {act} {' '.join(units)}", None)
            yield replace(serving, shown=f"systemctl {act} {units[0]}", by_hand=by_hand)


UNITS = {"smb": ("smbd", "smb"), "nfs": ("nfs-kernel-server", "nfs-server")}
"""How systems call the service of a protocol: the first that is there counts."""
SERVE = """act=$1; shift
if test -d /run/systemd/system; then
  for unit; do if systemctl cat "$unit" > /dev/null 2>&1; then systemctl "$act" "$unit"; exit; fi; done
else
  for unit; do
    test -x "/etc/init.d/$unit" || continue
    case $act in enable|disable) update-rc.d "$unit" "$act" ;; *) service "$unit" "$act" > /dev/null ;; esac
    exit
  done
fi
echo "there is no service $1 on the host; is its package installed?" >&2; false
"""


RELOAD = "smbcontrol smbd reload-config 2> /dev/null || true"
HEAD = "# Written by Yard Gate at each rollout. What is changed here by hand is shown as drift, and goes with the next one.\n"


def helpers(files: Files = FILES) -> dict[str, str]:
    """What stands at the head of a runbook, by name, so that its steps stay short."""
    smb = f"set -- {shlex.quote(files.smb)} {shlex.quote(files.smb_main)}"
    return {
        "in_folder": f"in_folder() (set -eu\n{DO_IN})\n",
        "keep_list": f"keep_list() (set -eu\n{KEEP})\n",
        "drop_list": f"drop_list() (set -eu\n{DROP})\n",
        "zfs_name": datasets.ZFS_NAME,
        "serve": f"serve() (set -eu\n{SERVE})\n",
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
