"""Ordered lists over the wire: a real SMB server keeps them, a real SMB client opens files and folders as the plan's people."""

import json
import random
import shutil
import subprocess
import tempfile
from dataclasses import replace
from pathlib import Path

from tests.conftest import ON
from tests.real.host import OWN
from tests.real.samba import sddl
from tests.real.storage import FIRST_GID, FIRST_UID, by_hand
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.storage import Nfs4State, rights_on, storage_state
from yardgate.core.acl.nfs4 import files_of
from yardgate.core.acl.rights import DELETE, DELETE_CHILD, FULL, Rights, may_delete
from yardgate.core.model.plan import ROOT, Plan

OPENS = 800
SINGLE_RIGHTS = [1 << bit for bit in range(FULL.bit_length()) if FULL >> bit & 1 and 1 << bit != 0x100000]
GIDS_WITHOUT_PRIMARY = 28000


FOLDERS = {"open": FULL, "kept": FULL & ~DELETE_CHILD}  # what everybody may do in the folders around


def path_of(seed: int, place: str) -> str:
    return f"{'open' if seed % 2 else 'kept'}/{seed}-{place}"


def unix_sid(plan: Plan, who: str) -> str:
    """The SIDs that the server gives to Unix accounts without looking them up anywhere."""
    if who == ROOT:
        return "S-1-22-1-0"
    if who in plan.users:
        return f"S-1-22-1-{plan.users[who].uid}"
    return f"S-1-22-2-{plan.groups[who].gid}"


def tidy(seed: int) -> Plan:
    """A plan as a server with a standard client can have it: nobody is root, everybody passes everywhere."""
    plan = by_hand(seed, "ordered", places=5)
    users = {u.id: replace(u, uid=FIRST_UID + number) for number, u in enumerate(plan.users.values())}
    return replace(plan, users=users, target=replace(plan.target, traverse="bypassed", attributes_open=True))


def test_single_rights_over_the_wire(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr(
        "tests.real.samba.sid", lambda plan, who: "S-1-1-0" if who == "everyone" else unix_sid(plan, who)
    )
    rng = random.Random("wire-0")
    things, expected, asks = [], [], {f"u{i}": [] for i in range(6)}  # type: ignore[var-annotated]
    plan = tidy(0)
    things += [
        {"path": n, "folder": True, "sddl": f"O:S-1-22-1-0G:S-1-22-2-0D:P(A;;0x{m:x};;;S-1-1-0)"}
        for n, m in FOLDERS.items()
    ]
    for seed in range(30):
        plan = replace(tidy(seed), users=plan.users, groups=plan.groups)
        storage = storage_state(plan, count(plan, ON))
        for place, stored in storage.items():
            assert isinstance(stored.list, Nfs4State)
            name = path_of(seed, place)
            entries = stored.list.entries
            things.append({"path": name, "folder": True, "sddl": sddl(plan, stored, entries)})
            things.append({"path": f"{name}.txt", "folder": False, "sddl": sddl(plan, stored, files_of(entries))})
    names = {user: token(plan, user) for user in plan.users}
    for user in plan.users:
        for _ in range(-(-OPENS // len(plan.users))):
            seed, place, bit, on_file = (
                rng.randrange(30),
                f"p{rng.randrange(5)}",
                rng.choice(SINGLE_RIGHTS),
                rng.random() < 0.5,
            )
            here = replace(tidy(seed), users=plan.users, groups=plan.groups)
            rights = rights_on(here, storage_state(here, count(here, ON))[place], user, names[user])
            granted = rights.file if on_file else rights.folder
            asks[user].append((path_of(seed, place) + (".txt" if on_file else ""), bit))
            around = Rights(FOLDERS[path_of(seed, place).split("/")[0]], granted)
            expected.append(may_delete(around) if bit == DELETE else bool(granted & bit))
    top = Path(tempfile.mkdtemp(prefix="yardgate-smb-", dir="/tmp"))
    top.chmod(0o755)
    task = {
        "top": str(top),
        "things": things,
        "users": [
            {
                "name": f"ygtest{user}",
                "uid": plan.users[user].uid,
                "gid": plan.groups[p].gid if (p := plan.users[user].primary_group) else GIDS_WITHOUT_PRIMARY,
                "asks": asks[user],
            }
            for user in plan.users
        ],
        "groups": [
            {
                "name": f"ygtest{group}",
                "gid": FIRST_GID + number,
                "members": [f"ygtest{user}" for user in plan.users if group in names[user]],
            }
            for number, group in enumerate(plan.groups)
        ],
    }
    child = Path(__file__).with_name("smbd_child.py")
    try:
        done = subprocess.run(
            [*OWN, "/usr/bin/python3", "-I", child],
            input=json.dumps(task),
            capture_output=True,
            text=True,
            start_new_session=True,
        )
    finally:
        shutil.rmtree(top)
    assert done.returncode == 0, done.stdout + done.stderr
    opened = json.loads(done.stdout)
    asked = [(user, *ask) for user in plan.users for ask in asks[user]]
    wrong = [(ask, real) for ask, real, ours in zip(asked, opened, expected, strict=True) if real != ours]
    print(f"{len(opened)} opens over the wire, plans of seeds 0 to 29, {sum(opened)} granted, {len(wrong)} differ")
    assert wrong == []
    assert 0.2 < sum(opened) / len(opened) < 0.8, "both answers are common"
