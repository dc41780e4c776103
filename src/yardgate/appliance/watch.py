"""A watch on the host that puts everything back by itself, unless it is told in time that it is kept.

It is a shell of its own, in a session of its own: it goes on when whoever started the rollout is gone, killed or cut off. (It does
not outlive the host: after a restart, the script lies in the folder to be run by hand.)
"""

import os
import subprocess
from pathlib import Path
from types import TracebackType

FOLDER = Path("/var/lib/yardgate")
WATCH = """cd "$1"
while test -e armed; do
  last=$(stat -c %Y armed) || exit 0
  if test "$(($(date +%s) - last))" -ge "$2"; then
    mv armed undoing
    sh undo.sh --undo > said 2>&1 && echo put back > ended || echo not all could be put back > ended
    rm -f undoing
    exit
  fi
  sleep 1
done"""


class Watch:
    """Armed when entered. `alive` winds it up anew; `keep` ends it. Raises FileExistsError where another rollout is under way."""

    def __init__(self, undo: str, seconds: int, folder: Path = FOLDER):
        self.undo, self.seconds, self.folder = undo, seconds, folder
        self.armed = folder / "armed"

    def __enter__(self) -> "Watch":
        self.folder.mkdir(parents=True, mode=0o700, exist_ok=True)
        if (self.folder / "undoing").exists():
            raise FileExistsError(self.folder / "undoing")
        with self.armed.open("x"):
            pass
        (self.folder / "ended").unlink(missing_ok=True)
        (self.folder / "undo.sh").write_text(self.undo)
        quiet = subprocess.DEVNULL
        self.shell = subprocess.Popen(
            ["sh", "-c", WATCH, "sh", str(self.folder), str(self.seconds)],
            stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True,
        )  # fmt: skip
        return self

    def alive(self) -> None:
        os.utime(self.armed)

    def keep(self) -> None:
        self.armed.unlink(missing_ok=True)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Where something broke off, the watch stays armed: it will put everything back."""
        if kind is None:
            self.keep()
