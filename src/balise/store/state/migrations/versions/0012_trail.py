"""trail: the trails of incidents, and what people said was their cause

Revision: 0012, after 0011
"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "incident_trail",
        sa.Column("incident", sa.Integer(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("suspect", sa.Text(), nullable=False),
        sa.Column("sentence", sa.Text(), nullable=False),
        sa.Column("sure", sa.Double(), nullable=False),
        sa.Column("answer", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("incident"),
        sa.ForeignKeyConstraint(["incident"], ["incident.id"], ondelete="CASCADE"),
    )
    op.create_table(
        "incident_cause",
        sa.Column("incident", sa.Integer(), nullable=False),
        sa.Column("rank", sa.Integer(), nullable=True),
        sa.Column("sure", sa.Double(), nullable=True),
        sa.Column("kind", sa.Text(), nullable=True),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("expected", sa.JSON(), nullable=False),
        sa.Column("first_sure", sa.Double(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("incident"),
        sa.ForeignKeyConstraint(["incident"], ["incident.id"], ondelete="CASCADE"),
    )
    op.create_index("ix_incident_cause_at", "incident_cause", ["at"])


def downgrade() -> None:
    op.drop_table("incident_cause")
    op.drop_table("incident_trail")
