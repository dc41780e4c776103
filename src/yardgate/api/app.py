"""The application: routers, guards, and the built user interface."""

from pathlib import Path
from typing import Any

from fastapi import FastAPI, HTTPException
from fastapi.responses import FileResponse, Response
from fastapi.routing import APIRoute
from starlette.middleware.gzip import GZipMiddleware

from yardgate import __version__
from yardgate.api import (
    accounts,
    authentication,
    begin,
    board,
    directories,
    needs,
    plans,
    policy,
    rollout,
    shares,
    storage,
    transfer,
)
from yardgate.api.accounts.tries import Tries
from yardgate.api.schemas import Problem
from yardgate.api.transport import problems
from yardgate.api.transport.aside import Aside
from yardgate.api.transport.guard import Guard
from yardgate.api.transport.turns import Turns
from yardgate.services.derived import Services
from yardgate.store import Store

WEB = Path(__file__).parent.parent / "web"


LONGEST = 200  # characters of a path below the interface

STATIONS = (accounts, plans, begin, board, storage, transfer, directories, needs, shares, policy, rollout)


def create_app(
    store: Store,
    hosts: frozenset[str] = frozenset({"127.0.0.1", "localhost", "::1"}),
    *,
    this_host: bool = False,
    secure: bool = False,
    proxies: frozenset[str] = frozenset(),
    aside: Aside | None = None,
    resume: bool = True,
) -> FastAPI:
    """The whole web application on one store. `hosts`: the names under which it may be asked for; `this_host`: whether plans may be
    rolled out on the machine that it runs on; `secure`: whether browsers reach it by TLS; `proxies`: the addresses of those that are
    believed from where a request comes; `aside`: the process that does what takes long, if there is one; `resume`: whether rollouts that were
    under way go on."""
    app = FastAPI(
        title="Yard Gate",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        responses={code: {"model": Problem} for code in (401, 403, 404, 409, 422, 429)},
        generate_unique_id_function=_operation,
        lifespan=None if aside is None else aside.until_the_end,
    )
    app.state.services = Services(store, this_host=this_host)
    if resume:
        app.state.services.rolling.resume()
        app.state.services.pushing.resume()
        app.state.services.simulated.resume(app.state.services.plans.ids(), app.state.services.rollouts)
    app.state.aside = aside
    app.state.secure, app.state.proxies = secure, proxies
    app.state.cookie = authentication.cookie_name(store.token, secure=secure)
    app.state.tries = Tries()
    app.state.turns, app.state.one = Turns(), Turns(at_once=1)
    for router in (router for station in STATIONS for router in station.ROUTERS):
        app.include_router(router, prefix="/api/v1")
    problems.install(app)
    schema = app.openapi
    app.openapi = lambda: problems.documented(schema())  # type: ignore[method-assign]
    app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=5)

    def role_of(token: str) -> str | None:
        found = app.state.services.accounts.whose(token)
        return (
            None
            if found is None
            else authentication.RANKS[max(authentication.rank(found, plan) for plan in (None, *found.plans))]
        )

    app.add_middleware(Guard, hosts=hosts, whose=role_of, cookie=app.state.cookie, secure=secure)

    @app.get("/api/{path:path}", include_in_schema=False)
    def nothing(path: str) -> Any:
        raise HTTPException(404, f"There is nothing at /api/{path[:100]}")

    @app.get("/{path:path}", include_in_schema=False)
    async def web(path: str) -> Response:
        """The built user interface; any path that is no file is a page of it."""
        if len(path) > LONGEST:
            raise HTTPException(404, "There is no such file")
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
        if aside is not None:
            aside.soon()
        return FileResponse(WEB / "index.html", headers={"Cache-Control": "no-cache"})

    return app


def _operation(route: APIRoute) -> str:
    return route.name
