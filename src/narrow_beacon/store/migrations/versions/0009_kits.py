"""What is said of kits, for the whole observatory; masters of the shelf that outlive a campaign."""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_KIT_WORD = sa.table(
    "kit_word", sa.column("kit"), sa.column("said"), sa.column("words", sa.JSON),
    sa.column("campaign"),
)  # fmt: skip


def upgrade() -> None:
    moment = sa.DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")
    op.create_table(
        "kit_word",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kit", sa.String(300), nullable=False),
        sa.Column("said", moment, nullable=False),
        sa.Column("words", sa.JSON(), nullable=False),
        sa.Column("campaign", sa.String(120), nullable=False),
        sa.Column("withdrawn", sa.Boolean, nullable=False, server_default="0"),
    )
    op.create_index("ix_kit_word_kit", "kit_word", ["kit"])
    op.add_column("campaign", sa.Column("kits", sa.JSON(), nullable=True))
    op.add_column("job", sa.Column("wish", sa.JSON(), nullable=True))
    op.add_column("campaign", sa.Column("leave_out", sa.JSON(), nullable=True))
    with op.batch_alter_table("master") as master:
        master.alter_column("campaign_id", existing_type=sa.Integer, nullable=True)
        master.add_column(sa.Column("origin", sa.String(200), nullable=False, server_default=""))
    _take_over_defects()


def _take_over_defects() -> None:
    """Rules on defects that were given in a campaign are its kits' from now on."""
    connection = op.get_bind()
    given = connection.execute(
        sa.text(
            "SELECT DISTINCT c.id, c.name, c.created, c.defects, f.kit FROM campaign c "
            "JOIN night_file f ON f.campaign_id = c.id "
            "WHERE c.defects IS NOT NULL AND f.part = 'exposure' ORDER BY c.id"
        )
    ).all()
    for _, name, created, defects, kit in given:
        rule = json.loads(defects) if isinstance(defects, str) else defects
        if rule and not rule.get("taken"):
            words = {"defect_threshold": rule["threshold"], "marks": rule["marks"]}
            connection.execute(
                _KIT_WORD.insert().values(kit=kit, said=created, words=words, campaign=name)
            )


def downgrade() -> None:
    op.execute("DELETE FROM master WHERE campaign_id IS NULL")
    with op.batch_alter_table("master") as master:
        master.drop_column("origin")
        master.alter_column("campaign_id", existing_type=sa.Integer, nullable=False)
    op.drop_column("job", "wish")
    op.drop_column("campaign", "leave_out")
    op.drop_column("campaign", "kits")
    op.drop_table("kit_word")
