"""The project's own papers are true."""

import ast
import re
import subprocess
from pathlib import Path

import pytest

from yardgate.formats import planfile
from yardgate.store.runs import RunState
from yardgate.tools.schemas import EXAMPLES, FACTS, examples, facts, findings, glossary, openapi

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
    assert (FACTS.read_text(), EXAMPLES.read_text()) == (facts(), examples()), "run ./yard types"


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


def test_every_name_that_the_code_speaks_of_is_there() -> None:
    """`module.name` and `Type.name`, in docstrings and comments: a module or type of that name exists and has it."""
    trees = {p.relative_to(TOP / "src"): ast.parse(p.read_text()) for p in TEXTS
             if p.suffix == ".py" and p.is_relative_to(TOP / "src")}  # fmt: skip
    known: dict[str, set[str]] = {}
    for path, tree in trees.items():
        room, stem = (
            (path.parent.name, path.stem) if path.stem != "__init__" else (path.parent.parent.name, path.parent.name)
        )
        known.setdefault(room, set()).add(stem)
        for node in ast.walk(tree):
            if isinstance(node, ast.Module | ast.ClassDef):
                name = stem if isinstance(node, ast.Module) else node.name
                inner = (
                    n
                    for n in ast.walk(node)
                    if isinstance(n, ast.FunctionDef | ast.ClassDef | ast.Name | ast.AsyncFunctionDef)
                )
                known.setdefault(name, set()).update(n.id if isinstance(n, ast.Name) else n.name for n in inner)
    known |= {"app": {"state"}}  # of FastAPI
    assert [
        f"{path}: {name}"
        for path in trees
        for name in re.findall(r"`(\w+\.\w+)(?:\.\w+)?`", (TOP / "src" / path).read_text())
        if name.split(".")[1] not in known.get(name.split(".")[0], ())
    ] == []


def test_every_long_file_has_a_reason() -> None:
    section = (
        (TOP / "docs" / "architecture.md")
        .read_text()
        .partition("Files of more than 500 lines")[2]
        .partition("\n## ")[0]
    )
    named = set(re.findall(r"^- `([^`]+)`: \w+", section, re.MULTILINE))
    long = {
        str(path.relative_to(TOP)).removeprefix("src/yardgate/")
        for path in TEXTS
        if path.suffix in (".py", ".ts", ".tsx") and path.read_text().count("\n") > 500
    }
    assert long == named | {"ui/src/api/schema.d.ts"}, "that one is generated"


def test_no_name_of_a_type_means_two_things() -> None:
    homes: dict[str, set[Path]] = {}
    for path in TEXTS:
        if path.suffix != ".py" or not path.is_relative_to(TOP / "src") or "migrations" in path.parts:
            continue
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef):
                homes.setdefault(node.name, set()).add(path)
            elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                alias = node.targets[0].id
                if alias[:1].isupper() and not alias.isupper():
                    homes.setdefault(alias, set()).add(path)
    assert {name: found for name, found in homes.items() if len(found) > 1} == {}


def test_the_drawing_of_a_rollout_has_every_state() -> None:
    drawing = (TOP / "docs" / "architecture.md").read_text().split("## A rollout")[1].split("\n## ")[0]
    assert [state for state in RunState if state not in drawing] == []


def test_every_decision_says_since_when_it_holds_and_stands_in_the_list() -> None:
    papers = sorted((TOP / "docs" / "decisions").glob("0*.md"))
    listed = (TOP / "docs" / "decisions" / "README.md").read_text()
    for number, paper in enumerate(papers, 1):
        title, _, status = paper.read_text().split("\n")[:3]
        assert title.startswith(f"# {number}. "), paper.name
        assert re.match(r"\*(Accepted|Replaced), \d{4}-\d\d-\d\d", status), paper.name
        assert f"({paper.name})" in listed, paper.name


def test_every_screenshot_is_shown_in_the_readme() -> None:
    readme = (TOP / "README.md").read_text()
    shots = sorted((TOP / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(shots) < 20
    assert [shot.name for shot in shots if shot.name not in readme] == []


@pytest.mark.parametrize("command", ["demo", "test", "serve"])
def test_the_readme_names_the_commands(command: str) -> None:
    assert f"./yard {command}" in (TOP / "README.md").read_text()
