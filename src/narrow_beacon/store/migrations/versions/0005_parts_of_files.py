"""Exposures that are colours of a file, and the colour pattern as the observer gives it."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("night_file", sa.Column("parent_id", sa.Integer(), nullable=True))
    op.add_column("campaign", sa.Column("pattern", sa.String(4), nullable=True))


def downgrade() -> None:
    op.drop_column("campaign", "pattern")
    op.drop_column("night_file", "parent_id")
