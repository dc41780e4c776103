"""A stand-in appliance beside the tests."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from yardgate.appliance.standin import Faults, StandIn, seed
from yardgate.core.system import System


@contextmanager
def stand_in(folder: Path, having: System | None = None, slow: float = 0) -> Iterator[StandIn]:
    path = folder / "appliance.json"
    if having is not None:
        seed(path, having)
    appliance = StandIn(path)
    appliance.faults = Faults(slow=slow)
    thread = threading.Thread(target=appliance.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield appliance
    finally:
        appliance.shutdown()
        appliance.server_close()
        thread.join()
