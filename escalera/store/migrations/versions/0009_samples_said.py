"""Samples: their metre, what their files say of them; the layer that stands in for what is looked for."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("samples", sa.Column("beats_a_bar", sa.Integer, nullable=False, server_default="4"))
    op.add_column("samples", sa.Column("file_says", sa.Text, nullable=False, server_default="{}"))
    op.add_column("wanted", sa.Column("layer_id", sa.Integer, nullable=False, server_default="0"))
