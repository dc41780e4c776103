"""`yardgate suggest`: the simplest groups that give people just what they need."""

import json
import sys
from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Annotated, Any

import typer

from yardgate.cli.console import AsJson, On, Refused, To, day_of, load, out, read_bytes, write
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import needed, sentence
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Plan
from yardgate.core.policy.simplify import Simplified, grants_of
from yardgate.core.policy.simplify import simplify as simplify_plan
from yardgate.core.suggest.answers import Proposal, answer, answers
from yardgate.core.suggest.asked import Conflict, as_today
from yardgate.core.suggest.groups import Suggestion, Terms
from yardgate.core.suggest.solve import SECONDS
from yardgate.formats import edits as edit_files
from yardgate.formats import importing, planfile


def suggest(
    plan_file: Path,
    needs: Annotated[
        Path | None,
        typer.Option(
            help="A table of people by places with change, read, must not or any; without it, the needs that the plan has."
        ),
    ] = None,
    today: Annotated[
        bool, typer.Option(help="Needed is what everybody gets today: the same, with fewer grants.")
    ] = False,
    simplify: Annotated[
        bool,
        typer.Option(
            help="Take away what decides nothing, and make groups of personal grants that several share; nobody gets more or less."
        ),
    ] = False,
    others: Annotated[
        bool,
        typer.Option(
            help="Other answers, too: fewer groups, fewer exceptions, and simpler ones with what they give beyond the need."
        ),
    ] = False,
    may_change: Annotated[
        bool,
        typer.Option(help="People may join groups that there are, and leave them, where that changes nothing else."),
    ] = False,
    seconds: Annotated[float, typer.Option(help="How long to look.")] = SECONDS,
    as_json: AsJson = False,
    to: To = None,
    on: On = None,
) -> None:
    """Groups, memberships and grants that give people just what they need. With --out: the plan with them, as a plan file.

    Exit code 1: somebody would not get what they need, or needs contradict each other."""
    plan, day = load(plan_file), day_of(on)
    if simplify:
        if needs is not None or today:
            raise Refused("--simplify keeps what everybody gets; it takes no needs")
        _simplified(simplify_plan(plan, day, seconds=seconds), as_json=as_json, to=to)
        return
    asked: tuple[Need, ...] = as_today(plan, day) if today else tuple(plan.needs.values())
    if needs is not None:
        bare = replace(plan, needs={})
        reading = importing.read(bare, importing.ToImport(kind="needs", content=read_bytes(needs))).reading
        if reading.unknown:
            raise Refused(f"the plan does not have: {', '.join(sorted({one.name for one in reading.unknown}))}")
        asked = tuple(apply(bare, reading.edits)[0].needs.values())
        plan, _ = apply(plan, reading.edits)
    if not asked:
        raise Refused("nothing is needed: give a table with --needs, or --today")
    terms = Terms(seconds=seconds, may_change=may_change)
    if others:
        found, *rest = answers(plan, asked, day, terms)
    else:
        found, rest = answer(plan, asked, day, terms=terms), []
    _out(plan, found, rest, as_json=as_json, to=to)
    if found.suggestion.misses or found.suggestion.asked.conflicts:
        raise typer.Exit(1)


def _out(plan: Plan, exact: Proposal, others: Sequence[Proposal], *, as_json: bool, to: Path | None) -> None:
    found = exact.suggestion
    if to is not None:
        write(planfile.write(found.after), to)
    if as_json:
        told = _json(exact) | ({"others": [_json(one) for one in others]} if others else {})
        sys.stdout.write(json.dumps(told, ensure_ascii=False, indent=1) + "\n")
        return
    _print(plan, found)
    for role in exact.roles:
        if len(role.people) > 1:
            out.print(
                f"a new one like {plan.named(role.people[0])}: {_many(role.acts, 'act')}", markup=False, highlight=False
            )
    for one in others:
        _other(plan, one)


def _other(plan: Plan, other: Proposal) -> None:
    beyond = len(other.suggestion.beyond)
    out.print(
        f"{other.kind}: {_figures(other.suggestion)}"
        + (f", {_many(beyond, 'cell')} beyond the need" if beyond else ""),
        highlight=False,
        soft_wrap=True,
    )
    for cell in other.suggestion.beyond:
        could = "change" if cell.gets == Level.RW else "read"
        words = f"  {plan.named(cell.user)} could also {could} {plan.path_name(cell.place)}"
        out.print(words, markup=False, highlight=False, soft_wrap=True)


def _simplified(found: Simplified, *, as_json: bool, to: Path | None) -> None:
    (grants, single), (left, single_left) = grants_of(found.before), grants_of(found.after)
    if to is not None:
        write(planfile.write(found.after), to)
    if as_json:
        told = {
            "cells_changed": 0,
            "idle": found.idle,
            "groups": list(found.groups),
            "grants": [grants, left],
            "personal": [single, single_left],
            "whole": found.whole,
            "edits": json.loads(edit_files.write(found.edits)),
        }
        sys.stdout.write(json.dumps(told, ensure_ascii=False, indent=1) + "\n")
        return
    out.print(
        f"0 cells change: {grants} grants become {left}, {single} of them to single people become {single_left}",
        highlight=False,
    )
    if not found.edits:
        out.print("nothing to simplify")
    if not found.whole:
        out.print("the time was up before all was looked at; more may be found with --seconds")
    for words in found.words:
        out.print(f"  {words}", markup=False, highlight=False, soft_wrap=True)


def _json(answer: Proposal) -> dict[str, Any]:
    found = answer.suggestion
    return {
        "kind": answer.kind,
        "needs": found.asked.count,
        **found.figures._asdict(),
        "cost": found.answer.cost,
        "bound": found.answer.bound,
        "proven": found.answer.proven,
        "given": list(found.given),
        "edits": json.loads(edit_files.write(found.edits)),
        "roles": [role._asdict() for role in answer.roles],
        "beyond": [miss._asdict() for miss in found.beyond],
        "misses": [miss._asdict() for miss in found.misses],
        "conflicts": [
            {"user": one.user, "place": one.place, "needs": [asdict(need) for need in one.needs]}
            for one in found.asked.conflicts
        ],
    }


def _print(plan: Plan, found: Suggestion) -> None:
    def say(text: str) -> None:
        out.print(text, markup=False, highlight=False, soft_wrap=True)

    after = found.after
    say(f"{_many(found.asked.count, 'need')}: {_figures(found)}")
    say(_how_good(found))
    for edit in found.edits:
        say(f"  {sentence(plan, after, edit)}")
    for miss in found.misses:
        say(
            f"not as needed: {plan.named(miss.user)} on {plan.path_name(miss.place)} needs {miss.needed}, would get {miss.gets}"
        )
    for conflict in found.asked.conflicts:
        say(_conflict(plan, conflict))


def _figures(found: Suggestion) -> str:
    new, memberships, grants, personal = found.figures
    groups = f"{_many(new, 'new group')} with {_many(memberships, 'membership')}"
    return f"{groups}, {_many(grants, 'grant')} to groups, {personal} to single people"


def _many(number: int, what: str) -> str:
    return f"{number:,} {what}" if number == 1 else f"{number:,} {what}s"


def _how_good(found: Suggestion) -> str:
    gap, given = found.answer.gap, f"; taken as given: {', '.join(found.given)}" if found.given else ""
    if gap >= 0.0005:
        return f"up to {gap:.1%} less may be possible; more time (--seconds) may find it"
    if found.answer.proven:
        return f"proven: no fewer groups and grants give this{given}"
    return "the fewest that can be made of the groups that were looked at"


def _conflict(plan: Plan, conflict: Conflict) -> str:
    told = "; ".join(needed(plan, need) for need in conflict.needs)
    return f"contradiction for {plan.named(conflict.user)} on {plan.path_name(conflict.place)}: {told}; must not counts"
