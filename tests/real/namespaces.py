"""What machines in namespaces of their own need, under the system's Python: name resolution, and folders that samba takes for granted."""

import os
import socket
import subprocess
import time
from pathlib import Path

DNS, SHORT, BASE = "lanternquay.example", "LANTERNQUAY", "DC=lanternquay,DC=example"
ADMIN, PASSWORD = "Adm1n-Quay!", "Lantern-7-Quay"


def run(*command: str, **more) -> None:
    done = subprocess.run(command, capture_output=True, text=True, **more)
    if done.returncode:
        raise SystemExit(f"{' '.join(command)}: {done.stdout}{done.stderr}")


def namespace(top: Path, host: str) -> None:
    """Folders and name resolution that samba takes for granted, mounted over the machine's in this namespace only."""
    run("hostname", host)
    run("ip", "link", "set", "lo", "up")
    for name in ("run", "etc", "var/private", "cache", "log", "private"):
        (top / name).mkdir(parents=True, exist_ok=True)
    (top / "private").chmod(0o700)
    files = {
        "resolv.conf": f"nameserver 10.99.0.1\nsearch {DNS}\noptions timeout:2 attempts:2\n",
        "nsswitch.conf": "passwd: files winbind\ngroup: files winbind\nhosts: files dns\n",
        "hosts": f"127.0.0.1 localhost\n10.99.0.1 dc1.{DNS} dc1\n10.99.0.2 nas1.{DNS} nas1\n",
        "krb5.conf": f"[libdefaults]\n default_realm = {DNS.upper()}\n dns_lookup_kdc = true\n rdns = false\n"
        f" default_ccache_name = FILE:{top}/krb5cc\n default_keytab_name = FILE:{top}/private/krb5.keytab\n",
    }
    for name, text in files.items():
        (top / "etc" / name).write_text(text)
        target = Path("/etc", name)
        if not target.exists():
            target.touch()
        run("mount", "--bind", str(top / "etc" / name), os.path.realpath(target))
    for inner, outer in (
        ("run", "/run/samba"),
        ("etc", "/etc/samba"),
        ("var", "/var/lib/samba"),
        ("cache", "/var/cache/samba"),
        ("log", "/var/log/samba"),
    ):
        Path(outer).mkdir(parents=True, exist_ok=True)
        run("mount", "--bind", str(top / inner), outer)
    os.environ["KRB5_KTNAME"] = f"FILE:{top}/private/krb5.keytab"


def answers(host: str, *ports: int) -> None:
    until = time.monotonic() + 60
    for port in ports:
        while True:
            try:
                socket.create_connection((host, port), 1).close()
                break
            except OSError:
                if time.monotonic() > until:
                    raise SystemExit(f"{host}:{port} does not answer") from None
                time.sleep(0.1)
