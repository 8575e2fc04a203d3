"""Studies: finished tracks taken apart."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.create_table(
        "studies",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("content", sa.String(40), nullable=False, index=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("made_at", sa.DateTime, nullable=False),
        sa.Column("given", sa.Text, nullable=False),
        sa.Column("read_with", sa.Text, nullable=False),
        sa.Column("report", sa.Text, nullable=False),
        sa.Column("notes", sa.Text, nullable=False),
        sa.Column("songs", sa.Text, nullable=False),
        sa.Column("trouble", sa.String(400), nullable=False),
    )
