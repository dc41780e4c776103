"""Going into shares of a host as everybody, with a real SMB client, under the system's Python: one JSON task in, answers out."""

import json
import subprocess
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))

from shares_child import visited
from smbd_child import PASSWORD, run


def main() -> None:
    task = json.load(sys.stdin)
    for name in task["passwords"]:
        shut = (
            "Account Flags:        [D"
            in subprocess.run(["pdbedit", "-v", "-d0", "-u", name], capture_output=True, text=True, check=True).stdout
        )
        run("smbpasswd", "-s", name, given=f"{PASSWORD}\n{PASSWORD}\n")
        if shut:  # which setting a password ended
            run("smbpasswd", "-d", name)
    print(json.dumps(visited("/etc/samba/smb.conf", task)))


main()
