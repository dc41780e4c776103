"""Getting to the appliance that a plan goes to."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Protocol

from yardgate.core.host.steps import Destination
from yardgate.drivers.appliance import Appliance, ApplianceError
from yardgate.drivers.linux.apply import SECONDS, here
from yardgate.drivers.linux.commands import Command, Done, Runner
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.ssh import Login, Ssh

CommandLog = Callable[[str, Command, Done], None]
"""Told of each command that was run on a host, by the host's name, and of what came of it."""


class Connection(Protocol):
    def __call__(
        self, destination: Destination, /, *, record: CommandLog | None = None
    ) -> AbstractContextManager[Appliance]: ...


@contextmanager
def reached(
    destination: Destination, seconds: float = SECONDS, *, record: CommandLog | None = None
) -> Iterator[Appliance]:
    """seconds: the longest that one command may take. Raises ApplianceError where there is nothing to reach, Unreachable at the first command where it cannot be reached."""
    match destination.kind:
        case "here":
            yield LinuxHost(_recorded(lambda command: here(command, seconds), "this host", record))
        case "ssh":
            ssh = Ssh(login(destination), seconds)
            try:
                yield LinuxHost(_recorded(ssh, destination.host, record), destination.host)
            finally:
                ssh.close()
        case "stand-in":
            from yardgate.drivers.simulator import HOST, Client

            yield Client(HOST, destination.port)
        case "papers":
            raise ApplianceError(
                "no appliance is named that could be reached: script and runbook are the way to this one"
            )


def _recorded(run: Runner, host: str, record: CommandLog | None) -> Runner:
    """The same, with what changes something there, or fails, written down."""
    if record is None:
        return run

    def running(command: Command) -> Done:
        done = run(command)
        if command.changes or done.code:
            record(host, command, done)
        return done

    return running


def login(destination: Destination) -> Login:
    d = destination
    return Login(host=d.host, port=d.port, user=d.user, key=d.key, as_root=d.as_root)
