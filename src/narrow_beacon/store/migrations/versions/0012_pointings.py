"""Stars that were pointed at, as a campaign keeps them."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("pointings", sa.JSON(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("pointings")
