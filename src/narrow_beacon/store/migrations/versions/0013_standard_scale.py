"""What the observer says of the standard scale."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("transform", sa.JSON(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("transform")
