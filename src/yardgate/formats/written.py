"""Everything that a plan can be written as, once for the API and the command line. Lists of a server begin at a place; see `listing`."""

from collections.abc import Callable, Mapping
from typing import Literal, NamedTuple

from yardgate.core.findings import Case, find
from yardgate.core.keeping import Kept
from yardgate.core.outcome import Outcome
from yardgate.core.plan import Plan
from yardgate.formats import access, ldif, matrix, people, planfile, promises, workbook

What = Literal["plan", "grants", "effective", "people", "access", "promises", "ldif", "workbook"]
CSV = "text/csv; charset=utf-8"


class Written(NamedTuple):
    """ending: of the name of a file with it. media: its type (RFC 6838)."""

    content: str | bytes
    ending: str
    media: str


def _plain(write: Callable[[Plan], str], ending: str, media: str = CSV) -> Callable[[Kept], Written]:
    return lambda kept: Written(write(kept.outcome.matrix.plan), ending, media)


def _outcome(write: Callable[[Outcome], str], ending: str) -> Callable[[Kept], Written]:
    return lambda kept: Written(write(kept.outcome), ending, CSV)


def _workbook(kept: Kept) -> Written:
    return Written(workbook.write(kept, find(Case(kept.outcome))), "plan.xlsx", workbook.MEDIA)


WRITERS: Mapping[What, Callable[[Kept], Written]] = {
    "plan": _plain(planfile.write, "plan.json", "application/json"),
    "grants": _plain(matrix.write_grants, "grants.csv"),
    "effective": _outcome(matrix.write_outcome, "effective.csv"),
    "people": _plain(people.write, "people.csv"),
    "access": _outcome(access.write, "access.csv"),
    "promises": _plain(promises.write, "promises.csv"),
    "ldif": _plain(ldif.local_accounts, "accounts.ldif", "text/plain; charset=utf-8"),
    "workbook": _workbook,
}
