"""A Linux file server as an appliance: on this machine, or over SSH."""

import secrets
from collections.abc import Collection, Generator, Iterator, Mapping, Sequence
from contextlib import contextmanager

from yardgate.core.host.bounds import HostAccounts
from yardgate.core.host.contents import Handed, Owned, Thing
from yardgate.core.host.diagnosis import Asked, Facts
from yardgate.core.host.going_back import Since
from yardgate.core.host.probe import Abilities
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import PARTS, RecordKind, System
from yardgate.core.host.steps import Step
from yardgate.core.model.share import Protocol
from yardgate.drivers.appliance import ApplianceError, Watching
from yardgate.drivers.linux import commands, contents, datasets, earlier, firewall, network, nfs, reading, sign_in
from yardgate.drivers.linux.command import FILES, Files, Runner
from yardgate.drivers.linux.facts import facts
from yardgate.drivers.linux.handout import script, shown
from yardgate.drivers.linux.trial import LinuxTrial
from yardgate.drivers.linux.watch import Watch

NO_SMB = (
    "the SMB server (smbd) does not run there, so no client would get in; start it first: systemctl enable --now smbd"
)


class LinuxHost:
    """`Appliance` by commands. run: how one is run there."""

    def __init__(self, run: Runner, name: str = "this host", files: Files = FILES):
        self.run, self.name, self.files = run, name, files
        self.watch = Watch(run)

    def read(self, asked: System, parts: Collection[RecordKind] = PARTS) -> System:
        return reading.read(self.run, asked, self.files, parts)

    def about(self) -> HostAccounts:
        return reading.about(self.run)

    def do(self, step: Step, now: System) -> None:
        for command in commands.commands(step, now, self.files):
            ran = self.run(command)
            if ran.code:
                said = (ran.err.strip() or ran.out.strip()).splitlines()
                raise ApplianceError(
                    f"could not {command.why}: {said[-1] if said else f'{command.argv[0]} ended with {ran.code}'}"
                )

    def shown(self, step: Step, now: System) -> list[str]:
        return shown(commands.commands(step, now, self.files))

    def arm(self, now: System, found: Sequence[Step], seconds: int) -> None:
        if any(step.reloads == "smb" for step in found) and all(step.id != "services:smb" for step in found):
            self._serves()
        self.watch.arm(script("Put back what was there before", now, found, self.files, remembers=False), seconds)

    def alive(self) -> None:
        self.watch.alive()

    def end(self) -> None:
        self.watch.end()

    def watching(self) -> Watching:
        return self.watch.watching()

    def inside(self, folder: str, apart: Collection[str]) -> Iterator[tuple[int, list[Thing]]]:
        return contents.inside(self.run, folder, apart)

    def things(self, paths: Mapping[str, bool]) -> list[Thing]:
        return contents.things(self.run, paths)

    def snapshot(self, dataset: str) -> str:
        return datasets.snapshot(self.run, dataset)

    def snapshots(self, of: Sequence[str]) -> dict[str, tuple[str, ...]]:
        return earlier.snapshots(self.run, of)

    def since(self, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
        return earlier.since(self.run, dataset, snapshot)

    def go_back(self, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
        return earlier.go_back(self.run, dataset, snapshot)

    def give(self, wanted: Sequence[Thing]) -> None:
        contents.give(self.run, wanted)

    def owned(self, account: str, folders: Sequence[str]) -> tuple[Owned, ...]:
        return contents.owned(self.run, account, folders)

    def hand_over(self, account: str, to: str, folders: Sequence[str]) -> Handed:
        return contents.hand_over(self.run, account, to, folders)

    def facts(self, asked: Asked, top: str) -> Facts:
        return facts(self.run, asked, self.files, top)

    def without_password(self) -> frozenset[str]:
        return sign_in.without_password(self.run)

    def give_passwords(self, passwords: Mapping[str, str], *, change: bool) -> None:
        sign_in.give_passwords(self.run, passwords, change)

    def sessions(self) -> tuple[OpenSession, ...]:
        return sign_in.sessions(self.run)

    def end_sessions(self, accounts: Collection[str]) -> tuple[OpenSession, ...]:
        return sign_in.end_sessions(self.run, accounts)

    def addresses(self) -> tuple[str, ...]:
        return tuple(str(one.at.ip) for one in network.own(self.run))

    def shut(self, protocol: Protocol, machine: str = "") -> str:
        return firewall.shut(self.run, protocol, machine)

    def enter_over_nfs(
        self, account: str, exported: str, folders: Sequence[str], address: str
    ) -> list[Abilities] | None:
        return nfs.enter(self.run, account, exported, folders, address)

    def _serves(self) -> None:
        if not reading.smb_runs(self.run):
            raise ApplianceError(NO_SMB)

    @contextmanager
    def trial(self, accounts: Collection[str]) -> Iterator[LinuxTrial]:
        self._serves()
        own = LinuxTrial(self.run, self.files, secrets.token_hex(4))
        try:
            own.begin(accounts)
            yield own
        finally:
            own.end()
