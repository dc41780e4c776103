"""A watch on the host that puts everything back by itself, unless it is told in time that it is kept.

It is a shell of its own, in a session of its own: it goes on when whoever started the rollout is gone, killed or cut off. (It does
not outlive the host: after a restart, the script lies in the folder to be run by hand.)
"""

import os
import subprocess
from pathlib import Path

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


class TooLate(Exception):
    """The host is putting everything back by itself, or has."""


class Watch:
    """`arm` begins it, `alive` winds it up anew, `end` ends it. What is not ended puts everything back, `seconds` after it was wound up."""

    def __init__(self, undo: str, seconds: int, folder: Path = FOLDER):
        self.undo, self.seconds, self.folder = undo, seconds, folder
        self.armed = folder / "armed"

    def arm(self) -> None:
        """Raises FileExistsError where another rollout is under way."""
        self.folder.mkdir(parents=True, mode=0o700, exist_ok=True)
        if (self.folder / "undoing").exists():
            raise FileExistsError(self.folder / "undoing")
        with self.armed.open("x"):
            pass
        (self.folder / "ended").unlink(missing_ok=True)
        (self.folder / "undo.sh").write_text(self.undo)
        quiet = subprocess.DEVNULL
        subprocess.Popen(
            ["sh", "-c", WATCH, "sh", str(self.folder), str(self.seconds)],
            stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True,
        )  # fmt: skip

    def alive(self) -> None:
        """Raises TooLate."""
        try:
            os.utime(self.armed)
        except FileNotFoundError:
            raise TooLate from None

    def end(self) -> None:
        """Raises TooLate."""
        try:
            self.armed.unlink()
        except FileNotFoundError:
            raise TooLate from None
