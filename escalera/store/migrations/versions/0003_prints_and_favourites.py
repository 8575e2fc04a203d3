"""Printed audio, and sounds that the user likes."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "prints",
        sa.Column("hash", sa.String(40), primary_key=True),
        sa.Column("scale", sa.Float, nullable=False),
        sa.Column("flac", sa.LargeBinary, nullable=False),
    )
    op.create_table("favourites", sa.Column("sound", sa.String(60), primary_key=True))
