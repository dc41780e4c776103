"""A stand-in appliance beside the tests."""

import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from yardgate.core.host.contents import Thing
from yardgate.core.host.state import System
from yardgate.drivers.simulator import ApplianceFaults, SimulatedAppliance, seed


@contextmanager
def stand_in(
    folder: Path, having: System | None = None, slow: float = 0, things: Iterable[Thing] = (), port: int = 0
) -> Iterator[SimulatedAppliance]:
    path = folder / "appliance.json"
    if having is not None:
        seed(path, having, things)
    appliance = SimulatedAppliance(path, port)
    appliance.faults = ApplianceFaults(slow=slow, slow_thing=0)
    thread = threading.Thread(target=appliance.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield appliance
    finally:
        appliance.shutdown()
        appliance.server_close()
        thread.join()
