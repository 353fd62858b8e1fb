"""What Alembic runs to bring a ledger up to date: on the connection that `dunechest.ledger.upgrade` hands it."""

from __future__ import annotations

from alembic import context

context.configure(connection=context.config.attributes["connection"], transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
