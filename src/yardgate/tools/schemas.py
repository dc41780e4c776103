"""Writes the documents that are generated: docs/openapi.json, docs/plan-format.schema.json and docs/findings.md."""

import inspect
import json
import tempfile
from pathlib import Path

from yardgate.api.app import create_app
from yardgate.core.policy.findings import CHECKS, SEVERITIES
from yardgate.formats import planfile
from yardgate.store import Store

DOCS = Path(__file__).parent.parent.parent.parent / "docs"


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


def main() -> None:
    (DOCS / "openapi.json").write_text(openapi())
    (DOCS / "plan-format.schema.json").write_text(planfile.schema())
    (DOCS / "findings.md").write_text(findings())


if __name__ == "__main__":
    main()
