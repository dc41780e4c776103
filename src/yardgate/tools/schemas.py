"""Writes the documents that are generated: docs/openapi.json, docs/plan-format.schema.json, docs/findings.md and docs/glossary.md."""

import inspect
import json
import tempfile
from pathlib import Path

from yardgate.api.app import create_app
from yardgate.core.policy.findings import CHECKS, SEVERITIES
from yardgate.formats import planfile
from yardgate.store import Store

TOP = Path(__file__).parent.parent.parent.parent
DOCS, HELP = TOP / "docs", TOP / "ui" / "src" / "help" / "help.json"


def openapi() -> str:
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "empty.sqlite")
        body = create_app(store).openapi()
        store.close()
    return json.dumps(body, indent=1, ensure_ascii=False) + "\n"


def findings() -> str:
    """The page of every kind of finding, by severity: its function's docstring."""
    parts = [
        "# Findings\n\nWhat is looked for after every edit. Each kind is one function in `src/yardgate/core/policy/findings/`; its docstring is its\n"
        "text here (`./yard types` writes this page). A finding can be accepted, with a reason and a day to look at it again.\n"
    ]
    for severity in SEVERITIES:
        parts.append(f"## {severity.capitalize()}\n")
        for check in (check for check in CHECKS if check.severity == severity):
            first, *rest = inspect.cleandoc(check.run.__doc__ or "").split("\n\n")
            parts.append(f"### {check.title}\n\n`{check.kind}`. {first}\n\n" + "\n\n".join(rest) + "\n")
    return "\n".join(parts)


def glossary() -> str:
    """The page of what stations are for and what words mean, as the interface's help has it."""
    told = json.loads(HELP.read_text())
    parts = [
        "# Glossary\n\nWhat *Help* in the interface says (`ui/src/help/help.json`; `./yard types` writes this page).\n\n## Words\n"
    ]
    parts += [f"**{word}**: {meaning}\n" for word, meaning in told["words"]]
    for station in told["stations"].values():
        parts.append(f"## {station['title']}\n\n" + "\n".join(f"- {line}" for line in station["lines"]) + "\n")
    return "\n".join(parts)


def main() -> None:
    (DOCS / "openapi.json").write_text(openapi())
    (DOCS / "plan-format.schema.json").write_text(planfile.schema())
    (DOCS / "findings.md").write_text(findings())
    (DOCS / "glossary.md").write_text(glossary())


if __name__ == "__main__":
    main()
