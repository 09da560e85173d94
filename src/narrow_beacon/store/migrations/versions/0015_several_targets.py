"""Several targets in a campaign, and several check stars in a cast."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("targets", sa.JSON(), nullable=True))
        campaign.add_column(sa.Column("wanted_more_checks", sa.JSON(), nullable=True))
    with op.batch_alter_table("cast_of_stars") as cast:
        cast.add_column(sa.Column("more_checks", sa.JSON(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("cast_of_stars") as cast:
        cast.drop_column("more_checks")
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("wanted_more_checks")
        campaign.drop_column("targets")
