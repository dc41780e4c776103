"""Going into shares of a host as everybody, with a real SMB client, under the system's Python: one JSON task in, answers out."""

import json
import subprocess
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))

from shares_child import entered
from smbd_child import PASSWORD, run


def hashes() -> dict[str, tuple[str, bool]]:
    """Account -> how the SMB server keeps its password (smbpasswd(5)), and whether it is shut."""
    said = subprocess.run(["pdbedit", "-L", "-w", "-d0"], capture_output=True, text=True, check=True).stdout
    rows = (line.split(":") for line in said.splitlines())
    return {row[0]: (row[3], "D" in row[4]) for row in rows if len(row) > 4}


def main() -> None:
    task = json.load(sys.stdin)
    known: str | None = None  # the same password is kept the same way
    there = hashes()
    for name in task["passwords"]:
        kept, shut = there[name]
        if kept == known:
            continue
        run("smbpasswd", "-s", name, given=f"{PASSWORD}\n{PASSWORD}\n")
        if shut:  # which setting a password ended
            run("smbpasswd", "-d", name)
        if known is None:
            known = hashes()[name][0]
    print(json.dumps(entered("/etc/samba/smb.conf", task)))


main()
