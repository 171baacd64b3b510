"""collecting: kits, probes, inventory, applications

Revision: 0003, after 0002
"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "application",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("updated_at", sa.Double(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "kit",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("shipped", sa.Boolean(), nullable=False),
        sa.Column("chosen", sa.Boolean(), nullable=False),
        sa.Column("added_at", sa.Double(), nullable=False),
        sa.Column("added_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name", "version"),
    )
    op.create_table(
        "inventory_item",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("host", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("item", sa.JSON(), nullable=False),
        sa.Column("since", sa.Double(), nullable=False),
        sa.Column("until", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(["host"], ["host.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("inventory_by_name", "inventory_item", ["kind", "name", "until"])
    op.create_index("inventory_of_host", "inventory_item", ["host", "kind", "until"])

    op.create_table(
        "inventory_look",
        sa.Column("host", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("first_at", sa.Double(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["host"], ["host.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("host", "kind", "scope"),
    )
    op.create_table(
        "probe",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("host", sa.Integer(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=True),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("state_since", sa.Double(), nullable=False),
        sa.Column("last", sa.JSON(), nullable=True),
        sa.Column("updated_at", sa.Double(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["credential"],
            ["credential.name"],
        ),
        sa.ForeignKeyConstraint(["host"], ["host.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "service_step",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("service", sa.Integer(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("before", sa.Text(), nullable=False),
        sa.Column("after", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["service"], ["service.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("service_step_of", "service_step", ["service", "at"])

    op.execute("ALTER TABLE service ADD COLUMN credential TEXT REFERENCES credential (name)")
    op.add_column("service", sa.Column("facts", sa.JSON(), server_default="{}", nullable=False))
