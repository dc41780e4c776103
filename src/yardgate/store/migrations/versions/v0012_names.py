"""Records have fields of the names that the field uses: tables, and edits in journals, snapshots"""

import json

import sqlalchemy as sa
from alembic import op

from yardgate.formats.versions import FIELDS, PARTS, TRAVERSE, edit_of_version_1, renamed

revision = "0012"
down_revision = "0011"

COLUMNS = {"plans": FIELDS["target"], **{part: FIELDS[kind] for part, kind in PARTS.items()}}


def upgrade() -> None:
    for table, names in COLUMNS.items():
        for old, new in names.items():
            op.execute(f'ALTER TABLE {table} RENAME COLUMN "{old}" TO "{new}"')
    bind = op.get_bind()
    for column in ("traverse", "nfs_traverse"):
        for old, new in TRAVERSE.items():
            bind.execute(sa.text(f"UPDATE plans SET {column} = :new WHERE {column} = :old"), {"new": new, "old": old})
    made = sa.text("SELECT plan, id, personal_folders FROM places WHERE personal_folders IS NOT NULL")
    for plan, place, each in bind.execute(made).all():
        found = json.dumps(renamed("personal_folders", json.loads(each)))
        statement = sa.text("UPDATE places SET personal_folders = :found WHERE plan = :plan AND id = :place")
        bind.execute(statement, {"found": found, "plan": plan, "place": place})
    for table, columns in (("journal", ("edits", "inverse")), ("snapshots", ("edits",))):
        rows = bind.execute(sa.text(f"SELECT plan, revision FROM {table}")).all()
        for plan, revision in rows:  # one after the other: a journal may be long
            for column in columns:
                _rename(bind, table, column, plan, revision)


def _rename(bind: sa.Connection, table: str, column: str, plan: str, revision: int) -> None:
    where = {"plan": plan, "revision": revision}
    text = bind.execute(
        sa.text(f"SELECT {column} FROM {table} WHERE plan = :plan AND revision = :revision"), where
    ).scalar_one()
    found = json.dumps(
        [edit_of_version_1(edit) for edit in json.loads(text)], ensure_ascii=False, separators=(",", ":")
    )
    if found != text:
        statement = sa.text(f"UPDATE {table} SET {column} = :found WHERE plan = :plan AND revision = :revision")
        bind.execute(statement, {**where, "found": found})
