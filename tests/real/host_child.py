"""The host of `host`: mounts its own /etc, /srv, /run and the SMB server's folders over the machine's, then runs commands as it is told.

Only in the namespaces that it was started in; nothing of it is left behind.
"""

import json
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
from pathlib import Path
from typing import Any

sys.path.append(str(Path(__file__).parent))

import nfs_service

OWN = {
    "etc": "/etc", "srv": "/srv", "samba": "/var/lib/samba", "cache": "/var/cache/samba", "run": "/run",
    "log": "/var/log/samba", "local": "/usr/local/sbin", "nfs": "/var/lib/nfs", "yardgate": "/var/lib/yardgate",
}  # fmt: skip
COPIED = {"etc", "nfs"}
GLOBAL = """[global]
 workgroup = QUAY
 netbios name = KEELSON
 server role = standalone server
 interfaces = 127.0.0.1/8
 bind interfaces only = yes
 smb ports = 445
 disable netbios = yes
 passdb backend = tdbsam
 log level = 0
 load printers = no
 printing = bsd
 printcap name = /dev/null
 disable spoolss = yes
 map archive = no
 map to guest = Bad User
 guest account = nobody
"""


def settle(top: Path) -> None:
    for name, over in OWN.items():
        (top / name).mkdir(mode=0o755)
        Path(over).mkdir(parents=True, exist_ok=True)
        if name in COPIED:
            subprocess.run(["cp", "--archive", "--no-target-directory", over, top / name], check=True)
        subprocess.run(["mount", "--bind", top / name, over], check=True)
    for name in ("samba", "lock", "sshd"):
        (top / "run" / name).mkdir(mode=0o755)
    (top / "samba" / "private").mkdir(mode=0o700)
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)
    Path("/etc/samba/smb.conf").write_text(GLOBAL)
    nfs_service.install()


def serve() -> subprocess.Popen[bytes]:
    quiet = subprocess.DEVNULL
    server = subprocess.Popen(
        ["smbd", "--foreground", "--no-process-group"], stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True
    )
    for _ in range(200):
        if subprocess.run(["smbclient", "-N", "-L", "127.0.0.1"], capture_output=True).returncode == 0:
            return server
        time.sleep(0.05)
    raise SystemExit("the SMB server did not start")


def run(task: dict[str, Any]) -> Any:
    match task["what"]:
        case "run":
            argv = task["argv"]
            try:
                done = subprocess.run(
                    argv, input=task["given"], capture_output=True, text=True, errors="surrogateescape"
                )
            except FileNotFoundError:
                return 127, "", f"{argv[0]} is not installed"
            return done.returncode, done.stdout, done.stderr
        case "python":  # the system's own, which has the SMB server's libraries
            done = subprocess.run(
                ["/usr/bin/python3", "-I", task["script"]],
                input=json.dumps(task["task"]),
                capture_output=True,
                text=True,
            )
            if done.returncode:
                raise RuntimeError(done.stderr[-2000:])
            return json.loads(done.stdout)
    raise ValueError(task)


def main() -> None:
    top = Path(tempfile.mkdtemp(prefix="yardgate-host-", dir="/tmp"))
    top.chmod(0o755)
    try:
        settle(top)
        server = serve()
        for line in sys.stdin:
            try:
                found = {"found": run(json.loads(line))}
            except Exception:
                found = {"trouble": traceback.format_exc()}
            print(json.dumps(found), flush=True)
        server.terminate()
        server.wait(20)
    finally:
        for over in OWN.values():
            subprocess.run(["umount", "--lazy", over], capture_output=True)
        shutil.rmtree(top, ignore_errors=True)


main()
