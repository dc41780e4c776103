"""Before anything else: is this our host name, does a change come from our own pages, who asks, and may they send this much.

A body is read here, whole, before the application sees the request: as much as whoever asks may send, in a time that can be meant, and
the large ones few at once. So nobody can fill the memory, or hold others up by what is taken apart.
"""

import asyncio
import re
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import SplitResult, urlsplit

from fastapi.concurrency import run_in_threadpool
from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from yardgate.api.schemas import Problem
from yardgate.api.transport import problems

SAFE_METHODS = ("GET", "HEAD", "OPTIONS")
HEADERS = {
    "content-security-policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}
STRICT_TRANSPORT = {"strict-transport-security": "max-age=31536000"}
KIB, MIB = 1024, 1024 * 1024
UNKNOWN, USUAL, IMPORTED = 64 * KIB, MIB, 32 * MIB
"""The largest body of somebody who has not signed in; of whoever has; and of what takes files in."""
IMPORTS = re.compile(r"/api/v1/plans(/[^/]+/(import(/preview)?|directories/reading|rollout/reading))?")
AT_ONCE = 2  # large bodies that are read, and answered, at the same time
PATIENCE = 20.0  # seconds that a further one waits for its turn
QUIET = 10.0  # seconds between two parts of a body
LONGEST = 120.0  # seconds that a whole body may take
PARTS = 400_000  # commas, brackets and braces in a body: what is taken apart piece by piece
LONGEST_PATH = 4 * KIB


class Guard:
    """whose: the most that whoever a session's cookie belongs to may do anywhere, if it is anybody's. secure: whether it is reached by TLS."""

    def __init__(
        self, app: ASGIApp, hosts: frozenset[str], whose: Callable[[str], str | None], cookie: str, *, secure: bool
    ):
        self.app, self.hosts, self.whose, self.cookie = app, hosts, whose, cookie
        self.headers = HEADERS | (STRICT_TRANSPORT if secure else {})
        self.large = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)

        begun = False

        async def dressed(message: Message) -> None:
            nonlocal begun
            begun = True
            if message["type"] == "http.response.start":
                extra = [(name.encode(), value.encode()) for name, value in self.headers.items()]
                if scope["path"].startswith("/api/"):
                    extra.append((b"cache-control", b"no-store"))
                message["headers"] = [*message["headers"], *extra]
            await send(message)

        if refused := self._refused(scope, headers):
            await problems.answer(refused)(scope, receive, dressed)
            return
        most = await self._most(scope, headers)
        large = most > USUAL
        if large and not await self._turn():
            busy = Problem(title="Other large files are being imported; try again in a few seconds", status=503)
            await problems.answer(busy, {"Retry-After": "5"})(scope, receive, dressed)
            return
        try:
            body = await _body(headers, receive, most)
            if isinstance(body, Problem):
                await problems.answer(body, {"Connection": "close"})(scope, receive, dressed)
                return
            await self.app(scope, _again(body, receive), dressed)
        except Gone:
            return
        except Exception as error:
            wrong = problems.unforeseen(scope["method"], scope["path"], error)
            if begun:
                raise
            await wrong(scope, receive, dressed)
        finally:
            self.large -= large

    def _refused(self, scope: Scope, headers: Headers) -> Problem | None:
        host, path = headers.get("host", ""), scope["path"]
        if _split(f"//{host}").hostname not in self.hosts:
            return Problem(
                title="This host name is not served here", status=421, detail="Start with --host-name to allow it."
            )
        if "\0" in path or len(path) > LONGEST_PATH or len(scope["query_string"]) > 4 * LONGEST_PATH:
            return Problem(title="There is no such address", status=404)
        if scope["method"] in SAFE_METHODS:
            return None
        origin = headers.get("origin")
        foreign = origin is not None and _split(origin).netloc != host
        if foreign or headers.get("sec-fetch-site", "none") not in ("none", "same-origin"):
            return Problem(title="This change does not come from Yard Gate's own pages", status=403)
        return None

    async def _most(self, scope: Scope, headers: Headers) -> int:
        """How large a body may be, of whoever asks."""
        if scope["method"] in SAFE_METHODS or not _has_body(headers):
            return UNKNOWN
        tokens = re.findall(rf"(?:^|;\s*){re.escape(self.cookie)}=([^;]*)", headers.get("cookie", ""))
        role = await run_in_threadpool(self.whose, tokens[-1]) if tokens else None
        if role is None:
            return UNKNOWN
        length = headers.get("content-length", "")
        small = length.isdecimal() and len(length) < 12 and int(length) <= USUAL
        return IMPORTED if role != "reader" and not small and IMPORTS.fullmatch(scope["path"]) else USUAL

    async def _turn(self) -> bool:
        """Wait for one's turn with a large body; whether it came."""
        until = time.monotonic() + PATIENCE
        while self.large >= AT_ONCE:
            if time.monotonic() > until:
                return False
            await asyncio.sleep(0.1)
        self.large += 1
        return True


class Gone(Exception):
    """Whoever asked went away in the middle of it."""


def _has_body(headers: Headers) -> bool:
    return headers.get("content-length", "0") != "0" or "transfer-encoding" in headers


async def _body(headers: Headers, receive: Receive, most: int) -> bytes | Problem:
    """What was sent, or why it is not taken. Raises Gone."""
    if not _has_body(headers):
        return b""
    length = headers.get("content-length", "0")
    if not length.isdecimal() or len(length) > 15 or int(length) > most:
        return _too_large(most)
    until, taken, parts = time.monotonic() + LONGEST, 0, []
    while True:
        try:
            message = await asyncio.wait_for(receive(), min(QUIET, max(0.0, until - time.monotonic())))
        except TimeoutError:
            return Problem(title="The request did not come to its end in time", status=408)
        if message["type"] != "http.request":
            raise Gone
        parts.append(message.get("body", b""))
        taken += len(parts[-1])
        if taken > most:
            return _too_large(most)
        if not message.get("more_body"):
            break
    body = b"".join(parts)
    if sum(body.count(mark) for mark in (b",", b"[", b"{")) > PARTS:
        return Problem(title="The request holds too many parts; take less at a time", status=413)
    return body


def _too_large(most: int) -> Problem:
    size = f"{most // MIB} MiB" if most >= MIB else f"{most // KIB} KiB"
    return Problem(title=f"The request is too large; at most {size} are taken here", status=413)


def _again(body: bytes, receive: Receive) -> Receive:
    """What the application receives: the body that was read, then what comes after it."""
    given = False

    async def receiving() -> Any:
        nonlocal given
        if given:
            return await receive()
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return receiving


def _split(address: str) -> SplitResult:
    try:
        return urlsplit(address)
    except ValueError:
        return urlsplit("")
