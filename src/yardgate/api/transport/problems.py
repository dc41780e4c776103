"""Errors as problem details (RFC 9457): what happened, to what, and what to do next."""

import logging
from collections.abc import Mapping
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from yardgate.api.answers import entry_out
from yardgate.api.schemas import Problem, TroubleOut
from yardgate.core.model.checks import PlanError
from yardgate.formats.reading import FormatError
from yardgate.services.derived import Crowded
from yardgate.store import NotThere, Stale
from yardgate.store.runs import UnderWay

log = logging.getLogger("yardgate.api")


class ProblemResponse(JSONResponse):
    media_type = "application/problem+json"


def answer(problem: Problem, headers: Mapping[str, str] | None = None) -> ProblemResponse:
    body = problem.model_dump(mode="json", exclude_none=True)
    return ProblemResponse(body, problem.status, headers=dict(headers or {}))


def documented(schema: dict[str, Any]) -> dict[str, Any]:
    """The OpenAPI document, with errors under the media type that they are sent with."""
    for operations in schema["paths"].values():
        for operation in operations.values():
            for status, response in operation["responses"].items():
                if status >= "400" and (content := response.get("content", {}).pop("application/json", None)):
                    response["content"]["application/problem+json"] = content
    return schema


def install(app: FastAPI) -> None:
    """Every error that a request can meet, as a problem."""

    @app.exception_handler(PlanError)
    def _plan(_: Request, error: PlanError) -> ProblemResponse:
        troubles = [TroubleOut(object=t.object[:300], message=t.message) for t in error.troubles[:100]]
        return answer(Problem(title="This cannot stand in a plan", status=422, detail=str(error), troubles=troubles))

    @app.exception_handler(FormatError)
    def _format(_: Request, error: FormatError) -> ProblemResponse:
        return answer(
            Problem(
                title="This text cannot be imported",
                status=422,
                detail=str(error),
                line=error.line,
                column=error.column,
            )
        )

    @app.exception_handler(Stale)
    def _stale(_: Request, error: Stale) -> ProblemResponse:
        since = [entry_out(entry) for entry in error.since]
        who = ", ".join(sorted({entry.by for entry in error.since}))
        detail = f"The plan was changed meanwhile by {who}. Nothing of yours was kept; look at what changed, then do it again."
        return answer(
            Problem(
                title="The plan has changed meanwhile", status=409, detail=detail, revision=error.revision, since=since
            )
        )

    @app.exception_handler(NotThere)
    def _missing(_: Request, error: NotThere) -> ProblemResponse:
        return answer(Problem(title="Not there", status=404, detail=str(error)))

    @app.exception_handler(Crowded)
    def _crowded(_: Request, error: Crowded) -> ProblemResponse:
        return answer(Problem(title=str(error), status=503), {"Retry-After": "30"})

    @app.exception_handler(UnderWay)
    def _busy(_: Request, __: UnderWay) -> ProblemResponse:
        title = "Something is running on the appliance already: wait for it to end, or stop it"
        return answer(Problem(title=title, status=409))

    @app.exception_handler(RequestValidationError)
    def _request(_: Request, error: RequestValidationError) -> ProblemResponse:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"] if step != "body")
        return answer(
            Problem(title="This request cannot be understood", status=422, detail=_plain(f"{where}: {first['msg']}"))
        )

    @app.exception_handler(HTTPException)
    def _http(_: Request, error: HTTPException) -> ProblemResponse:
        return answer(Problem(title=str(error.detail), status=error.status_code), error.headers)


def unforeseen(method: str, path: str, error: Exception) -> ProblemResponse:
    """What is said where something went wrong that nobody thought of; the log has the rest."""
    log.error("unexpected error at %s %s", method, path[:300], exc_info=error)
    detail = "Nothing was changed. The server's log has the details."
    return answer(Problem(title="Something went wrong in Yard Gate itself", status=500, detail=detail))


def _plain(text: str) -> str:
    return text.encode("utf-8", "replace").decode()[:500]
