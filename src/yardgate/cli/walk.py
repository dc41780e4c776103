"""`yardgate walk`: the shares as somebody finds them, place by place."""

import json
import sys
from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from yardgate.cli.console import AsJson, On, day_of, load, out, share_of, walker, way_in
from yardgate.core.access.bitsets import count
from yardgate.core.access.storage import storage_state
from yardgate.core.access.walk import Visit, walk
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Share

ACTS = ("shown", "enters", "lists", "reads", "changes", "adds", "deletes")


def walk_through(
    plan_file: Path,
    who: Annotated[
        str,
        typer.Option(
            "--as",
            help="A user or group, by any of their names or by id; guest; or, over NFS, numbers that a client claims: UID:GID,GID,…",
        ),
    ],
    over: Annotated[Literal["smb", "nfs"], typer.Option(help="The protocol.")] = "smb",
    host: Annotated[str | None, typer.Option("--from", help="For NFS: the address of the client.")] = None,
    host_name: Annotated[str, typer.Option("--called", help="For NFS: the client's host name.")] = "",
    share: Annotated[str | None, typer.Option(help="Only this share.")] = None,
    as_json: AsJson = False,
    on: On = None,
) -> None:
    """Walk through the shares as somebody: what is shown, what opens, what can be saved."""
    plan = load(plan_file)
    shares = list(plan.shares.values()) if share is None else [share_of(plan, share)]
    day = day_of(on)
    storage = storage_state(plan, count(plan, day))
    seen, subject = walker(plan, who, over)
    found = {
        one.id: walk(seen, subject, way_in(one, over, host, host_name), day, storage)
        for one in shares
        if one.over(over)
    }
    if as_json:
        told = {
            "who": subject,
            "over": over,
            "from": host,
            "shares": [_json(plan, plan.shares[one], found[one]) for one in found],
        }
        sys.stdout.write(json.dumps(told, ensure_ascii=False, indent=1) + "\n")
        return
    for one, visits in found.items():
        _print(plan, plan.shares[one], visits)


def _json(plan: Plan, share: Share, visits: tuple[Visit, ...]) -> dict[str, Any]:
    return {
        "share": share.name,
        "listed": not share.hidden,
        "places": [
            {
                "place": plan.path_name(visit.place),
                "level": str(visit.level),
                **{act: getattr(visit, act) for act in ACTS},
                "gate": visit.gate.kind,
                "why": visit.gate.sentence,
            }
            for visit in visits
        ],
    }


def _print(plan: Plan, share: Share, visits: tuple[Visit, ...]) -> None:
    out.print(
        f"{share.name}{' (not listed)' if share.hidden else ''}: {plan.path_name(share.place)}",
        markup=False,
        highlight=False,
    )
    top = len(plan.path(share.place))
    for visit in visits:
        name = "  " * (1 + len(plan.path(visit.place)) - top) + plan.places[visit.place].name
        can = [act for act in ACTS[1:] if getattr(visit, act)]
        said = "not shown" if not visit.shown else ", ".join(can) or "shown, refused"
        out.print(f"{name:32} {visit.level}  {said}", markup=False, highlight=False, soft_wrap=True)
        if not visit.reads:
            out.print(f"{'':36}{visit.gate.sentence}", markup=False, highlight=False, soft_wrap=True, style="dim")
