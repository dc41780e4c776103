"""A real server, started as people start it."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

import httpx

from yardgate.api.authentication import cookie_name
from yardgate.core.model.plan import Plan
from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts, Role


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


class Server:
    """`yardgate serve` in a process of its own, on a data folder that outlives it."""

    def __init__(self, data: Path):
        self.data, self.port = data, free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[str] | None = None

    def store(self) -> Store:
        return Store(self.data / "yardgate.sqlite")

    def put(self, plan: Plan) -> str:
        store = self.store()
        plan_id = Plans(store).create(plan, "ann").id
        store.close()
        return plan_id

    def link(self, name: str = "ann", role: Role = "administrator") -> str:
        store = self.store()
        accounts = Accounts(store)
        found = accounts.by_name(name) or accounts.add(name, role)
        link = accounts.link(found.id)
        store.close()
        return f"{self.url}/sign-in?link={link}"

    def start(self) -> "Server":
        command = [sys.executable, "-m", "yardgate.cli", "serve", "--data", str(self.data), "--port", str(self.port)]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        assert self.process.stdout is not None
        said = []
        for line in self.process.stdout:
            said.append(line)
            if line.startswith("Yard Gate is at"):
                threading.Thread(target=self.process.stdout.read, daemon=True).start()  # or it waits for a reader
                return self
        raise AssertionError("the server did not start: " + "".join(said))

    def kill(self) -> None:
        assert self.process is not None
        os.kill(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()
            self.process.wait(timeout=20)

    def client(self) -> httpx.Client:
        """Signed in, as an administrator."""
        store = self.store()
        accounts = Accounts(store)
        boss = accounts.by_name("boss") or accounts.add("boss", "administrator")
        cookies = {cookie_name(store.token, secure=False): accounts.begin(boss.id)}
        store.close()
        return httpx.Client(base_url=self.url, timeout=120, cookies=cookies)

    def __enter__(self) -> "Server":
        return self.start()

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()


def until(true: Callable[[], object], seconds: float = 10.0) -> None:
    """Wait until something is so; fail if it does not come about."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it did not come about in time"
        time.sleep(0.02)
