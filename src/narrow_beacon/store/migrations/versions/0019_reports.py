"""Layouts of the observatory's own; what a campaign's reports say and hold back; reports that were
sent.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

_MOMENT = sa.DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "layout_kept",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(60), nullable=False, unique=True),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("changed", _MOMENT, nullable=False),
    )
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("reporting", sa.JSON(), nullable=True))
    with op.batch_alter_table("report") as report:
        report.add_column(sa.Column("value", sa.String(40), nullable=False, server_default=""))
        report.add_column(sa.Column("scope", sa.String(20), nullable=False, server_default="all"))
        report.add_column(sa.Column("recipient", sa.String(200), nullable=False, server_default=""))
        report.add_column(sa.Column("sent", _MOMENT, nullable=True))
        report.add_column(sa.Column("deleted", sa.JSON(), nullable=True))
        report.add_column(sa.Column("note", sa.String(2000), nullable=False, server_default=""))


def downgrade() -> None:
    with op.batch_alter_table("report") as report:
        for name in ("note", "deleted", "sent", "recipient", "scope", "value"):
            report.drop_column(name)
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("reporting")
    op.drop_table("layout_kept")
