"""The log: a line an event, as text or as JSON, to standard error or to a file that begins anew when it is full.

Whatever is told with `extra=told(...)`, and what `about` says of the work that is under way in a thread, stands in the line by name.
No secret is ever handed to it: what commands read is not among what is told, and passwords are in nothing else.
"""

import json
import logging
import os
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import UTC, datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any, Literal

Form = Literal["text", "json"]
LogLevel = Literal["debug", "info", "warning", "error"]
LARGEST, KEPT = 10_000_000, 5  # bytes of one file, and files before it that are kept
_about: ContextVar[dict[str, Any] | None] = ContextVar("about", default=None)


def told(**values: Any) -> dict[str, dict[str, Any]]:
    """For `extra` of a logging call: what stands in the line by name."""
    return {"values": values}


@contextmanager
def about(**values: Any) -> Iterator[None]:
    """What every line of this thread says, too, meanwhile: as of which run it is."""
    before = _about.set({**(_about.get() or {}), **values})
    try:
        yield
    finally:
        _about.reset(before)


def one_line(text: str) -> str:
    """Text in which no line ends: of a log, or of a comment in a script."""
    return "".join(char if char.isprintable() else " " for char in text)


class TextLines(logging.Formatter):
    """As text: when, how bad, which part of the program, what, and name=value."""

    def format(self, record: logging.LogRecord) -> str:
        named = "".join(f" {name}={_value(value)}" for name, value in _values(record).items())
        line = f"{_when(record)} {record.levelname} {record.name}: {one_line(record.getMessage())}{named}"
        return f"{line}\n{self.formatException(record.exc_info)}" if record.exc_info else line


class JsonLines(logging.Formatter):
    """As JSON: one object a line (RFC 8259)."""

    def format(self, record: logging.LogRecord) -> str:
        line = {
            "at": _when(record),
            "level": record.levelname.lower(),
            "part": record.name,
            "what": record.getMessage(),
        }
        line |= _values(record)
        if record.exc_info:
            line["error"] = self.formatException(record.exc_info)
        return json.dumps(line, default=str)


def begin(level: LogLevel = "info", form: Form = "text", file: Path | None = None) -> None:
    """From now on. file: where it is written, readable for its owner alone; None: to standard error. Raises OSError, where it cannot be written."""
    handler: logging.Handler
    if file is None:
        handler = logging.StreamHandler()
    else:
        os.close(os.open(file, os.O_WRONLY | os.O_CREAT, 0o600))
        handler = RotatingFileHandler(
            file, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", errors="backslashreplace"
        )
    handler.setFormatter(JsonLines() if form == "json" else TextLines())
    logging.basicConfig(handlers=[handler], level=logging.WARNING, force=True)
    logging.getLogger("yardgate").setLevel(level.upper())


def _when(record: logging.LogRecord) -> str:
    return datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _values(record: logging.LogRecord) -> dict[str, Any]:
    return {**(_about.get() or {}), **getattr(record, "values", {})}


def _value(value: Any) -> str:
    text = one_line(str(value))
    return text if text and " " not in text and '"' not in text else json.dumps(text, ensure_ascii=False)
