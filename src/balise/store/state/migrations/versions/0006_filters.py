"""events: filters that have a name

Revision: 0006, after 0005
"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "saved_filter",
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("where", sa.String(), nullable=False),
        sa.Column("about", sa.String(), nullable=False),
        sa.Column("owner", sa.String(), nullable=False),
        sa.Column("updated_at", sa.Float(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )


def downgrade() -> None:
    op.drop_table("saved_filter")
