"""What is planned over songs: facts that were read, steps that were timed or skipped, sets, prompts of one's own, choices."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "song_facts",
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("state", sa.String(120), nullable=False),
        sa.Column("facts", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "timed_steps",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("song_id", sa.Integer, nullable=False, index=True),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("step", sa.String(120), nullable=False),
        sa.Column("said", sa.String(300), nullable=False),
        sa.Column("planned_min", sa.Integer, nullable=False),
        sa.Column("began_at", sa.DateTime, nullable=False),
        sa.Column("paused_at", sa.DateTime),
        sa.Column("paused_s", sa.Float, nullable=False),
        sa.Column("ended_at", sa.DateTime, index=True),
        sa.Column("minutes", sa.Float),
        sa.Column("outcome", sa.String(20), nullable=False),
    )
    op.create_table(
        "skipped_steps",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("step", sa.String(120), nullable=False),
        sa.Column("said", sa.String(300), nullable=False),
        sa.Column("reason", sa.String(300), nullable=False),
        sa.Column("at", sa.DateTime, nullable=False),
        sa.Column("until", sa.Date),
    )
    _sets()


def _sets() -> None:
    op.create_table(
        "song_sets",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("head_id", sa.Integer),
        sa.Column("deleted_at", sa.DateTime),
    )
    op.create_table(
        "set_states",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("set_id", sa.Integer, sa.ForeignKey("song_sets.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("summary", sa.String(300), nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
        sa.Column("document", sa.Text, nullable=False),
    )
    op.create_table(
        "own_prompts",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("words", sa.String(300), nullable=False),
        sa.Column("rules", sa.Text, nullable=False),
        sa.Column("created_at", sa.DateTime, nullable=False),
    )
    op.create_table(
        "choices",
        sa.Column("name", sa.String(40), primary_key=True),
        sa.Column("value", sa.Text, nullable=False),
    )
