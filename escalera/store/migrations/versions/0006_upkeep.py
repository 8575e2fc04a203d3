"""What upkeep beyond the tables a database has had, for example prints brought under other keys."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.create_table("upkeep", sa.Column("name", sa.String(40), primary_key=True))
