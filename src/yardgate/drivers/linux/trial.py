"""Trying a Linux host's shares for real: a second SMB server beside the host's own, which only the host itself can reach.

It has the host's own configuration, folders and accounts, and a copy of the SMB server's accounts in which those who are tried have
a password of their own; nobody's real password is asked for or changed. A real client then goes in as each of them, lists folders
and makes a file, which is taken away again.
"""

import re
import secrets
from collections.abc import Collection, Sequence
from contextlib import suppress

from yardgate.core.host.probe import Abilities
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Files, Runner

FOLDER = "/run/yardgate-trial"
SECONDS = 900  # after which it ends by itself
CONF = """[global]
 include = {main}
[global]
 server role = standalone server
 security = user
 interfaces = 127.0.0.1/8
 bind interfaces only = yes
 hosts allow = 127.0.0.1
 hosts deny =
 smb ports = {port}
 disable netbios = yes
 passdb backend = tdbsam:{folder}/private/passdb.tdb
 private dir = {folder}/private
 state directory = {folder}/state
 lock directory = {folder}/lock
 cache directory = {folder}/cache
 pid directory = {folder}/pid
 ncalrpc dir = {folder}/ncalrpc
 log file = {folder}/log
 load printers = no
 disable spoolss = yes
 rpc start on demand helpers = no
"""
STOP = """if p=$(cat "$1/server" 2> /dev/null) && grep -q yardgate-trial "/proc/$p/cmdline" 2> /dev/null; then
  kill -- "-$p" || true
  for left in $(seq 50); do
    kill -0 -- "-$p" 2> /dev/null || break
    test "$left" -lt 30 || kill -9 -- "-$p" 2> /dev/null || true
    sleep 0.1
  done
fi
rm -rf -- "$1"
"""
"""All of it, those too who serve somebody right now: while one of them acts as an account, the host does not let it be deleted."""
BEGIN = (
    STOP
    + """umask 077; d=$1 main=$2 port=$3
mkdir -- "$d"; cd "$d"
mkdir private state; mkdir -m 755 lock cache pid ncalrpc
cat > smb.conf; : > mark
case $(testparm -s --parameter-name='passdb backend' "$main" 2> /dev/null) in
  tdbsam*) ;;
  *) echo "its accounts are not kept in a file of its own (tdbsam)" >&2; exit 1 ;;
esac
from() { testparm -s --parameter-name="$1" "$main" 2> /dev/null; }
cp -- "$(from 'private dir')/passdb.tdb" "$(from 'private dir')/secrets.tdb" private/
for file in share_info group_mapping account_policy registry; do
  if test -e "$(from 'state directory')/$file.tdb"; then cp -- "$(from 'state directory')/$file.tdb" state/; fi
done
setsid timeout "$4" smbd --foreground --no-process-group -s "$d/smb.conf" < /dev/null > /dev/null 2>&1 &
echo "$!" > server
for _ in $(seq 100); do
  case $(smbclient -s "$d/smb.conf" -p "$port" -N -L 127.0.0.1 2>&1) in
    *NT_STATUS_CONNECTION_REFUSED*) sleep 0.1 ;;
    *) exit 0 ;;
  esac
done
echo "the second SMB server did not start" >&2; exit 1
"""
)
LET_IN = """umask 077; read -r p; printf '%s\\n' "$p" > "$1/password"
while read -r name; do
  if said=$(pdbedit -s "$1/smb.conf" -v -u "$name" 2> /dev/null); then
    printf '%s\\n%s\\n' "$p" "$p" | smbpasswd -c "$1/smb.conf" -s "$name" > /dev/null && printf '%s\\n' "$name"
    case $said in *"Account Flags:        [D"*) smbpasswd -c "$1/smb.conf" -d "$name" > /dev/null ;; esac  # a password opens it
  fi
done"""
ENTER = """umask 077; head -c "$5" > "$1/lines"; cat > "$1/made"
exec 3< "$1/lines" 4< "$1/made"
printf 'username = %s\\npassword = %s\\n' "$3" "$(cat "$1/password")" > "$1/who"
conf=$1/smb.conf port=$2 share=$4
top=$(testparm -s --section-name="$share" --parameter-name=path "$conf" 2> /dev/null)
if test -n "$3"; then set -- -A "$1/who"; else set -- -N; fi
said=$(smbclient -s "$conf" -p "$port" "$@" "//127.0.0.1/$share" 2>&1 <&3 || true)
if test -d "$top"; then cd -- "$top"; xargs -0 -r rm -f -- <&4; fi
printf '%s\\n' "$said"
"""
"""Go in, and take away what was made there, as root: not all who may make a file may delete it, and some shares keep what is deleted. Both in one go, which
comes to its end here, even if whoever asked for it does not."""
REFUSED = re.compile(r"^NT_STATUS_\w+ (?:listing (.*)\\\*|opening remote file (.*))$", re.MULTILINE)
CANNOT = set('"\r\n;')  # in a path that a client is given to read, line by line


class LinuxTrial:
    """mark: in the names of the files that it makes."""

    def __init__(self, run: Runner, files: Files, mark: str):
        self.run, self.files, self.mark = run, files, mark
        self.password = secrets.token_urlsafe(18)
        self.port = 20000 + secrets.randbelow(20000)
        self.known: frozenset[str] = frozenset()
        self.missing: dict[str, bool] = {}

    def begin(self, accounts: Collection[str]) -> None:
        conf = CONF.format(main=self.files.smb_main, folder=FOLDER, port=self.port)
        self._ask(
            "start an SMB server beside its own", BEGIN, self.files.smb_main, str(self.port), str(SECONDS), given=conf
        )
        named = "".join(f"{name}\n" for name in sorted(accounts))
        said = self._ask("let test users in there", LET_IN, given=f"{self.password}\n{named}")
        self.known = frozenset(said.splitlines())

    def enter(self, account: str, share: str, folders: Sequence[str]) -> list[Abilities] | None:
        if account and account not in self.known:
            raise ApplianceError(f"the SMB server knows no account {account}")
        if any(set(folder) & CANNOT for folder in folders):
            raise ApplianceError("a folder has a name that the client cannot be given")
        if self._is_missing(share):
            return None
        inside = [folder.replace("/", "\\") for folder in folders]
        name = f"yardgate-trial-{self.mark}"
        lines = "".join(f'ls "{at}\\*"\nput {FOLDER}/mark "{at}\\{name}"\n' for at in inside)
        made = "".join(f"{folder}/{name}".lstrip("/") + "\0" for folder in folders)
        length = str(len(lines.encode("utf-8", "surrogateescape")))
        said = self._ask("go in", ENTER, str(self.port), account, share, length, given=lines + made)
        if "tree connect failed" in said or "session setup failed" in said:
            return None
        found = list(REFUSED.finditer(said))
        unseen, unmade = ({one[kind].strip("\\") for one in found if one[kind] is not None} for kind in (1, 2))
        return [Abilities(at not in unseen, f"{at}\\{name}".lstrip("\\") not in unmade) for at in inside]

    def _is_missing(self, share: str) -> bool:
        """Whether the server that clients connect to knows no such share, whatever the one beside it knows: it is asked once, as nobody."""
        if share not in self.missing:
            asking = ("smbclient", "-N", f"//127.0.0.1/{share}", "-c", "exit")
            said = self.run(Command(asking, "ask the SMB server itself for a share", changes=False))
            self.missing[share] = "NT_STATUS_BAD_NETWORK_NAME" in f"{said.out}{said.err}"
        return self.missing[share]

    def end(self) -> None:
        with suppress(ApplianceError):  # it ends by itself
            self._ask("end the second SMB server", STOP)

    def _ask(self, why: str, script: str, *more: str, given: str = "") -> str:
        done = self.run(Command(("sh", "-euc", script, "sh", FOLDER, *more), why, given, changes=False, root=True))
        if done.code:
            raise ApplianceError(f"could not {why}: {(done.err.strip() or done.out.strip())[-300:]}")
        return done.out
