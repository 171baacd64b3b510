"""hard: from where people have signed in, what tokens may deliver, and the site of an enrolment key

Revision: 0005, after 0004
"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("user") as batch_op:
        batch_op.add_column(sa.Column("places", sa.JSON(), nullable=False, server_default="[]"))
    with op.batch_alter_table("enrolment_key") as batch_op:
        batch_op.add_column(sa.Column("site", sa.Text(), nullable=True))
    with op.batch_alter_table("token") as batch_op:
        batch_op.add_column(sa.Column("scope", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("new_hosts", sa.Integer(), nullable=False, server_default="0"))
    # Tokens that are in use go on as they were.
    op.execute(
        """UPDATE token SET scope = '{"kinds": ["metrics", "logs"], "new_hosts": 20000, "collected": true}' """
        "WHERE role = 'ingest'"
    )


def downgrade() -> None:
    with op.batch_alter_table("token") as batch_op:
        batch_op.drop_column("new_hosts")
        batch_op.drop_column("scope")
    with op.batch_alter_table("enrolment_key") as batch_op:
        batch_op.drop_column("site")
    with op.batch_alter_table("user") as batch_op:
        batch_op.drop_column("places")
