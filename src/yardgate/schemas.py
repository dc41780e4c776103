"""Writes the documents that are generated: docs/openapi.json and docs/plan-format.schema.json."""

import json
import tempfile
from pathlib import Path

from yardgate.api.app import create_app
from yardgate.formats import planfile
from yardgate.store import Store

DOCS = Path(__file__).parent.parent.parent / "docs"


def openapi() -> str:
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "empty.sqlite")
        body = create_app(store).openapi()
        store.close()
    return json.dumps(body, indent=1, ensure_ascii=False) + "\n"


def main() -> None:
    (DOCS / "openapi.json").write_text(openapi())
    (DOCS / "plan-format.schema.json").write_text(planfile.schema())


if __name__ == "__main__":
    main()
