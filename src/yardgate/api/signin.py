"""Signing in to Yard Gate itself, and who may."""

import time
from collections.abc import Callable
from threading import Lock
from typing import Annotated

from fastapi import APIRouter, Depends, HTTPException, Request, Response

from yardgate.api.desk import Desk
from yardgate.api.parsing import OffLoop
from yardgate.api.schemas import (
    AccountOut,
    ChangeAccount,
    First,
    Link,
    LinkKind,
    NewAccount,
    NewAccountOut,
    NewPassword,
    Session,
    SignIn,
)
from yardgate.store.accounts import SESSION_SECONDS, Account

COOKIE = "yardgate_session"
FREE_TRIES = 4
LONGEST_WAIT = 60
RANKS = ("reader", "planner", "administrator")


def desk(request: Request) -> Desk:
    found: Desk = request.app.state.desk
    return found


def asking(request: Request) -> Account | None:
    """Whose session the request carries, if anybody's."""
    token = request.cookies.get(COOKIE)
    return desk(request).accounts.whose(token) if token else None


def signed_in(request: Request) -> Account:
    account = asking(request)
    if account is None:
        raise HTTPException(401, "Sign in first")
    return account


def at_least(role: str) -> Callable[[Account], Account]:
    def check(account: Annotated[Account, Depends(signed_in)]) -> Account:
        if RANKS.index(account.role) < RANKS.index(role):
            raise HTTPException(403, f"This needs a {role}; {account.name} is a {account.role}")
        return account

    return check


TheDesk = Annotated[Desk, Depends(desk)]
Reader = Annotated[Account, Depends(signed_in)]
Planner = Annotated[Account, Depends(at_least("planner"))]
Administrator = Annotated[Account, Depends(at_least("administrator"))]


class Tries:
    """Slows down guessing: after a few failures for one name or from one address, each further one must wait longer."""

    def __init__(self, clock: Callable[[], float] = time.monotonic):
        self.clock = clock
        self._failed: dict[str, tuple[int, float]] = {}
        self._lock = Lock()

    def wait(self, *keys: str) -> float:
        """Seconds that must still pass before another try."""
        with self._lock:
            return max(0.0, *(self._failed.get(key, (0, 0.0))[1] - self.clock() for key in keys))

    def failed(self, *keys: str) -> None:
        with self._lock:
            if len(self._failed) > 10_000:
                self._failed = {k: v for k, v in self._failed.items() if v[1] > self.clock()}
            for key in keys:
                count = self._failed.get(key, (0, 0.0))[0] + 1
                pause = 0 if count <= FREE_TRIES else min(LONGEST_WAIT, 2 ** (count - FREE_TRIES))
                self._failed[key] = (count, self.clock() + pause)

    def succeeded(self, *keys: str) -> None:
        with self._lock:
            for key in keys:
                self._failed.pop(key, None)


router = APIRouter(tags=["sign-in"], route_class=OffLoop)


def _begin(request: Request, response: Response, account: Account) -> Session:
    token = desk(request).accounts.begin(account.id)
    secure = request.url.scheme == "https"
    response.set_cookie(
        COOKIE, token, max_age=SESSION_SECONDS, httponly=True, samesite="strict", secure=secure, path="/"
    )
    return Session(name=account.name, role=account.role, first=False)


@router.get("/session")
def session(request: Request) -> Session:
    """Who is signed in."""
    account = asking(request)
    if account is not None:
        return Session(name=account.name, role=account.role, first=False)
    return Session(name=None, role=None, first=not desk(request).accounts.all())


@router.post("/session")
def sign_in(request: Request, response: Response, body: SignIn) -> Session:
    """Sign in by name and password."""
    tries: Tries = request.app.state.tries
    keys = (f"name {body.name.casefold()}", f"from {request.client.host if request.client else '?'}")
    if (wait := tries.wait(*keys)) > 0:
        raise HTTPException(429, f"Too many tries; wait {int(wait) + 1} seconds", {"Retry-After": str(int(wait) + 1)})
    account = desk(request).accounts.check(body.name, body.password)
    if account is None:
        tries.failed(*keys)
        raise HTTPException(401, "Name and password do not match an account")
    tries.succeeded(*keys)
    return _begin(request, response, account)


@router.delete("/session", status_code=204)
def sign_out(request: Request, response: Response) -> None:
    """Sign out: the session is ended on the server too."""
    if token := request.cookies.get(COOKIE):
        desk(request).accounts.end(token)
    response.delete_cookie(COOKIE, path="/")


@router.post("/session/link/kind")
def link_kind(body: Link, desk: TheDesk) -> LinkKind:
    """What a one-time link would do; nothing where it is used up or too old."""
    return LinkKind(kind=desk.accounts.link_kind(body.link))


@router.post("/session/link")
def use_link(request: Request, response: Response, body: Link) -> Session:
    """Sign in by a one-time link."""
    account = desk(request).accounts.use_link(body.link)
    if account is None:
        raise HTTPException(401, "This link was used already or is too old; ask for a new one")
    return _begin(request, response, account)


@router.post("/session/first")
def first(request: Request, response: Response, body: First) -> Session:
    """Make the first administrator, by the link that the first start printed."""
    try:
        account = desk(request).accounts.first(body.link, body.name, body.password)
    except ValueError as error:
        raise HTTPException(422, str(error)) from None
    return _begin(request, response, account)


@router.put("/session/password", status_code=204)
def own_password(request: Request, response: Response, account: Reader, body: NewPassword) -> None:
    """Set one's own password; other sessions end, this one goes on."""
    try:
        desk(request).accounts.set_password(account.id, body.password)
    except ValueError as error:
        raise HTTPException(422, str(error)) from None
    _begin(request, response, account)


@router.get("/accounts")
def accounts(_: Administrator, desk: TheDesk) -> list[AccountOut]:
    """Everyone who may sign in to Yard Gate."""
    return [AccountOut.model_validate(account, from_attributes=True) for account in desk.accounts.all()]


@router.post("/accounts", status_code=201)
def add_account(_: Administrator, desk: TheDesk, body: NewAccount) -> NewAccountOut:
    """Add an account; the answer holds the link to hand over."""
    try:
        account = desk.accounts.add(body.name, body.role)
    except ValueError as error:
        raise HTTPException(422, str(error)) from None
    link = f"/sign-in?link={desk.accounts.link(account.id)}"
    return NewAccountOut(account=AccountOut.model_validate(account, from_attributes=True), link=link)


@router.patch("/accounts/{account}", status_code=204)
def change_account(account: str, _: Administrator, desk: TheDesk, body: ChangeAccount) -> None:
    """Change an account's role, or shut or open it."""
    if account not in {found.id for found in desk.accounts.all()}:
        raise HTTPException(404, "There is no such account")
    try:
        desk.accounts.change(account, body.role, body.disabled)
    except ValueError as error:
        raise HTTPException(422, str(error)) from None
