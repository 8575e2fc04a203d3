"""Bounces: mixes of a song made elsewhere, laid over the plan."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "bounces",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("song_id", sa.Integer, nullable=False, index=True),
        sa.Column("content", sa.String(40), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("note", sa.String(300), nullable=False),
        sa.Column("made_at", sa.DateTime, nullable=False),
        sa.Column("form", sa.String(40), nullable=False),
        sa.Column("report", sa.Text, nullable=False),
        sa.Column("trouble", sa.String(400), nullable=False),
    )
