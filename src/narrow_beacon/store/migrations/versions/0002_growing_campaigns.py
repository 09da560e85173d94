"""Kits, remarks, settings of a plan, folders that come and go, and whose points were reported."""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    column: sa.Column[Any]
    for column in (
        sa.Column("library", sa.String(length=2000), nullable=True),
        sa.Column("epoch_yr", sa.Double(), nullable=True),
        sa.Column("bands", sa.JSON(), nullable=True),
        sa.Column("measuring", sa.JSON(), nullable=True),
        sa.Column("cameras", sa.JSON(), nullable=True),
        sa.Column("archived", sa.Boolean(), server_default="0", nullable=False),
    ):
        op.add_column("campaign", column)
    for column in (
        sa.Column("group_name", sa.String(length=300), server_default="", nullable=False),
        sa.Column("kit", sa.String(length=200), server_default="", nullable=False),
        sa.Column("width", sa.Integer(), server_default="0", nullable=False),
        sa.Column("height", sa.Integer(), server_default="0", nullable=False),
        sa.Column("away", sa.Boolean(), server_default="0", nullable=False),
    ):
        op.add_column("night_file", column)
    for table, name, size in (
        ("night_file", "chain", 400),
        ("chain", "name", 400),
        ("census_file", "group_name", 300),
    ):
        with op.batch_alter_table(table) as batch:
            batch.alter_column(
                name, type_=sa.String(size), existing_type=sa.String(), existing_nullable=False
            )
    op.add_column("census_file", sa.Column("annulus_px", sa.JSON(), nullable=True))
    op.add_column(
        "cast_of_stars", sa.Column("automatic", sa.Boolean(), server_default="0", nullable=False)
    )
    op.add_column(
        "reduction", sa.Column("star", sa.String(length=120), server_default="", nullable=False)
    )
    op.add_column("job", sa.Column("log", sa.Text(), server_default="", nullable=False))
    # Whose points they were: the target of the cast that made them.
    op.execute(
        "UPDATE reduction SET star = COALESCE(("
        "SELECT s.name FROM cast_of_stars c "
        "JOIN campaign p ON p.id = c.campaign_id "
        "JOIN star s ON s.catalogue_id = p.catalogue_id AND s.row_number = c.target "
        "WHERE c.id = reduction.cast_id), '')"
    )
    op.create_table(
        "remark",
        sa.Column("campaign_id", sa.Integer(), nullable=False),
        sa.Column("step", sa.String(length=20), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("stage", sa.String(length=12), nullable=False),
        sa.Column("about", sa.String(length=400), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("matters", sa.Text(), nullable=False),
        sa.Column("remedy", sa.Text(), nullable=False),
        sa.Column("seen", sa.Boolean(), nullable=False),
        sa.Column("id", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["campaign_id"], ["campaign.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("by_stage", "remark", ["campaign_id", "stage"])


def downgrade() -> None:
    op.drop_table("remark")
    op.drop_column("job", "log")
    op.drop_column("reduction", "star")
    op.drop_column("cast_of_stars", "automatic")
    op.drop_column("census_file", "annulus_px")
    for name in ("away", "height", "width", "kit", "group_name"):
        op.drop_column("night_file", name)
    for name in ("archived", "cameras", "measuring", "bands", "epoch_yr", "library"):
        op.drop_column("campaign", name)
