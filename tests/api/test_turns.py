"""What takes long is worked out once for all who ask, few at a time, and holds nobody else up; and what may be asked for has its limits."""

import asyncio
import base64
import io
import sqlite3
import threading
import zipfile
from dataclasses import replace
from typing import Any

import pytest
from fastapi import HTTPException, Response
from openpyxl import Workbook

from tests.api.conftest import Web, edit
from tests.server import until
from tests.serving import Served
from yardgate.api.policy import routes as agreed
from yardgate.api.rollout import routes as rollout
from yardgate.api.transfer import routes as transfer
from yardgate.api.transport.turns import AT_ONCE, Turns
from yardgate.core.host.steps import Destination
from yardgate.core.model.kinds import KINDS, USERS
from yardgate.core.model.plan import Plan
from yardgate.drivers.appliance import ApplianceError
from yardgate.formats import sheets, workbook
from yardgate.formats.reading import FormatError
from yardgate.store import Plans
from yardgate.store.rollouts import Rollouts


def test_findings_are_worked_out_once_for_all_who_ask_and_hold_nobody_up(
    served: Served, lantern: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    plans = Plans(served.store)
    one, other = (plans.create(lantern, "ann").id for _ in range(2))
    begun, go, times, answers = threading.Event(), threading.Event(), [], []
    working = agreed._standing

    def slow(services: Any, opened: Any) -> Any:
        times.append(opened.revision)
        begun.set()
        assert go.wait(30)
        return working(services, opened)

    monkeypatch.setattr(agreed, "_standing", slow)
    for number in range(10):
        served.token("reader", f"reader {number}")

    def ask(number: int) -> None:
        with served.client("reader", f"reader {number}") as client:
            answers.append(client.get(f"/api/v1/plans/{one}/standing"))

    askers = [threading.Thread(target=ask, args=(number,)) for number in range(10)]
    for asker in askers:
        asker.start()
    assert begun.wait(20)
    with served.client("planner") as client:
        for plan in (one, other):
            assert client.post(f"/api/v1/plans/{plan}/edits", json=edit()).status_code == 200
            assert client.get(f"/api/v1/plans/{plan}/board", params={"place": "payroll"}).status_code == 200
            assert client.get(f"/api/v1/plans/{plan}/history").status_code == 200
    go.set()
    for asker in askers:
        asker.join(30)
    assert [answer.status_code for answer in answers] == [200] * 10
    assert sorted(times) == [1, 2], "the one that was under way, and one for all who came after the edit"
    with served.client("reader") as client:
        path = f"/api/v1/plans/{one}/standing"
        tag = client.get(path).headers["etag"]
        assert client.get(path, headers={"if-none-match": tag}).status_code == 304
        assert client.get(path, headers={"if-none-match": 'W/"else"'}).status_code == 200
    assert len(times) == 2


def test_large_answers_are_made_one_at_a_time_and_hold_nobody_up(
    served: Served, lantern: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = Plans(served.store).create(lantern, "ann").id
    begun, go, inside, most, answers = threading.Event(), threading.Event(), [], [], []
    working = rollout.steps_of

    def slow(*more: Any) -> Any:
        inside.append(1)
        most.append(len(inside))
        begun.set()
        assert go.wait(30)
        inside.pop()
        return working(*more)

    monkeypatch.setattr(rollout, "steps_of", slow)
    for number in range(4):
        served.token("reader", f"reader {number}")

    def ask(number: int) -> None:
        with served.client("reader", f"reader {number}") as client:
            answers.append(client.get(f"/api/v1/plans/{plan}{('/rollout', '')[number % 2]}").status_code)

    askers = [threading.Thread(target=ask, args=(number,)) for number in range(4)]
    askers[0].start()
    assert begun.wait(20)
    for asker in askers[1:]:
        asker.start()
    with served.client("planner") as client:
        assert client.post(f"/api/v1/plans/{plan}/edits", json=edit()).status_code == 200
        assert client.get(f"/api/v1/plans/{plan}/board", params={"place": "payroll"}).status_code == 200
    assert not answers
    go.set()
    for asker in askers:
        asker.join(30)
    assert (answers, most) == ([200] * 4, [1, 1])


def test_few_long_ones_at_a_time_and_of_each_who_asks_one(
    served: Served, lantern: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    plans = Plans(served.store)
    go, inside, most = threading.Event(), [], []
    writing = workbook.write

    def slow(*more: Any) -> bytes:
        inside.append(1)
        most.append(len(inside))
        assert go.wait(30)
        inside.pop()
        return writing(*more)

    monkeypatch.setattr(workbook, "write", slow)
    names = ["ann", "ann", "ann", *(f"reader {number}" for number in range(6))]
    for name in names:
        served.token("reader", name)

    def take(client: Any, plan: str) -> None:
        assert client.get(f"/api/v1/plans/{plan}/export/workbook").status_code == 200

    clients = {name: served.client("reader", name) for name in names}
    asked = [(clients[name], plans.create(lantern, "ann").id) for name in names]
    takers = [threading.Thread(target=take, args=one) for one in asked]
    for taker in takers:
        taker.start()
    until(lambda: len(inside) == AT_ONCE)
    with served.client("reader", "quick") as client:
        assert client.get(f"/api/v1/plans/{asked[0][1]}").status_code == 200
    go.set()
    for taker in takers:
        taker.join(60)
    assert max(most) == AT_ONCE
    assert len(most) == len(names)
    assert served.app.state.turns.under_way.total() == 0


def test_who_came_first_has_the_next_turn_and_nobody_waits_for_what_they_have_under_way(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("yardgate.api.transport.turns.LOOK", 0.001)

    async def scene() -> None:
        turns, order, goes = Turns(2), [], {name: asyncio.Event() for name in ("ann", "bo", "cy")}

        async def work(who: str, number: int) -> None:
            async with turns.turn(who):
                order.append(f"{who} {number}")
                await goes[who].wait()

        asked = [("ann", 1), ("ann", 2), ("bo", 1), ("bo", 2), ("cy", 1), ("ann", 3)]
        working = [asyncio.ensure_future(work(*one)) for one in asked]
        await asyncio.sleep(0.05)
        assert order == ["ann 1", "bo 1"], "ann has one under way already, so bo is next"
        goes["ann"].set()
        await asyncio.sleep(0.05)
        assert order == ["ann 1", "bo 1", "ann 2", "cy 1"], "ann is done with hers; then cy, since bo has one under way"
        for go in goes.values():
            go.set()
        await asyncio.gather(*working)
        assert order[4:] == ["bo 2", "ann 3"]
        assert (turns.line, turns.under_way.total()) == ([], 0)

    asyncio.run(scene())


def test_what_several_ask_for_is_worked_out_once_for_all_who_came_before_it_began() -> None:
    async def scene() -> None:
        turns, go, times = Turns(), asyncio.Event(), []

        async def work() -> Response:
            times.append(len(times) + 1)
            await go.wait()
            if len(times) > 2:
                raise HTTPException(503, "too long")
            return Response(f"{len(times)}")

        first = asyncio.ensure_future(turns.together("x", "ann", work))
        await asyncio.sleep(0)
        while not times:
            await asyncio.sleep(0)
        later = [asyncio.ensure_future(turns.together("x", f"reader {number}", work)) for number in range(5)]
        await asyncio.sleep(0)
        assert times == [1], "what has begun may not know what was changed since"
        go.set()
        answers = [await one for one in (first, *later)]
        assert [answer.body for answer in answers] == [b"1", *[b"2"] * 5]
        assert len({id(answer.raw_headers) for answer in answers}) == 6, "each is sent by itself"
        failing = [asyncio.ensure_future(turns.together("x", "bo", work)) for _ in range(3)]
        for one in failing:
            with pytest.raises(HTTPException):
                await one
        assert times == [1, 2, 3]
        assert not turns.begun
        assert not turns.waiting

    asyncio.run(scene())


def test_hosts_are_read_for_planners_below_the_top_and_few_at_once(web: Web, monkeypatch: pytest.MonkeyPatch) -> None:
    path = web.at("/import/preview")
    body: dict[str, Any] = {"revision": 1, "kind": "server", "tops": ["/srv/keel"]}
    reached: list[Any] = []

    def away(destination: Destination, *_: Any, **__: Any) -> Any:
        reached.append(destination)
        raise ApplianceError("it is away")

    monkeypatch.setattr(transfer, "reached", away)
    assert web.client("reader").post(path, json=body).status_code == 403
    planner = web.client("planner")
    for top in ("/", "/etc", "/srv/../etc", "/srvother", "/srv/./x", "//srv/keel", "-delete", "/srv/keel/.."):
        answer = planner.post(path, json={**body, "tops": ["/srv/keel", top]})
        assert answer.status_code == 422, top
    assert reached == []
    assert planner.post(path, json=body).status_code == 409
    assert len(reached) == 1
    Rollouts(web.store).send_to(web.plan, Destination(kind="here", top="/data"))
    assert planner.post(path, json=body).status_code == 422
    services = planner.app.state.services  # type: ignore[attr-defined]
    monkeypatch.setattr("yardgate.services.derived.WAIT", 0.05)
    with services.reading_hosts(), services.reading_hosts():
        answer = planner.post(path, json={**body, "tops": ["/data"]})
        assert (answer.status_code, answer.headers["retry-after"]) == (503, "30")


def sheet(**cells: Any) -> bytes:
    book = Workbook()
    assert book.active is not None
    for at, value in cells.items():
        book.active[at] = value
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def test_small_workbooks_that_unpack_to_much_are_refused(web: Web, monkeypatch: pytest.MonkeyPatch) -> None:
    client = web.client()
    far = {f"A{1000 * (number + 1)}": "x" for number in range(60)}
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("xl/worksheets/sheet1.xml", b" " * (sheets.LARGEST + 1))
    many = io.BytesIO()
    with zipfile.ZipFile(many, "w") as packed:
        for number in range(sheets.PARTS + 1):
            packed.writestr(f"xl/{number}", b"")
    for content in (sheet(A1="who", XFD1="x", A1048576="y"), sheet(A1="who", **far), bomb.getvalue(), many.getvalue()):
        assert len(content) < 1_000_000
        body = {"revision": 1, "kind": "matrix", "content": base64.b64encode(content).decode()}
        answer = client.post(web.at("/import/preview"), json=body)
        assert (answer.status_code, "too large" in answer.text) == (422, True), answer.text
    monkeypatch.setattr(sheets, "CELLS", 50)
    with pytest.raises(FormatError, match="50 cells"):
        sheets.sheets(sheet(A1="who", Z1="x", Z2="y"))


def test_a_plan_has_its_limits(web: Web, monkeypatch: pytest.MonkeyPatch) -> None:
    few = tuple(replace(kind, most=40) if kind is USERS else kind for kind in KINDS)
    monkeypatch.setattr("yardgate.core.edits.apply.KINDS", few)
    people = [{"op": "put-user", "user": {"id": f"n{number}", "name": f"n{number}"}} for number in range(30)]
    refused = web.client().post(web.at("/edits"), json={"revision": 1, "edits": people})
    assert (refused.status_code, "a plan has at most 40" in refused.text) == (422, True)


def test_one_plan_that_cannot_be_read_hides_no_other(web: Web, lantern: Plan) -> None:
    other = Plans(web.store).create(lantern, "ann").id
    with sqlite3.connect(web.store.path) as connection:
        connection.execute("UPDATE users SET aliases = 'no json' WHERE plan = ?", (web.plan,))
    client = web.client()
    told = {plan["id"]: plan["trouble"] for plan in client.get("/api/v1/plans").json()}
    assert told[other] == ""
    assert "check-data" in told[web.plan]
    assert client.get(f"/api/v1/plans/{other}").status_code == 200
    answer = client.get(web.at())
    assert (answer.status_code, answer.headers["x-content-type-options"]) == (500, "nosniff")
