"""The log: every command on an appliance stands in it once, in one line, with the run and step that it belongs to; and no secret."""

import json
import logging
import stat
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.hostile import HOSTILE
from yardgate import log
from yardgate.core.host.steps import Destination
from yardgate.drivers import connect
from yardgate.drivers.linux.command import Command, Done


@pytest.fixture(autouse=True)
def as_it_was() -> Iterator[None]:
    root, ours = logging.getLogger(), logging.getLogger("yardgate")
    handlers, levels = root.handlers[:], (root.level, ours.level)
    yield
    for handler in root.handlers:
        if handler not in handlers:
            handler.close()
    root.handlers[:] = handlers
    root.setLevel(levels[0])
    ours.setLevel(levels[1])


def run(monkeypatch: pytest.MonkeyPatch, *commands: Command) -> list[str]:
    """Run some where each ends as its first argument says; which of them a job was told of."""
    told: list[str] = []
    monkeypatch.setattr(
        connect, "here", lambda command, _seconds: Done(int(command.argv[1]), "out", "what\nwent wrong")
    )
    with connect.reached(Destination(kind="here"), record=lambda _host, command, _done: told.append(command.why)) as at:
        for command in commands:
            at.run(command)  # type: ignore[attr-defined]
    return told


def test_every_command_is_a_line_with_its_run_and_step(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "yard.log"
    log.begin("debug", "json", file)
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    with log.about(plan="p1", run=7), log.about(step="groups:crew"):
        told = run(
            monkeypatch,
            Command(("groupadd", "0", "--", "crew"), "make the group", given="hidden word"),
            Command(("getent", "0"), "look", changes=False),
            Command(("getent", "2"), "look in vain", changes=False),
        )
    assert told == ["make the group", "look in vain"]
    lines = [json.loads(line) for line in file.read_text().splitlines()]
    assert [(line["level"], line["code"], line["what"]) for line in lines] == [
        ("info", 0, "ran a command to make the group"),
        ("debug", 0, "ran a command to look"),
        ("warning", 2, "ran a command to look in vain"),
    ]
    for line in lines:
        assert (line["plan"], line["run"], line["step"], line["host"]) == ("p1", 7, "groups:crew", "this host")
        assert line["seconds"] >= 0
        assert line["stderr"] == "what\nwent wrong"
    assert lines[0]["argv"] == "groupadd 0 -- crew"
    assert "hidden word" not in file.read_text(), "what a command reads may be a password"


@pytest.mark.parametrize("form", ["text", "json"])
def test_a_line_stays_one_whatever_a_name_has_in_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: log.Form
) -> None:
    file = tmp_path / "yard.log"
    log.begin("info", form, file)
    run(monkeypatch, *(Command(("groupadd", "0", "--", name), f"make {name}") for name in HOSTILE.values()))
    assert len(file.read_text().splitlines()) == len(HOSTILE)


def test_it_begins_anew_when_it_is_full_and_tells_no_more_than_asked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(log, "LARGEST", 2000)
    file = tmp_path / "yard.log"
    log.begin("warning", "text", file)
    run(monkeypatch, Command(("true", "0"), "say nothing"))
    assert file.read_text() == ""
    for number in range(200):
        logging.getLogger("yardgate.test").warning("line %d", number)
    files = sorted(path.name for path in tmp_path.iterdir())
    assert files == ["yard.log", *(f"yard.log.{number}" for number in range(1, log.KEPT + 1))]
    assert file.read_text().splitlines()[-1].endswith("WARNING yardgate.test: line 199")
    assert all(path.stat().st_size <= 2000 for path in tmp_path.iterdir())


def test_a_log_that_cannot_be_written_is_said_before_anything_is_served(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "yardgate.cli",
        "serve",
        "--data",
        str(tmp_path),
        "--log-file",
        str(tmp_path / "no" / "log"),
    ]
    ended = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert (ended.returncode, "the log cannot be written" in ended.stderr) == (1, True), ended.stderr
    command[-2:] = ["--log-level", "loud"]
    ended = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert (ended.returncode, "loud" in ended.stderr) == (2, True), ended.stderr
