"""Long work: what was asked for, how far it is, and where its result lies."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_table(
        "jobs",
        sa.Column("id", sa.String(40), primary_key=True),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("song_id", sa.Integer, nullable=False, index=True),
        sa.Column("revision_id", sa.Integer, nullable=False),
        sa.Column("options", sa.Text, nullable=False),
        sa.Column("label", sa.String(120), nullable=False),
        sa.Column("state", sa.String(10), nullable=False, index=True),
        sa.Column("share", sa.Float, nullable=False),
        sa.Column("trouble", sa.Text, nullable=False),
        sa.Column("file", sa.String(200), nullable=False),
        sa.Column("mimetype", sa.String(60), nullable=False),
        sa.Column("tries", sa.Integer, nullable=False),
        sa.Column("worker", sa.String(80), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("beat_at", sa.DateTime, nullable=False),
    )
