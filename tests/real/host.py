"""A Linux file server of its own beside the tests: own /etc, /srv, accounts and SMB server, in namespaces."""

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent.parent
OWN = ["unshare", "--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "--propagation", "private"]


class Host:
    """The process that is everything of the host; what is asked goes in as a line of JSON, the answer comes back as one."""

    def __init__(self, beside: "subprocess.Popen[str]"):
        self.beside = beside

    def ask(self, what: str, **more: Any) -> Any:
        assert self.beside.stdin is not None
        assert self.beside.stdout is not None
        self.beside.stdin.write(json.dumps({"what": what, **more}) + "\n")
        self.beside.stdin.flush()
        line = self.beside.stdout.readline()
        assert line, "the host ended"
        found = json.loads(line)
        assert "trouble" not in found, found.get("trouble")
        return found["found"]


@contextmanager
def host() -> Iterator[Host]:
    command = [*OWN, sys.executable, str(Path(__file__).with_name("host_child.py"))]
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, cwd=ROOT, start_new_session=True
    ) as beside:
        try:
            yield Host(beside)
        finally:
            assert beside.stdin is not None
            beside.stdin.close()
            beside.wait(30)
