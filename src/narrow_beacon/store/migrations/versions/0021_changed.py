"""When each file's record was last written, so that only what is new is read again."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    if op.get_bind().dialect.name == "sqlite":
        with op.batch_alter_table("night_file") as file:
            file.add_column(sa.Column("changed", sa.DateTime(), nullable=True))
    else:
        stamp = "CURRENT_TIMESTAMP(6)"
        column = sa.Column(
            "changed", mysql.DATETIME(fsp=6), nullable=True,
            server_default=sa.text(f"{stamp} ON UPDATE {stamp}"),
        )  # fmt: skip
        op.add_column("night_file", column)
    op.create_index("by_change", "night_file", ["campaign_id", "part", "changed"])


def downgrade() -> None:
    op.drop_index("by_change", "night_file")
    with op.batch_alter_table("night_file") as file:
        file.drop_column("changed")
