"""Accounts of Yard Gate itself: nobody becomes another, nobody shuts another out, and it is written down who did what."""

import sqlite3
import threading
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from tests.api.conftest import Web, edit
from yardgate.api.accounts.tries import FREE_OF_NAME, FREE_TRIES
from yardgate.api.app import create_app
from yardgate.api.authentication import cookie_name
from yardgate.core.model.plan import Plan
from yardgate.store import Plans, Store
from yardgate.store import accounts as store_accounts
from yardgate.store.accounts import Accounts, lookalike_trouble, password_trouble
from yardgate.store.audit import Audit

GOOD = "gaff rig and lantern"


def app_client(store: Store, address: str = "127.0.0.1", **more: Any) -> TestClient:
    return TestClient(create_app(store, **more), base_url="http://127.0.0.1", client=(address, 5000))


def test_one_first_link_makes_one_administrator_however_many_use_it_at_once(store: Store) -> None:
    link, made, at_once = Accounts(store).link(None), [], threading.Barrier(6)

    def use(number: int) -> None:
        client = app_client(store)
        at_once.wait()
        body = {"link": link, "name": f"Boss {number}", "password": GOOD}
        made.append(client.post("/api/v1/session/first", json=body).status_code)

    threads = [threading.Thread(target=use, args=(number,)) for number in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(made) == [200, 422, 422, 422, 422, 422]
    assert len(Accounts(store).all()) == 1


def test_a_new_password_asks_for_the_old_one_and_ends_links_and_sessions(web: Web) -> None:
    accounts = Accounts(web.store)
    rosa = accounts.add("Rosa", "reader", GOOD)
    client, other = web.client(None), web.client(None)
    for one in (client, other):
        assert one.post("/api/v1/session", json={"name": "rosa", "password": GOOD}).status_code == 200
    link = accounts.link(rosa.id)
    new = {"password": "another good one, long"}
    for old in ({}, {"old": "wrong wrong wrong"}):
        refused = client.put("/api/v1/session/password", json={**new, **old})
        assert (refused.status_code, "old password" in refused.text) == (422, True)
    assert client.put("/api/v1/session/password", json={**new, "old": GOOD}).status_code == 204
    assert client.get("/api/v1/session").json()["name"] == "Rosa"
    assert other.get("/api/v1/session").json()["name"] is None
    assert web.client(None).post("/api/v1/session/link", json={"link": link}).status_code == 401
    forgot = web.client(None)
    forgot.post("/api/v1/session/link", json={"link": accounts.link(rosa.id)})
    assert forgot.put("/api/v1/session/password", json={"password": "a third one, forgotten"}).status_code == 204


def test_old_passwords_are_not_guessed_by_an_open_session(web: Web) -> None:
    Accounts(web.store).add("Rosa", "reader", GOOD)
    client = web.client(None)
    client.post("/api/v1/session", json={"name": "Rosa", "password": GOOD})
    body = {"password": "another good one", "old": "not that one"}
    codes = [client.put("/api/v1/session/password", json=body).status_code for _ in range(FREE_TRIES + 2)]
    assert codes == [422] * (FREE_TRIES + 1) + [429]


@pytest.mark.parametrize(
    "password",
    ["short", "aaaaaaaaaaaa", "1234567890", "qwertzuiop", "Password2026", "abcdefghijkl", "rosarosarosa", "abababababab", "passwordpassword", "welcome1234", "asdfghjkl1"],
)  # fmt: skip
def test_passwords_that_are_guessed_at_once_are_not_taken(password: str) -> None:
    assert password_trouble(password, "Rosa")


@pytest.mark.parametrize(
    "password", [GOOD, "long enough now", "Täglich-7-Brote", "correct horse battery", "船の帆柱と錨と綱と櫂と"]
)
def test_others_are(password: str) -> None:
    assert password_trouble(password, "Rosa") is None


def test_names_that_look_alike_are_one(store: Store) -> None:
    accounts = Accounts(store)
    accounts.add("Rosa Lind", "reader")
    for name in ("rosa lind", "Ｒosa Lind", "Rosá Lind", "Rosa  Lind", "ROSA LIND"):
        with pytest.raises(ValueError, match=r"already|mixes"):
            accounts.add(name, "reader")
    for name in ("Rоsa", "Ros\u200ba", "R\u202eosa", "Αnn"):
        assert lookalike_trouble(name), name
        with pytest.raises(ValueError, match=r"account name"):
            accounts.add(name, "reader")
    for name in ("Rosa", "Анна", "Ελένη", "船長", "Jean-Luc Müller-Ortega"):
        assert lookalike_trouble(name) is None


def test_nobody_shuts_another_out_and_known_browsers_go_on(web: Web) -> None:
    Accounts(web.store).add("Rosa", "reader", GOOD)
    app = create_app(web.store)

    def client(address: str) -> TestClient:
        return TestClient(app, base_url="http://127.0.0.1", client=(address, 5000))

    mine, stranger = client("127.0.0.2"), client("127.0.0.3")
    right, wrong = {"name": "Rosa", "password": GOOD}, {"name": "Rosa", "password": "wrong wrong"}
    assert mine.post("/api/v1/session", json=right).status_code == 200
    codes = [stranger.post("/api/v1/session", json=wrong).status_code for _ in range(FREE_TRIES + 2)]
    assert codes[-1] == 429
    assert client("127.0.0.4").post("/api/v1/session", json=right).status_code == 200, "from elsewhere"
    for number in range(FREE_OF_NAME + 2):
        client(f"127.0.1.{number}").post("/api/v1/session", json=wrong)
    assert client("127.0.0.9").post("/api/v1/session", json=right).status_code == 429, "a guess from many addresses"
    mine.delete("/api/v1/session")
    assert mine.post("/api/v1/session", json=right).status_code == 200, "where she signed in before"
    forged = client("127.0.0.10")
    known = mine.cookies[f"{app.state.cookie}-known"]
    forged.cookies.set(f"{app.state.cookie}-known", known[:-1] + ("1" if known.endswith("0") else "0"))
    assert forged.post("/api/v1/session", json=right).status_code == 429


def test_few_passwords_are_looked_at_at_once(web: Web, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(store_accounts, "WAIT", 0.05)
    for _ in range(store_accounts.HASHING):
        store_accounts._HASHING.acquire()
    try:
        answer = web.client(None).post("/api/v1/session", json={"name": "x", "password": "y"})
        assert (answer.status_code, answer.headers["retry-after"]) == (503, "5")
    finally:
        for _ in range(store_accounts.HASHING):
            store_accounts._HASHING.release()


def test_somebodys_link_signs_nobody_else_out_unasked(web: Web) -> None:
    accounts = Accounts(web.store)
    client = web.client("planner")
    link = accounts.link(accounts.add("Rosa", "reader").id)
    told = client.post("/api/v1/session/link/kind", json={"link": link}).json()
    assert told == {"kind": "sign-in", "name": "Rosa", "instead_of": "a planner"}
    refused = client.post("/api/v1/session/link", json={"link": link})
    assert (refused.status_code, "a planner is signed in here" in refused.text) == (409, True)
    assert client.get("/api/v1/session").json()["name"] == "a planner"
    assert client.post("/api/v1/session/link", json={"link": link, "switch": True}).json()["name"] == "Rosa"


def test_sessions_are_listed_end_everywhere_and_by_themselves(web: Web, monkeypatch: pytest.MonkeyPatch) -> None:
    first, second, third = (web.client("planner") for _ in range(3))
    listed = first.get("/api/v1/session/all").json()
    assert [one["this"] for one in listed].count(True) == 1
    assert len(listed) == 3
    assert {one["address"] for one in listed} == {"testclient"}
    other = next(one["id"] for one in listed if not one["this"])
    assert first.delete(f"/api/v1/session/all/{other}").status_code == 204
    assert first.delete(f"/api/v1/session/all/{other}").status_code == 404
    assert first.delete("/api/v1/session/all").status_code == 204
    assert [one.get("/api/v1/session").json()["name"] for one in (first, second, third)] == ["a planner", None, None]
    boss = web.client("administrator")
    planner = next(one for one in boss.get("/api/v1/accounts").json() if one["name"] == "a planner")
    assert planner["sessions"] == 1
    assert boss.delete(f"/api/v1/accounts/{planner['id']}/sessions").status_code == 204
    assert first.get("/api/v1/session").json()["name"] is None
    late = web.client("planner")
    monkeypatch.setattr(store_accounts, "IDLE_SECONDS", -1)
    assert late.get("/api/v1/session").json()["name"] is None, "nobody used it for long"


def test_a_member_sees_and_changes_the_plans_they_were_given_and_no_others(web: Web, lantern: Plan) -> None:
    other = Web(web.store, Plans(web.store).create(lantern, "ann").id)
    boss, accounts = web.client("administrator"), Accounts(web.store)
    eve = accounts.add("Eve", "member")
    client = web.client(None)
    client.post("/api/v1/session/link", json={"link": accounts.link(eve.id)})
    assert client.get("/api/v1/plans").json() == []
    assert client.get(web.at()).status_code == 404
    at = f"/api/v1/accounts/{eve.id}"
    assert boss.patch(at, json={"plans": {"nowhere": "reader"}}).status_code == 422
    assert boss.patch(at, json={"plans": {web.plan: "reader"}}).status_code == 204
    assert [plan["id"] for plan in client.get("/api/v1/plans").json()] == [web.plan]
    assert client.get(web.at()).json()["may"] == "reader"
    assert client.post(web.at("/edits"), json=edit()).status_code == 403
    assert boss.patch(at, json={"plans": {web.plan: "planner"}}).status_code == 204
    assert client.post(web.at("/edits"), json=edit()).status_code == 200
    assert client.post(web.at("/copy"), json={"name": "mine"}).status_code == 403
    assert client.post("/api/v1/plans", json={"name": "mine"}).status_code == 403
    for path in ("", "/board?place=payroll", "/history", "/export/plan", "/events", "/standing", "/rollout"):
        assert client.get(other.at(path)).status_code == 404, path
    assert client.post(other.at("/edits"), json=edit()).status_code == 404


def test_what_was_done_is_written_down_and_stays(web: Web) -> None:
    boss = web.client("administrator")
    made = boss.post("/api/v1/accounts", json={"name": "Rosa", "role": "reader"}).json()["account"]
    web.client(None).post("/api/v1/session", json={"name": "Rosa\n2026 forged", "password": "no"})
    boss.patch(f"/api/v1/accounts/{made['id']}", json={"role": "planner"})
    boss.patch(f"/api/v1/accounts/{made['id']}", json={"disabled": True})
    boss.post(f"/api/v1/accounts/{made['id']}/link")
    boss.put(web.at("/rollout/destination"), json={"kind": "papers"})
    told = boss.get("/api/v1/audit").json()
    said = [(one["what"], one["by"], one["about"]) for one in reversed(told)]
    assert said[1:] == [
        ("account added", "a administrator", "Rosa as reader"),
        ("sign-in failed", "Rosa\n2026 forged", ""),
        ("role changed", "a administrator", "Rosa: reader to planner"),
        ("account disabled", "a administrator", "Rosa"),
        ("link made", "a administrator", "Rosa"),
        ("destination set", "a administrator", "papers, below /srv, numbers 1000 to 60000"),
    ]
    assert said[0][0] == "signed in by a link"
    assert {one["address"] for one in told} == {"testclient"}
    assert web.client("planner").get("/api/v1/audit").status_code == 403
    Audit(web.store).ran(None, None, "here", "try", "true", 1, "no")
    for act in (
        "UPDATE audit SET by = 'x'",
        "DELETE FROM audit",
        "DELETE FROM commands",
        "UPDATE commands SET code = 0",
    ):
        with sqlite3.connect(web.store.path) as connection:
            with pytest.raises(sqlite3.IntegrityError, match="added here only"):
                connection.execute(act)
            connection.rollback()


def test_with_tls_in_front_cookies_are_bound_and_addresses_are_believed_of_the_proxy_alone(store: Store) -> None:
    Accounts(store).add("Rosa", "reader", GOOD)
    proxies = frozenset({"127.0.0.7"})
    for near, address in (("127.0.0.7", "203.0.113.9"), ("127.0.0.8", "127.0.0.8")):
        app = create_app(store, frozenset({"yard.example"}), secure=True, proxies=proxies)
        client = TestClient(app, base_url="https://yard.example", client=(near, 1))
        headers = {"x-forwarded-for": "198.51.100.4, 203.0.113.9"}
        answer = client.post("/api/v1/session", json={"name": "Rosa", "password": GOOD}, headers=headers)
        cookie = answer.headers["set-cookie"].lower()
        assert cookie.startswith(f"__host-yardgate-{store.token}=")
        assert "; secure" in cookie
        assert answer.headers["strict-transport-security"] == "max-age=31536000"
        assert Audit(store).past(most=1)[0].address == address
    plain = app_client(store).get("/api/v1/session")
    assert "strict-transport-security" not in plain.headers


def test_two_installations_of_one_host_have_cookies_of_their_own(tmp_path: Path) -> None:
    names = {cookie_name(Store(tmp_path / name / "yardgate.sqlite").token, secure=False) for name in "ab"}
    assert len(names) == 2
