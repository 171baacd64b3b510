"""drilling: dashboards and their versions, targets of availability, runs of the console, the first page of a person

Revision: 0011, after 0010
"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "dashboard",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("owner", sa.Text(), nullable=False),
        sa.Column("shared", sa.Boolean(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("updated_at", sa.Double(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "dashboard_version",
        sa.Column("dashboard", sa.Text(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("dashboard", "version"),
        sa.ForeignKeyConstraint(["dashboard"], ["dashboard.name"], ondelete="CASCADE"),
    )
    op.add_column("user", sa.Column("first_page", sa.Text(), nullable=False, server_default=""))
    op.create_table(
        "availability_target",
        sa.Column("of", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("share", sa.Double(), nullable=False),
        sa.Column("per", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("of", "name"),
    )
    op.create_table(
        "console_run",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("began_at", sa.Double(), nullable=False),
        sa.Column("alive_at", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )


def downgrade() -> None:
    op.drop_column("user", "first_page")
    for table in ("console_run", "availability_target", "dashboard_version", "dashboard"):
        op.drop_table(table)
