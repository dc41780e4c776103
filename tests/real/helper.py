"""A process beside the tests that answers a line of JSON with a line of JSON."""

import json
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any


class Helper:
    def __init__(self, python: str, script: str) -> None:
        command = [python, "-I", str(Path(__file__).with_name(script))]
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def ask(self, task: dict[str, Any]) -> Any:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(json.dumps(task) + "\n")
        self.process.stdin.flush()
        return json.loads(self.process.stdout.readline())


@contextmanager
def helper(python: str, script: str) -> Iterator[Helper]:
    """One that runs until the end of the block, and must end well."""
    started = Helper(python, script)
    try:
        yield started
    finally:
        assert started.process.stdin is not None
        started.process.stdin.close()
        assert started.process.wait(30) == 0
