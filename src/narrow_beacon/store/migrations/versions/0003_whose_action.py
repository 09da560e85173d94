"""Which page did an action, and how far the campaign was then: so that nothing is overwritten
unseen, and everyone takes back their own.
"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "log_entry", sa.Column("page", sa.String(length=40), server_default="", nullable=False)
    )
    op.add_column(
        "log_entry", sa.Column("revision", sa.Integer(), server_default="0", nullable=False)
    )


def downgrade() -> None:
    op.drop_column("log_entry", "revision")
    op.drop_column("log_entry", "page")
