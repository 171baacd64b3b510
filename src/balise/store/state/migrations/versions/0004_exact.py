"""exact: since when rules are breached, and who has not taken a delivery yet

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
    with op.batch_alter_table("delivery") as batch_op:
        batch_op.add_column(sa.Column("still_to", sa.JSON(), nullable=True))
        batch_op.create_index("delivery_of_channel", ["channel", "state"], unique=False)


def downgrade() -> None:
    with op.batch_alter_table("delivery") as batch_op:
        batch_op.drop_index("delivery_of_channel")
        batch_op.drop_column("still_to")
    op.drop_table("rule_state")
