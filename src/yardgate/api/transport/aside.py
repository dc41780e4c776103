"""What takes long is done in a process of its own, by the same application on the same database, so that quick requests have this one to themselves.

That process (`aside_process`) answers over a socket in a folder that only its own account may enter. It is started when the first needs it, and
again where it ended; it ends with this one.
"""

import asyncio
import json
import logging
import os
import shutil
import sys
from asyncio.subprocess import PIPE, Process
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path

import httpx
from fastapi import HTTPException, Request, Response

from yardgate.log import Form, LogLevel
from yardgate.memory import ARENAS

log = logging.getLogger("yardgate.aside")
BEGINNING, ENDING = 30.0, 5.0  # seconds that the process may take to start, and to end
EACH_ANEW = httpx.Limits(max_keepalive_connections=0)  # so that one that ended is found when it is connected to
PATIENCE = httpx.Timeout(300.0, connect=BEGINNING)
SPARING = {"MALLOC_ARENA_MAX": str(ARENAS)}  # what threads gave back is used by all of them (mallopt(3))
PASSED_ON = ("content-type", "content-encoding", "content-disposition", "etag", "retry-after", "vary")
NOT_SENT = frozenset({"connection", "content-length", "transfer-encoding", "x-forwarded-for"})


@dataclass(frozen=True, slots=True)
class AsideSettings:
    """What the application is made of there, as here. database: its path. log_file: that of this process; there it has a name of its own."""

    database: str
    hosts: tuple[str, ...]
    this_host: bool
    secure: bool
    log_level: LogLevel = "info"
    log_format: Form = "text"
    log_file: str = ""


@dataclass(frozen=True, slots=True)
class Running:
    process: Process
    socket: Path
    client: httpx.AsyncClient


@dataclass
class Aside:
    settings: AsideSettings
    running: Running | None = None
    warming: asyncio.Future[None] | None = None
    starting: asyncio.Lock = field(default_factory=asyncio.Lock)

    @asynccontextmanager
    async def until_the_end(self, _: object = None) -> AsyncIterator[None]:
        """While the application is served."""
        try:
            yield
        finally:
            await self._end()

    def soon(self) -> None:
        """It will be needed: somebody opens the interface."""
        if self.running is None and (self.warming is None or self.warming.done()):
            self.warming = asyncio.ensure_future(self._warm())

    async def _warm(self) -> None:
        with suppress(HTTPException):
            await self.begin()

    async def begin(self) -> Running:
        """The process, started where there is none. Raises HTTPException, where it does not start."""
        async with self.starting:
            if self.running is not None and self.running.process.returncode is None:
                return self.running
            if self.running is not None:
                log.warning("the process for what takes long ended with %s", self.running.process.returncode)
                await self._end()
            try:
                self.running = await asyncio.wait_for(self._start(), BEGINNING)
            except (OSError, TimeoutError) as error:
                log.error("the process for what takes long does not start: %r", error)
                raise HTTPException(503, "This cannot be worked out now; the server's log says why") from None
            return self.running

    async def _start(self) -> Running:
        command = (sys.executable, "-m", "yardgate.api.transport.aside_process", json.dumps(asdict(self.settings)))
        process = await asyncio.create_subprocess_exec(*command, stdin=PIPE, stdout=PIPE, env=os.environ | SPARING)
        assert process.stdout is not None
        path = (await process.stdout.readline()).decode().strip()
        if not path:
            raise OSError("it ended before it listened")
        return Running(
            process, Path(path), httpx.AsyncClient(transport=httpx.AsyncHTTPTransport(uds=path, limits=EACH_ANEW))
        )

    async def ask(self, request: Request, address: str) -> Response:
        """The answer to a request from `address`. Raises HTTPException, where the process ends in the midst of it, or takes too long."""
        headers = [(name, value) for name, value in request.headers.items() if name not in NOT_SENT]
        query = b"?" + request.scope["query_string"] if request.scope["query_string"] else b""
        url = httpx.URL(scheme="http", host="aside", raw_path=request.scope["raw_path"] + query)
        headers.append(("x-forwarded-for", address))
        content, patience = await request.body(), {"timeout": PATIENCE.as_dict()}
        asked = httpx.Request(request.method, url, headers=headers, content=content, extensions=patience)
        try:
            try:
                answer = await (await self.begin()).client.send(asked, stream=True)
            except httpx.ConnectError:  # it ended since it was asked last, and nothing reached it
                await self._gone()
                answer = await (await self.begin()).client.send(asked, stream=True)
            content = b"".join([part async for part in answer.aiter_raw()])
        except httpx.TimeoutException:
            raise HTTPException(503, "This takes too long to work out; ask for less", {"Retry-After": "60"}) from None
        except httpx.TransportError as error:
            log.error("the process for what takes long did not answer: %r", error)
            given_up = "The server stopped in the middle of this; check whether it was done, or try again"
            raise HTTPException(503, given_up, {"Retry-After": "2"}) from None
        kept = {name: answer.headers[name] for name in PASSED_ON if name in answer.headers}
        return Response(content, answer.status_code, kept)

    async def _gone(self) -> None:
        if self.running is not None:
            with suppress(TimeoutError):
                await asyncio.wait_for(self.running.process.wait(), ENDING)

    async def _end(self) -> None:
        running, self.running = self.running, None
        if running is None:
            return
        await running.client.aclose()
        if running.process.returncode is None:
            assert running.process.stdin is not None
            running.process.stdin.close()
            try:
                await asyncio.wait_for(running.process.wait(), ENDING)
            except TimeoutError:
                with suppress(ProcessLookupError):
                    running.process.kill()
        shutil.rmtree(running.socket.parent, ignore_errors=True)  # where it was killed, it could not
