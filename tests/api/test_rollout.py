"""Rollout over the API: steps, their commands, what to take away, and what was done."""

import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from pydantic import TypeAdapter

from tests.api.conftest import Web
from yardgate.core.acl import Posix
from yardgate.core.acl.rights import Level
from yardgate.core.host.state import System
from yardgate.core.host.steps import Destination
from yardgate.core.model.plan import Plan
from yardgate.store import Plans
from yardgate.store.rollouts import Rollouts


@pytest.fixture
def host(web: Web, lantern: Plan) -> Web:
    """The plan as a host with POSIX lists can have it."""
    places = {
        p.id: replace(p, acl=Posix() if p.parent is None else None, enforced_by="storage" if p.parent is None else None)
        for p in lantern.places.values()
    }
    plan = Plans(web.store).create(replace(lantern, places=places), "ann").id
    return Web(web.store, plan)


def asked(client: TestClient, web: Web) -> Any:
    answer = client.get(web.at("/rollout"))
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_the_steps_come_in_order_each_with_its_commands_and_what_undoes_it(host: Web) -> None:
    client = host.client()
    Rollouts(host.store).send_to(host.plan, Destination(top="/srv/quay"))
    found = asked(client, host)
    order = {step["id"]: number for number, step in enumerate(found["steps"])}
    assert found["total"] == len(order) > 10
    assert all(order[need] < order[step["id"]] for step in found["steps"] for need in step["needs"])
    assert not any(step["trouble"] or step["destroys"] for step in found["steps"])
    step = next(step for step in found["steps"] if step["id"] == "folders:/srv/quay/keel/drawings/toolpaths")
    told = client.get(host.at("/rollout/step"), params={"id": step["id"]}).json()
    assert "(cd -P /srv/quay/keel/drawings/toolpaths && setfacl --set-file=- .)" in told["commands"]
    assert any(line.startswith("| group:Draughting:rwx") for line in told["commands"])
    assert any("(cd -P /srv/quay/keel/drawings && rmdir -- toolpaths)" in line for line in told["undo"])
    assert client.get(host.at("/rollout/step"), params={"id": "folders:/nowhere"}).status_code == 404


def test_what_is_done_is_in_force_and_only_what_changes_after_it_is_to_do(host: Web) -> None:
    client, reader = host.client(), host.client("reader")
    first = asked(client, host)
    left = [step["id"] for step in first["steps"] if step["part"] == "offers"]
    body = {"revision": first["revision"], "left": left}
    assert reader.post(host.at("/rollout/done"), json=body).status_code == 403
    done = client.post(host.at("/rollout/done"), json=body)
    assert done.status_code == 201
    assert len(done.json()["steps"]) == first["total"] - len(left)
    assert [step["id"] for step in asked(client, host)["steps"]] == left
    client.post(host.at("/rollout/done"), json={**body, "left": []})
    assert asked(client, host)["total"] == 0
    assert client.post(host.at("/rollout/done"), json={**body, "left": []}).status_code == 422
    edit = {"op": "join", "group": "ledger", "member": "mira-oyelaran"}
    kept = client.post(host.at("/edits"), json={"revision": first["revision"], "edits": [edit]})
    assert kept.status_code == 200, kept.text
    then = asked(client, host)
    assert "members of Ledger: add mira.oyelaran" in [step["words"] for step in then["steps"]]
    assert then["again"] == ["mira.oyelaran"]
    assert [one["number"] for one in then["history"]] == [2, 1]
    stale = client.post(host.at("/rollout/done"), json={**body, "left": []})
    assert stale.status_code == 409


def test_a_script_and_a_runbook_are_taken_away_without_what_is_left(host: Web, tmp_path: Path) -> None:
    client = host.client()
    found = asked(client, host)
    left = next(step for step in found["steps"] if step["part"] == "offers")
    query = {"left": [left["id"]]}
    script = client.get(host.at("/rollout/take-away/script"), params=query)
    assert "rollout.sh" in script.headers["content-disposition"]
    (tmp_path / "rollout.sh").write_text(script.text)
    assert subprocess.run(["shellcheck", tmp_path / "rollout.sh"], capture_output=True, text=True).stdout == ""
    assert f"of {found['total'] - 1}" not in script.text.splitlines()[0]
    assert left["words"] not in script.text
    dry = subprocess.run(["sh", tmp_path / "rollout.sh", "--dry-run"], capture_output=True, text=True)
    assert dry.returncode == 0
    assert f"{found['total'] - 1} of {found['total'] - 1}: " in dry.stdout
    page = client.get(host.at("/rollout/take-away/page"), params=query)
    assert page.headers["content-type"].startswith("text/html")
    assert "<h2>1. Make the group" in page.text
    assert left["words"] not in page.text
    assert "[quotes]" in client.get(host.at("/rollout/take-away/smb"), params=query).text
    assert (
        "# file: /srv/keel/drawings/toolpaths\n# owner: root"
        in client.get(host.at("/rollout/take-away/setfacl"), params=query).text
    )
    assert client.get(host.at("/rollout/take-away/nfs4"), params=query).text == ""
    assert "objectClass: posixAccount" in client.get(host.at("/rollout/take-away/ldif"), params=query).text
    runbook = client.get(host.at("/rollout/take-away/runbook"), params=query).text
    assert "## 1. Make the group" in runbook
    assert "To undo it: delete the group" in runbook
    assert left["words"] not in runbook


def test_what_a_host_cannot_have_is_said_in_place_of_steps(web: Web, host: Web) -> None:
    client = web.client()
    Rollouts(host.store).send_to(host.plan, Destination(top="srv/../etc; reboot"))
    found = asked(client, host)
    assert found["steps"] == []
    assert "is not a plain path from the root" in found["troubles"][0]
    ordered = asked(client, web)
    cannot = [step for step in ordered["steps"] if step["trouble"]]
    assert all("ordered list; this host has POSIX lists" in step["trouble"] for step in cannot)


def test_what_was_changed_behind_the_plans_back_is_told_and_put_right(host: Web) -> None:
    client = host.client()
    found = asked(client, host)
    client.post(host.at("/rollout/done"), json={"revision": found["revision"]})
    system = Rollouts(host.store).in_force(host.plan)
    ledger = system.members["Ledger"]
    drifted = system.having("members", "Ledger", replace(ledger, users=ledger.users | {"mira.oyelaran"}))
    drifted = drifted.having("offers", "payroll", replace(system.offers["payroll"], guests=Level.RO))
    body = {"revision": 1, "system": TypeAdapter(System).dump_python(drifted, mode="json")}
    told = client.post(host.at("/rollout/reading"), json=body).json()
    assert told["words"] == ["members of Ledger: add mira.oyelaran", "share payroll over SMB: a guest gets read-only"]
    assert asked(client, host)["total"] == 0
    assert client.post(host.at("/rollout/reading"), json={**body, "keep": True}).json()["kept"]["kind"] == "read"
    assert [step["words"] for step in asked(client, host)["steps"]] == [
        "members of Ledger: take out mira.oyelaran",
        "share payroll over SMB: a guest gets no access",
    ]
    broken = client.post(host.at("/rollout/reading"), json={**body, "system": {"accounts": "none"}})
    assert broken.status_code == 422


def test_what_is_known_of_one_appliance_is_not_taken_for_another(host: Web) -> None:
    """Steps, script and runbook of another destination begin with nothing, and say so; back at the first one, it is known again."""
    client, rollouts = host.client(), Rollouts(host.store)
    first = asked(client, host)
    assert first["known"] is None
    script = client.get(host.at("/rollout/take-away/script")).text
    assert "# For a host by hand, of which nothing is known yet" in script
    assert client.post(host.at("/rollout/done"), json={"revision": first["revision"], "left": []}).status_code == 201
    done = asked(client, host)
    assert (done["total"], done["known"]["kind"], done["known"]["appliance"]) == (0, "by-hand", "papers")
    rollouts.send_to(host.plan, Destination(kind="ssh", host="192.0.2.10", key="ssh-ed25519 AAAA"))
    other = asked(client, host)
    assert (other["total"], other["known"]) == (first["total"], None)
    for paper in ("script", "runbook", "page"):
        text = client.get(host.at(f"/rollout/take-away/{paper}")).text
        assert "For 192.0.2.10, of which nothing is known yet" in text, paper
    assert client.post(host.at("/rollout/apply"), json={"revision": 1}).status_code == 409
    rollouts.send_to(host.plan, Destination())
    assert asked(client, host)["total"] == 0
    assert "For a host by hand, from what was there after the last rollout on 20" in client.get(
        host.at("/rollout/take-away/runbook")
    ).text.replace("\\", "")
