"""What takes long is done few at a time, and of each who asks one at a time; who waits for a turn holds up nobody.

The others wait on the event loop, not in threads: so threads are always left for what is quick.
"""

import asyncio
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable, Coroutine
from contextlib import asynccontextmanager
from typing import Any

from fastapi import HTTPException, Request, Response

from yardgate.api.aside import Aside
from yardgate.api.parsing import OffLoop
from yardgate.api.signin import address_of

AT_ONCE, EACH = 3, 1  # that are under way at the same time: of all, and of one session
PATIENCE = 300.0  # seconds that one waits at most
LOOK = 0.02


class Turns:
    def __init__(self) -> None:
        self.under_way: Counter[str] = Counter()

    @asynccontextmanager
    async def turn(self, who: str) -> AsyncIterator[None]:
        """Raises HTTPException, where none came in time."""
        until = time.monotonic() + PATIENCE
        while self.under_way.total() >= AT_ONCE or self.under_way[who] >= EACH:
            if time.monotonic() > until:
                raise HTTPException(503, "Too much is worked out already; try again in a minute", {"Retry-After": "60"})
            await asyncio.sleep(LOOK)
        self.under_way[who] += 1
        try:
            yield
        finally:
            self.under_way[who] -= 1
            self.under_way += Counter()  # those who do nothing any more go


class Long(OffLoop):
    """A route that may take long. `app.state.turns` says whose turn it is, and `app.state.aside` does it, if there is such a process."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            turns: Turns = request.app.state.turns
            aside: Aside | None = request.app.state.aside
            async with turns.turn(request.headers.get("cookie", "")):
                if aside is not None:
                    return await aside.ask(request, address_of(request))
                return await handler(request)

        return handle
