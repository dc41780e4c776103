"""Going into shares of a host as everybody, with a real SMB client, under the system's Python: one JSON task in, answers out."""

import json
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))

from shares_child import visited
from smbd_child import PASSWORD, run


def main() -> None:
    task = json.load(sys.stdin)
    for name in task["passwords"]:
        run("smbpasswd", "-s", name, given=f"{PASSWORD}\n{PASSWORD}\n")
    print(json.dumps(visited("/etc/samba/smb.conf", task)))


main()
