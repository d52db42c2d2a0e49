"""Deliveries: which computers each has, what was decided and why, what computers have told, and by which key."""

import sqlalchemy as sql
from alembic import op

revision, down_revision = "0002", "0001"


def _text(name: str) -> sql.Column[str]:
    return sql.Column(name, sql.Text, nullable=False)


def _number(name: str) -> sql.Column[int]:
    return sql.Column(name, sql.Integer, nullable=False)


def upgrade() -> None:
    op.create_table(
        "delivery",
        sql.Column("number", sql.Integer, primary_key=True),
        *(_text(name) for name in ("package", "version", "name", "verb", "run", "folder", "digest", "waves", "state")),
        _number("revision"),
        _number("after"),
        sql.Column("offered", sql.Boolean, nullable=False),
        _text("opened"),
    )
    op.create_table(
        "place",
        sql.Column("delivery", sql.Integer, primary_key=True, autoincrement=False),
        sql.Column("computer", sql.Text, primary_key=True),
        *(_text(name) for name in ("shown", "site", "wave", "ready", "state", "cause", "line", "ended")),
        _number("code"),
        sql.Column("seconds", sql.Float, nullable=False),
        _number("tries"),
        _text("next"),
        _text("there"),  # what was found when it was looked at again: there, gone, or nothing yet
    )
    op.create_index("place_of", "place", ["computer"])
    op.create_table(
        "decision",
        sql.Column("id", sql.Integer, primary_key=True),
        _number("delivery"),
        *(_text(name) for name in ("time", "who", "what", "wave", "why", "figures")),
    )
    op.create_table(
        "arrived",
        sql.Column("id", sql.Text, primary_key=True),  # the reporter's own: the same report counts once
        _text("computer"),
        _text("sort"),
        _number("delivery"),
        *(_text(name) for name in ("told", "received", "cause", "line", "text")),
        _number("code"),
    )
    op.create_index("arrived_of", "arrived", ["computer"])
    op.create_table("computer_key", sql.Column("computer", sql.Text, primary_key=True), _text("key"), _text("since"))
    op.create_table("setting", sql.Column("name", sql.Text, primary_key=True), _text("value"))
    op.create_table("reader", sql.Column("name", sql.Text, primary_key=True), _text("password"))
    op.create_table("session", sql.Column("id", sql.Text, primary_key=True), _text("reader"), _text("until"))


def downgrade() -> None:
    for name in ("session", "reader", "setting", "computer_key", "arrived", "decision", "place", "delivery"):
        op.drop_table(name)
