"""Who may sign in to Yard Gate itself: accounts, what they may do in which plan, sessions and one-time links. Tokens are kept only as
their SHA-256, passwords as argon2 hashes (RFC 9106)."""

import hashlib
import hmac
import secrets
import time
import unicodedata
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from threading import BoundedSemaphore
from typing import Any, Literal

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import Connection, delete, func, insert, select, update

from yardgate.core.model.naming import name_trouble
from yardgate.store import tables
from yardgate.store.database import Store
from yardgate.store.plans import now

Role = Literal["administrator", "planner", "reader", "member"]
"""What an account may do in every plan. member: nothing of itself, but what it was given in single plans."""
PlanRole = Literal["planner", "reader"]
DAY = 24 * 3600
SESSION_SECONDS = 14 * DAY
IDLE_SECONDS = 2 * DAY  # after which a session that nobody uses ends
SEEN_SECONDS = 300  # how exactly it is known when a session was used last
LINK_SECONDS = DAY
FRESH_SECONDS = 900  # after signing in by a link, in which a password may be set without the old one
SHORTEST_PASSWORD, LONGEST_PASSWORD = 10, 1000
HASHING = 2  # passwords that are looked at, at once: each takes 64 MiB
WAIT = 10.0  # seconds that a further one waits
COMMON = (
    "password",
    "passwort",
    "qwert",
    "asdf",
    "letmein",
    "welcome",
    "willkommen",
    "iloveyou",
    "admin",
    "yardgate",
    "yard gate",
    "changeme",
)
_RUNS = "abcdefghijklmnopqrstuvwxyz 01234567890 qwertyuiop asdfghjkl zxcvbnm qwertzuiopü yxcvbnm"


class Overloaded(Exception):
    """Too many passwords are looked at already."""


@dataclass(frozen=True, slots=True)
class Account:
    """plans: what a member may do in which plan."""

    id: str
    name: str
    role: Role
    disabled: bool
    has_password: bool
    plans: Mapping[str, PlanRole] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class SessionRecord:
    """Where somebody is signed in. by_link: by a one-time link. id: not the token."""

    id: str
    account: str
    made_at: int
    seen_at: int
    address: str
    agent: str
    by_link: bool


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def folded(name: str) -> str:
    """A name as it counts: two that people take for one are one (Unicode, UAX 15 and UTS 39 in a small way)."""
    plain = unicodedata.normalize("NFKD", unicodedata.normalize("NFKC", name).casefold())
    return " ".join("".join(char for char in plain if not unicodedata.combining(char)).split())


def lookalike_trouble(name: str) -> str | None:
    """Why a name may be taken for another: letters of several scripts in one word, or what is not seen."""
    for word in name.split():
        scripts = {unicodedata.name(char, "?").split()[0] for char in word if char.isalpha()}
        if len(scripts & {"LATIN", "CYRILLIC", "GREEK", "ARMENIAN", "CHEROKEE", "FULLWIDTH", "MATHEMATICAL"}) > 1:
            return f"mixes letters of {' and '.join(sorted(script.capitalize() for script in scripts))} in one word"
    if any(unicodedata.category(char) in ("Cf", "Co", "Cn") for char in name):
        return "has characters that are not seen"
    return None


def password_trouble(password: str, name: str = "") -> str | None:
    """Why a password would be guessed, or is not taken."""
    if len(password) < SHORTEST_PASSWORD:
        return f"a password needs at least {SHORTEST_PASSWORD} characters"
    if len(password) > LONGEST_PASSWORD:
        return f"a password has at most {LONGEST_PASSWORD} characters"
    plain = password.casefold()
    rest = plain
    for word in (*COMMON, *(part for part in folded(name).split() if len(part) > 2)):
        rest = rest.replace(word, "")
    letters = [char for at, char in enumerate(rest) if at == 0 or not _goes_on(rest[at - 1], char)]
    if len(set(plain)) < 5 or len(letters) < 5:
        return "a password of so few different parts is guessed at once; take some words that have nothing to do with each other"
    return None


def _goes_on(one: str, other: str) -> bool:
    """Whether a character is what a run on the keyboard or in the alphabet goes on with, or the same again."""
    return one == other or f"{one}{other}" in _RUNS or f"{other}{one}" in _RUNS


class Accounts:
    def __init__(self, store: Store):
        self.store = store
        self.hasher = PasswordHasher()
        self._nobody = self.hasher.hash(secrets.token_hex(16))  # checked for unknown names, so that they take as long

    def all(self) -> list[Account]:
        with self.store.reading() as connection:
            rows = connection.execute(select(tables.accounts).order_by(tables.accounts.c.name)).all()
            plans = _plans(connection)
            return [_account(row, plans.get(row.id, {})) for row in rows]

    def by_name(self, name: str) -> Account | None:
        return next((account for account in self.all() if folded(account.name) == folded(name)), None)

    def add(self, name: str, role: Role, password: str | None = None) -> Account:
        """Raises ValueError for a name that cannot be or is taken, or a password that is none."""
        hashed = self._hash(password, name) if password is not None else None
        with self.store.writing() as connection:
            return self._add(connection, name, role, hashed)

    def _add(self, connection: Connection, name: str, role: Role, hashed: str | None) -> Account:
        if why := name_trouble(name) or lookalike_trouble(name):
            raise ValueError(f"the account name {why}")
        names = connection.scalars(select(tables.accounts.c.name))
        if taken := next((other for other in names if folded(other) == folded(name)), None):
            raise ValueError(f"there is an account {taken!r} already")
        account = Account(secrets.token_hex(6), name, role, False, hashed is not None)
        values = {
            "id": account.id,
            "name": name,
            "role": role,
            "password": hashed,
            "disabled": False,
            "created_at": now(),
        }
        connection.execute(insert(tables.accounts).values(values))
        return account

    @contextmanager
    def _turn(self) -> Iterator[None]:
        if not _HASHING.acquire(timeout=WAIT):
            raise Overloaded
        try:
            yield
        finally:
            _HASHING.release()

    def _hash(self, password: str, name: str) -> str:
        if why := password_trouble(password, name):
            raise ValueError(why)
        with self._turn():
            return self.hasher.hash(password)

    def set_password(self, account: str, password: str) -> None:
        """A new password ends every session of the account, and every link to it. Raises ValueError, Busy."""
        with self.store.reading() as connection:
            name = connection.scalar(select(tables.accounts.c.name).where(tables.accounts.c.id == account)) or ""
        hashed = self._hash(password, name)
        with self.store.writing() as connection:
            connection.execute(update(tables.accounts).where(tables.accounts.c.id == account).values(password=hashed))
            _shut_out(connection, account)

    def change(self, account: str, role: Role | None = None, disabled: bool | None = None) -> None:
        """Raises ValueError where no enabled administrator would remain."""
        values = {key: value for key, value in (("role", role), ("disabled", disabled)) if value is not None}
        with self.store.writing() as connection:
            if values:
                connection.execute(update(tables.accounts).where(tables.accounts.c.id == account).values(values))
            if disabled:
                _shut_out(connection, account)
            a = tables.accounts.c
            if not connection.scalar(select(func.count()).where(a.role == "administrator", a.disabled.is_(False))):
                raise ValueError("one administrator who may sign in must remain")

    def let(self, account: str, plans: Mapping[str, PlanRole]) -> None:
        """What an account may do in single plans, from now on."""
        p = tables.plan_roles
        with self.store.writing() as connection:
            connection.execute(delete(p).where(p.c.account == account))
            for plan, role in plans.items():
                connection.execute(insert(p).values(plan=plan, account=account, role=role))

    def check(self, name: str, password: str) -> Account | None:
        """Raises Busy."""
        with self.store.reading() as connection:
            rows = connection.execute(select(tables.accounts)).all()
            plans = _plans(connection)
        row = next((row for row in rows if folded(row.name) == folded(name)), None)
        try:
            with self._turn():
                self.hasher.verify(row.password if row is not None and row.password else self._nobody, password)
        except (VerificationError, InvalidHashError):
            return None
        if row is None or not row.password or row.disabled:
            return None
        return _account(row, plans.get(row.id, {}))

    # --- sessions ---

    def begin(self, account: str, address: str = "", agent: str = "", *, by_link: bool = False) -> str:
        """A new session's token."""
        token, at = secrets.token_urlsafe(32), int(time.time())
        sessions = tables.sessions
        row = {
            "token": _digest(token), "id": secrets.token_hex(6), "account": account, "until": at + SESSION_SECONDS,
            "made_at": at, "seen_at": at, "address": address[:100], "agent": agent[:200], "by_link": by_link,
        }  # fmt: skip
        with self.store.writing() as connection:
            c = sessions.c
            connection.execute(delete(sessions).where((c.until < at) | (c.seen_at < at - IDLE_SECONDS)))
            connection.execute(insert(sessions).values(row))
        return token

    def whose(self, token: str) -> Account | None:
        found = self.signed_in(token)
        return None if found is None else found[0]

    def signed_in(self, token: str, *, used: bool = False) -> tuple[Account, SessionRecord] | None:
        """Whose a session is, if it goes on. used: it is used just now, and does not end for a while."""
        at = int(time.time())
        with self.store.reading() as connection:
            s, a = tables.sessions.c, tables.accounts.c
            query = select(tables.accounts).join(tables.sessions, s.account == a.id).add_columns(
                s.id.label("session"), s.made_at, s.seen_at, s.address, s.agent, s.by_link
            )  # fmt: skip
            counts = (s.token == _digest(token), s.until > at, s.seen_at > at - IDLE_SECONDS, a.disabled.is_(False))
            row = connection.execute(query.where(*counts)).one_or_none()
            if row is None:
                return None
            plans = _plans(connection, row.id) if row.role == "member" else {}
        account = _account(row, plans.get(row.id, {}))
        session = SessionRecord(
            row.session, row.id, row.made_at, row.seen_at, row.address, row.agent, bool(row.by_link)
        )
        if used and at - row.seen_at > SEEN_SECONDS:
            with self.store.writing() as connection:
                connection.execute(update(tables.sessions).where(s.token == _digest(token)).values(seen_at=at))
        return account, session

    def sessions(self, account: str | None = None) -> list[SessionRecord]:
        """Where an account is signed in, or everybody is; used last first."""
        at, s = int(time.time()), tables.sessions.c
        query = select(tables.sessions).where(s.until > at, s.seen_at > at - IDLE_SECONDS).order_by(s.seen_at.desc())
        if account is not None:
            query = query.where(s.account == account)
        with self.store.reading() as connection:
            return [
                SessionRecord(row.id, row.account, row.made_at, row.seen_at, row.address, row.agent, bool(row.by_link))
                for row in connection.execute(query)
            ]

    def end(self, token: str) -> None:
        with self.store.writing() as connection:
            connection.execute(delete(tables.sessions).where(tables.sessions.c.token == _digest(token)))

    def end_sessions(self, account: str, session: str | None = None, but: str | None = None) -> int:
        """End one session of an account, or all but one; how many."""
        s = tables.sessions.c
        which = [s.account == account, *([s.id == session] if session else []), *([s.id != but] if but else [])]
        with self.store.writing() as connection:
            return connection.execute(delete(tables.sessions).where(*which)).rowcount

    # --- links ---

    def link(self, account: str | None) -> str:
        """A one-time token: signs the account in, or, with None, makes the first administrator."""
        token = secrets.token_urlsafe(24)
        with self.store.writing() as connection:
            connection.execute(delete(tables.links).where(tables.links.c.until < time.time()))
            until = int(time.time()) + LINK_SECONDS
            connection.execute(insert(tables.links).values(token=_digest(token), account=account, until=until))
        return token

    def link_kind(self, token: str) -> tuple[Literal["sign-in", "first"], str] | None:
        """What a link would do, and as whom it signs in, without using it up."""
        links, accounts = tables.links, tables.accounts
        query = select(links, accounts.c.name).join(accounts, links.c.account == accounts.c.id, isouter=True)
        with self.store.reading() as connection:
            row = connection.execute(query.where(links.c.token == _digest(token))).one_or_none()
        if row is None or row.until < time.time():
            return None
        return ("first", "") if row.account is None else ("sign-in", row.name)

    def use_link(self, token: str) -> Account | None:
        """Sign in by a one-time link, which is then gone."""
        with self.store.writing() as connection:
            row = connection.execute(select(tables.links).where(tables.links.c.token == _digest(token))).one_or_none()
            if row is None or row.until < time.time() or row.account is None:
                return None
            connection.execute(delete(tables.links).where(tables.links.c.token == row.token))
            found = connection.execute(select(tables.accounts).where(tables.accounts.c.id == row.account)).one()
            return None if found.disabled else _account(found, _plans(connection, found.id).get(found.id, {}))

    def first(self, token: str, name: str, password: str) -> Account:
        """Make the first administrator by the link that the first start printed: one, however many try at once. Raises ValueError, Busy."""
        gone = "this link was used already or is too old; run “yardgate account link” for a new one"
        if self.link_kind(token) != ("first", ""):
            raise ValueError(gone)
        hashed = self._hash(password, name)
        with self.store.writing() as connection:
            links = tables.links
            counts = (links.c.token == _digest(token), links.c.account.is_(None), links.c.until > time.time())
            used = connection.execute(delete(links).where(*counts)).rowcount
            if not used or connection.scalar(select(func.count()).select_from(tables.accounts)):
                raise ValueError(gone)
            account = self._add(connection, name, "administrator", hashed)
            connection.execute(delete(links).where(links.c.account.is_(None)))
        return account

    # --- browsers that somebody signed in with before ---

    def known(self, account: str) -> str:
        """What a browser shows next time, to say that this account signed in with it before."""
        return f"{account}.{self._mark(account)}"

    def is_known(self, name: str, shown: str) -> bool:
        """Whether somebody signed in as this name with the browser that shows that."""
        account, _, mark = shown.partition(".")
        found = self.by_name(name)
        return found is not None and found.id == account and hmac.compare_digest(mark, self._mark(account))

    def _mark(self, account: str) -> str:
        return hmac.new(self.store.secret, f"known {account}".encode(), hashlib.sha256).hexdigest()[:32]


_HASHING = BoundedSemaphore(HASHING)


def _shut_out(connection: Connection, account: str) -> None:
    connection.execute(delete(tables.sessions).where(tables.sessions.c.account == account))
    connection.execute(delete(tables.links).where(tables.links.c.account == account))


def _plans(connection: Connection, account: str | None = None) -> dict[str, dict[str, PlanRole]]:
    """Account -> plan -> what it may do there."""
    p = tables.plan_roles
    query = select(p) if account is None else select(p).where(p.c.account == account)
    found: dict[str, dict[str, PlanRole]] = {}
    for row in connection.execute(query):
        found.setdefault(row.account, {})[row.plan] = row.role
    return found


def _account(row: Any, plans: Mapping[str, PlanRole]) -> Account:
    return Account(row.id, row.name, row.role, bool(row.disabled), row.password is not None, plans)
