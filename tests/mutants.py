"""How many small faults in the core the tests would notice: `python -m tests.mutants [--count N] [--seed N] [PATH…]`.

Changes one place of one module at a time (a comparison, a bit operation, a condition, a number, a statement left out), runs the core's tests on
it in a process of their own, and names each change that no test notices: those that stand nearest in the quick form and then as often as in
every run, the others in the quick form. Nothing is written into the source: the changed module is put in the way of the import. Takes
minutes to hours; not part of any run.
"""

import argparse
import ast
import os
import random
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from pathlib import Path
from typing import NamedTuple

TOP = Path(__file__).parent.parent
ROOMS = ("src/yardgate/core/acl", "src/yardgate/core/access")
FIRST = tuple(
    f"tests/core/test_{name}.py" for name in ("lists", "ways", "naive", "compile", "clash", "keeping", "resolve")
)
ROUNDS = (
    ("quick", FIRST),
    ("usual", FIRST),
    ("quick", ("tests/core",)),
)  # how often is tried, and by which tests: the quick to fail first
LEFT_OUT = "nothing"
LONGEST = 600  # seconds; a mutant that runs longer is noticed

SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.And: ast.Or,
    ast.Or: ast.And,
    ast.BitAnd: ast.BitOr,
    ast.BitOr: ast.BitAnd,
    ast.LShift: ast.RShift,
    ast.RShift: ast.LShift,
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Break: ast.Continue,
    ast.Continue: ast.Break,
}


class Mutant(NamedTuple):
    """One change. line: where; before, after: the smallest statement or expression around it; source: the whole module, changed."""

    path: Path
    line: int
    before: str
    after: str
    source: str

    @property
    def name(self) -> str:
        return f"{self.path.relative_to(TOP)}:{self.line}: {self.before}  →  {self.after}"


class Change(NamedTuple):
    """To be done to a tree: what one field of one node becomes. after: how what is changed there is told, where it is not the node itself."""

    node: ast.AST
    field: str
    value: object
    after: str = ""


def places(path: Path) -> int:
    """How many changes of a module there are."""
    return sum(1 for _ in _places(ast.parse(path.read_text())))


def mutant(path: Path, number: int) -> Mutant:
    """One change of a module. Annotations, docstrings, words for people and imports stay."""
    tree = ast.parse(path.read_text())
    holder, change = next(islice(_places(tree), number, None))
    before = ast.unparse(holder)
    setattr(change.node, change.field, change.value)
    after = change.after or ast.unparse(ast.fix_missing_locations(holder))
    source = ast.unparse(ast.fix_missing_locations(tree))
    return Mutant(path, getattr(holder, "lineno", 0), _short(before), _short(after), source)


def _short(text: str) -> str:
    return " ".join(text.split())[:110]


def _places(tree: ast.AST) -> Iterator[tuple[ast.AST, Change]]:
    for node in _counting(tree):
        for field, value in ast.iter_fields(node):
            if isinstance(value, ast.operator | ast.boolop):
                if type(value) in SWAPS:
                    yield node, Change(node, field, SWAPS[type(value)]())
            elif isinstance(node, ast.Compare) and field == "ops":
                for at, op in enumerate(value):
                    if type(op) in SWAPS:
                        yield node, Change(node, field, [*value[:at], SWAPS[type(op)](), *value[at + 1 :]])
        match node:
            case ast.UnaryOp(op=ast.Not()):
                yield node, Change(node, "op", ast.UAdd())  # `+x`: as true as x, for truth values and numbers
            case ast.Constant(value=bool() as value):
                yield node, Change(node, "value", not value)
            case ast.Constant(value=int() as value):
                yield node, Change(node, "value", value + 1)
            case ast.If() | ast.IfExp():
                yield node.test, Change(node, "test", ast.Constant(True), "True")
                yield node.test, Change(node, "test", ast.Constant(False), "False")
            case ast.comprehension() if node.ifs:
                yield node.ifs[0], Change(node, "ifs", [], LEFT_OUT)
        for field in ("body", "orelse"):
            block = getattr(node, field, None)
            if isinstance(block, list):
                for at, statement in enumerate(block):
                    if isinstance(statement, ast.AugAssign | ast.Expr | ast.Continue | ast.Break) and not _words(
                        statement
                    ):
                        yield statement, Change(node, field, [*block[:at], ast.Pass(), *block[at + 1 :]], LEFT_OUT)


def _words(statement: ast.stmt) -> bool:
    return isinstance(statement, ast.Expr) and isinstance(statement.value, ast.Constant)


def _counting(tree: ast.AST) -> Iterator[ast.AST]:
    """The nodes that make a difference when the program runs."""
    for field, value in ast.iter_fields(tree):
        if field in ("annotation", "returns", "decorator_list", "type_params") or isinstance(
            tree, ast.Import | ast.ImportFrom
        ):
            continue
        if isinstance(tree, ast.AnnAssign | ast.Assign) and isinstance(tree.value, ast.Subscript) and field == "value":
            continue  # names of types
        for child in value if isinstance(value, list) else [value]:
            if isinstance(child, ast.AST) and not isinstance(child, ast.JoinedStr):
                yield child
                yield from _counting(child)


STAND_IN = """
import importlib.abc, importlib.util, pathlib, sys
name, file = sys.argv[1], sys.argv[2]
class Finder(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    def find_spec(self, asked, path, target=None):
        if asked == name:
            return importlib.util.spec_from_loader(asked, self, origin=file)
    def exec_module(self, module):
        exec(compile(pathlib.Path(file).read_text(), file, "exec"), module.__dict__)
sys.meta_path.insert(0, Finder())
import pytest
sys.exit(pytest.main(["-x", "-q", "-n0", "-p", "no:cacheprovider", "--no-header", "--tb=no", *sys.argv[3:]]))
"""


def noticed(mutant: Mutant) -> bool:
    """Whether the tests fail, hang or break on it."""
    return any(_noticed(mutant, tries, tests) for tries, tests in ROUNDS)


def _noticed(mutant: Mutant, tries: str, tests: tuple[str, ...]) -> bool:
    module = ".".join(mutant.path.relative_to(TOP / "src").with_suffix("").parts)
    with tempfile.NamedTemporaryFile("w", suffix=".py") as changed:
        changed.write(mutant.source)
        changed.flush()
        try:
            run = subprocess.run(
                [sys.executable, "-c", STAND_IN, module, changed.name, *tests],
                cwd=TOP, env={**os.environ, "YARDGATE_TRIES": tries}, capture_output=True, timeout=LONGEST, check=False,
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return True
    return run.returncode != 0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=200, help="how many changes to try, drawn at random")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("paths", nargs="*", default=ROOMS)
    asked = parser.parse_args()
    files = [
        file
        for path in asked.paths
        for file in sorted((TOP / path).rglob("*.py") if (TOP / path).is_dir() else [TOP / path])
    ]
    found = [(file, number) for file in files for number in range(places(file))]
    some = random.Random(asked.seed).sample(found, min(asked.count, len(found)))
    chosen = [mutant(file, number) for file, number in some]
    print(f"{len(found)} changes in {len(files)} modules; trying {len(chosen)}", flush=True)
    survivors = 0
    with ThreadPoolExecutor(asked.jobs) as pool:
        for number, (one, seen) in enumerate(zip(chosen, pool.map(noticed, chosen), strict=True), 1):
            survivors += not seen
            if not seen:
                print(f"survives: {one.name}", flush=True)
            if number % 20 == 0:
                print(f"{number} tried, {survivors} survive", flush=True)
    print(f"{len(chosen) - survivors} of {len(chosen)} noticed: {100 * (len(chosen) - survivors) / len(chosen):.1f} %")


if __name__ == "__main__":
    main()
