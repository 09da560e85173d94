"""Colour coefficients that the observatory keeps with its kits."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")


def upgrade() -> None:
    op.create_table(
        "kept_term",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("kit", sa.String(200), nullable=False, index=True),
        sa.Column("filter", sa.String(40), nullable=False),
        sa.Column("colour_index", sa.String(40), nullable=False),
        sa.Column("coefficient", sa.Double(), nullable=False),
        sa.Column("uncertainty", sa.Double(), nullable=False),
        sa.Column("airmass", sa.Double(), nullable=False),
        sa.Column("stars", sa.Integer(), nullable=False),
        sa.Column("nights", sa.String(40), nullable=False),
        sa.Column("campaign", sa.String(200), nullable=False),
        sa.Column("kept", _MOMENT, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("kept_term")
