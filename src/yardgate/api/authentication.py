"""Who asks, and what they may do: the dependencies that every operation has one of."""

from collections.abc import Callable
from typing import Annotated

from fastapi import Depends, HTTPException, Request

from yardgate.services.derived import Services
from yardgate.store import NotThere
from yardgate.store.accounts import Account, Role
from yardgate.store.accounts import SessionRecord as Signed

RANKS: tuple[Role, ...] = ("member", "reader", "planner", "administrator")


def services(request: Request) -> Services:
    found: Services = request.app.state.services
    return found


def cookie_name(token: str, *, secure: bool) -> str:
    """The cookie of an installation's sessions. With TLS it is bound to this very host (RFC 6265bis, 4.1.3.2)."""
    return f"{'__Host-' if secure else ''}yardgate-{token}"


def token_of(request: Request) -> str | None:
    return request.cookies.get(request.app.state.cookie)


def address_of(request: Request) -> str:
    """From where a request comes; as the proxy says, where it comes by one that is trusted."""
    near = request.client.host if request.client else "?"
    said = request.headers.get("x-forwarded-for", "").rpartition(",")[2].strip()
    return said[:100] if said and near in request.app.state.proxies else near


def signed_in_as(request: Request) -> tuple[Account, Signed] | None:
    """Whose session the request carries, if anybody's."""
    token = token_of(request)
    return services(request).accounts.signed_in(token, used=True) if token else None


def asking(request: Request) -> Account | None:
    found = signed_in_as(request)
    return None if found is None else found[0]


def signed_in(request: Request) -> Account:
    account = asking(request)
    if account is None:
        raise HTTPException(401, "Sign in first")
    return account


def rank(account: Account, plan: str | None) -> int:
    """What an account may do, in a plan or at all."""
    return max(RANKS.index(account.role), RANKS.index(account.plans.get(plan or "", "member")))


def at_least(role: str) -> Callable[[Request, Account], Account]:
    def check(request: Request, account: Annotated[Account, Depends(signed_in)]) -> Account:
        plan = request.path_params.get("plan")
        mine = rank(account, plan)
        if plan is not None and mine == 0:
            raise NotThere(f"there is no plan {plan[:100]!r}")  # nor is it said that there is one
        if mine < RANKS.index(role):
            raise HTTPException(403, f"This needs a {role}; {account.name} is a {RANKS[mine]}")
        return account

    return check


def may_read(request: Request) -> bool:
    """Whether who asks may read the plan that is asked about."""
    account = asking(request)
    return account is not None and rank(account, request.path_params.get("plan")) >= RANKS.index("reader")


TheServices = Annotated[Services, Depends(services)]
Somebody = Annotated[Account, Depends(signed_in)]
Reader = Annotated[Account, Depends(at_least("reader"))]
Planner = Annotated[Account, Depends(at_least("planner"))]
Administrator = Annotated[Account, Depends(at_least("administrator"))]


def say(request: Request, by: str, what: str, about: str = "", plan: str | None = None) -> None:
    """Write down what was done."""
    services(request).audit.say(what, by, about, address_of(request), plan)
