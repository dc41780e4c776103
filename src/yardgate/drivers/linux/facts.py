"""What a Linux host says of one account and one thing in a share, for `core.host.diagnosis`: read there, nothing is changed."""

import re
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, datetime

from yardgate.core.host.diagnosis import Asked, Facts, PasswordKnown
from yardgate.core.host.state import Folder, HostAccount, HostService, System
from yardgate.core.model.naming import size
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux import sign_in
from yardgate.drivers.linux.command import Command, Files, Runner, understood
from yardgate.drivers.linux.datasets import BTRFS_QUOTA
from yardgate.drivers.linux.firewall import PORTS, shut
from yardgate.drivers.linux.reading import passdb, read

FULL = 64  # KiB, or files, that have to be free
LOOK = (
    BTRFS_QUOTA
    + """port=$1 account=$2 top=$3; shift 3
echo "groups $(id -Gnz -- "$account" 2> /dev/null | tr '\\0' '\\t')"
echo "regrouped $(stat -c %Y /etc/group)"
ss -Hltn "sport = :$port" | while read -r _ _ _ at _; do echo "listens $at"; done
last=/
for path; do
  if test -L "$path"; then case $path in
    "$top"/*) case $(realpath -- "$path") in "$(realpath -- "$top")"/*) ;; *) echo "link $path"; break ;; esac ;;
  esac; fi
  if ! test -e "$path"; then echo "missing $path"; break; fi
  last=$path
done
if test -f "$last"; then echo "file $last"; fi
echo "options $(findmnt -nro OPTIONS -T "$last")"
echo "free $(df --output=avail,iavail -k -- "$last" | tail -n 1)"
echo "quota $(btrfs_quota "$last")"
"""
)
ENTER = """smbclient -A /dev/stdin -D "$2" "//127.0.0.1/$1" -c 'ls' 2>&1 || true"""
NO = re.compile(r"NT_STATUS_\w+")


def facts(run: Runner, asked: Asked, files: Files, top: str) -> Facts:
    """top: the folder of the share there. Raises ApplianceError."""
    thing = f"{top}/{asked.path}" if asked.path else top
    steps = thing.split("/")
    paths = ["/".join(steps[:end]) for end in range(2, len(steps) + 1)]
    wanted = System(
        accounts={asked.account: HostAccount(name=asked.account, primary="")},
        folders={path: Folder(name=path) for path in ("/", *paths)},
        services={asked.protocol: HostService(name=asked.protocol)},
    )
    there = read(
        run, wanted, files, ("accounts", "folders", "services", "offers" if asked.protocol == "smb" else "exports")
    )
    port = str(PORTS[asked.protocol])
    looking = Command(
        ("sh", "-euc", LOOK, "sh", port, asked.account, top, *paths), "look at a share and an account", changes=False
    )
    said = run(looking).needed(looking.why).splitlines()
    lines = [(key, value) for key, _, value in (line.partition(" ") for line in said)]
    by_key: Mapping[str, str] = dict(lines)
    service = there.services.get(asked.protocol)
    with understood(looking.why):
        found = Facts(
            service=service,
            listens=tuple(at.rpartition(":")[0] for key, at in lines if key == "listens") or None,
            shut=shut(run, asked.protocol, asked.machine),
            account=there.accounts.get(asked.account),
            groups=frozenset(name for name in by_key["groups"].split("\t") if name),
            regrouped=_iso(by_key["regrouped"]),
            offer=there.offers.get(asked.share),
            export=there.exports.get(asked.share),
            folders=tuple(there.folders[path] for path in ("/", *paths) if path in there.folders),
            missing=by_key.get("missing", ""),
            link=by_key.get("link", ""),
            is_file="file" in by_key,
            read_only="ro" in by_key["options"].split(","),
            full=_full(by_key["free"]) or _used_up(by_key.get("quota", "")),
        )
    return _signing_in(run, asked, found) if asked.protocol == "smb" else found


def _signing_in(run: Runner, asked: Asked, found: Facts) -> Facts:
    known = passdb(run, asked.account).get(asked.account)
    running = found.service is not None and found.service.running
    return replace(
        found,
        locked=known is not None and "L" in known.get("Account Flags", ""),
        password=_password(known),
        sessions=tuple(one for one in sign_in.sessions(run) if one.account == asked.account) if running else (),
        tried=_tried(run, asked) if asked.password and running else "",
    )


def _password(known: Mapping[str, str] | None) -> PasswordKnown:
    if known is None:
        return "unknown"
    if sign_in.is_unknown(known):
        return "not given"
    return "to be changed" if known.get("Password last set") == "0" else "known"


def _tried(run: Runner, asked: Asked) -> str:
    """What the server says to a client on the host that signs in with the password, which stands in no command."""
    if set(asked.password) & set("\r\n") or set(asked.path) & set('"\r\n;'):
        raise ApplianceError("the password or the path has a character that the client cannot be given")
    folder = asked.path.rpartition("/")[0].replace("/", "\\")  # a file is looked for in its folder
    given = f"username = {asked.account}\npassword = {asked.password}\n"
    argv = ("sh", "-euc", ENTER, "sh", asked.share, folder or "\\")
    said = run(Command(argv, "sign in to the share", given, changes=False)).out
    refused = NO.search(said)
    return refused[0] if refused else "in"


def _iso(seconds: str) -> str:
    return datetime.fromtimestamp(int(seconds), UTC).isoformat(timespec="seconds")


def _used_up(quota: str) -> str:
    """What a dataset of btrfs holds and may hold, in bytes, where that is next to the same. df(1) knows nothing of it; of ZFS it does."""
    used, _, most = quota.partition(" ")
    if not (used.isdigit() and most.isdigit()) or int(most) - int(used) >= FULL * 1024:
        return ""
    return f"all but {max(0, int(most) - int(used)) // 1024} KiB of its quota, {size(int(most))}, are used"


def _full(free: str) -> str:
    """What df(1) says is left, where that is next to nothing; a file system without a table of files says none are free, as `-` or 0 with no other sign."""
    blocks, files = free.split()
    if blocks.isdigit() and int(blocks) < FULL:
        return f"{blocks} KiB are left"
    return f"{files} more files fit" if files.isdigit() and 0 < int(files) < FULL else ""
