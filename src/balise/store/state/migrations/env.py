"""Alembic's way into state.db: the connection is handed over by `store`."""

from alembic import context

from balise.store.state.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
