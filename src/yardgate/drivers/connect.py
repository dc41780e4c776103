"""Getting to the appliance that a plan goes to."""

import logging
import shlex
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Protocol

from yardgate.core.host.steps import Destination
from yardgate.drivers.appliance import Appliance, ApplianceError
from yardgate.drivers.linux.apply import SECONDS, here
from yardgate.drivers.linux.command import Command, Done, Runner
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.ssh import Login, Ssh
from yardgate.log import told

log = logging.getLogger("yardgate.commands")
ARGUMENTS, SAID = 2000, 500  # characters of a command and of what it said that stand in the log

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
            from yardgate.drivers.simulator import HOST
            from yardgate.drivers.simulator_client import Client

            yield Client(HOST, destination.port)
        case "papers":
            raise ApplianceError(
                "no appliance is named that could be reached: script and runbook are the way to this one"
            )


def _recorded(run: Runner, host: str, record: CommandLog | None) -> Runner:
    """The same, with each in the log; and what changes something there, or fails, told to `record`."""

    def running(command: Command) -> Done:
        begun = time.monotonic()
        done = run(command)
        level = logging.WARNING if done.code else logging.INFO if command.changes else logging.DEBUG
        if log.isEnabledFor(level):
            values = {
                "host": host,
                "argv": shlex.join(command.argv)[:ARGUMENTS],
                "code": done.code,
                "seconds": round(time.monotonic() - begun, 3),
            }
            log.log(level, "ran a command to %s", command.why, extra=told(**values, stderr=done.err.strip()[-SAID:]))
        if record is not None and (command.changes or done.code):
            record(host, command, done)
        return done

    return running


def login(destination: Destination) -> Login:
    d = destination
    return Login(host=d.host, port=d.port, user=d.user, key=d.key, as_root=d.as_root)
