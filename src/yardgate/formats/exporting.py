"""Everything that a plan can be written as, once for the API and the command line. Lists of a server begin at a place; see `listing`."""

from collections.abc import Callable, Mapping, Sequence
from typing import Literal, NamedTuple

from yardgate.core.access.outcome import Outcome
from yardgate.core.model.plan import Plan
from yardgate.core.policy.compliance import Compliance
from yardgate.core.policy.findings import Finding
from yardgate.formats import access, ldif, matrix, people, planfile, promises, workbook

ExportName = Literal["plan", "grants", "effective", "people", "access", "promises", "ldif", "workbook"]
CSV = "text/csv; charset=utf-8"


class Exported(NamedTuple):
    """A plan, and what is worked out of it only where it is written."""

    plan: Plan
    kept: Callable[[], Compliance]
    findings: Callable[[], Sequence[Finding]]


class Written(NamedTuple):
    """ending: of the name of a file with it. media: its type (RFC 6838)."""

    content: str | bytes
    ending: str
    media: str


def _plain(write: Callable[[Plan], str], ending: str, media: str = CSV) -> Callable[[Exported], Written]:
    return lambda of: Written(write(of.plan), ending, media)


def _outcome(write: Callable[[Outcome], str], ending: str) -> Callable[[Exported], Written]:
    return lambda of: Written(write(of.kept().outcome), ending, CSV)


def _workbook(of: Exported) -> Written:
    return Written(workbook.write(of.kept(), of.findings()), "plan.xlsx", workbook.MEDIA)


WRITERS: Mapping[str, Callable[[Exported], Written]] = {
    "plan": _plain(planfile.write, "plan.json", "application/json"),
    "grants": _plain(matrix.write_grants, "grants.csv"),
    "effective": _outcome(matrix.write_outcome, "effective.csv"),
    "people": _plain(people.write, "people.csv"),
    "access": _outcome(access.write, "access.csv"),
    "promises": _plain(promises.write, "promises.csv"),
    "ldif": _plain(ldif.local_accounts, "accounts.ldif", "text/plain; charset=utf-8"),
    "workbook": _workbook,
}
