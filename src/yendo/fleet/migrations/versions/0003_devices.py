"""Devices: what each is and which driver it uses, with the machines that have it."""

import sqlalchemy as sql
from alembic import op

revision, down_revision = "0003", "0002"


def upgrade() -> None:
    op.create_table(
        "device",
        sql.Column("id", sql.Integer, primary_key=True, autoincrement=False),
        sql.Column("words", sql.LargeBinary, nullable=False),
        sql.Column("machines", sql.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("device")
