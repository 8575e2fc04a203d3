"""Songs, versions, revisions and patterns."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "songs",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("title", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("touched_at", sa.DateTime, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "versions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("name", sa.String(100), nullable=False),
        sa.Column("head_id", sa.Integer),
        sa.Column("tip_id", sa.Integer),
    )
    op.create_table(
        "revisions",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("parent_id", sa.Integer, sa.ForeignKey("revisions.id")),
        sa.Column("summary", sa.String(300), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("document", sa.LargeBinary, nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "patterns",
        sa.Column("hash", sa.String(40), primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
