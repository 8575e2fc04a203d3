"""Recordings: what was read of them, where they came from, and what is still looked for."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "samples",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("content", sa.String(40), nullable=False, unique=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("file", sa.String(300), nullable=False),
        sa.Column("added_at", sa.DateTime, nullable=False),
        sa.Column("size_bytes", sa.Integer, nullable=False),
        sa.Column("favourite", sa.Boolean, nullable=False),
        sa.Column("rejected", sa.Text, nullable=False),
        sa.Column("source", sa.String(240), nullable=False),
        sa.Column("licence", sa.String(20), nullable=False),
        sa.Column("credit", sa.String(240), nullable=False),
        sa.Column("made", sa.String(300), nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("tempo_bpm", sa.Float),
        sa.Column("key", sa.String(40), nullable=False),
        sa.Column("pitch_hz", sa.Float),
        sa.Column("has_kick", sa.Boolean, nullable=False),
        sa.Column("leaves_middle", sa.Boolean, nullable=False),
        sa.Column("bands", sa.String(80), nullable=False),
        sa.Column("envelope", sa.Text, nullable=False),
        sa.Column("reading", sa.Text, nullable=False),
        sa.Column("own", sa.Text, nullable=False),
        sa.Column("doubts", sa.Integer, nullable=False),
    )
    op.create_table(
        "wanted",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("words", sa.String(200), nullable=False),
        sa.Column("song_id", sa.Integer, nullable=False),
        sa.Column("stand_in", sa.String(120), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("content", sa.String(40), nullable=False),
    )
