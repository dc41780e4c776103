"""A real SMB server and its client, in network, mount and process namespaces of their own: reads one JSON task, prints what opens.

Runs under the system's Python as root, started with unshare(1) by `test_smb_wire`. It has its own /etc/passwd, /etc/group and
/run/samba, mounted over the machine's in this namespace only, so that nothing is left behind.
"""

import json
import os
import socket
import subprocess
import sys
import time
from pathlib import Path

PASSWORD = "Quay-side-7"
PORT = 445  # in a network namespace of our own
CONF = """[global]
 workgroup = QUAY
 netbios name = KEELSON
 server role = standalone server
 interfaces = 127.0.0.1/8
 bind interfaces only = yes
 smb ports = {port}
 disable netbios = yes
 passdb backend = tdbsam:{top}/private/passdb.tdb
 private dir = {top}/private
 lock directory = {top}/lock
 state directory = {top}/state
 cache directory = {top}/cache
 pid directory = {top}/pid
 ncalrpc dir = {top}/ncalrpc
 log file = {top}/log
 log level = 0
 load printers = no
 printing = bsd
 printcap name = /dev/null
 disable spoolss = yes
 map archive = no
"""
YARD = """
[yard]
 path = {top}/data
 read only = no
 vfs objects = acl_xattr
 acl_xattr:ignore system acls = yes
"""


def run(*command: str, given: str = "") -> None:
    done = subprocess.run(command, input=given, capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{' '.join(command)}: {done.stdout}{done.stderr}")


def prepare(top: Path, task: dict, shares: str = YARD) -> str:
    run("ip", "link", "set", "lo", "up")
    run("mount", "-t", "tmpfs", "tmpfs", "/run/samba")
    for name in ("private", "lock", "state", "cache", "pid", "ncalrpc", "data"):
        (top / name).mkdir()
        (top / name).chmod(0o777 if name == "data" else 0o755)
    users = "".join(f"{u['name']}:x:{u['uid']}:{u['gid']}::/nonexistent:/usr/sbin/nologin\n" for u in task["users"])
    groups = "".join(f"{g['name']}:x:{g['gid']}:{','.join(g['members'])}\n" for g in task["groups"])
    for file, text in (("passwd", users), ("group", groups)):
        (top / file).write_text(Path("/etc", file).read_text() + text)
        run("mount", "--bind", str(top / file), f"/etc/{file}")
    conf = top / "smb.conf"
    conf.write_text((CONF + shares).format(port=PORT, top=top))
    for user in task["users"]:
        run("smbpasswd", "-c", str(conf), "-s", "-a", user["name"], given=f"{PASSWORD}\n{PASSWORD}\n")
        if user.get("shut"):
            run("smbpasswd", "-c", str(conf), "-d", user["name"])
    return str(conf)


def started(conf: str) -> subprocess.Popen:
    server = subprocess.Popen(
        ["smbd", "--foreground", "--no-process-group", "-s", conf],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    for _ in range(200):
        try:
            socket.create_connection(("127.0.0.1", PORT), 1).close()
            return server
        except OSError:
            time.sleep(0.05)
    raise SystemExit("the SMB server did not start")


def main() -> None:
    from samba import credentials, ntacls
    from samba.auth_util import system_session_unix
    from samba.ntstatus import NT_STATUS_ACCESS_DENIED
    from samba.samba3 import libsmb_samba_internal as libsmb
    from samba.samba3 import param

    task = json.load(sys.stdin)
    top = Path(task["top"])
    conf = prepare(top, task)
    os.umask(0)
    lp = param.get_context()
    lp.load(conf)
    for thing in task["things"]:
        path = top / "data" / thing["path"]
        path.mkdir() if thing["folder"] else path.touch()
        path.chmod(0o777 if thing["folder"] else 0o666)
        ntacls.setntacl(
            lp, str(path), thing["sddl"], "S-1-5-21-1-2-3", system_session_unix(), use_ntvfs=False, service="yard"
        )
    server = started(conf)
    opened = []
    try:
        for user in task["users"]:
            made = credentials.Credentials()
            made.guess(lp)
            made.set_username(user["name"])
            made.set_password(PASSWORD)
            made.set_kerberos_state(credentials.DONT_USE_KERBEROS)
            client = libsmb.Conn("127.0.0.1", "yard", lp, made)
            for path, mask in user["asks"]:
                try:
                    client.close(client.create(path.replace("/", "\\"), DesiredAccess=mask, ShareAccess=7))
                    opened.append(True)
                except Exception as error:
                    if error.args[0] != NT_STATUS_ACCESS_DENIED:
                        raise
                    opened.append(False)
    finally:
        server.terminate()
        server.wait(20)
    print(json.dumps(opened))


if __name__ == "__main__":
    main()
