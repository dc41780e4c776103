"""A Linux file server of its own beside the tests: own /etc, /srv, accounts and SMB server, in namespaces."""

import json
import os
import signal
import socketserver
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent.parent
OWN = ["unshare", "--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "--propagation", "private"]


class Host:
    """The process that is everything of the host; what is asked goes in as a line of JSON, the answer comes back as one."""

    def __init__(self, beside: "subprocess.Popen[str]"):
        self.beside = beside

    def ask(self, what: str, **more: Any) -> Any:
        assert self.beside.stdin is not None
        assert self.beside.stdout is not None
        self.beside.stdin.write(json.dumps({"what": what, **more}) + "\n")
        self.beside.stdin.flush()
        line = self.beside.stdout.readline()
        assert line, "the host ended"
        found = json.loads(line)
        assert "trouble" not in found, found.get("trouble")
        return found["found"]


@contextmanager
def host() -> Iterator[Host]:
    command = [*OWN, sys.executable, str(Path(__file__).with_name("host_child.py"))]
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, cwd=ROOT, start_new_session=True
    ) as beside:
        try:
            found = Host(beside)
            found.ask("run", argv=["true"], given=None)  # it answers once it stands
            yield found
        finally:
            assert beside.stdin is not None
            beside.stdin.close()
            beside.wait(30)


SSHD = """HostKey {top}/host_key
AuthorizedKeysFile {top}/own_key.pub .ssh/authorized_keys
PidFile none
UsePAM no
StrictModes no
PermitRootLogin yes
PasswordAuthentication no
MaxStartups 100
SetEnv HOME=/
"""


class Door:
    """A real SSH server of a host, at a port of loopback here; each connection gets a server of its own, in the host's namespaces.

    Whoever comes with the agent at `agent` is let in as root. `cut` ends all connections; while `shut`, none is taken."""

    def __init__(self, at: Host, top: Path):
        self.top, self.shut = top, False
        self.running: list[subprocess.Popen[bytes]] = []
        for name in ("host_key", "own_key", "other_key"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", top / name], check=True)
        (top / "sshd_config").write_text(SSHD.format(top=top))
        children = Path(f"/proc/{at.beside.pid}/task/{at.beside.pid}/children").read_text().split()
        enter = ["nsenter", "--target", children[0], "--mount", "--net", "--pid"]
        self.command = [*enter, "/usr/sbin/sshd", "-i", "-f", str(top / "sshd_config")]
        self.server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), self._handler())
        self.server.daemon_threads = True
        self.port = int(self.server.server_address[1])
        self.key = " ".join((top / "host_key.pub").read_text().split()[:2])

    def _handler(door: "Door") -> type[socketserver.BaseRequestHandler]:  # noqa: N805
        class Handler(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                if door.shut:
                    return
                wire = self.request.fileno()
                server = subprocess.Popen(
                    door.command, stdin=wire, stdout=wire, stderr=subprocess.DEVNULL, start_new_session=True
                )
                door.running.append(server)
                server.wait()

        return Handler

    def cut(self) -> None:
        for server in self.running:
            if server.poll() is None:
                with suppress(ProcessLookupError):  # it may end by itself just now
                    os.killpg(server.pid, signal.SIGKILL)


@contextmanager
def door(at: Host, top: Path) -> Iterator[Door]:
    found = Door(at, top)
    threading.Thread(target=found.server.serve_forever, daemon=True).start()
    agent = subprocess.Popen(
        ["ssh-agent", "-D", "-a", top / "agent"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    before = os.environ.get("SSH_AUTH_SOCK")
    try:
        os.environ["SSH_AUTH_SOCK"] = str(top / "agent")
        while subprocess.run(["ssh-add", "-q", top / "own_key"], capture_output=True).returncode:
            assert agent.poll() is None
        yield found
    finally:
        os.environ.pop("SSH_AUTH_SOCK", None)
        if before is not None:
            os.environ["SSH_AUTH_SOCK"] = before
        found.cut()
        found.server.shutdown()
        found.server.server_close()
        agent.terminate()
        agent.wait()
