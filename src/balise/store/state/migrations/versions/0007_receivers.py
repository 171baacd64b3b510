"""events: receivers of syslog, senders that nobody enrolled as candidates, and forwards

Revision: 0007, after 0006
"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "receiver",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("document", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "forward",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("document", sa.JSON(), nullable=False),
        sa.Column("places", sa.JSON(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "sender",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("receiver", sa.Text(), nullable=False),
        sa.Column("named_by", sa.Text(), nullable=False),
        sa.Column("events", sa.Integer(), nullable=False),
        sa.Column("first_at", sa.Double(), nullable=False),
        sa.Column("last_at", sa.Double(), nullable=False),
        sa.Column("refused", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )


def downgrade() -> None:
    op.drop_table("sender")
    op.drop_table("forward")
    op.drop_table("receiver")
