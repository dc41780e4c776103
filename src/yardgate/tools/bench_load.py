"""Many people at once on a large plan: how long edits take, how long quick requests are held up by long ones, and how much memory that needs.

The server is a process of its own, as people start it. Each person has a session and does what the browser does for them; beside them
somebody takes tables in, somebody takes workbooks out, and a stranger sends what is far too large.
"""

import base64
import json
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from http.client import HTTPConnection, HTTPException
from itertools import chain
from pathlib import Path
from threading import Event, Lock, Thread
from typing import Any

from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts
from yardgate.tools.bench import Result, random_plan

PORT = 8747
LEVELS = ("RW", "RO", "NA", None)
BADGES = (
    10  # windows whose number of findings is fetched anew as soon as it is there; whoever works on does not wait for it
)
EDITED = 10  # people whose own grants are set and taken away again, so that the plan stays about as large as it is
AGAIN = 5  # times that an edit is done again on what others made of the plan meanwhile


@dataclass
class Timings:
    """Seconds of each kind of request, and what went wrong."""

    took: dict[str, list[float]] = field(default_factory=dict)
    wrong: list[str] = field(default_factory=list)
    lock: Lock = field(default_factory=Lock)

    def add(self, what: str, seconds: float) -> None:
        with self.lock:
            self.took.setdefault(what, []).append(seconds)

    def fail(self, words: str) -> None:
        with self.lock:
            self.wrong.append(words)


class Person:
    """A session, and the connection that its browser keeps."""

    def __init__(self, seen: Timings, plan: str, cookie: str, seed: int, users: int, places: int):
        self.seen, self.plan, self.cookie = seen, plan, cookie
        self.rng, self.users, self.places, self.revision = random.Random(seed), users, places, 1
        self.line: HTTPConnection | None = None

    def ask(self, what: str, method: str, path: str, body: Any = None, fine: tuple[int, ...] = (200,)) -> bytes:
        sent = body if isinstance(body, bytes) else None if body is None else json.dumps(body).encode()
        headers = {"cookie": self.cookie, **({"content-type": "application/json"} if sent is not None else {})}
        begun = time.perf_counter()
        for again in (True, False):
            try:
                if self.line is None:
                    self.line = HTTPConnection("127.0.0.1", PORT, timeout=400)
                self.line.request(method, path, sent, headers)
                answer = self.line.getresponse()
                content = answer.read()
                break
            except (OSError, HTTPException) as error:
                self.line = None  # a kept connection may have ended meanwhile
                if not again:
                    self.seen.fail(f"{what}: {error!r}")
                    return b""
        self.seen.add("stale edit" if answer.status == 409 else what, time.perf_counter() - begun)
        if answer.status not in (*fine, 409):
            self.seen.fail(f"{what}: {answer.status} {content[:120]!r}")
        return content

    def at(self, path: str) -> str:
        return f"/api/v1/plans/{self.plan}{path}"

    def act(self) -> None:
        """One thing that somebody does."""
        place, user = f"p{self.rng.randrange(self.places - 1)}", f"u{self.rng.randrange(self.users)}"
        match self.rng.choices(range(8), (25, 30, 15, 8, 6, 4, 4, 2))[0]:
            case 0:
                who = f"u{self.rng.randrange(EDITED)}"
                edit = {"op": "set-grant", "place": place, "who": who, "level": self.rng.choice(LEVELS)}
                for _ in range(AGAIN):
                    asked = self.revision
                    said = self.ask("edit", "POST", self.at("/edits"), {"revision": asked, "edits": [edit]})
                    with suppress(ValueError):
                        self.revision = json.loads(said).get("revision", asked)
                    if self.revision == asked + 1:
                        break
            case 1:
                some = "&".join(f"place=p{self.rng.randrange(self.places - 1)}" for _ in range(20))
                self.ask("board", "GET", self.at(f"/board?{some}"))
            case 2:
                self.ask("reason", "GET", self.at(f"/reason?subject={user}&place={place}"))
            case 3:
                self.ask("history", "GET", self.at("/history"))
            case 4:
                self.ask("shares", "GET", self.at("/shares"))
            case 5:
                self.ask("storage", "GET", self.at(f"/storage?place={place}"))
            case 6:
                self.ask("outline", "GET", self.at(""))
            case _:
                self.ask("rollout", "GET", self.at("/rollout"))


def run(
    browsers: int, seconds: float, most: int | None = None, users: int = 2000, groups: int = 120, places: int = 300
) -> list[Result]:
    """For so many seconds, or until `most` requests were answered."""
    with tempfile.TemporaryDirectory(prefix="yardgate-load-") as folder:
        store = Store(Path(folder) / "yardgate.sqlite")
        plan = Plans(store).create(random_plan(users, groups, places, 1), "bench").id
        accounts = Accounts(store)
        cookies = [
            f"yardgate-{store.token}={accounts.begin(accounts.add(f'p {n}', 'planner').id)}"
            for n in range(browsers + 3 + BADGES)
        ]
        store.close()
        command = [sys.executable, "-m", "yardgate.cli", "serve", "--data", folder, "--port", str(PORT)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as server:
            assert server.stdout is not None
            while not server.stdout.readline().startswith("Yard Gate is at"):
                assert server.poll() is None, "the server did not start"
            Thread(target=server.stdout.read, daemon=True).start()
            try:
                return _load(server.pid, plan, cookies, browsers, seconds, most, users, places)
            finally:
                server.terminate()
                server.wait(60)


def _load(
    pid: int,
    plan: str,
    cookies: list[str],
    browsers: int,
    seconds: float,
    most: int | None,
    users: int,
    places: int,
) -> list[Result]:
    seen, quick, over = Timings(), Timings(), Event()
    people = [Person(seen, plan, cookies[n], n, users, places) for n in range(browsers)]
    importing, taking, probing = (
        Person(of, plan, cookies[browsers + n], browsers + n, users, places) for n, of in enumerate((seen, seen, quick))
    )
    badges = [Person(seen, plan, cookies[-1 - n], 100 + n, users, places) for n in range(BADGES)]
    stranger = Person(Timings(), plan, "", 99, users, places)
    table = "who,pool\r\n" + "".join(f"New person {number},RO\r\n" for number in range(20_000))
    taken = {"revision": 1, "kind": "matrix", "content": base64.b64encode(table.encode()).decode()}

    def live(person: Person) -> None:
        over.wait(person.rng.uniform(0, 3))
        while not over.is_set():
            person.act()
            over.wait(person.rng.uniform(0.5, 3))

    def again(pause: float, act: Callable[[], object]) -> None:
        while not over.wait(pause):
            act()

    jobs = [Thread(target=live, args=(person,), daemon=True) for person in people]
    beside: list[tuple[float, Callable[[], object]]] = [
        (5, lambda: importing.ask("import preview", "POST", importing.at("/import/preview"), taken)),
        (10, lambda: taking.ask("workbook", "GET", taking.at("/export/workbook"))),
        *((1.0, partial(one.ask, "standing", "GET", one.at("/standing"))) for one in badges),
        (1, lambda: stranger.ask("bad upload", "POST", stranger.at("/edits"), b"[" * 5_000_000, (401, 413))),
        (0.1, lambda: probing.ask("session", "GET", "/api/v1/session")),
        (0.3, lambda: probing.ask("history", "GET", probing.at("/history?most=5"))),
    ]
    jobs += [Thread(target=again, args=one, daemon=True) for one in beside[:-2]]
    jobs.append(Thread(target=again, args=(0.1, lambda: [act() for _, act in beside[-2:]]), daemon=True))
    begun = time.monotonic()
    importing.ask("outline", "GET", importing.at("/board?place=p0"))
    opening = time.monotonic() - begun
    seen.took.clear()
    first = _memory(pid)
    for job in jobs:
        job.start()
    begun, held = time.monotonic(), [(0.0, first)]
    while (share := _share(begun, seconds, most, seen, quick)) < 1:
        time.sleep(1)
        if share - held[-1][0] > 0.09:
            held.append((share, _memory(pid)))
    over.set()
    last = _memory(pid, most=True)
    edits, probes = seen.took.get("edit", []), sorted(chain.from_iterable(quick.took.values()))
    requests = sum(map(len, seen.took.values())) + len(probes)
    found = [
        Result("the plan, opened first", f"{opening:.2f} s", ""),
        Result(
            f"{browsers} sessions, {time.monotonic() - begun:.0f} s",
            f"{requests} requests, {len(seen.wrong) + len(quick.wrong)} errors",
            "0 errors",
        ),
        Result("edits", f"{len(edits)}; {_spread(edits)}", "p95 under 1 s"),
        Result("quick requests beside all that", _spread(probes), "never over 0.5 s"),
    ]
    found += [
        Result(what, f"{len(took)}; {_spread(took)}", "") for what, took in sorted(seen.took.items()) if what != "edit"
    ]
    for what, took in (("edits", edits), ("quick requests", list(chain.from_iterable(quick.took.values())))):
        tenths = [sorted(took[at * len(took) // 10 : (at + 1) * len(took) // 10]) for at in range(10)]
        course = ", ".join(f"{one[len(one) * 95 // 100]:.2f}" for one in tenths if one)
        found.append(Result(f"{what}, each tenth", f"p95 in s: {course}", "no growth"))
    course = ", ".join(f"{memory:.0f}" for _, memory in held)
    found.append(Result("memory", f"MiB, each tenth: {course}; at most {last:.0f}", "under 600, and no growth"))
    found += [Result("error", words, "") for words in (seen.wrong + quick.wrong)[:5]]
    return found


def _share(begun: float, seconds: float, most: int | None, *seen: Timings) -> float:
    """How much of it is done."""
    if most is None:
        return (time.monotonic() - begun) / seconds
    return sum(len(took) for one in seen for took in list(one.took.values())) / most


def _spread(took: list[float]) -> str:
    if len(took) < 2:
        return "too few"
    ranks = statistics.quantiles(took, n=100)
    return f"median {ranks[49]:.2f} s, p95 {ranks[94]:.2f} s, p99 {ranks[98]:.2f} s, most {max(took):.2f} s"


def _memory(pid: int, *, most: bool = False) -> float:
    """What a process and those that it started have in memory, in MiB."""
    wanted = "VmHWM" if most else "VmRSS"
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    own = next(int(line.split()[1]) for line in lines if line.startswith(wanted)) / 1024
    started = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    return own + sum(_memory(int(child), most=most) for child in started)
