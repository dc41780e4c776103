"""`yardgate check`: whether a plan can stand, whether its promises are kept, and what is found in it."""

import json
import sys
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from yardgate.cli.console import AsJson, On, day_of, load, out
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import cycles
from yardgate.core.access.outcome import outcome
from yardgate.core.edits.describe import promised
from yardgate.core.model.checks import PlanError
from yardgate.core.model.plan import Plan
from yardgate.core.policy.compliance import Compliance, Keeping, contradictions, keep, sentence
from yardgate.core.policy.findings import BY_KIND, Case, Finding, find, standing

CANNOT_STAND, SERIOUS = 1, 3  # exit codes
NAMED = 5  # of those for whom a promise is broken


def check(
    plan_file: Path,
    as_json: AsJson = False,
    on: On = None,
    in_force: Annotated[
        Path | None, typer.Option(help="The plan file of what the appliance has now: also says what is new.")
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="Also findings that are accepted.")] = False,
) -> None:
    """Findings and promises of a plan file. Exit code 0: nothing serious; 1: the plan cannot stand; 3: a promise is broken
    or something serious is found; 2: the file cannot be read."""
    try:
        plan, there = load(plan_file), load(in_force) if in_force is not None else None
    except PlanError as error:
        _refused(error, as_json)
        raise typer.Exit(CANNOT_STAND) from None
    kept = keep(outcome(resolve(plan, day_of(on))))
    case = Case(kept.outcome, there)
    found = [finding for finding, accepted in standing(case, find(case)) if everything or not accepted]
    if as_json:
        sys.stdout.write(json.dumps(_json(plan, kept, found), ensure_ascii=False, indent=1) + "\n")
    else:
        _print(plan, kept, found)
    if kept.broken or any(finding.severity == "serious" for finding in found):
        raise typer.Exit(SERIOUS)


def _refused(error: PlanError, as_json: bool) -> None:
    if as_json:
        sys.stdout.write(json.dumps({"errors": [asdict(t) for t in error.troubles]}, ensure_ascii=False) + "\n")
        return
    for trouble in error.troubles:
        out.print(trouble.message, markup=False, highlight=False, soft_wrap=True)


def _json(plan: Plan, kept: Compliance, found: list[Finding]) -> dict[str, Any]:
    return {
        "errors": [],
        "circles": [[plan.groups[group].name for group in circle] for circle in cycles(plan)],
        "promises": [
            {
                "id": keeping.promise.id,
                "promise": promised(plan, keeping.promise),
                "kept": keeping.kept,
                "broken_for": [
                    {
                        "who": breach.subject,
                        "level": breach.level,
                        "why": sentence(kept.outcome, breach, keeping.promise),
                    }
                    for breach in keeping.breaches
                ],
            }
            for keeping in kept.keepings.values()
        ],
        "contradictions": [[c.one.id, c.other.id, c.subject] for c in contradictions(kept.outcome.matrix)],
        "findings": [
            {
                "id": finding.id,
                "severity": finding.severity,
                "title": BY_KIND[finding.kind].title,
                "says": finding.sentence,
                "cells": [list(cell) for cell in finding.cells],
                "fix": finding.repair.does or None,
            }
            for finding in found
        ],
    }


def _print(plan: Plan, kept: Compliance, found: list[Finding]) -> None:
    def say(text: str, **style: Any) -> None:
        out.print(text, markup=False, highlight=False, soft_wrap=True, **style)

    for keeping in kept.broken:
        say(f"broken    {promised(plan, keeping.promise)}")
        _say_breaches(plan, kept, keeping, say)
    for pair in contradictions(kept.outcome.matrix):
        one, other = promised(plan, pair.one), promised(plan, pair.other)
        say(f"contradiction  {one}; {other}: both speak of {plan.named(pair.subject)}")
    for finding in found:
        say(f"{finding.severity:9} {finding.sentence}")
        if does := finding.repair.does:
            say(f"          {does}", style="dim")
    counts = [
        f"{sum(f.severity == severity for f in found)} {severity}" for severity in ("serious", "consider", "note")
    ]
    promises = f"{len(kept.keepings) - len(kept.broken)} of {len(kept.keepings)} promises kept"
    size = f"{len(plan.users)} users, {len(plan.groups)} groups, {len(plan.places)} places"
    say(f"{plan.name}: {size}; {promises}; found: {', '.join(counts)}")


def _say_breaches(plan: Plan, kept: Compliance, keeping: Keeping, say: Any) -> None:
    for breach in keeping.breaches[:NAMED]:
        why = sentence(kept.outcome, breach, keeping.promise)
        say(f"          {plan.named(breach.subject)} gets {breach.level.words}: {why}", style="dim")
    if len(keeping.breaches) > NAMED:
        say(f"          and {len(keeping.breaches) - NAMED} more", style="dim")
