"""Taking a request's JSON apart: off the event loop, where it is large, so that nobody waits for it; and never more than can be meant."""

import json
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import HTTPException, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.routing import APIRoute

SMALL = 16 * 1024  # bytes that are taken apart at once
DIGITS = 20  # of a whole number


class OffLoop(APIRoute):
    """A route whose body is JSON, if anything."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            body = await request.body()
            if body and "json" in request.headers.get("content-type", ""):
                parsed = _parsed(body) if len(body) <= SMALL else await run_in_threadpool(_parsed, body)
                request._json = parsed  # where Request.json() looks first
            return await handler(request)

        return handle


def _parsed(body: bytes) -> Any:
    try:
        return json.loads(body, parse_int=_whole)
    except UnicodeDecodeError:
        raise HTTPException(422, "This request cannot be understood: it is not UTF-8") from None
    except json.JSONDecodeError as error:
        raise HTTPException(422, f"This request cannot be understood: no JSON ({error.msg} at {error.pos})") from None
    except RecursionError:
        raise HTTPException(422, "This request cannot be understood: it is nested too deep") from None


def _whole(digits: str) -> int:
    if len(digits) > DIGITS:
        raise HTTPException(422, "This request cannot be understood: a number in it is too long")
    return int(digits)
