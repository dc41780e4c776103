"""The process for what takes long: the application, asked by the one that started it (`aside`), until that ends."""

import json
import os
import shutil
import signal
import sys
import tempfile
import threading
from pathlib import Path

import uvicorn

from yardgate import log
from yardgate.api.app import create_app
from yardgate.api.transport.aside import AsideSettings
from yardgate.store import Store

LOW = 5  # how far it stands back for the one that started it (nice(2))
NOBODY = "?"  # the address of whoever asks over a socket without addresses


def main(settings: AsideSettings) -> None:
    """Print the path of the socket, once it is listened at, and answer until standard input ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C is for the one that started it
    os.nice(LOW)
    file = Path(settings.log_file) if settings.log_file else None
    log.begin(settings.log_level, settings.log_format, file and file.with_name(f"{file.stem}-aside{file.suffix}"))
    with tempfile.TemporaryDirectory(prefix="yardgate-") as folder:
        path = Path(folder) / "socket"
        app = create_app(
            Store(Path(settings.database)),
            frozenset(settings.hosts),
            this_host=settings.this_host,
            secure=settings.secure,
            proxies=frozenset({NOBODY}),
            resume=False,
        )

        class Server(uvicorn.Server):
            async def startup(self, sockets: object = None) -> None:
                await super().startup(sockets)  # type: ignore[arg-type]
                print(path, flush=True)

        server = Server(
            uvicorn.Config(app, uds=str(path), log_level="warning", server_header=False, proxy_headers=False)
        )
        threading.Thread(target=_until_left, args=(folder,), daemon=True).start()
        server.run()


def _until_left(folder: str) -> None:
    """End with the one that started this, in the middle of whatever it is."""
    sys.stdin.buffer.read()
    shutil.rmtree(folder, ignore_errors=True)
    os._exit(0)


if __name__ == "__main__":
    main(AsideSettings(**json.loads(sys.argv[1])))
