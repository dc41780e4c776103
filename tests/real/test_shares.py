"""Shares at a real SMB server: everybody goes in through each, and lists, reads, changes, adds and deletes as `walk` says."""

import json
import random
import shutil
import subprocess
import tempfile
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import ON
from tests.real.host import OWN
from tests.real.kernel import lay_down
from tests.real.storage import FIRST_GID, FIRST_UID, by_hand, half_planned
from tests.real.test_smb_wire import GIDS_WITHOUT_PRIMARY
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.combining import RULES
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import outcome
from yardgate.core.access.storage import StorageState
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import GRANTABLE, Level
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, GUEST, Plan, Target
from yardgate.core.model.share import Over, Service, Share
from yardgate.formats import smbconf

ACTS = ("lists", "reads", "changes", "adds", "deletes")


def set_up(seed: int, people: Plan) -> Plan:
    """A tree with POSIX lists or mode bits, or none planned, grants carried by anything, and a share somewhere in it, or two, of every kind."""
    rng, apart = random.Random(f"share-{seed}"), random.Random(f"nested-{seed}")
    plan = half_planned(by_hand(seed, "kernel", places=4), apart)
    users = {u.id: replace(u, enabled=people.users[u.id].enabled) for u in people.users.values()}
    whos = [*users, *people.groups, EVERYONE]
    top = rng.choice(list(plan.places))
    places = {
        **plan.places,
        top: replace(plan.places[top], enforced_by=rng.choice(["share", "share", "both", "storage"])),
    }
    grants = {
        p: {who: rng.choice(GRANTABLE) for who in rng.sample(whos, rng.randint(1, 5))}
        for p in places
        if p == top or rng.random() < 0.3
    }
    tiers, within = rng.choice(RULES)
    shares = {"s": offer("s", f"share {seed}", top, whos, rng)}
    if apart.random() < 0.4:
        shares["t"] = offer("t", f"inner {seed}", apart.choice([p for p in places if p != top]), whos, apart)
    only = frozenset(rng.sample(whos[:-1], 4)) if rng.random() < 0.15 else None
    target = Target(precedence=tiers, combining=within)
    made = Plan(
        users=users,
        groups=people.groups,
        places=places,
        grants=grants,
        target=target,
        shares=shares,
        services={"smb": Service(id="smb", allowed=only)},
    )
    assert check(made) == ()
    return made


def offer(share: str, name: str, place: str, whos: list[str], rng: random.Random) -> Share:
    return Share(
        id=share,
        name=name,
        place=place,
        guests=rng.choice([Level.NA, Level.NA, Level.RO, Level.RW]),
        read_only=rng.random() < 0.2,
        hidden=rng.random() < 0.3,
        hide_unreadable=rng.random() < 0.4,
        versions=rng.random() < 0.1,
        recycle=rng.random() < 0.1,
        administrator=rng.choice([None, None, None, *whos[:-1]]),
    )


def compare(seeds: range) -> None:
    people = by_hand(seeds.start, "kernel", places=1)
    users = {
        u.id: replace(u, uid=FIRST_UID + number, enabled=number != 5) for number, u in enumerate(people.users.values())
    }
    people = replace(people, users=users)
    top = Path(tempfile.mkdtemp(prefix="yardgate-shares-", dir="/tmp"))
    top.chmod(0o755)
    subjects = [*users, GUEST, "stranger"]
    texts: list[str] = []
    folders: dict[str, list[str]] = {}
    plans: dict[str, tuple[Plan, StorageState, str]] = {}
    try:
        (top / "trees").mkdir(mode=0o755)
        for seed in seeds:
            plan = set_up(seed, people)
            matrix = resolve(plan, ON)
            (top / "trees" / str(seed)).mkdir(mode=0o755)
            visitors = [f"{subject}-{share}" for subject in subjects for share in plan.shares]
            where = lay_down(plan, matrix.storage, top / "trees" / str(seed), visitors)
            texts.append(smbconf.write(matrix, lambda place, where=where: str(where[place])))  # type: ignore[misc]
            for share in plan.shares.values():
                visits = walk(plan, "u0", Over(share.id, "smb"), ON, matrix.storage)
                folders[share.name] = [
                    str(where[v.place].relative_to(where[share.place])).replace(".", "", 1).replace("/", "\\")
                    if v.place != share.place
                    else ""
                    for v in visits
                ]
                plans[share.name] = (plan, matrix.storage, share.id)
        marks = {name: f"-{share}" for name, (_, _, share) in plans.items()}
        answers = ask(top, people, texts, folders, marks)
    finally:
        shutil.rmtree(top)
    wrong, asked, found = [], 0, Counter[str]()
    sections = [section for text in texts for section in ("\n" + text).split("\n[")[1:]]
    closed = {section.split("]")[0] for section in sections if " available = no" in section}
    offered = {name for name, (plan, _, share) in plans.items() if not plan.shares[share].hidden} - closed
    for subject in subjects:
        asked += 1
        shown = set(answers[f"{subject} lists"] or ())  # type: ignore[arg-type]
        if shown != (offered if subject not in users or users[subject].enabled else set()):
            wrong.append((next(iter(plans)), subject, "is shown the shares", sorted(shown ^ offered)))
    best: dict[tuple[int, str, str], Level] = {}
    for name, (plan, storage, share) in plans.items():
        for subject in subjects:
            me = GUEST if subject == "stranger" else subject
            visits = walk(plan, me, Over(share, "smb"), ON, storage)
            real = answers[f"{subject} {name}"]
            asked += 1
            if (real is not None) != visits[0].shown:
                wrong.append((name, subject, "connects", real is not None))
            listing = {visit.place: set(one["names"]) for visit, one in zip(visits, real or (), strict=False)}
            for visit, one in zip(visits, real or (), strict=False):
                cell = (id(plan), me, visit.place)
                best[cell] = max(best.get(cell, Level.NA), level_of(one))
                asked += len(ACTS)
                if (parent := plan.places[visit.place].parent) in listing:
                    asked += 1
                    found["shown"] += visit.shown
                    if (shown := plan.places[visit.place].name in listing[parent]) != visit.shown:
                        wrong.append((name, subject, visit.place, "shown", shown))
                found.update(act for act in ACTS if one[act])
                wrong += [
                    (name, subject, visit.place, act, one[act]) for act in ACTS if one[act] != getattr(visit, act)
                ]
    boards = {id(plan): (name, outcome(resolve(plan, ON))) for name, (plan, _, _) in plans.items()}
    for (number, subject, place), gets in best.items():
        name, board = boards[number]
        asked += 1
        if (said := board.level(subject, place)) != gets and not (said == Level.PT and gets == Level.NA):
            wrong.append((name, subject, place, "on the board", said, "really", gets))
    print(
        f"{len(boards)} share set-ups with {len(plans)} shares, seeds {seeds.start} to {seeds.stop - 1}, {len(subjects)} ways to sign in: {asked} answers, {dict(found)}, {len(wrong)} differ"
    )
    for one in wrong[:40]:
        plan, _, share = plans[one[0]]
        print(one, plan.shares[share])
    assert wrong == []
    assert min(found.values()) > asked / 100


def level_of(found: dict[str, Any]) -> Level:
    """What somebody can do in a folder, as a level of the board."""
    if not (found["lists"] and found["reads"]):
        return Level.NA
    return Level.RW if all(found[act] for act in ACTS) else Level.RO


def ask(
    top: Path, people: Plan, sections: list[str], folders: dict[str, list[str]], marks: dict[str, str]
) -> dict[str, list[dict[str, Any]] | None]:
    names = {user: token(people, user) for user in people.users}
    task = {
        "top": str(top),
        "shares": "\n".join(sections),
        "folders": folders,
        "marks": marks,
        "subjects": [
            *({"id": u, "name": u} for u in people.users),
            {"id": GUEST, "name": ""},
            {"id": "stranger", "name": "stranger"},
        ],
        "users": [
            {
                "name": u.name,
                "uid": u.uid,
                "shut": not u.enabled,
                "gid": people.groups[u.primary_group].gid if u.primary_group else GIDS_WITHOUT_PRIMARY,
            }
            for u in people.users.values()
        ],
        "groups": [
            {
                "name": group,
                "gid": FIRST_GID + number,
                "members": [user for user in people.users if group in names[user]],
            }
            for number, group in enumerate(people.groups)
        ],
    }
    child = Path(__file__).with_name("shares_child.py")
    done = subprocess.run(
        [*OWN, "/usr/bin/python3", "-I", child],
        input=json.dumps(task),
        capture_output=True,
        text=True,
        start_new_session=True,
    )
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-3000:]
    answers: dict[str, list[dict[str, Any]] | None] = json.loads(done.stdout)
    return answers


def test_three_hundred_shares_are_walked_through_as_planned() -> None:
    compare(range(300))


@pytest.mark.long
def test_five_thousand_shares_are_walked_through_as_planned() -> None:
    for start in range(1000, 6000, 250):
        compare(range(start, start + 250))
