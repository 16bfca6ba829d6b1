"""Alembic's entry: the connection is handed over by the book, never read from a file."""

from __future__ import annotations

from alembic import context

from wintry_tally.book.tables import metadata

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
