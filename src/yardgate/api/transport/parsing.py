"""Taking a request's JSON apart: off the event loop, where it is large, so that nobody waits for it; strictly, and never more than can be meant."""

import json
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from typing import Any

from fastapi import HTTPException, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.routing import APIRoute
from pydantic import TypeAdapter, ValidationError

SMALL = 16 * 1024  # bytes that are taken apart at once
OF_ANOTHER_KIND = ("literal_error", "unexpected_keyword_argument", "extra_forbidden", "missing", "missing_argument")
"""What is wrong with a record of one of several kinds where it is meant to be one of the others."""
DIGITS = 20  # of a whole number
NOTHING = ...  # nothing that any body could be: an object of our own would pass as a record of which nothing is said


class OffLoop(APIRoute):
    """A route whose body is JSON, if anything."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()
        said: Any = None if self.body_field is None else self.body_field.field_info.annotation
        kind: TypeAdapter[Any] | None = None if said is None else TypeAdapter(said)

        async def handle(request: Request) -> Response:
            body = await request.body()
            if not body or "json" not in request.headers.get("content-type", ""):
                return await handler(request)
            small = len(body) <= SMALL
            found = parsed(body, kind) if small else await run_in_threadpool(parsed, body, kind)
            wrong = isinstance(found, Wrong)
            request._json = NOTHING if wrong else found  # where Request.json() looks first
            try:
                return await handler(request)
            except RequestValidationError:
                if wrong:  # it is said only to who may ask at all
                    raise found.error from None
                raise

        return handle


@dataclass(frozen=True, slots=True)
class Wrong:
    """In place of what a body says that cannot be taken."""

    error: HTTPException | RequestValidationError


def parsed(body: bytes, kind: TypeAdapter[Any] | None) -> Any:
    """What a body says, as Request.json() gives it. It is looked at as JSON has its types first: a number is no text of digits, and true no 1."""
    try:
        found = json.loads(body, parse_int=_whole)
        if kind is not None:
            kind.validate_json(body, strict=True)
        return found
    except ValidationError as error:
        found = error.errors(include_url=False, include_context=False, include_input=False)
        telling = next((one for one in found if one["type"] not in OF_ANOTHER_KIND), found[0])
        return Wrong(RequestValidationError([{**telling, "loc": ("body", *telling["loc"])}]))
    except UnicodeDecodeError:
        why = "it is not UTF-8"
    except json.JSONDecodeError as error:
        why = f"no JSON ({error.msg} at {error.pos})"
    except RecursionError:
        why = "it is nested too deep"
    except OverflowError as error:
        why = str(error)
    return Wrong(HTTPException(422, f"This request cannot be understood: {why}"))


def _whole(digits: str) -> int:
    if len(digits) > DIGITS:
        raise OverflowError("a number in it is too long")
    return int(digits)
