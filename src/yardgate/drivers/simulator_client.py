"""`Appliance` by asking a simulated one (see `simulator`), and how steps are told to it."""

import http.client
import json
from collections.abc import Collection, Generator, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import fields, replace
from typing import Any

from yardgate.core.acl import Ordered, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.host.bounds import LOWEST, HostAccounts
from yardgate.core.host.contents import Handed, Owned, Thing
from yardgate.core.host.diagnosis import Asked, Facts
from yardgate.core.host.evaluate import groups_of
from yardgate.core.host.going_back import Since
from yardgate.core.host.probe import Abilities
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import PARTS, Export, Record, RecordKind, System
from yardgate.core.host.steps import Step
from yardgate.core.model import share
from yardgate.drivers.appliance import ApplianceError, RolloutUnderWay, TooLate, Trial, Unreachable, Watching
from yardgate.drivers.linux.commands import entries_text, list_text
from yardgate.drivers.simulator import PORTION, SESSIONS, SINCE, STEP, SYSTEM, THINGS


class Client:
    """`Appliance` by asking a stand-in."""

    def __init__(self, host: str, port: int):
        self.host, self.port, self.name = host, port, "the stand-in appliance"

    def _ask(self, path: str, told: Any = None) -> Any:
        line = http.client.HTTPConnection(self.host, self.port, timeout=120)
        try:
            line.request("POST", path, json.dumps(told), {"content-type": "application/json"})
            answer = line.getresponse()
            said = json.loads(answer.read())
        except (OSError, http.client.HTTPException, ValueError) as error:
            raise Unreachable(
                f"the stand-in at {self.host}:{self.port} does not answer: {error or 'cut off'}"
            ) from None
        finally:
            line.close()
        if answer.status != 200:
            kinds: Mapping[str, type[ApplianceError]] = {"RolloutUnderWay": RolloutUnderWay, "TooLate": TooLate}
            raise kinds.get(said["kind"], ApplianceError)(said["why"])
        return said

    def read(self, asked: System, parts: Collection[RecordKind] = PARTS) -> System:
        there = SYSTEM.validate_python(self._ask("/read"), strict=False)
        some: dict[str, Any] = {}
        for part in parts:
            ours = part in ("offers", "exports")
            some[part] = {n: r for n, r in there.part(part).items() if ours or n in asked.part(part)}
        return System(**some)

    def about(self) -> HostAccounts:
        there = SYSTEM.validate_python(self._ask("/read"), strict=False)
        users = {name: LOWEST if one.uid is None else one.uid for name, one in there.accounts.items()}
        groups = {name: LOWEST if one.gid is None else one.gid for name, one in there.groups.items()}
        return HostAccounts(users={"root": 0, **users}, groups={"root": 0, "shadow": 42, **groups})

    def do(self, step: Step, _: System) -> None:
        self._ask("/do", STEP.dump_python(step, mode="json"))

    def shown(self, step: Step, now: System) -> list[str]:
        return told(step, now)

    def arm(self, _: System, __: Sequence[Step], seconds: int) -> None:
        self._ask("/watch/arm", {"seconds": seconds})

    def alive(self) -> None:
        self._ask("/watch/alive")

    def end(self) -> None:
        self._ask("/watch/end")

    def watching(self) -> Watching:
        said: Watching = self._ask("/watch")
        return said

    def inside(self, folder: str, apart: Collection[str]) -> Iterator[tuple[int, list[Thing]]]:
        seen, total = 0, 1
        while seen < total:
            total, said = self._ask("/inside", {"folder": folder, "apart": list(apart), "from": seen})
            seen += PORTION
            yield total, list(THINGS.validate_python(said, strict=False))

    def things(self, paths: Mapping[str, bool]) -> list[Thing]:
        return list(THINGS.validate_python(self._ask("/things", list(paths)), strict=False))

    def snapshot(self, dataset: str) -> str:
        return str(self._ask("/snapshot", dataset))

    def snapshots(self, datasets: Sequence[str]) -> Mapping[str, tuple[str, ...]]:
        return {dataset: tuple(names) for dataset, names in self._ask("/snapshots", list(datasets)).items()}

    def since(self, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
        yield 1, 1, self._compared("/since", dataset, snapshot)

    def go_back(self, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
        yield 1, 1, self._compared("/go-back", dataset, snapshot)

    def _compared(self, path: str, dataset: str, snapshot: str) -> Since:
        return SINCE.validate_python(self._ask(path, {"dataset": dataset, "snapshot": snapshot}), strict=False)

    def give(self, wanted: Sequence[Thing]) -> None:
        self._ask("/give", THINGS.dump_python(tuple(wanted), mode="json"))

    def owned(self, account: str, folders: Sequence[str]) -> tuple[Owned, ...]:
        """It knows what lies there, and not how large that is."""
        return tuple(Owned(folder, len(self._of(account, folder, folders)), 0) for folder in folders)

    def _of(self, account: str, folder: str, folders: Sequence[str]) -> list[Thing]:
        """What an account owns in a folder, and not in one of the others deeper down, which are datasets of their own."""
        deeper = [other for other in folders if other.startswith(f"{folder}/")]
        lying = (thing for _, some in self.inside(folder, deeper) for thing in some)
        return [thing for thing in lying if thing.owner == account]

    def hand_over(self, account: str, to: str, folders: Sequence[str]) -> Handed:
        theirs = [replace(one, owner=to) for folder in folders for one in self._of(account, folder, folders)]
        self.give(theirs)
        return Handed(len(theirs), 0)

    def facts(self, asked: Asked, top: str) -> Facts:
        there = SYSTEM.validate_python(self._ask("/running"), strict=False)
        thing = f"{top}/{asked.path}" if asked.path else top
        paths = [thing[:at] for at in range(1, len(thing)) if thing[at] == "/"] + [thing]
        known = [there.folders[path] for path in paths if path in there.folders]
        return Facts(
            service=there.services.get(asked.protocol),
            account=there.accounts.get(asked.account),
            password="not given" if asked.account in self.without_password() else "known",
            groups=groups_of(there, asked.account),
            sessions=tuple(one for one in self.sessions() if one.account == asked.account),
            offer=there.offers.get(asked.share),
            export=there.exports.get(asked.share),
            folders=tuple(known),
            missing="" if known and known[-1].name == thing else thing,
        )

    def without_password(self) -> frozenset[str]:
        return frozenset(self._ask("/without-password"))

    def give_passwords(self, passwords: Mapping[str, str], *, change: bool) -> None:  # noqa: ARG002 (nobody signs in there with one)
        self._ask("/passwords", list(passwords))

    def sessions(self) -> tuple[OpenSession, ...]:
        return SESSIONS.validate_python(self._ask("/open"), strict=False)

    def end_sessions(self, accounts: Collection[str]) -> tuple[OpenSession, ...]:
        return SESSIONS.validate_python(self._ask("/end", sorted(accounts)), strict=False)

    def addresses(self) -> tuple[str, ...]:
        return tuple(self._ask("/addresses"))

    def shut(self, _: share.Protocol, __: str = "") -> str:
        return ""  # it has no firewall

    def enter_over_nfs(
        self, account: str, exported: str, folders: Sequence[str], address: str
    ) -> list[Abilities] | None:
        told = {"account": account, "exported": exported, "folders": list(folders), "address": address}
        answers = self._ask("/enter-over-nfs", told)
        return None if answers is None else [Abilities(*one) for one in answers]

    @contextmanager
    def trial(self, _: Collection[str]) -> Iterator[Trial]:
        yield _Session(self)


def told(step: Step, _: System) -> list[str]:
    """How a step is told to a stand-in."""
    does = "set" if step.after is not None else "remove"
    if step.does == "rename" and step.before is not None:
        return ["# told to the simulated appliance", f"rename {step.part} {step.before.name} to {step.record.name}"]
    lines = ["# told to the simulated appliance", f"{does} {step.part} {step.record.name}"]
    lines += [f"| {line}" for line in (_said(step.after) if step.after is not None else ())]
    return [*lines, "# then its service reads it", f"reload {step.reloads}"] if step.reloads else lines


def _said(record: Record) -> Iterator[str]:
    """A record in lines to be read: each field, then the entries of a list."""
    for one in fields(record):
        value = getattr(record, one.name)
        match value:
            case _ if one.name == "name" or value in (None, "", ()):
                continue
            case Posix():
                yield from (line for line in list_text(value).splitlines())
            case Ordered():
                yield from entries_text(value)
            case bool():
                yield f"{one.name}: {'yes' if value else 'no'}"
            case tuple() if isinstance(record, Export):
                yield from (f"{rule.hosts}: {rule.level.name.lower()}" for rule in record.rules)
            case tuple() | frozenset():
                yield f"{one.name}: {', '.join(sorted(value))}"
            case Level():
                yield f"{one.name}: {value.name.lower()}"
            case _:
                yield f"{one.name}: {value}"


class _Session:
    def __init__(self, client: Client):
        self.client = client

    def enter(self, account: str, share: str, folders: Sequence[str]) -> list[Abilities] | None:
        session = self.client._ask("/sessions", {"account": account})
        answers = self.client._ask("/enter", {"session": session, "share": share, "folders": list(folders)})
        return None if answers is None else [Abilities(*one) for one in answers]
