"""What a plan can be exported as: the same for the API, the command line and the browser's menu, and each written as its name and type say."""

import json
import re
import zipfile
from io import BytesIO
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.test_cli import yardgate
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System
from yardgate.core.host.steps import steps
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.findings import Case, find
from yardgate.drivers.linux.papers import PAPERS, Paper, TakenAway
from yardgate.formats import planfile
from yardgate.formats.exporting import BY_NAME, FORMATS, Exported, Format
from yardgate.tools.schemas import openapi

TOP = Path(__file__).parent.parent.parent
BEGINS = {
    "application/json": r"\{",
    "text/csv; charset=utf-8": r"\ufeff?\w+[,;]",
    "text/plain; charset=utf-8": r"(version|#)",
}


@pytest.mark.parametrize("one", FORMATS, ids=lambda one: one.name)
def test_each_is_written_as_its_type_says(one: Format) -> None:
    plan = demo.plan()
    found = outcome(resolve(plan, ON))
    at = {"setfacl": "hulls", "nfs4": "toolpaths"}.get(one.name, "")
    content = one.write(Exported(plan, lambda: keep(found), lambda: find(Case(found)), at))
    if isinstance(content, bytes):
        assert "xl/workbook.xml" in zipfile.ZipFile(BytesIO(content)).namelist()
        return
    assert re.match(BEGINS[one.media], content), content[:80]
    assert (one.of == "place") == bool(at)


@pytest.mark.parametrize("one", PAPERS, ids=lambda one: one.name)
def test_each_paper_of_a_rollout_is_written_as_its_type_says(one: Paper) -> None:
    plan = demo.plan()
    meant = compiled(resolve(plan, ON), "/srv", [])
    text = one.write(TakenAway(plan, meant, System(), steps(System(), meant.system), "All of it", "all"))
    begins = {"text/markdown; charset=utf-8": "# All of it", "text/html; charset=utf-8": "<!doctype html>"}
    assert text.lower().startswith(begins.get(one.media, "").lower())
    assert len(text.splitlines()) > 1
    assert ("All of it" in text) == (one.of == "steps")


def test_no_two_have_a_name_or_an_ending() -> None:
    assert len(BY_NAME) == len(FORMATS)
    assert len({one.ending for one in FORMATS}) == len(FORMATS)
    assert all(re.search(r"\.[a-z0-9]+$", one.ending) for one in FORMATS)


def test_the_api_and_the_command_line_offer_the_same_and_the_browser_has_no_list_of_its_own(tmp_path: Path) -> None:
    document = json.loads(openapi())
    asked = document["paths"]["/api/v1/plans/{plan}/export/{what}"]["get"]["parameters"]
    assert next(one for one in asked if one["name"] == "what")["schema"]["enum"] == [*BY_NAME]
    refused = yardgate("export", "sheet of paper", "--file", _file(tmp_path), code=2)
    assert ", ".join(BY_NAME) in " ".join(refused.split())
    paper = document["paths"]["/api/v1/plans/{plan}/rollout/take-away/{what}"]["get"]["parameters"]
    assert next(one for one in paper if one["name"] == "what")["schema"]["enum"] == [one.name for one in PAPERS]
    refused = yardgate("rollout", "write", "sheet of paper", str(_file(tmp_path)), code=2)
    assert ", ".join(one.name for one in PAPERS) in " ".join(refused.split())
    texts = "".join(path.read_text() for path in (TOP / "ui" / "src").rglob("*.tsx"))
    assert [one.words for one in (*FORMATS, *PAPERS) if one.words in texts] == []
    using = (TOP / "docs" / "using.md").read_text()
    assert "|".join(one.name for one in FORMATS if one.of == "plan") in using


def _file(folder: Path) -> Path:
    file = folder / "plan.json"
    file.write_text(planfile.write(demo.plan()))
    return file
