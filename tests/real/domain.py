"""The domain controller beside the tests, and a way to be in its network."""

import ctypes
import json
import os
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

T = TypeVar("T")
UNSHARE = ["unshare", "--net", "--mount", "--uts", "--pid", "--fork", "--kill-child", "--mount-proc"]
BASE = "DC=lanternquay,DC=example"
ADMIN = "Administrator@lanternquay.example"
ADMIN_PASSWORD, PASSWORD = "Adm1n-Quay!", "Lantern-7-Quay"
CLONE_NEWNET = 0x40000000


class Machine:
    """A process that is the first of its own network, mount, host name and process namespaces."""

    def __init__(self, script: str, top: Path) -> None:
        command = [*UNSHARE, "/usr/bin/python3", "-I", str(Path(__file__).with_name(script)), str(top)]
        self.errors = tempfile.TemporaryFile("w+")  # noqa: SIM115
        self.process = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=self.errors,
            text=True,
            start_new_session=True,
        )
        self.pid = 0
        while not self.pid:
            inner = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
            self.pid = int(inner[0]) if inner else 0

    def say(self, line: str) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(line + "\n")
        self.process.stdin.flush()

    def hear(self) -> Any:
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        if not line:
            self.errors.seek(0)
            raise RuntimeError(self.errors.read()[-3000:])
        return json.loads(line)

    def do(self, *tasks: list[Any]) -> None:
        self.say(json.dumps(tasks))
        if (trouble := self.hear()) is not None:
            raise RuntimeError(trouble)

    def ask(self, *task: Any) -> Any:
        self.say(json.dumps(task))
        answer = self.hear()
        if "trouble" in answer:
            raise RuntimeError(answer["trouble"])
        return answer["done"]

    def end(self) -> None:
        assert self.process.stdin is not None
        self.process.stdin.close()
        self.process.kill()  # unshare --kill-child: its process namespace ends with it
        self.process.wait()
        self.errors.close()

    def within(self, work: Callable[[], T]) -> T:
        """Do something in this machine's network: a thread of ours moves there (setns(2) is for one thread)."""
        found: list[T] = []
        raised: list[BaseException] = []

        def there() -> None:
            net = os.open(f"/proc/{self.pid}/ns/net", os.O_RDONLY)
            try:
                if ctypes.CDLL(None, use_errno=True).setns(net, CLONE_NEWNET):
                    raise OSError(ctypes.get_errno(), "setns")
                found.append(work())
            except BaseException as error:
                raised.append(error)
            finally:
                os.close(net)

        thread = threading.Thread(target=there)
        thread.start()
        thread.join()
        if raised:
            raise raised[0]
        return found[0]


@contextmanager
def controller() -> Iterator[Machine]:
    """A provisioned controller, not started yet, with one end of a wire, yard0, whose other end is for a member server."""
    with tempfile.TemporaryDirectory(prefix="yardgate-domain-", dir="/tmp") as top:
        Path(top).chmod(0o755)
        machine = Machine("domain_child.py", Path(top))
        try:
            wire = ["ip", "link", "add", "yard0", "type", "veth", "peer", "name", "yard1"]
            subprocess.run(["nsenter", "-t", str(machine.pid), "-n", *wire], check=True)
            machine.say("wired")
            assert machine.hear() == "ready"
            yield machine
        finally:
            machine.end()


@contextmanager
def member(beside: Machine) -> Iterator[Machine]:
    """A member server, joined to the domain of a controller that is started."""
    with tempfile.TemporaryDirectory(prefix="yardgate-member-", dir="/tmp") as top:
        Path(top).chmod(0o755)
        machine = Machine("member_child.py", Path(top))
        try:
            wire = ["ip", "link", "set", "yard1", "netns", str(machine.pid)]
            subprocess.run(["nsenter", "-t", str(beside.pid), "-n", *wire], check=True)
            machine.say("wired")
            assert machine.hear() == "ready"
            yield machine
        finally:
            machine.end()
