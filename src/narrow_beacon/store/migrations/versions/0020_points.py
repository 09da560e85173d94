"""The observer's rules for the points of a campaign, and what is taken out of them."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("points", sa.JSON(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("points")
