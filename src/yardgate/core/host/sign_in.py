"""Who can sign in on an appliance, and who has: the passwords that somebody was given, and the sessions that are open now.

Neither is part of a plan, or of what a rollout compares: passwords are nobody's but their own, and sessions come and go.
"""

from collections.abc import Iterable
from typing import NamedTuple

from yardgate.core.host.steps import Step, sign_in_again


class OpenSession(NamedTuple):
    """account: whose, as the appliance calls them. machine: from where. since: the earliest time known, in ISO 8601; empty, where none is.
    shares: those that it has open; files: those that it holds open, by their paths there, sorted."""

    account: str
    machine: str
    since: str
    shares: tuple[str, ...] = ()
    files: tuple[str, ...] = ()


def outlasting(steps: Iterable[Step], now: Iterable[OpenSession]) -> tuple[OpenSession, ...]:
    """Of open sessions those that keep what they were when steps are done: their accounts are in other groups then, or are disabled."""
    done = tuple(steps)
    stale = sign_in_again(done) | {one.record.name for one in done if one.part == "accounts" and one.does == "remove"}
    return tuple(sorted(session for session in now if session.account in stale))
