"""The project's own papers are true."""

import re
import subprocess
from pathlib import Path

import pytest

from yardgate.formats import planfile
from yardgate.tools.schemas import findings, glossary, openapi

TOP = Path(__file__).parent.parent
TRACKED = [
    TOP / name
    for name in subprocess.run(
        ["git", "-C", TOP, "ls-files", "-z"], capture_output=True, text=True, check=True
    ).stdout.split("\0")
    if name
]
TEXTS = [path for path in TRACKED if path.suffix not in (".png", ".ico") and path.is_file()]


def test_the_generated_documents_are_current() -> None:
    assert (TOP / "docs" / "openapi.json").read_text() == openapi(), "run ./yard types"
    assert (TOP / "docs" / "plan-format.schema.json").read_text() == planfile.schema(), "run ./yard types"
    assert (TOP / "docs" / "findings.md").read_text() == findings(), "run ./yard types"
    assert (TOP / "docs" / "glossary.md").read_text() == glossary(), "run ./yard types"


def test_locks_pin_by_hash_and_name_no_address() -> None:
    for name in ("requirements.lock", "requirements-dev.lock", "requirements-node.lock"):
        text = (TOP / name).read_text()
        assert "--hash=sha256:" in text
        assert not re.search(r"https?://|--index-url|--find-links", text)
    assert '"resolved"' not in (TOP / "ui" / "package-lock.json").read_text()


def test_every_link_in_the_papers_leads_somewhere() -> None:
    broken = []
    for path in TEXTS:
        if path.suffix == ".md":
            for target in re.findall(r"\]\(([^)#\s]+)", path.read_text()):
                if not target.startswith("http") and not (path.parent / target).exists():
                    broken.append(f"{path.relative_to(TOP)}: {target}")
    assert broken == []


def test_every_file_that_the_papers_name_is_there() -> None:
    lost = []
    for path in TEXTS:
        if path.suffix == ".md":
            for name in re.findall(r"`((?:[\w.]+/)+[\w.]+\.(?:py|tsx?|sh|md|json))`", path.read_text()):
                if not any(
                    (top / name).exists() for top in (TOP, TOP / "src" / "yardgate", TOP / "tests", path.parent)
                ):
                    lost.append(f"{path.relative_to(TOP)}: {name}")
    assert lost == []


def test_every_module_stands_in_the_architecture() -> None:
    tree = (TOP / "docs" / "architecture.md").read_text().split("```")[1]
    rooms = {
        "api",
        "formats",
        "store",
        "cli",
        "findings",
    }  # named as a room, with one module a station, format, table or command
    modules = [path.relative_to(TOP / "src" / "yardgate") for path in TEXTS if path.suffix == ".py"
               and path.is_relative_to(TOP / "src" / "yardgate")]  # fmt: skip
    names = [path for path in modules if path.parent.name not in rooms and "migrations" not in path.parts]
    assert [
        str(path) for path in names if not path.stem.startswith("__") and not re.search(rf"\b{path.stem}\b", tree)
    ] == []


def test_every_screenshot_is_shown_in_the_readme() -> None:
    readme = (TOP / "README.md").read_text()
    shots = sorted((TOP / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(shots) < 20
    assert [shot.name for shot in shots if shot.name not in readme] == []


@pytest.mark.parametrize("command", ["demo", "test", "serve"])
def test_the_readme_names_the_commands(command: str) -> None:
    assert f"./yard {command}" in (TOP / "README.md").read_text()
