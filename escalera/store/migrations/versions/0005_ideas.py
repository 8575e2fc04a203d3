"""Ideas without a place: words, patterns, sections and recordings, from any song or none."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "ideas",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("source", sa.String(240), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("placed", sa.String(240), nullable=False, server_default=""),
        sa.Column("seconds", sa.Float, nullable=False, server_default="0"),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
