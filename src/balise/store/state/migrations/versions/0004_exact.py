"""exact: since when rules are breached

Revision: 0004, after 0003
"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "rule_state",
        sa.Column("rule", sa.Text(), sa.ForeignKey("rule.name", ondelete="CASCADE"), primary_key=True),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("rule_state")
