"""rules: what else an alert tells, alerts that flap, forms that rules had, and what rules have heard

Revision: 0008, after 0007
"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("alert", sa.Column("detail", sa.JSON(), nullable=True))
    op.add_column("alert", sa.Column("flapping_since", sa.Double(), nullable=True))
    op.add_column("alert", sa.Column("calm_since", sa.Double(), nullable=True))
    op.create_table(
        "rule_version",
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("rule", "version"),
    )
    op.execute(
        "INSERT INTO rule_version (rule, version, at, who, why, what, body) "
        "SELECT name, 1, updated_at, updated_by, '', CASE WHEN shipped THEN 'shipped' ELSE 'written' END, body "
        "FROM rule"
    )
    op.create_table(
        "rule_heard",
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("form", sa.Text(), nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("rule"),
        sa.ForeignKeyConstraint(["rule"], ["rule.name"], ondelete="CASCADE"),
    )


def downgrade() -> None:
    op.drop_table("rule_heard")
    op.drop_table("rule_version")
    with op.batch_alter_table("alert") as batch:
        batch.drop_column("calm_since")
        batch.drop_column("flapping_since")
        batch.drop_column("detail")
