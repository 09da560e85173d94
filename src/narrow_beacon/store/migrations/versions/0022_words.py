"""Which filters, kits and chains exposures have, told by indexes: tens of thousands of records were
read through for each of these words.
"""

from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None
_WORDS = ("filter", "kit", "chain")


def upgrade() -> None:
    for word in _WORDS:
        op.create_index(f"by_{word}", "night_file", ["campaign_id", "part", word])


def downgrade() -> None:
    for word in _WORDS:
        op.drop_index(f"by_{word}", "night_file")
