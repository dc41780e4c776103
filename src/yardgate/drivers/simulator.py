"""A small simulated appliance, for the demo and for trying what goes wrong: it keeps a state of its own, is told over HTTP, and does
on demand what real ones do on bad days.

What it is told is saved at once. Shares and exports count from when their service is told to read its configuration anew. A session
keeps the groups that it had when it began. Things in folders take their time to be given lists. A watch puts back by itself what nobody kept.
"""

import json
import sys
import threading
import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, date, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from yardgate.core.host.contents import Thing
from yardgate.core.host.evaluate import found, found_over_nfs, groups_of
from yardgate.core.host.going_back import Since, named
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import PARTS, Dataset, Folder, HostGroup, RecordKind, System
from yardgate.core.host.steps import Step
from yardgate.drivers.appliance import ApplianceError, RolloutUnderWay, TooLate, Watching
from yardgate.drivers.simulator_earlier import Earlier, back, lying, since

HOST = "127.0.0.1"
LARGEST = 64 * 1024 * 1024
SYSTEM, STEP, THINGS = TypeAdapter(System), TypeAdapter(Step), TypeAdapter(tuple[Thing, ...])
SESSIONS = TypeAdapter(tuple[OpenSession, ...])
EARLIER, SINCE = TypeAdapter(dict[str, dict[str, Earlier]]), TypeAdapter(Since)
OWN_ADDRESSES = ("192.0.2.10", "127.0.0.1")
PORTION = 1000  # things that are told at a time


@dataclass
class ApplianceFaults:
    """What it does wrong. fail, cut, garble: the step of that number from now on is refused, or done while the connection is cut before
    the answer, or saved otherwise than it was told; lost: from that one on, each is cut before it is done. slow: seconds that each step takes; slow_thing: that each thing takes which is given
    another list. stuck: the end of the names of things that keep what they have."""

    fail: int | None = None
    cut: int | None = None
    lost: int | None = None
    garble: int | None = None
    slow: float = 0.05
    slow_thing: float = 0.0005
    stuck: str | None = None


@dataclass
class ApplianceState:
    """saved: what it was told. running: what its services go by. held: what it was when the watch began, and when that puts it back.
    given: the accounts whose passwords somebody knows. open: the sessions that people have open."""

    saved: System = field(default_factory=System)
    running: System = field(default_factory=System)
    held: System | None = None
    until: float = 0
    seconds: int = 0
    ended: Watching = "nothing"
    given: frozenset[str] = frozenset()
    open: tuple[OpenSession, ...] = ()

    def having(self, held: System) -> "ApplianceState":
        """The same put back to what it was."""
        return ApplianceState(held, held, ended="rolled back", given=self.given, open=self.open)


class SimulatedAppliance(ThreadingHTTPServer):
    """path: where it keeps its state, over a restart of its own."""

    daemon_threads = True
    allow_reuse_address = True

    def __init__(self, path: Path, port: int = 0):
        super().__init__((HOST, port), _Asked)
        self.path, self.faults, self.steps = path, ApplianceFaults(), 0
        self.turn = threading.RLock()
        self.sessions: dict[int, tuple[str, frozenset[str]]] = {}
        self.state = self._kept()
        self.things = _inside(path)
        self.earlier = _earlier(path)
        threading.Thread(target=self._watch, daemon=True).start()

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    def handle_error(self, request: Any, client_address: Any) -> None:
        if not isinstance(sys.exception(), ConnectionError):  # whoever asked is gone
            super().handle_error(request, client_address)

    def _kept(self) -> ApplianceState:
        if not self.path.exists():
            return ApplianceState()
        said = json.loads(self.path.read_text())
        held = None if said["held"] is None else SYSTEM.validate_python(said["held"], strict=False)
        systems: dict[str, Any] = {n: SYSTEM.validate_python(said[n], strict=False) for n in ("saved", "running")}
        given, sessions = (
            frozenset(said.get("given", ())),
            SESSIONS.validate_python(said.get("open", ()), strict=False),
        )
        ends: dict[str, Any] = {name: said[name] for name in ("until", "seconds", "ended")}
        return ApplianceState(**systems, held=held, **ends, given=given, open=sessions)

    def keep(self) -> None:
        """Write the state down."""
        _write(self.path, self.state)

    def _watch(self) -> None:
        while True:
            time.sleep(0.2)
            with self.turn:
                held = self.state.held
                if held is not None and time.time() >= self.state.until:
                    self.state = self.state.having(held)
                    self.keep()

    def do(self, step: Step) -> None:
        """Raises ApplianceError. A `cut` ends the connection instead of an answer."""
        time.sleep(self.faults.slow)
        with self.turn:
            self.steps += 1
            if self.faults.lost is not None and self.steps >= self.faults.lost:
                raise ConnectionAbortedError
            if self.steps == self.faults.fail:
                raise ApplianceError("no space left on device")
            after = _garbled(step.after) if self.steps == self.faults.garble else step.after
            lost = after is None and step.after is not None
            saved = self.state.saved if lost else replace(step, after=after).onto(self.state.saved)
            self.state = replace(self.state, saved=saved)
            if step.reloads is not None:
                part: RecordKind = "offers" if step.reloads == "smb" else "exports"
                running: dict[str, Any] = {part: saved.part(part)}
                self.state = replace(self.state, running=replace(self.state.running, **running))
            running = {part: saved.part(part) for part in PARTS if part not in ("offers", "exports")}
            gone = {step.record.name} if step.part == "accounts" and step.does == "remove" else set()
            now = replace(self.state.running, **running)
            self.state = replace(self.state, running=now, given=self.state.given - gone)
            if step.does == "rename" and step.part in ("datasets", "folders") and step.before is not None:
                self._move(step.before.name, step.record.name)
            self.keep()
            if self.steps == self.faults.cut:
                raise ConnectionAbortedError

    def _move(self, old: str, new: str) -> None:
        """What lies in a folder goes with it."""

        def there(path: str) -> str:
            return new + path.removeprefix(old) if path == old or path.startswith(f"{old}/") else path

        self.things = {there(path): replace(thing, name=there(path)) for path, thing in self.things.items()}
        _write_inside(self.path, self.things.values())
        self.earlier = {there(dataset): kept for dataset, kept in self.earlier.items()}
        _write_earlier(self.path, self.earlier)

    def snapshot(self, dataset: str, name: str) -> str:
        """Raises ApplianceError."""
        with self.turn:
            if dataset not in self.state.saved.datasets:
                raise ApplianceError(f"it has no dataset {dataset}")
            now = lying(self.state.saved, self.things, dataset)
            self.earlier = {**self.earlier, dataset: {name: now, **self.earlier.get(dataset, {})}}
            _write_earlier(self.path, self.earlier)
        return name

    def compared(self, dataset: str, name: str, *, go_back: bool) -> Since:
        """What is otherwise than in a snapshot, or went back to it. Raises ApplianceError."""
        with self.turn:
            then = self.earlier.get(dataset, {}).get(name)
            if then is None:
                raise ApplianceError(f"it has no snapshot {name} of {dataset}")
            found = since(then, lying(self.state.saved, self.things, dataset))
            if go_back:
                for _ in range(found.otherwise):
                    time.sleep(self.faults.slow_thing)
                saved, self.things = back(self.state.saved, self.things, dataset, then)
                running = replace(self.state.running, folders=saved.folders)
                self.state = replace(self.state, saved=saved, running=running)
                self.keep()
                _write_inside(self.path, self.things.values())
        return found

    def without_password(self) -> list[str]:
        there = self.state.saved.accounts.values()
        return sorted(one.name for one in there if one.smb and one.name not in self.state.given)

    def give_passwords(self, accounts: Collection[str]) -> None:
        """It knows that somebody has one, not which. Raises ApplianceError for accounts that it does not have."""
        with self.turn:
            if unknown := sorted(set(accounts) - self.state.saved.accounts.keys()):
                raise ApplianceError(f"it has no account {unknown[0]}")
            self.state = replace(self.state, given=self.state.given | set(accounts))
            self.keep()

    def end_sessions(self, accounts: Collection[str]) -> tuple[OpenSession, ...]:
        with self.turn:
            ended = tuple(one for one in self.state.open if one.account in accounts)
            self.state = replace(self.state, open=tuple(one for one in self.state.open if one not in ended))
            self.keep()
        return ended

    def give(self, wanted: Sequence[Thing]) -> None:
        """What is not there any more stays away."""
        for _ in wanted:
            time.sleep(self.faults.slow_thing)
        with self.turn:
            stuck = self.faults.stuck
            given = {w.name: w for w in wanted if w.name in self.things and not (stuck and w.name.endswith(stuck))}
            self.things = self.things | given
            _write_inside(self.path, self.things.values())


def _inside(path: Path) -> dict[str, Thing]:
    beside = path.with_suffix(".inside")
    there = THINGS.validate_json(beside.read_text(), strict=False) if beside.exists() else ()
    return {thing.name: thing for thing in there}


def _earlier(path: Path) -> dict[str, dict[str, Earlier]]:
    beside = path.with_suffix(".earlier")
    return EARLIER.validate_json(beside.read_text(), strict=False) if beside.exists() else {}


def _write_earlier(path: Path, kept: dict[str, dict[str, Earlier]]) -> None:
    _put(path.with_suffix(".earlier"), EARLIER.dump_json(kept, exclude_defaults=True))


def _put(path: Path, text: bytes) -> None:
    """Write a file whole, or leave it as it was."""
    new = path.with_name(f"{path.name}.new")
    new.write_bytes(text)
    new.replace(path)


def _write_inside(path: Path, there: Iterable[Thing]) -> None:
    _put(path.with_suffix(".inside"), THINGS.dump_json(tuple(there), exclude_defaults=True))


def _write(path: Path, s: ApplianceState) -> None:
    systems = {
        name: None if system is None else SYSTEM.dump_python(system, mode="json")
        for name, system in (("saved", s.saved), ("running", s.running), ("held", s.held))
    }
    people = {"given": sorted(s.given), "open": s.open}
    told = {**systems, "until": s.until, "seconds": s.seconds, "ended": s.ended, **people}
    _put(path, json.dumps(told).encode())


def seed(
    path: Path,
    system: System,
    things: Iterable[Thing] = (),
    sessions: Iterable[OpenSession] = (),
    without: Collection[str] = (),
    earlier: Mapping[str, Mapping[str, Earlier]] | None = None,
) -> None:
    """Let a stand-in begin with this, with these things in its folders, these sessions open, passwords for all but those `without`, and
    these snapshots of its datasets."""
    _write(path, ApplianceState(system, system, given=frozenset(system.accounts) - set(without), open=tuple(sessions)))
    _write_inside(path, things)
    _write_earlier(path, {dataset: dict(kept) for dataset, kept in (earlier or {}).items()})


def _garbled(record: Any) -> Any:
    """Otherwise than it was told: as a name is cut, a list shortened; None: not at all."""
    match record:
        case Folder(owner=owner):
            return replace(record, owner="nobody" if owner != "nobody" else "root")
        case None | HostGroup():  # which may have any number, so that it can only be missing
            return None
        case Dataset():
            return replace(record, quota=1 << 30 if record.quota is None else None)
        case _ if hasattr(record, "users"):
            return replace(record, users=frozenset())
        case _ if hasattr(record, "hidden"):
            return replace(record, hidden=not record.hidden)
        case _ if hasattr(record, "full_name"):
            return replace(record, full_name=f"{record.full_name}?")
    return record


class _Asked(BaseHTTPRequestHandler):
    server: SimulatedAppliance
    protocol_version = "HTTP/1.1"

    def log_message(self, *_: Any) -> None:
        pass

    def do_POST(self) -> None:
        try:
            length = int(self.headers.get("content-length", "0"))
            if not 0 <= length <= LARGEST:
                raise ApplianceError("too much was sent")
            answer = self._answer(self.path, json.loads(self.rfile.read(length) or b"null"))
        except ConnectionAbortedError:
            self.close_connection = True
            return
        except (ApplianceError, ValueError) as error:
            kind = type(error).__name__ if isinstance(error, ApplianceError) else "ApplianceError"
            self._send(409, {"kind": kind, "why": str(error)})
            return
        self._send(200, answer)

    def _send(self, code: int, said: Any) -> None:
        body = json.dumps(said).encode()
        self.send_response(code)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        with suppress(OSError):
            self.wfile.write(body)

    def _answer(self, path: str, told: Any) -> Any:
        at = self.server
        match path:
            case "/read":
                return SYSTEM.dump_python(at.state.saved, mode="json")
            case "/do":
                return at.do(STEP.validate_python(told, strict=False))
            case "/inside":
                names = sorted(_in_folder(at.things, told["folder"], told["apart"]))
                some = [at.things[name] for name in names[told["from"] : told["from"] + PORTION]]
                return [len(names), THINGS.dump_python(tuple(some), mode="json")]
            case "/things":
                there = tuple(at.things[name] for name in told if name in at.things)
                return THINGS.dump_python(there, mode="json")
            case "/give":
                return at.give(THINGS.validate_python(told, strict=False))
            case "/snapshot":
                return at.snapshot(told, named(datetime.now(UTC)))
            case "/snapshots":
                datasets = at.state.running.datasets
                return {one: sorted(at.earlier.get(one, {}), reverse=True) for one in told if one in datasets}
            case "/since" | "/go-back":
                otherwise = at.compared(told["dataset"], told["snapshot"], go_back=path == "/go-back")
                return SINCE.dump_python(otherwise, mode="json")
            case "/running":
                return SYSTEM.dump_python(at.state.running, mode="json")
            case "/without-password":
                return at.without_password()
            case "/passwords":
                return at.give_passwords(told)
            case "/open":
                return at.state.open
            case "/end":
                return at.end_sessions(told)
            case "/faults":
                at.steps, at.faults = 0, ApplianceFaults(**told)
                return asdict(at.faults)
            case "/sessions":
                with at.turn:
                    number = len(at.sessions) + 1
                    at.sessions[number] = (told["account"], groups_of(at.state.saved, told["account"]))
                return number
            case "/enter":
                account, groups = at.sessions[told["session"]]
                answers = found(at.state.running, told["share"], account, groups, told["folders"], date.today())
                return None if answers is None else [list(one) for one in answers]
            case "/addresses":
                return OWN_ADDRESSES
            case "/enter-over-nfs":
                come = ip_address(told["address"])
                answers = found_over_nfs(at.state.running, told["exported"], told["account"], told["folders"], come)
                return None if answers is None else [list(one) for one in answers]
            case "/watch/arm" | "/watch/alive" | "/watch/end" | "/watch":
                return self._watch(path.rpartition("/")[2], told)
        raise ApplianceError(f"nothing is known of {path}")

    def _watch(self, what: str, told: Any) -> Watching:
        at = self.server
        with at.turn:
            state = at.state
            if what == "arm":
                if state.held is not None:
                    raise RolloutUnderWay("another rollout is under way there")
                seconds = int(told["seconds"])
                at.state = replace(
                    state, held=state.saved, seconds=seconds, until=time.time() + seconds, ended="nothing"
                )
            elif what in ("alive", "end") and state.held is None:
                raise TooLate("it put everything back by itself")
            elif what == "alive":
                at.state = replace(state, until=time.time() + state.seconds)
            elif what == "end":
                at.state = replace(state, held=None)
            at.keep()
            return "armed" if at.state.held is not None else at.state.ended


def _in_folder(things: Iterable[str], folder: str, apart: Collection[str]) -> Iterator[str]:
    out = tuple(f"{name}/" for name in apart)
    return (name for name in things if name.startswith(f"{folder}/") and not f"{name}/".startswith(out))
