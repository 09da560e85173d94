"""What counts as a defect of a campaign's camera: a threshold, and what was marked."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("campaign", sa.Column("defects", sa.JSON(), nullable=True))


def downgrade() -> None:
    op.drop_column("campaign", "defects")
