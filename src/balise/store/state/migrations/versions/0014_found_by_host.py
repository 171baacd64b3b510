"""found by host: tokens, groups and machine ids are looked up for each machine that enrols

Revision: 0014, after 0013
"""

from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

INDEXED = (("host", "machine_id"), ("token", "host"), ("token", "relay"), ("member", "host"))


def upgrade() -> None:
    for table, column in INDEXED:
        op.create_index(f"ix_{table}_{column}", table, [column])


def downgrade() -> None:
    for table, column in INDEXED:
        op.drop_index(f"ix_{table}_{column}", table)
