"""Edits as JSON: how the journal, the API and other programs write them."""

import json
from collections.abc import Sequence
from typing import Annotated

from pydantic import Field, TypeAdapter

from yardgate.core.edits.records import Edit

AnyEdit = Annotated[Edit, Field(discriminator="op")]
_EDITS: TypeAdapter[tuple[Edit, ...]] = TypeAdapter(tuple[AnyEdit, ...])


def write(edits: Sequence[Edit]) -> str:
    return json.dumps(_EDITS.dump_python(tuple(edits), mode="json"), ensure_ascii=False, separators=(",", ":"))


def read(text: str) -> tuple[Edit, ...]:
    return _EDITS.validate_json(text)
