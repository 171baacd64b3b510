"""late: what came late to rules and was not looked at yet

Revision: 0009, after 0008
"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "rule_late",
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("rule"),
        sa.ForeignKeyConstraint(["rule"], ["rule.name"], ondelete="CASCADE"),
    )


def downgrade() -> None:
    op.drop_table("rule_late")
