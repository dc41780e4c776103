"""Signing in to Yard Gate itself, one's own sessions, accounts, and what was done."""

import time
from collections.abc import Callable
from typing import Annotated, Any, TypeVar

from fastapi import APIRouter, HTTPException, Query, Request, Response

from yardgate.api.accounts.schemas import (
    AccountOut,
    ChangeAccount,
    First,
    HappenedOut,
    Link,
    LinkKind,
    NewAccount,
    NewAccountOut,
    OwnPassword,
    Session,
    SessionOut,
    SignIn,
    UseLink,
)
from yardgate.api.accounts.tries import Tries
from yardgate.api.authentication import (
    Administrator,
    Somebody,
    TheServices,
    address_of,
    asking,
    say,
    services,
    signed_in_as,
    token_of,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.services.derived import Services
from yardgate.store.accounts import DAY, FRESH_SECONDS, SESSION_SECONDS, Account, Overloaded
from yardgate.store.accounts import SessionRecord as Signed
from yardgate.store.plans import NEWEST

router = APIRouter(tags=["sign-in"], route_class=OffLoop)


def _begin(request: Request, response: Response, account: Account, *, by_link: bool = False) -> Session:
    accounts, state = services(request).accounts, request.app.state
    if (before := token_of(request)) is not None:
        accounts.end(before)
    agent = request.headers.get("user-agent", "")
    token = accounts.begin(account.id, address_of(request), agent, by_link=by_link)
    common: dict[str, Any] = {"path": "/", "httponly": True, "samesite": "strict", "secure": state.secure}
    response.set_cookie(state.cookie, token, max_age=SESSION_SECONDS, **common)
    response.set_cookie(f"{state.cookie}-known", accounts.known(account.id), max_age=180 * DAY, **common)
    return _session(account)


def _session(account: Account) -> Session:
    return Session(name=account.name, role=account.role, first=False, has_password=account.has_password)


@router.get("/session")
def session(request: Request) -> Session:
    """Who is signed in."""
    account = asking(request)
    if account is not None:
        return _session(account)
    return Session(name=None, role=None, first=not services(request).accounts.all())


@router.post("/session")
def sign_in(request: Request, response: Response, body: SignIn) -> Session:
    """Sign in by name and password."""
    tries: Tries = request.app.state.tries
    shown = request.cookies.get(f"{request.app.state.cookie}-known", "")
    known = shown if shown and services(request).accounts.is_known(body.name, shown) else None
    keys = tries.keys(body.name, address_of(request), known)
    if (wait := tries.wait(keys)) > 0:
        raise HTTPException(429, f"Too many tries; wait {int(wait) + 1} seconds", {"Retry-After": str(int(wait) + 1)})
    account = _looked_at(lambda: services(request).accounts.check(body.name, body.password))
    if account is None:
        tries.failed(keys)
        say(request, body.name, "sign-in failed")
        raise HTTPException(401, "Name and password do not match an account")
    tries.succeeded(keys)
    say(request, account.name, "signed in")
    return _begin(request, response, account)


T = TypeVar("T")


def _looked_at(work: Callable[[], T]) -> T:
    """Work that looks at passwords, as problems say what is wrong with it."""
    try:
        return work()
    except Overloaded:
        raise HTTPException(
            503, "Many people are signing in right now; try again in a few seconds", {"Retry-After": "5"}
        ) from None
    except ValueError as error:
        raise HTTPException(422, str(error)[0].upper() + str(error)[1:]) from None


@router.delete("/session", status_code=204)
def sign_out(request: Request, response: Response) -> None:
    """Sign out: the session is ended on the server too."""
    if token := token_of(request):
        if (account := asking(request)) is not None:
            say(request, account.name, "signed out")
        services(request).accounts.end(token)
    response.delete_cookie(request.app.state.cookie, path="/")


@router.post("/session/link/kind")
def link_kind(request: Request, body: Link, services: TheServices) -> LinkKind:
    """What a one-time link would do; nothing where it is used up or too old."""
    found = services.accounts.link_kind(body.link)
    now = asking(request)
    return LinkKind(
        kind=None if found is None else found[0],
        name=None if found is None else found[1] or None,
        instead_of=None if now is None else now.name,
    )


@router.post("/session/link")
def use_link(request: Request, response: Response, body: UseLink) -> Session:
    """Sign in by a one-time link. Where somebody else is signed in here, only if that is meant."""
    now, found = asking(request), services(request).accounts.link_kind(body.link)
    if now is not None and found is not None and found[1] != now.name and not body.switch:
        raise HTTPException(409, f"{now.name} is signed in here; the link would sign {found[1]} in instead")
    account = services(request).accounts.use_link(body.link)
    if account is None:
        raise HTTPException(401, "This link was used already or is too old; ask for a new one")
    say(request, account.name, "signed in by a link")
    return _begin(request, response, account, by_link=True)


@router.post("/session/first")
def first(request: Request, response: Response, body: First) -> Session:
    """Make the first administrator, by the link that the first start printed."""
    account = _looked_at(lambda: services(request).accounts.first(body.link, body.name, body.password))
    say(request, account.name, "first administrator made")
    return _begin(request, response, account)


@router.put("/session/password", status_code=204)
def own_password(request: Request, response: Response, account: Somebody, body: OwnPassword) -> None:
    """Set one's own password; other sessions end, and links to the account too; this session goes on."""
    found = signed_in_as(request)
    assert found is not None
    signed = found[1]
    fresh = signed.by_link and time.time() - signed.made_at < FRESH_SECONDS
    if account.has_password and not fresh:
        tries: Tries = request.app.state.tries
        keys = tries.keys(account.name, address_of(request), f"session {signed.id}")
        if (wait := tries.wait(keys)) > 0:
            after = {"Retry-After": str(int(wait) + 1)}
            raise HTTPException(429, f"Too many tries; wait {int(wait) + 1} seconds", after)
        if _looked_at(lambda: services(request).accounts.check(account.name, body.old or "")) is None:
            tries.failed(keys)
            raise HTTPException(422, "The old password is not this one")
    _looked_at(lambda: services(request).accounts.set_password(account.id, body.password))
    say(request, account.name, "password set", account.name)
    _begin(request, response, account)


# --- where one is signed in -------------------------------------------------------------------------------------------


@router.get("/session/all")
def own_sessions(request: Request, _: Somebody, services: TheServices) -> list[SessionOut]:
    """Where one is signed in oneself."""
    found = signed_in_as(request)
    assert found is not None
    return [_where(one, found[1].id) for one in services.accounts.sessions(found[0].id)]


def _where(one: Signed, mine: str) -> SessionOut:
    return SessionOut(
        id=one.id,
        made_at=one.made_at,
        seen_at=one.seen_at,
        address=one.address,
        agent=one.agent,
        this=one.id == mine,
    )


@router.delete("/session/all", status_code=204)
def sign_out_everywhere(request: Request, account: Somebody, services: TheServices) -> None:
    """Sign out everywhere but here."""
    found = signed_in_as(request)
    assert found is not None
    number = services.accounts.end_sessions(account.id, but=found[1].id)
    say(request, account.name, "sessions ended", f"{number} of {account.name}")


@router.delete("/session/all/{session_id}", status_code=204)
def end_session(request: Request, session_id: str, account: Somebody, services: TheServices) -> None:
    """End one of one's own sessions."""
    if not services.accounts.end_sessions(account.id, session_id):
        raise HTTPException(404, "There is no such session any more")
    say(request, account.name, "sessions ended", f"1 of {account.name}")


# --- who may ----------------------------------------------------------------------------------------------------------


@router.get("/accounts")
def accounts(_: Administrator, services: TheServices) -> list[AccountOut]:
    """Everyone who may sign in to Yard Gate, and in how many places each is signed in."""
    places: dict[str, int] = {}
    for one in services.accounts.sessions():
        places[one.account] = places.get(one.account, 0) + 1
    return [_account_out(account, places.get(account.id, 0)) for account in services.accounts.all()]


def _account_out(account: Account, sessions: int = 0) -> AccountOut:
    return AccountOut(
        id=account.id,
        name=account.name,
        role=account.role,
        disabled=account.disabled,
        has_password=account.has_password,
        plans=dict(account.plans),
        sessions=sessions,
    )


@router.post("/accounts", status_code=201)
def add_account(request: Request, boss: Administrator, services: TheServices, body: NewAccount) -> NewAccountOut:
    """Add an account; the answer holds the link to hand over."""
    account = _looked_at(lambda: services.accounts.add(body.name, body.role))
    say(request, boss.name, "account added", f"{account.name} as {account.role}")
    link = f"/sign-in?link={services.accounts.link(account.id)}"
    return NewAccountOut(account=_account_out(account), link=link)


def _one(services: Services, account: str) -> Account:
    found = next((one for one in services.accounts.all() if one.id == account), None)
    if found is None:
        raise HTTPException(404, "There is no such account")
    return found


@router.patch("/accounts/{account}", status_code=204)
def change_account(
    request: Request, account: str, boss: Administrator, services: TheServices, body: ChangeAccount
) -> None:
    """Change an account's role, what it may do in single plans, or disable or enable it."""
    before = _one(services, account)
    if body.plans is not None and (strange := sorted(body.plans.keys() - set(services.plans.ids()))):
        raise HTTPException(422, f"There is no plan {strange[0][:100]}")
    _looked_at(lambda: services.accounts.change(account, body.role, body.disabled))
    if body.plans is not None:
        services.accounts.let(account, body.plans)
        say(request, boss.name, "plans of account", f"{before.name}: {len(body.plans)}")
    if body.role is not None:
        say(request, boss.name, "role changed", f"{before.name}: {before.role} to {body.role}")
    if body.disabled is not None:
        say(request, boss.name, "account disabled" if body.disabled else "account enabled", before.name)


@router.post("/accounts/{account}/link", status_code=201)
def link_for(request: Request, account: str, boss: Administrator, services: TheServices) -> NewAccountOut:
    """A new one-time link for an account, as for somebody who forgot their password."""
    found = _one(services, account)
    say(request, boss.name, "link made", found.name)
    link = f"/sign-in?link={services.accounts.link(found.id)}"
    return NewAccountOut(account=_account_out(found), link=link)


@router.delete("/accounts/{account}/sessions", status_code=204)
def end_sessions_of(request: Request, account: str, boss: Administrator, services: TheServices) -> None:
    """Sign somebody out everywhere."""
    found = _one(services, account)
    number = services.accounts.end_sessions(found.id)
    say(request, boss.name, "sessions ended", f"{number} of {found.name}")


@router.get("/audit")
def audit(
    _: Administrator,
    services: TheServices,
    before: Annotated[int, Query(ge=1, le=NEWEST)] = NEWEST,
    most: Annotated[int, Query(ge=1, le=500)] = 200,
) -> list[HappenedOut]:
    """What was done in this installation besides plans, newest first."""
    return [HappenedOut.model_validate(one, from_attributes=True) for one in services.audit.past(before, most)]
