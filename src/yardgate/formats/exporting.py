"""Everything that a plan can be written as: the one list that the API, the command line and the browser's menu read. A new format is a line here."""

from collections.abc import Callable, Sequence
from typing import Literal, NamedTuple

from yardgate.core.access.outcome import Outcome
from yardgate.core.model.plan import Plan
from yardgate.core.policy.compliance import Compliance
from yardgate.core.policy.findings import Finding
from yardgate.formats import access, ldif, list_text, matrix, people, planfile, promises, workbook

CSV, PLAIN = "text/csv; charset=utf-8", "text/plain; charset=utf-8"


class Exported(NamedTuple):
    """A plan, and what is worked out of it only where it is written. at: the place from which on lists are written; folders: the real ones below
    it, as `getfacl` lists them, where these are to be written."""

    plan: Plan
    kept: Callable[[], Compliance]
    findings: Callable[[], Sequence[Finding]]
    at: str = ""
    folders: str | None = None


class Format(NamedTuple):
    """words: in a menu. ending: of the name of a file with it. media: its type (RFC 6838). of: the whole plan, or the lists from a place down."""

    name: str
    words: str
    ending: str
    media: str
    write: Callable[[Exported], str | bytes]
    of: Literal["plan", "place"] = "plan"


def _plain(write: Callable[[Plan], str]) -> Callable[[Exported], str]:
    return lambda exported: write(exported.plan)


def _outcome(write: Callable[[Outcome], str]) -> Callable[[Exported], str]:
    return lambda exported: write(exported.kept().outcome)


FORMATS = (
    Format(
        "workbook", "Everything as a workbook (XLSX)", "plan.xlsx", workbook.MEDIA, lambda of: workbook.write(of.kept(), of.findings())
    ),
    Format("plan", "Plan file (JSON)", "plan.json", "application/json", _plain(planfile.write)),
    Format("grants", "What is granted (CSV)", "grants.csv", CSV, _plain(matrix.write_grants)),
    Format("template", "A table to fill in (CSV)", "table.csv", CSV, _plain(matrix.write_template)),
    Format("effective", "What people get (CSV)", "effective.csv", CSV, _outcome(matrix.write_outcome)),
    Format("access", "Who gets in where (CSV)", "access.csv", CSV, _outcome(access.write)),
    Format("people", "People and groups (CSV)", "people.csv", CSV, _plain(people.write)),
    Format("needs", "What people need (CSV)", "needs.csv", CSV, _plain(matrix.write_needs)),
    Format("promises", "Promises (CSV)", "promises.csv", CSV, _plain(promises.write)),
    Format("ldif", "Local people and groups (LDIF)", "accounts.ldif", PLAIN, _plain(ldif.local_accounts)),
    Format(
        "setfacl", "POSIX lists, for setfacl --restore", "setfacl.txt", PLAIN, lambda of: list_text.write_restore(of.plan, of.at, of.folders), "place"
    ),
    Format("nfs4", "Ordered lists, for nfs4_setfacl", "nfs4.txt", PLAIN, lambda of: list_text.write_nfs4(of.plan, of.at), "place"),
)  # fmt: skip
BY_NAME = {one.name: one for one in FORMATS}
