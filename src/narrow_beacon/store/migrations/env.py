"""Run migrations on the database that the configuration names."""

from alembic import context
from sqlalchemy import create_engine

from narrow_beacon.store.models import Record

engine = create_engine(context.config.attributes["url"])
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Record.metadata, compare_type=True)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
