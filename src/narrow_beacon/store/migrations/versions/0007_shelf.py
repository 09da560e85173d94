"""The shelf: masters of all nights, who takes from it, and what is no longer taken."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("campaign", sa.Column("shelf", sa.Boolean(), server_default="0", nullable=False))
    op.add_column("master", sa.Column("retired", sa.Boolean(), server_default="0", nullable=False))


def downgrade() -> None:
    op.drop_column("master", "retired")
    op.drop_column("campaign", "shelf")
