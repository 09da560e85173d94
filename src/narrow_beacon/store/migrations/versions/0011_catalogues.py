"""Catalogues of the observatory: files made into atlases, services, tables of variable stars; and
what is known of single stars beside their magnitudes.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")


def upgrade() -> None:
    op.create_table(
        "star_source",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("role", sa.String(12), nullable=False),
        sa.Column("kind", sa.String(12), nullable=False),
        sa.Column("place", sa.String(2000), nullable=False),
        sa.Column("columns", sa.JSON(), nullable=False),
        sa.Column("epoch_yr", sa.Double(), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("stars", sa.Integer(), nullable=False),
        sa.Column("bands", sa.JSON(), nullable=False),
        sa.Column("folder", sa.String(1000), nullable=False),
        sa.Column("added", _MOMENT, nullable=False),
    )
    with op.batch_alter_table("star") as star:
        star.add_column(sa.Column("parallax_mas", sa.Double(), nullable=True))
        star.add_column(sa.Column("note", sa.String(200), nullable=False, server_default=""))
    with op.batch_alter_table("catalogue") as catalogue:
        catalogue.add_column(sa.Column("fetched", _MOMENT, nullable=True))
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("sources", sa.JSON(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("sources")
    with op.batch_alter_table("catalogue") as catalogue:
        catalogue.drop_column("fetched")
    with op.batch_alter_table("star") as star:
        star.drop_column("note")
        star.drop_column("parallax_mas")
    op.drop_table("star_source")
