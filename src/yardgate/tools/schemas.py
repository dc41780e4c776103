"""Writes what is generated: docs/openapi.json, docs/plan-format.schema.json, docs/findings.md, docs/glossary.md, and what the interface knows of
the core (facts, and examples for its tests)."""

import inspect
import json
import tempfile
from pathlib import Path

from yardgate.api.app import create_app
from yardgate.core.access.combining import WITHIN_WORDS
from yardgate.core.acl import words
from yardgate.core.acl.rights import LETTERS, WORDS, letters
from yardgate.core.model.agreements import LEAST
from yardgate.core.policy.findings import CHECKS, SEVERITIES
from yardgate.formats import planfile
from yardgate.store import Store

TOP = Path(__file__).parent.parent.parent.parent
DOCS, UI = TOP / "docs", TOP / "ui" / "src"
HELP, FACTS, EXAMPLES = UI / "help" / "help.json", UI / "api" / "facts.json", UI / "api" / "examples.json"


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


def facts() -> str:
    """What the interface would otherwise have to say a second time: levels, rights, sets of them, flags, styles, clash rules, what promises take."""
    return _json(
        levels=WORDS,
        rights=[[bit, LETTER[bit], said] for bit, said in words.RIGHTS.items()],
        letters=[[bit, letter] for letter, bit in LETTERS.items()],
        sets=[{"mask": mask, "words": said} for mask, said in words.SETS.items()],
        where=[{"flags": flags, "words": said} for flags, said in words.WHERE.items()],
        styles=words.STYLES,
        combining=WITHIN_WORDS,
        least=LEAST,
    )


def examples() -> str:
    """What the core says of some masks, flags and permissions: the interface's tests hold its own functions to it."""
    masks = [
        0,
        *words.SETS,
        *words.RIGHTS,
        *(one | bit for one in words.SETS for bit in words.RIGHTS),
        0x7,
        0x1007,
        0x60081,
    ]
    return _json(
        rights=[[mask, words.rights(mask), letters(mask)] for mask in dict.fromkeys(masks)],
        where=[[flags, words.where(flags)] for flags in range(16)],
        rwx=[[perms, words.rwx(perms)] for perms in range(8)],
    )


LETTER = {bit: letter for letter, bit in LETTERS.items()}


def _json(**parts: object) -> str:
    return "{\n" + ",\n".join(f" {json.dumps(name)}: {json.dumps(part)}" for name, part in parts.items()) + "\n}\n"


def main() -> None:
    FACTS.write_text(facts())
    EXAMPLES.write_text(examples())
    (DOCS / "openapi.json").write_text(openapi())
    (DOCS / "plan-format.schema.json").write_text(planfile.schema())
    (DOCS / "findings.md").write_text(findings())
    (DOCS / "glossary.md").write_text(glossary())


if __name__ == "__main__":
    main()
