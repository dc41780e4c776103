"""The application on a port of loopback, in a thread of the tests: with the limits on connections, and everything in reach."""

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import uvicorn
from fastapi import FastAPI

from yardgate.api.app import create_app
from yardgate.api.authentication import cookie_name
from yardgate.api.transport.wire import Patient
from yardgate.store import Store
from yardgate.store.accounts import Accounts, Role


class Served:
    def __init__(self, store: Store, app: FastAPI, port: int):
        self.store, self.app, self.port = store, app, port
        self.url = f"http://127.0.0.1:{port}"

    def token(self, role: Role, name: str = "") -> str:
        accounts = Accounts(self.store)
        found = accounts.by_name(name or f"a {role}") or accounts.add(name or f"a {role}", role)
        return accounts.begin(found.id)

    def client(self, role: Role | None = None, name: str = "") -> httpx.Client:
        cookies = {cookie_name(self.store.token, secure=False): self.token(role, name)} if role is not None else {}
        return httpx.Client(base_url=self.url, timeout=30, cookies=cookies)

    def wire(self) -> socket.socket:
        return socket.create_connection(("127.0.0.1", self.port), 20)


@contextmanager
def serving(store: Store) -> Iterator[Served]:
    app = create_app(store)
    with socket.socket() as wire:
        wire.bind(("127.0.0.1", 0))
        wire.listen(512)
        server = uvicorn.Server(uvicorn.Config(app, http=Patient, log_level="warning", timeout_graceful_shutdown=1))
        thread = threading.Thread(target=server.run, kwargs={"sockets": [wire]}, daemon=True)
        thread.start()
        try:
            yield Served(store, app, wire.getsockname()[1])
        finally:
            server.should_exit = True
            thread.join(20)
