"""The first tables: machines, their facts by columns, their programs, questions, outcomes."""

import sqlalchemy as sql
from alembic import op

revision, down_revision = "0001", None


def upgrade() -> None:
    op.create_table(
        "machine",
        sql.Column("number", sql.Integer, primary_key=True, autoincrement=False),
        sql.Column("computer", sql.Text, nullable=False),
        sql.Column("identity", sql.Text, nullable=False),
        sql.Column("seen", sql.Text, nullable=False),
    )
    op.create_table(
        "fact",
        sql.Column("name", sql.Text, primary_key=True),
        sql.Column("sort", sql.Text, nullable=False),  # text, number, or listed: whose programs are known
        sql.Column("words", sql.LargeBinary, nullable=False),
        sql.Column("data", sql.LargeBinary, nullable=False),
    )
    op.create_table(
        "program",
        sql.Column("id", sql.Integer, primary_key=True, autoincrement=False),
        sql.Column("name", sql.Text, nullable=False),
        sql.Column("version", sql.Text, nullable=False),
        sql.Column("publisher", sql.Text, nullable=False),
        sql.Column("code", sql.Text, nullable=False),
        sql.Column("sort", sql.Text, nullable=False),
        sql.Column("machines", sql.LargeBinary, nullable=False),
    )
    op.create_table(
        "question", sql.Column("name", sql.Text, primary_key=True), sql.Column("asked", sql.Text, nullable=False)
    )
    op.create_table(
        "outcome",
        sql.Column("id", sql.Text, primary_key=True),  # the reporter's own: the same report counts once
        sql.Column("package", sql.Text, nullable=False),
        sql.Column("version", sql.Text, nullable=False),
        sql.Column("computer", sql.Text, nullable=False),
        sql.Column("site", sql.Text, nullable=False),
        sql.Column("ended", sql.Text, nullable=False),
        sql.Column("failed", sql.Boolean, nullable=False),
        sql.Column("cause", sql.Text, nullable=False),
        sql.Column("seconds", sql.Float, nullable=False),
    )
    op.create_index("outcome_of", "outcome", ["package", "version"])


def downgrade() -> None:
    for name in ("outcome", "question", "program", "fact", "machine"):
        op.drop_table(name)
