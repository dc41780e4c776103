"""What goes on at the appliance now: who has no password yet, first passwords, open sessions, and ending them."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager

from fastapi import APIRouter, HTTPException, Request

from yardgate.api.authentication import RANKS, Planner, TheServices, rank, say
from yardgate.api.rollout.routes import steps_of
from yardgate.api.rollout.schemas import (
    GivenPassword,
    GivePasswords,
    OpenSessionOut,
    PasswordState,
    SessionsEnd,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.host.bounds import Managed
from yardgate.core.host.compiled import away_from, host_names
from yardgate.core.host.sign_in import OpenSession, outlasting
from yardgate.core.model.checks import PlanError
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import LOCAL
from yardgate.drivers.appliance import Appliance, ApplianceError
from yardgate.drivers.connect import reached
from yardgate.services.derived import Services
from yardgate.services.passwords import fresh
from yardgate.store import Opened

router = APIRouter(prefix="/plans/{plan}/rollout", tags=["rollout"], route_class=OffLoop)
SECONDS = 60.0  # that a command may take while somebody waits


@contextmanager
def at_appliance(services: Services, plan: str) -> Iterator[Appliance]:
    """The plan's appliance. Raises HTTPException, in its words, where it cannot be reached or does not do what is asked."""
    try:
        with services.reading_hosts(), reached(services.rollouts.destination(plan), SECONDS) as at:
            yield at
    except ApplianceError as error:
        raise HTTPException(409, f"The appliance says: {error}") from None


def _accounts(services: Services, opened: Opened) -> Mapping[str, str]:
    """User id -> account on the appliance, of those that its rollouts made, or that it may manage; by name."""
    plan, where = opened.plan, services.rollouts.destination(opened.id)
    named, there = host_names(plan, away_from(plan, where.joined)), services.rollouts.in_force(opened.id).accounts
    managed = services.rollouts.managed(opened.id)
    users = sorted(plan.users.values(), key=lambda user: fold(user.name))
    return {
        user.id: account.name
        for user in users
        if user.origin == LOCAL and (account := there.get(named.get(user.id, ""))) is not None
        if account.smb and account.uid != 0 and Managed("accounts", account.name) in managed
    }


def _asked(services: Services, plan: str, users: Sequence[str]) -> Mapping[str, str]:
    """User id -> account on the appliance, of those asked for, each once. Raises HTTPException, where one has none of the plan's there."""
    accounts = _accounts(services, services.plans.open(plan))
    if unknown := [user for user in users if user not in accounts]:
        raise HTTPException(422, f"No rollout of this plan has made an account for {unknown[0]}")
    return {user: accounts[user] for user in users}


@router.post("/passwords/read")
def read_passwords(plan: str, _: Planner, services: TheServices) -> list[PasswordState]:
    """Of the plan's people who have an account on the appliance: whether anybody was given its password."""
    accounts = _accounts(services, services.plans.open(plan))
    with at_appliance(services, plan) as at:
        without = at.without_password()
    return [PasswordState(user=user, account=name, given=name not in without) for user, name in accounts.items()]


@router.post("/passwords", status_code=201)
def give_passwords(
    plan: str, account: Planner, request: Request, services: TheServices, body: GivePasswords
) -> list[GivenPassword]:
    """Let people have new passwords, made here, told once, and kept nowhere but on the appliance. Who has one already gets another from an
    administrator alone: whoever gives a password can sign in as somebody else."""
    accounts = _asked(services, plan, body.users)
    passwords = {name: fresh() for name in accounts.values()}
    with at_appliance(services, plan) as at:
        if rank(account, plan) < RANKS.index("administrator"):
            known = sorted(passwords.keys() - at.without_password())
            if known:
                raise HTTPException(403, f"{known[0]} has a password already; only an administrator gives another")
        at.give_passwords(passwords, change=body.change)
    say(request, account.name, "passwords given", ", ".join(sorted(passwords)), plan)
    return [GivenPassword(user=user, account=name, password=passwords[name]) for user, name in accounts.items()]


@router.post("/sessions/read")
def open_sessions(plan: str, _: Planner, services: TheServices) -> list[OpenSessionOut]:
    """The sessions that are open on the appliance, and which of them would keep what they are if the plan were rolled out now."""
    opened = services.plans.open(plan)
    with at_appliance(services, plan) as at:
        now = at.sessions()
    try:
        stale = outlasting(steps_of(services, opened)[2], now)
    except PlanError:  # it cannot be rolled out at all
        stale = ()
    whose = {name: user for user, name in _accounts(services, opened).items()}
    return [_session(one, whose.get(one.account), one in stale) for one in now]


@router.post("/sessions/end")
def end_open_sessions(
    plan: str, account: Planner, request: Request, services: TheServices, body: SessionsEnd
) -> list[OpenSessionOut]:
    """End the sessions of people of the plan. What they hold open and have not saved is lost."""
    whose = {name: user for user, name in _asked(services, plan, body.users).items()}
    with at_appliance(services, plan) as at:
        ended = at.end_sessions(whose.keys())
    say(request, account.name, "sessions ended", ", ".join(sorted({one.account for one in ended})), plan)
    return [_session(one, whose[one.account], stale=False) for one in ended]


def _session(one: OpenSession, user: str | None, stale: bool) -> OpenSessionOut:
    return OpenSessionOut(**one._asdict(), user=user, stale=stale)
