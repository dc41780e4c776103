"""What offices already have: each of many files comes in as it is meant, and says what of it did not."""

from dataclasses import replace

import pytest

from tests.formats.corpus_tables import OFFICE, TABLES, Case
from yardgate.core.edits.apply import apply
from yardgate.core.model.kinds import check
from yardgate.formats import importing
from yardgate.formats.importing import ToImport


@pytest.mark.parametrize("case", TABLES.values(), ids=TABLES)
def test_a_table_comes_in_as_it_is_meant(case: Case) -> None:
    wanted = ToImport(kind="matrix", content=case.content, make=case.make)
    found = importing.read(OFFICE, wanted)
    if case.words:
        assert found.table is not None
        assert found.table.layout is not None
        found = importing.read(OFFICE, replace(wanted, layout=replace(found.table.layout, words=case.words)))
    plan, _ = apply(OFFICE, found.reading.edits)
    assert check(plan) == ()
    comes = {f"{who} {place} {level}" for place, said in plan.grants.items() for who, level in said.items()}
    told = [note.text for note in found.reading.notes]
    assert comes == set(filter(None, case.comes.split("\n"))), (told, found.table and found.table.layout)
    assert {one.name for one in found.reading.unknown} == set(case.unknown)
    for words in case.told:
        assert any(words in text for text in told), (words, told)
