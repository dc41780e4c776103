"""What takes long is done few at a time, and of each who asks one at a time; who waits for a turn holds up nobody. What several ask at once is
worked out once for them all. What takes tenths of a second stays in this process, but one at a time: quick requests then share the interpreter
with one of them and not with all.

They wait on the event loop, not in threads: so threads are always left for what is quick.
"""

import asyncio
import time
from collections import Counter
from collections.abc import AsyncIterator, Awaitable, Callable, Coroutine, Hashable
from contextlib import asynccontextmanager
from typing import Any

from fastapi import HTTPException, Request, Response
from fastapi.concurrency import run_in_threadpool

from yardgate.api.authentication import address_of, may_read
from yardgate.api.transport.aside import Aside
from yardgate.api.transport.parsing import OffLoop

AT_ONCE, EACH = 3, 1  # that are under way at the same time: of all, and of one session
PATIENCE = 300.0  # seconds that one waits at most
LOOK = 0.02


class Turns:
    """at_once: how many are under way at the same time."""

    def __init__(self, at_once: int = AT_ONCE) -> None:
        self.at_once = at_once
        self.under_way: Counter[str] = Counter()
        self.line: list[tuple[object, str]] = []  # who waits, the first that came at its head
        self.begun: dict[Hashable, asyncio.Future[Response]] = {}
        self.waiting: dict[Hashable, asyncio.Future[Response]] = {}

    @asynccontextmanager
    async def turn(self, who: str) -> AsyncIterator[None]:
        """Raises HTTPException, where none came in time."""
        until, mine = time.monotonic() + PATIENCE, (object(), who)
        self.line.append(mine)
        try:
            while self._next_in_line() is not mine:
                if time.monotonic() > until:
                    raise HTTPException(
                        503, "The server is busy with other work; try again in a minute", {"Retry-After": "60"}
                    )
                await asyncio.sleep(LOOK)
        finally:
            self.line.remove(mine)
        self.under_way[who] += 1
        try:
            yield
        finally:
            self.under_way[who] -= 1
            self.under_way += Counter()  # those who do nothing any more go

    def _next_in_line(self) -> tuple[object, str] | None:
        """Who may begin: the first of those whose own turn is not under way."""
        if self.under_way.total() >= self.at_once:
            return None
        return next((one for one in self.line if self.under_way[one[1]] < EACH), None)

    async def together(self, what: Hashable, who: str, work: Callable[[], Awaitable[Response]]) -> Response:
        """The answer to what several ask for. Whoever comes when it has begun waits for the next, which knows what was changed since."""
        if what not in self.waiting:
            self.waiting[what] = asyncio.ensure_future(self._next(what, who, work))
        answer = await asyncio.shield(self.waiting[what])
        return Response(answer.body, answer.status_code, dict(answer.headers))

    async def _next(self, what: Hashable, who: str, work: Callable[[], Awaitable[Response]]) -> Response:
        begun = self.begun.get(what)
        try:
            if begun is not None:
                await asyncio.wait([begun])
            async with self.turn(who):
                self.begun[what] = self.waiting.pop(what)
                return await work()
        finally:
            ended = self.begun.pop(what, None) or self.waiting.pop(what, None)
            assert ended is asyncio.current_task()


class Long(OffLoop):
    """A route that may take long. `app.state.turns` says whose turn it is, and `app.state.aside` does it, if there is such a process.

    What it gives to who may read a plan, it gives to all of them.
    """

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            turns: Turns = request.app.state.turns
            aside: Aside | None = request.app.state.aside
            who, more = request.headers.get("cookie", ""), request.headers

            async def work() -> Response:
                return await (handler(request) if aside is None else aside.ask(request, address_of(request)))

            if request.method == "GET" and await run_in_threadpool(may_read, request):
                asked = (str(request.url), more.get("if-none-match"), more.get("accept-encoding"))
                return await turns.together(asked, who, work)
            async with turns.turn(who):
                return await work()

        return handle


class Large(OffLoop):
    """A route that makes a large answer. `app.state.one` says whose turn it is."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            one: Turns = request.app.state.one
            async with one.turn(request.headers.get("cookie", "")):
                return await handler(request)

        return handle
