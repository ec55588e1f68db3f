"""Runs the migrations on the connection that is handed over, within its transaction."""

from alembic import context

context.configure(connection=context.config.attributes["connection"])
with context.begin_transaction():
    context.run_migrations()
