"""incidents: what belongs together, who was told of it, people, rotas, maintenance, drills; callouts in steps

Revision: 0010, after 0009
"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

NEW = (
    "response_run",
    "response",
    "drill",
    "maintenance",
    "rota",
    "person",
    "heard",
    "word",
    "callout_run",
    "incident_line",
    "incident_alert",
)


def _text(name: str, *, nullable: bool = False) -> sa.Column[str]:
    return sa.Column(name, sa.Text(), nullable=nullable)


def _time(name: str, *, nullable: bool = False) -> sa.Column[float]:
    return sa.Column(name, sa.Double(), nullable=nullable)


def _number(name: str, *, nullable: bool = False) -> sa.Column[int]:
    return sa.Column(name, sa.Integer(), nullable=nullable)


def _json(name: str) -> sa.Column[str]:
    return sa.Column(name, sa.JSON(), nullable=False)


def _of_incident() -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint(["incident"], ["incident.id"], ondelete="CASCADE")


def upgrade() -> None:
    op.add_column("alert_step", sa.Column("placed", sa.Boolean(), nullable=False, server_default="0"))
    # What is open is placed at the first start: of everything before there is no incident.
    op.execute("UPDATE alert_step SET placed = 1")
    op.create_index("alert_step_not_placed", "alert_step", ["id"], sqlite_where=sa.text("placed = 0"))
    _incidents()
    _callouts()


def _incidents() -> None:
    op.create_table(
        "incident",
        _number("id"),
        _text("of"),
        _text("title"),
        _number("level"),
        _text("state"),
        _time("opened_at"),
        _time("recovered_at", nullable=True),
        _time("closed_at", nullable=True),
        _text("closed_by", nullable=True),
        _text("closing_note", nullable=True),
        _number("reopened"),
        _json("hurts"),
        _json("hosts"),
        _number("host_count"),
        _number("alert_count"),
        _number("open_count"),
        _text("taken_by", nullable=True),
        _time("taken_at", nullable=True),
        _time("snoozed_until", nullable=True),
        _number("snoozed_level", nullable=True),
        _number("joined_into", nullable=True),
        _json("apart"),
        _json("told"),
        sa.PrimaryKeyConstraint("id"),
        sqlite_autoincrement=True,
    )
    op.create_index("incident_by_state", "incident", ["state", "id"])
    op.create_table(
        "incident_alert",
        _number("alert"),
        _number("incident"),
        _time("at"),
        _number("held_under", nullable=True),
        _text("why"),
        _text("why_held"),
        sa.PrimaryKeyConstraint("alert"),
        sa.ForeignKeyConstraint(["alert"], ["alert.id"], ondelete="CASCADE"),
        _of_incident(),
    )
    op.create_index("ix_incident_alert_incident", "incident_alert", ["incident"])
    op.create_table(
        "incident_line",
        _number("id"),
        _number("incident"),
        _time("at"),
        _text("kind"),
        _text("text"),
        _text("who", nullable=True),
        sa.PrimaryKeyConstraint("id"),
        _of_incident(),
    )
    op.create_index("ix_incident_line_incident", "incident_line", ["incident"])


def _callouts() -> None:
    op.create_table(
        "callout_run",
        _number("incident"),
        _text("callout"),
        _time("begun"),
        _number("step"),
        _time("due", nullable=True),
        _number("rounds"),
        _json("later"),
        sa.PrimaryKeyConstraint("incident", "callout"),
        _of_incident(),
    )
    op.create_index("callout_run_due", "callout_run", ["due"])
    op.create_table(
        "word",
        _number("id"),
        _number("incident"),
        _text("channel"),
        _text("person", nullable=True),
        _text("callout"),
        _text("kind"),
        _text("why"),
        _time("gather"),
        _time("due"),
        sa.PrimaryKeyConstraint("id"),
        _of_incident(),
    )
    op.create_index("ix_word_incident", "word", ["incident"])
    op.create_index("word_due", "word", ["due"])
    op.create_table(
        "heard",
        _number("id"),
        _number("incident"),
        _text("channel"),
        _text("person", nullable=True),
        _text("callout"),
        _time("at"),
        sa.Column("over", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        _of_incident(),
    )
    op.create_index("ix_heard_incident", "heard", ["incident"])
    op.create_table(
        "response_run",
        _number("incident"),
        _text("response"),
        _time("begun"),
        _number("step"),
        _time("due", nullable=True),
        sa.PrimaryKeyConstraint("incident", "response"),
        _of_incident(),
    )
    op.create_index("response_run_due", "response_run", ["due"])
    for name in ("person", "rota", "response"):
        op.create_table(name, _text("name"), _json("body"), sa.PrimaryKeyConstraint("name"))
    op.create_table(
        "maintenance",
        _text("name"),
        _json("body"),
        _time("said_at"),
        _time("ended_at", nullable=True),
        _time("updated_at"),
        _text("updated_by"),
        sa.PrimaryKeyConstraint("name"),
    )
    op.create_table(
        "drill",
        _number("id"),
        _text("callout"),
        _number("incident"),
        _time("started_at"),
        _text("started_by"),
        _text("answered_by", nullable=True),
        _time("answered_at", nullable=True),
        _time("ended_at", nullable=True),
        sa.PrimaryKeyConstraint("id"),
        _of_incident(),
    )
    _in_steps()
    with op.batch_alter_table("delivery") as batch:
        for column in ("person", "callout", "answer"):
            batch.add_column(_text(column, nullable=True))
        batch.add_column(_number("incident", nullable=True))
        batch.create_foreign_key("delivery_incident", "incident", ["incident"], ["id"], ondelete="CASCADE")
    op.create_index("delivery_of_incident", "delivery", ["incident"])


def _in_steps() -> None:
    """Callouts told channels; now they are documents with steps."""
    old = op.get_bind().execute(sa.text('SELECT name, "when", tell FROM callout')).all()
    op.drop_table("callout")
    table = op.create_table("callout", _text("name"), _json("body"), sa.PrimaryKeyConstraint("name"))
    for name, when, tell in old:
        body = {"when": when, "tell": json.loads(tell) if isinstance(tell, str) else tell}
        op.execute(table.insert().values(name=name, body=body))


def downgrade() -> None:
    op.drop_index("delivery_of_incident", "delivery")
    with op.batch_alter_table("delivery") as batch:
        for column in ("incident", "answer", "callout", "person"):
            batch.drop_column(column)
    table = sa.table("callout", sa.column("name", sa.Text()), sa.column("body", sa.JSON()))
    rows = op.get_bind().execute(sa.select(table)).all()
    op.drop_table("callout")
    old = op.create_table("callout", _text("name"), _text("when"), _json("tell"), sa.PrimaryKeyConstraint("name"))
    for name, body in rows:
        steps = body.get("steps") or [{"tell": [f"channel:{channel}" for channel in body.get("tell", [])]}]
        told = [one.removeprefix("channel:") for one in steps[0]["tell"] if one.startswith("channel:")]
        op.execute(old.insert().values(name=name, when=body["when"], tell=told))
    for name in (*NEW, "incident"):
        op.drop_table(name)
    op.drop_index("alert_step_not_placed", "alert_step")
    with op.batch_alter_table("alert_step") as batch:
        batch.drop_column("placed")
