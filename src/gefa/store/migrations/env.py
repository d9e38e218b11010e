"""Alembic's entry: migrations run on the connection that the store hands over."""

from __future__ import annotations

from alembic import context
from sqlmodel import SQLModel

import gefa.store.feed_models
import gefa.store.models
import gefa.store.out_models
import gefa.store.person_models  # noqa: F401

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=SQLModel.metadata,
    render_as_batch=True,
)
with context.begin_transaction():
    context.run_migrations()
