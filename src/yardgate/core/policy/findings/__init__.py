"""Findings: what is probably not as it was meant. Each kind is one small function in one of the modules here.

A function is given the plan with all that comes out of it (`Case`), and yields what it finds. Its docstring is the kind's
page in docs/findings.md: what it means, first; then what to do about it.
"""

from collections.abc import Iterator

from yardgate.core.policy.findings.accounts import CHECKS as ACCOUNTS
from yardgate.core.policy.findings.beyond_grants import CHECKS as GETS
from yardgate.core.policy.findings.case import Case, Check, Finding, Severity
from yardgate.core.policy.findings.grants import CHECKS as GRANTS
from yardgate.core.policy.findings.hosts import CHECKS as HOSTS
from yardgate.core.policy.findings.needs import CHECKS as NEEDS
from yardgate.core.policy.findings.numbers import CHECKS as NUMBERS
from yardgate.core.policy.findings.shares import CHECKS as SHARES
from yardgate.core.policy.findings.storage import CHECKS as STORAGE

SEVERITIES: tuple[Severity, ...] = ("serious", "consider", "note")
CHECKS: tuple[Check, ...] = (
    *GETS,
    *GRANTS,
    *NEEDS,
    *STORAGE,
    *SHARES,
    *HOSTS,
    *ACCOUNTS,
    *NUMBERS,
)
BY_KIND = {check.kind: check for check in CHECKS}

__all__ = ["BY_KIND", "CHECKS", "SEVERITIES", "Case", "Check", "Finding", "Severity", "find", "standing"]


def find(case: Case) -> tuple[Finding, ...]:
    """Everything that is found in a plan: the serious first, and of one severity those that touch the most cells."""
    found = [finding for check in CHECKS for finding in check.run(case)]
    found.sort(key=lambda finding: (SEVERITIES.index(finding.severity), -len(finding.cells), finding.id))
    return tuple(found)


def standing(case: Case, found: tuple[Finding, ...]) -> Iterator[tuple[Finding, bool]]:
    """Each finding, and whether it is accepted on the day."""
    for finding in found:
        accepted = case.plan.accepted.get(finding.id)
        yield finding, accepted is not None and accepted.holds(case.on)
