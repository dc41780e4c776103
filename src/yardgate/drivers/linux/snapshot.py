"""Reading a Linux file server whole, to take it into a plan."""

import re
from collections.abc import Sequence

from yardgate.drivers.linux.command import FILES, Command, Files, Runner
from yardgate.formats.server import Copied

INCLUDE = re.compile(r"^\s*include\s*=\s*(\S.*?)\s*$", re.MULTILINE | re.IGNORECASE)
MOST = 200  # files of a configuration


def copied(run: Runner, tops: Sequence[str], files: Files = FILES) -> Copied:
    """The texts of a server. tops: folders; of them and all folders in them the lists are read. Raises ApplianceError."""

    def said(why: str, *argv: str, given: str = "", needed: bool = True, root: bool = True) -> str:
        done = run(Command(argv, why, given, changes=False, root=root))
        return done.needed(why) if needed or not done.code else ""

    smb: dict[str, str] = {}
    waiting = [files.smb_main]
    while waiting and len(smb) < MOST:
        path = waiting.pop()
        text = said(f"read {path}", "cat", "--", path, needed=False, root=False)
        if not text and path != files.smb_main:
            continue
        smb[path] = text
        waiting += [one for one in INCLUDE.findall(text) if "%" not in one and one not in smb]
    exports = said(
        "read /etc/exports", "sh", "-c", "cat /etc/exports /etc/exports.d/*.exports 2> /dev/null; true", root=False
    )
    script = 'find "$@" -type d -print0 | xargs -0 -r getfacl -p --'
    listing = said("read lists", "sh", "-c", script, "sh", *tops) if tops else ""
    return Copied(
        passwd=said("read accounts", "cat", "/etc/passwd", root=False),
        group=said("read groups", "cat", "/etc/group", root=False),
        smb={path: text for path, text in smb.items() if text},
        main=files.smb_main,
        exports=exports,
        listing=listing,
        smb_accounts=said(
            "read the SMB server's accounts", "pdbedit", "--list", "--verbose", "--debuglevel=0", needed=False
        )
        or None,
        expiry=said("read when accounts expire", "cut", "-d:", "-f1,8", "/etc/shadow", needed=False),
        descriptors=said("read the descriptors of shares", "sharesec", "--view-all", needed=False),
    )
