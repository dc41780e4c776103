"""Getting to the appliance that a plan goes to."""

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Protocol

from yardgate.appliance.apply import SECONDS, here
from yardgate.appliance.host import LinuxHost
from yardgate.appliance.ssh import Login, Ssh
from yardgate.appliance.target import Appliance, ApplianceError
from yardgate.core.rollout import Destination


class Reach(Protocol):
    def __call__(self, destination: Destination, /) -> AbstractContextManager[Appliance]: ...


@contextmanager
def reached(destination: Destination, seconds: float = SECONDS) -> Iterator[Appliance]:
    """seconds: the longest that one command may take. Raises ApplianceError where there is nothing to reach, Unreachable at the first command where it cannot be reached."""
    match destination.kind:
        case "here":
            yield LinuxHost(lambda command: here(command, seconds))
        case "ssh":
            ssh = Ssh(login(destination), seconds)
            try:
                yield LinuxHost(ssh, destination.host)
            finally:
                ssh.close()
        case "stand-in":
            from yardgate.appliance.standin import HOST, Client

            yield Client(HOST, destination.port)
        case "papers":
            raise ApplianceError(
                "no appliance is named that could be reached: script and runbook are the way to this one"
            )


def login(destination: Destination) -> Login:
    d = destination
    return Login(host=d.host, port=d.port, user=d.user, key=d.key, as_root=d.as_root)
