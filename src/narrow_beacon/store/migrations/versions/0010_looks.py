"""How exposures look before they are placed, the reference that they are matched to, limits and
rules of vetting.
"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("night_file") as file:
        file.add_column(sa.Column("looked_with", sa.String(64), nullable=False, server_default=""))
        file.add_column(sa.Column("match", sa.JSON(), nullable=True))
        file.add_column(sa.Column("evidence", sa.JSON(), nullable=True))
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("vetting", sa.JSON(), nullable=True))
        campaign.add_column(sa.Column("reference", sa.JSON(), nullable=True))


def downgrade() -> None:
    for table, columns in (
        ("night_file", ("looked_with", "match", "evidence")),
        ("campaign", ("vetting", "reference")),
    ):
        with op.batch_alter_table(table) as changed:
            for column in columns:
                changed.drop_column(column)
