"""Plans as rows of the database's tables, and back."""

from collections.abc import Iterable, Mapping, Set
from dataclasses import fields
from datetime import date
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import Connection, RowMapping, Table, delete, insert, select, update

from yardgate.core.acl.rights import Level
from yardgate.core.model.kinds import GROUPS, KINDS, PATTERNS, PLACES, Kind, PlanRecord
from yardgate.core.model.plan import Pattern, Place, Plan, Target
from yardgate.formats.notation import OWN_TEXT, from_text, to_text
from yardgate.store import tables

_TARGET = TypeAdapter(Target)
_READERS: Mapping[str, TypeAdapter[Any]] = {kind.part: TypeAdapter(kind.record) for kind in KINDS}


def read(connection: Connection, plan_id: str, head: RowMapping) -> Plan:
    """The plan of which a row of `plans` is the head."""

    def rows(table: Table, *order: Any) -> Iterable[Any]:
        return connection.execute(select(table).where(table.c.plan == plan_id).order_by(*order)).mappings()

    belongs: dict[str, set[str]] = {}
    for row in rows(tables.members):
        belongs.setdefault(row["group"], set()).add(row["member"])
    granted: dict[str, dict[str, Level]] = {}
    for row in rows(tables.grants, tables.grants.c.place, tables.grants.c.position):
        granted.setdefault(row["place"], {})[row["who"]] = Level(row["level"])
    records: dict[str, dict[str, Any]] = {
        kind.part: {row["id"]: _record(kind, row, belongs) for row in rows(tables.metadata.tables[kind.part])}
        for kind in KINDS
    }
    return Plan(
        name=head["name"],
        office=head["office"],
        purpose=head["purpose"],
        target=_TARGET.validate_python({field.name: head[field.name] for field in fields(Target)}, strict=False),
        grants=granted,
        **records,
    )


def _record(kind: Kind, row: Any, members: Mapping[str, Set[str]]) -> PlanRecord:
    """A record from its row: members of a group have rows of their own, lists of permissions stand in letters."""
    raw = {key: value for key, value in row.items() if key != "plan"}
    if kind is GROUPS:
        raw["members"] = members.get(raw["id"], frozenset())
    if kind in (PLACES, PATTERNS) and raw["acl"] is not None:
        raw["acl"] = from_text(OWN_TEXT.validate_python(raw["acl"]))
    record: PlanRecord = _READERS[kind.part].validate_python(raw)
    return record


def head(plan: Plan) -> dict[str, Any]:
    target = {field.name: getattr(plan.target, field.name) for field in fields(Target)}
    return {"name": plan.name, "office": plan.office, "purpose": plan.purpose, **target}


def write(connection: Connection, plan_id: str, before: Plan, after: Plan) -> None:
    """Bring the tables from one plan to the next, touching only rows of objects that differ."""
    for kind in KINDS:
        table, old, new = tables.metadata.tables[kind.part], kind.of(before), kind.of(after)
        if old is new:
            continue
        changed = {
            key for key in old.keys() | new.keys() if old.get(key) is not new.get(key) and old.get(key) != new.get(key)
        }
        _remove(connection, table, table.c.id, plan_id, changed & old.keys())
        _add(
            connection,
            table,
            [{"plan": plan_id, **_columns(kind, table, new[key])} for key in sorted(changed & new.keys())],
        )
        if kind is GROUPS:
            _remove(connection, tables.members, tables.members.c.group, plan_id, changed & old.keys())
            named = [(key, member) for key in sorted(changed & new.keys()) for member in sorted(new[key].members)]
            _add(
                connection,
                tables.members,
                [{"plan": plan_id, "group": group, "member": member} for group, member in named],
            )
    if before.grants is not after.grants:
        places = before.grants.keys() | after.grants.keys()
        changed = {place for place in places if before.grants.get(place) is not after.grants.get(place)}
        _remove(connection, tables.grants, tables.grants.c.place, plan_id, changed & before.grants.keys())
        lines = [
            {"plan": plan_id, "place": place, "who": who, "position": position, "level": str(level)}
            for place in sorted(changed & after.grants.keys())
            for position, (who, level) in enumerate(after.grants[place].items())
        ]
        _add(connection, tables.grants, lines)
    connection.execute(update(tables.plans).where(tables.plans.c.id == plan_id).values(head(after)))


def _columns(kind: Kind, table: Table, record: PlanRecord) -> dict[str, Any]:
    """A record as its row has it (see `_record`): sets sorted, and dates as dates, for columns of that type."""
    columns = {column.name for column in table.c} - {"plan"}
    raw: dict[str, Any] = _READERS[kind.part].dump_python(record, mode="json", include=columns)
    if isinstance(record, Place | Pattern) and record.acl is not None:
        raw["acl"] = to_text(record.acl).model_dump(mode="json")
    for name in raw:
        value = getattr(record, name)
        if isinstance(value, frozenset):
            raw[name] = sorted(value)
        elif isinstance(value, date):
            raw[name] = value
    return raw


def _remove(connection: Connection, table: Table, column: Any, plan_id: str, keys: Iterable[str]) -> None:
    wanted = sorted(keys)
    for start in range(0, len(wanted), 500):
        connection.execute(delete(table).where(table.c.plan == plan_id, column.in_(wanted[start : start + 500])))


def _add(connection: Connection, table: Table, rows: list[dict[str, Any]]) -> None:
    if rows:
        connection.execute(insert(table), rows)
