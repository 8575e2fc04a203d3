"""Lines of one's own for sessions of work."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "session_lines",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("began_at", sa.DateTime, nullable=False, unique=True),
        sa.Column("text", sa.String(400), nullable=False),
    )
