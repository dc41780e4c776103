"""Alembic's entry: brings the open database to the newest schema."""

from alembic import context

from yardgate.store.tables import metadata

with context.config.attributes["engine"].begin() as connection:
    context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
    context.run_migrations()
