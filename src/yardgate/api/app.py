"""The application: routers, guards, and the built user interface."""

from pathlib import Path
from typing import Any
from urllib.parse import SplitResult, urlsplit

from fastapi import FastAPI, HTTPException
from fastapi.responses import FileResponse, Response
from fastapi.routing import APIRoute
from starlette.datastructures import Headers
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from yardgate import __version__
from yardgate.api import (
    agreed,
    board,
    directory,
    inside,
    plans,
    problems,
    rollout,
    runs,
    shares,
    signin,
    storage,
    transfer,
)
from yardgate.api.desk import Desk
from yardgate.api.schemas import Problem
from yardgate.store import Store

WEB = Path(__file__).parent.parent / "web"
LARGEST_BODY = 32 * 1024 * 1024
SAFE_METHODS = ("GET", "HEAD", "OPTIONS")
HEADERS = {
    "content-security-policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}


class Guard:
    """Before anything else: is this our host name (against DNS rebinding), does a change come from our own pages (against
    forged requests), and is the body of a size that can be meant."""

    def __init__(self, app: ASGIApp, hosts: frozenset[str]):
        self.app, self.hosts = app, hosts

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        if refused := self._refused(scope["method"], headers):
            await problems.answer(refused)(scope, receive, send)
            return
        taken = 0

        async def limited() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > LARGEST_BODY:
                raise HTTPException(413, "The request is too large; at most 32 MiB are taken")
            return message

        async def dressed(message: Message) -> None:
            if message["type"] == "http.response.start":
                extra = [(name.encode(), value.encode()) for name, value in HEADERS.items()]
                if scope["path"].startswith("/api/"):
                    extra.append((b"cache-control", b"no-store"))
                message["headers"] = [*message["headers"], *extra]
            await send(message)

        await self.app(scope, limited, dressed)

    def _refused(self, method: str, headers: Headers) -> Problem | None:
        host = headers.get("host", "")
        if _split(f"//{host}").hostname not in self.hosts:
            return Problem(
                title="This host name is not served here", status=421, detail="Start with --host-name to allow it."
            )
        if method in SAFE_METHODS:
            return None
        origin = headers.get("origin")
        foreign = origin is not None and _split(origin).netloc != host
        if foreign or headers.get("sec-fetch-site", "none") not in ("none", "same-origin"):
            return Problem(title="This change does not come from Yard Gate's own pages", status=403)
        length = headers.get("content-length", "0")
        if not length.isdecimal() or int(length) > LARGEST_BODY:
            return Problem(title="The request is too large; at most 32 MiB are taken", status=413)
        return None


def _split(address: str) -> SplitResult:
    try:
        return urlsplit(address)
    except ValueError:
        return urlsplit("")


def create_app(
    store: Store, hosts: frozenset[str] = frozenset({"127.0.0.1", "localhost", "::1"}), *, this_host: bool = False
) -> FastAPI:
    """The whole web application on one store. `hosts`: the names under which it may be asked for; `this_host`: whether plans may be
    rolled out on the machine that it runs on."""
    app = FastAPI(
        title="Yard Gate",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        responses={code: {"model": Problem} for code in (401, 403, 404, 409, 422, 429)},
        generate_unique_id_function=_operation,
    )
    app.state.desk = Desk(store, this_host=this_host)
    app.state.desk.rolling.resume()
    app.state.desk.pushing.resume()
    app.state.tries = signin.Tries()
    for router in (
        signin.router,
        plans.router,
        board.router,
        storage.router,
        transfer.router,
        directory.router,
        shares.router,
        agreed.router,
        rollout.router,
        runs.router,
        inside.router,
    ):
        app.include_router(router, prefix="/api/v1")
    problems.install(app)
    schema = app.openapi
    app.openapi = lambda: problems.documented(schema())  # type: ignore[method-assign]
    app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=5)
    app.add_middleware(Guard, hosts=hosts)

    @app.get("/api/{path:path}", include_in_schema=False)
    def nothing(path: str) -> Any:
        raise HTTPException(404, f"There is nothing at /api/{path[:100]}")

    @app.get("/{path:path}", include_in_schema=False)
    def web(path: str) -> Response:
        """The built user interface; any path that is no file is a page of it."""
        wanted = (WEB / path).resolve()
        if path and wanted.is_relative_to(WEB.resolve()) and wanted.is_file():
            forever = path.startswith("assets/")
            return FileResponse(
                wanted, headers={"Cache-Control": "public, max-age=31536000, immutable" if forever else "no-cache"}
            )
        if path.startswith("assets/"):
            raise HTTPException(404, "There is no such file")
        if not (WEB / "index.html").is_file():
            raise HTTPException(503, "The user interface is not built yet: run ./yard demo or ./yard test")
        return FileResponse(WEB / "index.html", headers={"Cache-Control": "no-cache"})

    return app


def _operation(route: APIRoute) -> str:
    return route.name
