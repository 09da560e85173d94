"""Correlated noise in the uncertainties of a campaign, where it is wanted."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("floor", sa.Boolean(), nullable=False, server_default="0"))


def downgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("floor")
