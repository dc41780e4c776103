"""The password of a directory's reading account: handed over by the caller, from the environment, or from a file that nobody
else may read. It is never written anywhere."""

import os
import re
import stat
from collections.abc import Mapping
from pathlib import Path

from yardgate.core.model.directory import Directory
from yardgate.drivers.directory.progress import DirectoryError

VARIABLE = "YARDGATE_DIRECTORY_PASSWORD"


def given(directory: Directory, environment: Mapping[str, str] = os.environ) -> str | None:
    """The password that the environment gives for a directory: YARDGATE_DIRECTORY_PASSWORD_NAME, the same without _NAME, or
    either with _FILE behind it, which names a file. None where it says nothing. Raises DirectoryError for an unsafe file."""
    name = re.sub(r"[^A-Z0-9]+", "_", directory.name.upper())
    for variable in (f"{VARIABLE}_{name}", VARIABLE):
        if environment.get(variable):
            return environment[variable]
        if environment.get(f"{variable}_FILE"):
            return from_file(Path(environment[f"{variable}_FILE"]))
    return None


def from_file(path: Path) -> str:
    """The first line of a file that is ours and that nobody else may read or change."""
    try:
        with path.open("rb") as file:
            found = os.fstat(file.fileno())
            if not stat.S_ISREG(found.st_mode):
                raise DirectoryError("sign-in", f"{path} is not a file")
            if found.st_mode & 0o077 or found.st_uid not in (os.geteuid(), 0):
                raise DirectoryError(
                    "sign-in", f"others may read {path}, or it belongs to somebody else; make it yours and chmod 600"
                )
            line = file.readline(10_000).rstrip(b"\r\n")
    except OSError as error:
        raise DirectoryError("sign-in", f"{path}: {error.strerror}") from None
    if not line:
        raise DirectoryError("sign-in", f"{path} is empty")
    return line.decode("utf-8", "replace")
