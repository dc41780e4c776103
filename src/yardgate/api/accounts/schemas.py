"""What goes in and out of signing in, accounts and the audit."""

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from yardgate.api.schemas import In, Name
from yardgate.store.accounts import PlanRole, Role


class Session(BaseModel):
    """Who is signed in; nobody where name is null. `first`: no account exists yet."""

    name: str | None
    role: Role | None
    first: bool
    has_password: bool = False


class SignIn(In):
    name: Name
    password: Annotated[str, Field(max_length=1000)]


class Link(In):
    link: Annotated[str, Field(max_length=200)]


class UseLink(Link):
    """switch: also where somebody else is signed in here."""

    switch: bool = False


class LinkKind(BaseModel):
    """name: whom it signs in. instead_of: who is signed in here now."""

    kind: Literal["sign-in", "first"] | None
    name: str | None = None
    instead_of: str | None = None


class First(In):
    link: Annotated[str, Field(max_length=200)]
    name: Name
    password: Annotated[str, Field(max_length=1000)]


class AccountOut(BaseModel):
    id: str
    name: str
    role: Role
    disabled: bool
    has_password: bool
    plans: dict[str, PlanRole]
    sessions: int


class SessionOut(BaseModel):
    """A place where somebody is signed in. made_at, seen_at: seconds since 1970. this: the one that asks."""

    id: str
    made_at: int
    seen_at: int
    address: str
    agent: str
    this: bool


class HappenedOut(BaseModel):
    """Something that was done: by whom, from where, to what."""

    number: int
    at: str
    by: str
    address: str
    what: str
    about: str
    plan: str | None


class NewAccount(In):
    name: Name
    role: Role


class NewAccountOut(BaseModel):
    account: AccountOut
    link: Annotated[str, Field(description="a one-time path that signs this account in, for a day")]


class ChangeAccount(In):
    role: Role | None = None
    disabled: bool | None = None
    plans: Annotated[dict[str, PlanRole] | None, Field(max_length=1000)] = None


class OwnPassword(In):
    """old: the one before, where there is one and nobody signed in by a link just now."""

    password: Annotated[str, Field(max_length=1000)]
    old: Annotated[str | None, Field(max_length=1000)] = None
