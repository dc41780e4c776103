"""Many shares at a real SMB server, entered by a real client as everybody: one JSON task in, what each could do out.

Runs under the system's Python as root, in namespaces of its own, like `smbd_child`.
"""

import json
import os
import subprocess
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))

from smbd_child import PASSWORD, prepare, started

REFUSED = {0xC0000022, 0xC00000CC, 0xC0000034, 0xC000003A, 0xC0000121, 0xC000006D, 0xC0000072}
# STATUS_ACCESS_DENIED, _BAD_NETWORK_NAME, _OBJECT_NAME_NOT_FOUND, _OBJECT_PATH_NOT_FOUND, _CANNOT_DELETE, _LOGON_FAILURE, _ACCOUNT_DISABLED


def tried(act) -> bool:
    try:
        return act()
    except Exception as error:
        if error.args[0] not in REFUSED:
            raise
        return False


def looked(client, folder: str, me: str) -> dict[str, object]:
    """Everything about one folder with the files `plain` and `doomed-<me>` in it. me: whose visit, over which share."""
    within = f"{folder}\\" if folder else ""

    def opened(name: str, **how: int) -> bool:
        client.close(client.create(within + name, ShareAccess=7, **how))
        return True

    names: list[str] = []
    tried(lambda: names.extend(one["name"] for one in client.list(folder)) or True)
    return {
        "names": names,
        "lists": "plain" in names,
        "reads": tried(lambda: opened("plain", DesiredAccess=0x1)),
        "changes": tried(lambda: opened("plain", DesiredAccess=0x2)),
        "adds": tried(lambda: opened(f"new-{me}", DesiredAccess=0x2, CreateDisposition=2)),
        "deletes": tried(lambda: opened(f"doomed-{me}", DesiredAccess=0x10000, CreateOptions=0x1000)),
    }


def listed(conf: str, name: str) -> list[str]:
    """The shares that somebody is shown."""
    login = ["--user", f"{name}%{PASSWORD}"] if name else ["--no-pass"]
    done = subprocess.run(
        ["smbclient", "--configfile", conf, "--grepable", "--list", "127.0.0.1", *login], capture_output=True, text=True
    )
    return [line.split("|")[1] for line in done.stdout.splitlines() if line.startswith("Disk|")]


def entered(conf: str, task: dict) -> dict[str, object]:
    """What each subject found in the folders of each share. marks: what tells the files of visits over one share from those over another."""
    from samba import credentials
    from samba.samba3 import libsmb_samba_internal as libsmb
    from samba.samba3 import param

    lp = param.get_context()
    lp.load(conf)
    found: dict[str, object] = {}
    for who in task["subjects"]:
        made = credentials.Credentials()
        made.guess(lp)
        made.set_username(who["name"])
        made.set_password(who.get("password", PASSWORD))
        if "domain" in who:
            made.set_domain(who["domain"])
        made.set_kerberos_state(credentials.DONT_USE_KERBEROS)
        for share, folders in task["folders"].items():
            try:
                client = libsmb.Conn("127.0.0.1", share, lp, made)
            except Exception as error:
                if error.args[0] not in REFUSED:
                    raise
                found[f"{who['id']} {share}"] = None
                continue
            found[f"{who['id']} {share}"] = [
                looked(client, folder, f"{who['id']}{task.get('marks', {}).get(share, '')}") for folder in folders
            ]
            del client
    return found


def visited(conf: str, task: dict) -> dict[str, object]:
    """The same, and which shares each subject is shown."""
    shown = {f"{who['id']} lists": listed(conf, who["name"]) for who in task["subjects"]}
    return {**entered(conf, task), **shown}


def main() -> None:
    task = json.load(sys.stdin)
    os.umask(0)
    conf = prepare(Path(task["top"]), task, " map to guest = Bad User\n guest account = nobody\n\n" + task["shares"])
    server = started(conf)
    try:
        found = visited(conf, task)
    finally:
        server.terminate()
        server.wait(20)
    print(json.dumps(found))


if __name__ == "__main__":
    main()
