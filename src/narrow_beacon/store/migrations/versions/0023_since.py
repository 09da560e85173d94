"""Which actions a census was made with, so that one that is taken back counts no more, and one that
came while it was measured does; and which chains. And an index of the files' paths.
"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("log_entry") as entry:
        entry.add_column(sa.Column("touched", sa.String(200), nullable=False, server_default=""))
        entry.add_column(sa.Column("measured", sa.Boolean(), nullable=False, server_default="0"))
    with op.batch_alter_table("campaign") as campaign:
        campaign.add_column(sa.Column("measured_chains", sa.JSON(), nullable=True))
    # Files are looked up by their paths as they are read: 64 at a time of tens of thousands.
    op.create_index("by_path", "night_file", ["campaign_id", "path"], mysql_length={"path": 200})
    # Where nothing was changed since it was measured, the chains are those of the census.
    bind = op.get_bind()
    chains: dict[int, dict[str, str]] = {}
    for number, name, made in bind.execute(
        sa.text(
            "SELECT campaign_id, name, fingerprint FROM chain WHERE campaign_id IN "
            "(SELECT id FROM campaign WHERE changed_since = '')"
        )
    ):
        chains.setdefault(number, {})[name] = made
    for number, made_with in chains.items():
        bind.execute(
            sa.text("UPDATE campaign SET measured_chains = :chains WHERE id = :number"),
            {"chains": json.dumps(made_with), "number": number},
        )


def downgrade() -> None:
    op.drop_index("by_path", "night_file")
    with op.batch_alter_table("campaign") as campaign:
        campaign.drop_column("measured_chains")
    with op.batch_alter_table("log_entry") as entry:
        entry.drop_column("measured")
        entry.drop_column("touched")
