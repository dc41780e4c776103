"""Who may sign in to Yard Gate itself: accounts, sessions and one-time links. Tokens are kept only as their SHA-256."""

import hashlib
import secrets
import time
from dataclasses import dataclass
from typing import Literal

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, func, insert, select, update

from yardgate.core.plan import name_trouble
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

Role = Literal["administrator", "planner", "reader"]
SESSION_SECONDS = 14 * 24 * 3600
LINK_SECONDS = 24 * 3600
SHORTEST_PASSWORD = 10


@dataclass(frozen=True, slots=True)
class Account:
    id: str
    name: str
    role: Role
    disabled: bool
    has_password: bool


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class Accounts:
    def __init__(self, store: Store):
        self.store = store
        self.hasher = PasswordHasher()
        self._nobody = self.hasher.hash(secrets.token_hex(16))  # checked for unknown names, so that they take as long

    def all(self) -> list[Account]:
        with self.store.reading() as connection:
            return [
                _account(row) for row in connection.execute(select(tables.accounts).order_by(tables.accounts.c.name))
            ]

    def by_name(self, name: str) -> Account | None:
        return next((account for account in self.all() if account.name.casefold() == name.casefold()), None)

    def add(self, name: str, role: Role, password: str | None = None) -> Account:
        """Raises ValueError for a name that cannot be or is taken, or a password too short."""
        if why := name_trouble(name):
            raise ValueError(f"the account name {why}")
        if self.by_name(name):
            raise ValueError(f"there is an account {name!r} already")
        account = Account(secrets.token_hex(6), name, role, False, password is not None)
        hashed = self._hash(password) if password is not None else None
        values = {
            "id": account.id,
            "name": name,
            "role": role,
            "password": hashed,
            "disabled": False,
            "created_at": now(),
        }
        with self.store.writing() as connection:
            connection.execute(insert(tables.accounts).values(values))
        return account

    def _hash(self, password: str) -> str:
        if len(password) < SHORTEST_PASSWORD:
            raise ValueError(f"a password needs at least {SHORTEST_PASSWORD} characters")
        if len(password) > 1000:
            raise ValueError("a password has at most 1000 characters")
        return self.hasher.hash(password)

    def set_password(self, account: str, password: str) -> None:
        """A new password ends every session of the account."""
        hashed = self._hash(password)
        with self.store.writing() as connection:
            connection.execute(update(tables.accounts).where(tables.accounts.c.id == account).values(password=hashed))
            connection.execute(delete(tables.sessions).where(tables.sessions.c.account == account))

    def change(self, account: str, role: Role | None = None, disabled: bool | None = None) -> None:
        """Raises ValueError where no enabled administrator would remain."""
        values = {key: value for key, value in (("role", role), ("disabled", disabled)) if value is not None}
        with self.store.writing() as connection:
            connection.execute(update(tables.accounts).where(tables.accounts.c.id == account).values(values))
            if disabled:
                connection.execute(delete(tables.sessions).where(tables.sessions.c.account == account))
            a = tables.accounts.c
            if not connection.scalar(select(func.count()).where(a.role == "administrator", a.disabled.is_(False))):
                raise ValueError("one administrator who may sign in must remain")

    def check(self, name: str, password: str) -> Account | None:
        with self.store.reading() as connection:
            rows = connection.execute(select(tables.accounts)).all()
        row = next((row for row in rows if row.name.casefold() == name.casefold()), None)
        try:
            self.hasher.verify(row.password if row is not None and row.password else self._nobody, password)
        except (VerificationError, InvalidHashError):
            return None
        return _account(row) if row is not None and row.password and not row.disabled else None

    # --- sessions and links ---

    def begin(self, account: str) -> str:
        """A new session's token."""
        token = secrets.token_urlsafe(32)
        with self.store.writing() as connection:
            connection.execute(delete(tables.sessions).where(tables.sessions.c.until < time.time()))
            until = int(time.time()) + SESSION_SECONDS
            connection.execute(insert(tables.sessions).values(token=_digest(token), account=account, until=until))
        return token

    def whose(self, token: str) -> Account | None:
        with self.store.reading() as connection:
            s, a = tables.sessions.c, tables.accounts.c
            query = select(tables.accounts).join(tables.sessions, s.account == a.id)
            row = connection.execute(
                query.where(s.token == _digest(token), s.until > time.time(), a.disabled.is_(False))
            ).one_or_none()
            return _account(row) if row else None

    def end(self, token: str) -> None:
        with self.store.writing() as connection:
            connection.execute(delete(tables.sessions).where(tables.sessions.c.token == _digest(token)))

    def link(self, account: str | None) -> str:
        """A one-time token: signs the account in, or, with None, makes the first administrator."""
        token = secrets.token_urlsafe(24)
        with self.store.writing() as connection:
            connection.execute(delete(tables.links).where(tables.links.c.until < time.time()))
            until = int(time.time()) + LINK_SECONDS
            connection.execute(insert(tables.links).values(token=_digest(token), account=account, until=until))
        return token

    def link_kind(self, token: str) -> Literal["sign-in", "first"] | None:
        """What a link would do, without using it up."""
        with self.store.reading() as connection:
            row = connection.execute(select(tables.links).where(tables.links.c.token == _digest(token))).one_or_none()
        if row is None or row.until < time.time():
            return None
        return "first" if row.account is None else "sign-in"

    def use_link(self, token: str) -> Account | None:
        """Sign in by a one-time link, which is then gone."""
        with self.store.writing() as connection:
            row = connection.execute(select(tables.links).where(tables.links.c.token == _digest(token))).one_or_none()
            if row is None or row.until < time.time() or row.account is None:
                return None
            connection.execute(delete(tables.links).where(tables.links.c.token == row.token))
            found = connection.execute(select(tables.accounts).where(tables.accounts.c.id == row.account)).one()
            return None if found.disabled else _account(found)

    def first(self, token: str, name: str, password: str) -> Account:
        """Make the first administrator by the link that the first start printed. Raises ValueError."""
        if self.link_kind(token) != "first" or self.all():
            raise ValueError("this link was used already or is too old; run “yardgate account link” for a new one")
        account = self.add(name, "administrator", password)
        with self.store.writing() as connection:
            connection.execute(delete(tables.links).where(tables.links.c.account.is_(None)))
        return account


def _account(row: object) -> Account:
    return Account(row.id, row.name, row.role, bool(row.disabled), row.password is not None)  # type: ignore[attr-defined]
