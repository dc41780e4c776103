"""Every reader of foreign text, given what a fuzzer thinks up: it gives an answer or says what is wrong, in time, with bounded memory."""

import io
import platform
import re
import subprocess
import sys
import zipfile
from contextlib import suppress
from pathlib import Path

import pytest

from tests.readers import READERS, REFUSALS, SAMPLES
from tests.tries import times


def _spoilt(packed: bytes) -> bytes:
    """A packed file whose parts begin as no compressed data does (RFC 1951, 3.2.3: a block of type 3)."""
    spoilt = bytearray(packed)
    with zipfile.ZipFile(io.BytesIO(packed)) as parts:
        for part in parts.infolist():
            spoilt[part.header_offset + 30 + len(part.filename)] = 0x07
    return bytes(spoilt)


NO_POOL = SAMPLES["plan"][0].replace(b'"id": "ballast"', b'"id": "other"')
FOUND = [  # what a fuzzer found once
    ("plan", NO_POOL),
    ("matrix", _spoilt(SAMPLES["matrix"][2])),
    ("promises", b",,\n"),
    ("people", b" \n;;\n"),
    ("exports", SAMPLES["exports"][0].replace(b"root_squash", b"no2_squash")),
    ("host", SAMPLES["host"][0].replace(b":x:1", b":x:none", 40)),
    ("host", SAMPLES["host"][0].replace(b":20500:", b":999999999999:")),
    ("host", SAMPLES["host"][0].replace(b"btrfs", b"btrDfs")),
    ("host inside", SAMPLES["host inside"][0].replace(b"=0x01", b"=0x0z")),
    ("host inside", SAMPLES["host inside"][0].replace(b"# file: /srv/a", b"# file: /srv/other")),
]


@pytest.mark.parametrize(("reader", "content"), FOUND)
def test_what_was_found_once_is_answered(reader: str, content: bytes) -> None:
    assert content not in SAMPLES[reader]
    with suppress(*REFUSALS):
        READERS[reader](content)


@pytest.mark.parametrize("reader", READERS)
def test_what_a_fuzzer_begins_with_is_read(reader: str) -> None:
    for sample in SAMPLES[reader]:
        READERS[reader](sample)


@pytest.mark.skipif(platform.machine() != "x86_64", reason="there is no fuzzer for this machine")
def test_no_text_breaks_a_reader(tmp_path: Path) -> None:
    command = (sys.executable, "-m", "tests.fuzz", tmp_path, times(1, 90))
    done = subprocess.run(
        [str(part) for part in command], capture_output=True, text=True, cwd=Path(__file__).parents[2]
    )
    print(done.stdout)
    assert done.returncode == 0, f"{done.stdout}\n{_found(tmp_path)}"


def _found(folder: Path) -> str:
    """The ends of the logs of what failed, and what was read."""
    said = [
        log.read_text(errors="replace")[-1500:]
        for log in folder.glob("*/log")
        if re.search("ERROR: libFuzzer|Uncaught Python exception", log.read_text(errors="replace"))
    ]
    return "\n".join(
        [*said, *(f"{file.name}: {file.read_bytes()[:2000]!r}" for file in folder.glob("*/*-*") if file.is_file())]
    )
