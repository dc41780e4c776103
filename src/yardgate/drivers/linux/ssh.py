"""Running commands on a host over SSH, with OpenSSH's own client: keys and agents are the user's, the host's key is the one agreed on.

One connection carries all commands; where it breaks, the next command makes another. Whoever signs in needs to be root, or to be let by
sudo(8) run commands without a password.
"""

import base64
import hashlib
import re
import shlex
import subprocess
import tempfile
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from yardgate.drivers.appliance import ApplianceError, Unreachable
from yardgate.drivers.linux.command import LANGUAGE, Command, Done

SECONDS = 600  # the longest that one command may take
LOST = 255  # what ssh(1) ends with where the connection fails
TOLD_APART = 'if "$@"; then exit 0; else c=$?; test "$c" -ne 255 || c=254; exit "$c"; fi'
"""Run a command so that it never ends with what only a lost connection does (pdbedit(8), for one, ends with 255)."""
PLAIN = ["-o", "BatchMode=yes", "-o", "ConnectTimeout=10", "-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=3"]
ADDRESS = re.compile(r"[A-Za-z0-9][A-Za-z0-9.:_-]*")
USER = re.compile(r"[A-Za-z_][A-Za-z0-9._-]*")

KEY = re.compile(r"[a-z0-9@.-]+ [A-Za-z0-9+/]+={0,2}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Login:
    """Where to sign in and as whom. key: the host's public key, as `host_keys` gives it. as_root: run by sudo what needs root."""

    host: str
    port: int = 22
    user: str = "root"
    key: str = ""
    as_root: bool = False


@dataclass(frozen=True, slots=True)
class HostKey:
    """A host's public key: its kind and the key itself, as known_hosts has them; its fingerprint, as people compare it."""

    line: str
    fingerprint: str


def check(login: Login) -> None:
    """Raises ApplianceError for what cannot be a host or an account, so that it can be taken for nothing else."""
    if not ADDRESS.fullmatch(login.host):
        raise ApplianceError(f"“{login.host}” is neither a host's name nor an address")
    if not USER.fullmatch(login.user):
        raise ApplianceError(f"“{login.user}” cannot be the name of an account")
    if not 0 < login.port < 65536:
        raise ApplianceError(f"{login.port} is not a port")


def host_keys(login: Login) -> list[HostKey]:
    """The keys that a host shows, to be compared with what its administrator knows. Raises Unreachable."""
    check(login)
    done = subprocess.run(
        ["ssh-keyscan", "-T", "10", "-p", str(login.port), "--", login.host], capture_output=True, text=True, timeout=30
    )
    found = [line.split(" ", 1)[1] for line in done.stdout.splitlines() if line and not line.startswith("#")]
    if not found:
        raise Unreachable(f"{login.host} shows no key of its own on port {login.port}: is an SSH server there?")
    return [HostKey(line, _fingerprint(line)) for line in sorted(found, key=lambda line: "ed25519" not in line)]


def _fingerprint(line: str) -> str:
    digest = hashlib.sha256(base64.b64decode(line.split()[1])).digest()
    return f"SHA256:{base64.b64encode(digest).decode().rstrip('=')}"


class Ssh:
    """`Runner` on another host. Close it at the end."""

    def __init__(self, login: Login, seconds: float = SECONDS):
        check(login)
        self.login, self.seconds = login, seconds
        self.folder = tempfile.TemporaryDirectory(prefix="yardgate-ssh-")
        top = Path(self.folder.name)
        self.way = str(top / "way")
        known = login.host if login.port == 22 else f"[{login.host}]:{login.port}"
        (top / "known_hosts").write_text(f"{known} {login.key}\n")
        self.options = [
            *PLAIN, "-o", "StrictHostKeyChecking=yes", "-o", f"UserKnownHostsFile={top / 'known_hosts'}", "-o",
            "GlobalKnownHostsFile=/dev/null", "-p", str(login.port), "-l", login.user,
        ]  # fmt: skip
        self.carrier: subprocess.Popen[bytes] | None = None
        self._turn = Lock()

    def __call__(self, command: Command) -> Done:
        with self._turn:
            self._carry()
        argv = ("env", LANGUAGE, *command.argv)
        if self.login.as_root and command.root:
            argv = ("sudo", "-n", "--", *argv)
        told = shlex.join(("sh", "-c", TOLD_APART, "sh", *argv))
        line = ["ssh", "-T", "-S", self.way, *self.options, "--", self.login.host, told]
        try:
            ran = subprocess.run(
                line,
                input=command.given,
                capture_output=True,
                text=True,
                errors="surrogateescape",
                timeout=command.patience(self.seconds),
            )
        except subprocess.TimeoutExpired:
            raise Unreachable(f"{self.login.host} did not answer within {self.seconds:g} seconds") from None
        if ran.returncode == LOST:
            raise Unreachable(self._why(ran.stderr))
        return Done(ran.returncode, ran.stdout, ran.stderr)

    def _why(self, said: str) -> str:
        host = self.login.host
        if "HOST IDENTIFICATION HAS CHANGED" in said or "Host key verification failed" in said:
            return f"{host} shows another key than the one agreed on: this may be another host, so nothing was sent"
        if "Permission denied" in said:
            return f"{host} does not let {self.login.user} in with the keys that this server has"
        last = said.strip().splitlines()
        return f"the connection to {host} failed: {last[-1] if last else 'it was cut'}"

    def _carry(self) -> None:
        """Begin the connection that carries all commands; where it cannot be had, each makes its own.

        It reads from this process, and ends when this one does, however that comes about.
        """
        if self.carrier is not None and self.carrier.poll() is None:
            return
        quiet = subprocess.DEVNULL
        line = ["ssh", "-T", "-M", "-S", self.way, *self.options, "--", self.login.host, "cat > /dev/null"]
        self.carrier = subprocess.Popen(line, stdin=subprocess.PIPE, stdout=quiet, stderr=quiet, start_new_session=True)
        for _ in range(200):
            if Path(self.way).exists() or self.carrier.poll() is not None:
                return
            time.sleep(0.05)

    def close(self) -> None:
        if self.carrier is not None:
            assert self.carrier.stdin is not None
            self.carrier.stdin.close()
            self.carrier.terminate()
            with suppress(subprocess.TimeoutExpired):
                self.carrier.wait(5)
        with suppress(OSError):
            self.folder.cleanup()
