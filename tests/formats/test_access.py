"""The access report as CSV."""

import csv
import io

from tests.conftest import ON
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Plan
from yardgate.formats import access


def test_the_report_names_everybody_who_gets_something(quay: Plan) -> None:
    found = outcome(resolve(quay, ON))
    rows = list(csv.DictReader(io.StringIO(access.write(found))))
    toolpaths = [row for row in rows if row["place"] == "keel/drawings/toolpaths"]
    assert {row["shares"] for row in toolpaths} == {"drawings (SMB), machines (NFS)"}
    who = {quay.called(user): user for user in quay.users}
    assert any(quay.users[who[row["name"]]].full_name == "Tomas Brandt" and row["best"] == "RW" for row in toolpaths)
    for row in toolpaths:
        assert row["best"] == str(found.level(who[row["name"]], "toolpaths"))
        assert row["best"] == max(row["over SMB"], row["over NFS"], key=["NA", "PT", "RO", "RW"].index)
    assert len(toolpaths) == sum(found.level(user, "toolpaths") > Level.NA for user in quay.users)
