"""Findings about the accounts of a joined directory: their numbers, their names, their members. See `idmap`."""

from yardgate.core.directory.idmap import AccountTrouble, troubles
from yardgate.core.policy.findings.case import Case, Check, Finding, Findings, Severity


def number_trouble(case: Case) -> Findings:
    """Accounts of a directory cannot be told apart by their numbers, have none, or have one that a local account may get.

    Two accounts with one number are one to storage and to NFS. Change the range, or where numbers come from, in the
    directory's settings; what would move is shown before."""
    yield from _of_kinds(case, "number-trouble", {"collision": "serious", "local range": "consider"})


def number_missing(case: Case) -> Findings:
    """Accounts of a directory have no number here: they own nothing on storage and cannot come in over NFS.

    Widen the range, or have the directory say their numbers."""
    yield from _of_kinds(case, "number-missing", {"missing": "consider", "beyond": "consider", "unmapped": "note"})


def odd_account(case: Case) -> Findings:
    """Accounts of a directory have names that tools on Unix refuse, or groups name members that were not read.

    Names with a space work over SMB, and stumble in scripts. Members that were not read get nothing by the group: widen what
    is read."""
    yield from _of_kinds(case, "odd-account", {"name": "note", "unknown member": "note"})


def _of_kinds(case: Case, kind: str, severities: dict[str, Severity]) -> Findings:
    """One finding for each directory and kind of trouble: the first in words, the others by number."""
    for directory in case.plan.directories.values():
        found: dict[str, list[AccountTrouble]] = {}
        for trouble in troubles(case.plan, directory):
            found.setdefault(trouble.kind, []).append(trouble)
        for what, severity in severities.items():
            some = found.get(what, [])
            if some:
                more = f", and {len(some) - 1} more" if len(some) > 1 else ""
                said = f"{directory.name}: {some[0].words}{more}."
                yield Finding(kind, severity, (directory.id, *some[0].whos[:2]), said)


CHECKS = (
    Check("number-trouble", "serious", "Numbers of directory accounts collide", number_trouble),
    Check("number-missing", "consider", "Directory accounts without a number", number_missing),
    Check("odd-account", "note", "Directory accounts with odd names or members", odd_account),
)
