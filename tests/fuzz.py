"""Readers of foreign text, given what a fuzzer thinks up from the branches that they take.

python -m tests.fuzz FOLDER SECONDS [READER ...]: each reader in a process of its own, two at a time. FOLDER keeps, for each, what leads to
new branches, the log, and what was found. A reader fails as soon as it raises what it may not, takes more than 5 seconds, or the process more
than 1 GiB.
"""

import os
import re
import sys
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["yardgate.formats", "yardgate.drivers", "yardgate.api.transport.parsing"]):
    from tests.readers import READERS, REFUSALS, SAMPLES

BOUNDS = ("-timeout=5", "-rss_limit_mb=1024", "-max_len=32768")
AT_ONCE = 2


def fuzz(reader: str, folder: Path, seconds: int) -> None:
    """Until the time is up, or something is found; it ends the process."""
    (folder / "corpus").mkdir(parents=True, exist_ok=True)
    for number, sample in enumerate(SAMPLES[reader]):
        (folder / "corpus" / f"sample-{number}").write_bytes(sample)
    log = os.open(folder / "log", os.O_CREAT | os.O_TRUNC | os.O_WRONLY)
    os.dup2(log, 1)
    os.dup2(log, 2)

    def once(content: bytes) -> None:
        try:
            with suppress(*REFUSALS):
                READERS[reader](content)
        except Exception:
            (folder / "raised-by").write_bytes(content)
            raise

    ends = (f"-max_total_time={seconds}", f"-artifact_prefix={folder}/")
    atheris.Setup(["fuzz", *BOUNDS, *ends, str(folder / "corpus")], once)
    atheris.Fuzz()


def run(reader: str, folder: Path, seconds: int) -> bool:
    """Fuzz in a process of its own, say how it went, and whether nothing was found."""
    child = os.fork()
    if child == 0:
        try:
            fuzz(reader, folder, seconds)
        finally:
            os._exit(1)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    log = (folder / "log").read_text(errors="replace")
    done = re.findall(r"^Done (\d+) runs|^#(\d+)", log, re.MULTILINE)
    runs = next((one or other for one, other in reversed(done)), "no")
    print(f"{reader}: {runs} runs, {'nothing found' if code == 0 else f'FAILED, see {folder}'}", flush=True)
    return code == 0


def main(folder: Path, seconds: int, readers: list[str]) -> bool:
    with ThreadPoolExecutor(AT_ONCE) as pool:
        return all([*pool.map(lambda reader: run(reader, folder / reader, seconds), readers or READERS)])


if __name__ == "__main__":
    sys.exit(0 if main(Path(sys.argv[1]), int(sys.argv[2]), sys.argv[3:]) else 1)
