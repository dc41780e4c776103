"""A simulated appliance for any plan, at a port of this machine's own, so that a rollout can be tried before there is anything to lose. Each keeps what it was told
beside the database, and is there again when the server is."""

import logging
import threading
from dataclasses import replace
from pathlib import Path

from yardgate.drivers.simulator import SimulatedAppliance
from yardgate.store.rollouts import Rollouts

log = logging.getLogger(__name__)


class SimulatedAppliances:
    def __init__(self, folder: Path):
        self._folder = folder
        self._running: dict[str, SimulatedAppliance] = {}
        self._lock = threading.Lock()

    def start(self, plan: str, port: int = 0) -> int:
        """The port of the plan's own, which runs from now on; where it is not said, or taken, a free one."""
        with self._lock:
            if plan not in self._running:
                self._folder.mkdir(exist_ok=True)
                self._running[plan] = self._at(self._folder / f"{plan}.json", port)
            return self._running[plan].port

    def _at(self, path: Path, port: int) -> SimulatedAppliance:
        try:
            appliance = SimulatedAppliance(path, port)
        except OSError:
            appliance = SimulatedAppliance(path)
        threading.Thread(target=appliance.serve_forever, daemon=True).start()
        return appliance

    def resume(self, plans: list[str], rollouts: Rollouts) -> None:
        """Those that ran when the server last did."""
        for plan in sorted(set(plans) & {path.stem for path in self._folder.glob("*.json")}):
            where = rollouts.destination(plan)
            if where.kind == "stand-in":
                port = self.start(plan, where.port)
                if port != where.port:
                    log.warning("the simulated appliance of plan %s has another port now: %s", plan, port)
                    rollouts.send_to(plan, replace(where, port=port))
