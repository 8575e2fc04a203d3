"""Answers to drills, and the sessions in which they were given."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.create_table(
        "drill_sessions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kinds", sa.Text, nullable=False),
        sa.Column("song_id", sa.Integer, nullable=False),
        sa.Column("section_id", sa.Integer, nullable=False),
        sa.Column("began_at", sa.DateTime, nullable=False),
    )
    op.create_table(
        "drill_answers",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("session_id", sa.Integer, nullable=False, index=True),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("kind", sa.String(40), nullable=False, index=True),
        sa.Column("item", sa.String(120), nullable=False),
        sa.Column("size", sa.Float, nullable=False),
        sa.Column("right", sa.Boolean, nullable=False),
        sa.Column("answered_at", sa.DateTime, nullable=False),
        sa.UniqueConstraint("session_id", "number"),
    )
