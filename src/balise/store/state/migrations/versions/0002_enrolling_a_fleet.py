"""enrolling a fleet

Revision: 0002, after 0001
"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "credential",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("groups", sa.JSON(), nullable=False),
        sa.Column("updated_at", sa.Double(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "enrolment",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("time_limit", sa.Double(), nullable=False),
        sa.Column("created_at", sa.Double(), nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("done_at", sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "plan",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("updated_at", sa.Double(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "saved_view",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("updated_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "candidate",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("facts", sa.JSON(), nullable=False),
        sa.Column("take_over", sa.Boolean(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("origin", sa.Text(), nullable=False),
        sa.Column("created_at", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["key"], ["enrolment_key.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("digest"),
    )
    op.create_table(
        "enrolment_entry",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("enrolment", sa.Integer(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("wanted", sa.JSON(), nullable=False),
        sa.Column("result", sa.Text(), nullable=True),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("host", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["enrolment"], ["enrolment.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("enrolment_entry", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_enrolment_entry_enrolment"), ["enrolment"], unique=False)

    op.create_table(
        "relay",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("site", sa.Text(), nullable=True),
        sa.Column("machine_id", sa.Text(), nullable=False),
        sa.Column("report", sa.JSON(), nullable=True),
        sa.Column("enrolled_with", sa.Integer(), nullable=True),
        sa.Column("last_seen", sa.Double(), nullable=True),
        sa.Column("created_at", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["enrolled_with"], ["enrolment_key.id"], ondelete="SET NULL"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "relay_sender",
        sa.Column("relay", sa.Integer(), nullable=False),
        sa.Column("sender", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["relay"], ["relay.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("relay", "sender"),
    )
    op.create_table(
        "remote",
        sa.Column("host", sa.Integer(), nullable=False),
        sa.Column("protocol", sa.Text(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("port", sa.Integer(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("every", sa.Double(), nullable=True),
        sa.Column("time_limit", sa.Double(), nullable=True),
        sa.Column("host_key", sa.Text(), nullable=False),
        sa.Column("site", sa.Text(), nullable=True),
        sa.Column("owner", sa.Integer(), nullable=False),
        sa.Column("owners", sa.JSON(), nullable=False),
        sa.Column("positions", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["credential"],
            ["credential.name"],
        ),
        sa.ForeignKeyConstraint(["host"], ["host.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("host"),
    )
    op.create_table(
        "service",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("host", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kit", sa.Text(), nullable=False),
        sa.Column("mode", sa.Text(), nullable=False),
        sa.Column("target", sa.JSON(), nullable=False),
        sa.Column("every", sa.Double(), nullable=False),
        sa.Column("site", sa.Text(), nullable=True),
        sa.Column("owner", sa.Integer(), nullable=False),
        sa.Column("owners", sa.JSON(), nullable=False),
        sa.Column("created_at", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["host"], ["host.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("host", "name"),
    )
    with op.batch_alter_table("service", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_service_host"), ["host"], unique=False)

    with op.batch_alter_table("enrolment_key", schema=None) as batch_op:
        batch_op.add_column(sa.Column("labels", sa.JSON(), server_default="{}", nullable=False))
        batch_op.add_column(sa.Column("approval", sa.Text(), server_default="automatic", nullable=False))
        batch_op.add_column(sa.Column("revoked_at", sa.Double(), nullable=True))

    with op.batch_alter_table("group", schema=None) as batch_op:
        batch_op.add_column(sa.Column("kind", sa.Text(), server_default="group", nullable=False))
        batch_op.add_column(sa.Column("about", sa.Text(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("where", sa.Text(), nullable=True))

    with op.batch_alter_table("host", schema=None) as batch_op:
        batch_op.add_column(sa.Column("retired_at", sa.Double(), nullable=True))

    # Plain SQL: making these tables anew would delete, by cascade, what refers to them.
    op.execute('ALTER TABLE "group" ADD COLUMN parent INTEGER REFERENCES "group" (id)')
    op.execute("ALTER TABLE token ADD COLUMN relay INTEGER REFERENCES relay (id)")
