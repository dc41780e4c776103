"""Getting to the appliance that a plan goes to."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager

from yardgate.appliance.apply import here
from yardgate.appliance.host import LinuxHost
from yardgate.appliance.ssh import Login, Ssh
from yardgate.appliance.target import Appliance, ApplianceError
from yardgate.core.rollout import Destination

Reach = Callable[[Destination], AbstractContextManager[Appliance]]


@contextmanager
def reached(destination: Destination) -> Iterator[Appliance]:
    """Raises ApplianceError where there is nothing to reach, Unreachable at the first command where it cannot be reached."""
    match destination.kind:
        case "here":
            yield LinuxHost(here)
        case "ssh":
            ssh = Ssh(login(destination))
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
