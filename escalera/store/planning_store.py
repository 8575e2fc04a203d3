"""What is planned over songs, in the database: facts by state, timed and skipped steps, sets with their states, prompts, choices."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from escalera.errors import NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.store.models import BounceRow, RevisionRow, SongRow, VersionRow, WantedRow, now
from escalera.store.planning_models import (
    ChoiceRow,
    OwnPromptRow,
    SetStateRow,
    SkippedStepRow,
    SongFactsRow,
    SongSetRow,
    TimedStepRow,
)

MOST_TIMED = 2000  # that are looked at, the newest
MOST_STATES = 300  # of a set that are kept


@dataclass(frozen=True, slots=True)
class SongState:
    """A song on the shelf without its document: its present revision, when it was begun and touched, what was brought in for it."""

    song_id: int
    title: str
    created_at: datetime
    touched_at: datetime
    revision_id: int
    around: str  # changes when mixes or wanted sounds do


def song_states(session: Session) -> list[SongState]:
    """All songs that are not in the bin, the newest touched first."""
    first = select(func.min(VersionRow.id)).group_by(VersionRow.song_id).scalar_subquery()
    rows = session.execute(
        select(SongRow.id, SongRow.title, SongRow.created_at, SongRow.touched_at, VersionRow.head_id)
        .join(VersionRow, VersionRow.song_id == SongRow.id)
        .where(SongRow.deleted_at.is_(None), VersionRow.id.in_(first))
        .order_by(SongRow.touched_at.desc(), SongRow.id.desc())
    ).all()
    around = _around(session)
    return [SongState(i, title, made, touched, head or 0, around.get(i, "")) for i, title, made, touched, head in rows]


def _around(session: Session) -> dict[int, str]:
    mixes = session.execute(
        select(
            BounceRow.song_id, func.count(), func.max(BounceRow.id), func.sum(func.length(BounceRow.report))
        ).group_by(BounceRow.song_id)
    ).all()
    found = {song_id: f"m{count}.{last}.{size}" for song_id, count, last, size in mixes}
    wanted = session.execute(
        select(WantedRow.song_id, func.count(), func.max(WantedRow.id))
        .where(WantedRow.content == "")
        .group_by(WantedRow.song_id)
    ).all()
    for song_id, count, last in wanted:
        found[song_id] = f"{found.get(song_id, '')}w{count}.{last}"
    return found


def mixes_of(session: Session, song_id: int) -> list[tuple[datetime, str]]:
    """When each mix of a song came, and its report as JSON."""
    rows = session.scalars(select(BounceRow).where(BounceRow.song_id == song_id).order_by(BounceRow.id))
    return [(row.made_at, row.report) for row in rows]


def wanted_of(session: Session, song_id: int) -> tuple[str, ...]:
    """Words of sounds that were looked for in a song and not found yet."""
    rows = select(WantedRow.words).where(WantedRow.song_id == song_id, WantedRow.content == "").order_by(WantedRow.id)
    return tuple(session.scalars(rows))


def kept_facts(session: Session) -> dict[int, tuple[str, bytes]]:
    """Facts by song: the state they were read of, and themselves."""
    return {row.song_id: (row.state, row.facts) for row in session.execute(select(*SongFactsRow.__table__.columns))}


def keep_facts(session: Session, rows: Iterable[tuple[int, str, bytes]]) -> None:
    """Keep what was read of songs; of a song that is gone nothing."""
    for song_id, state, facts in rows:
        if session.get(SongRow, song_id) is not None:
            session.merge(SongFactsRow(song_id=song_id, state=state, facts=facts))


def first_words(session: Session, song_id: int) -> str:
    """How a song's history begins."""
    row = select(RevisionRow.summary).where(RevisionRow.song_id == song_id).order_by(RevisionRow.id).limit(1)
    return session.scalar(row) or ""


# steps that were timed or skipped ---------------------------------------------------------------------------------


def running_step(session: Session) -> TimedStepRow | None:
    """The step that runs, the newest if there should be two."""
    return session.scalar(
        select(TimedStepRow).where(TimedStepRow.ended_at.is_(None)).order_by(TimedStepRow.id.desc()).limit(1)
    )


def timed_step(session: Session, step_id: int) -> TimedStepRow:
    """A timed step. Raises NotFound."""
    row = session.get(TimedStepRow, step_id)
    if row is None:
        raise NotFound("That step is not in the list any more. Open Today again.")
    return row


def timed_steps(session: Session, most: int = MOST_TIMED) -> list[TimedStepRow]:
    """Steps that have ended, the newest first."""
    rows = select(TimedStepRow).where(TimedStepRow.ended_at.is_not(None)).order_by(TimedStepRow.id.desc()).limit(most)
    return list(session.scalars(rows))


def skipped(session: Session, today: date) -> list[SkippedStepRow]:
    """Steps that are put off beyond today."""
    rows = session.scalars(select(SkippedStepRow).order_by(SkippedStepRow.id))
    return [row for row in rows if row.until is None or row.until > today]


def skip(session: Session, song_id: int, step: str, said: str, reason: str, until: date | None) -> None:
    """Put a step off; an earlier putting off of the same step is replaced."""
    session.execute(delete(SkippedStepRow).where(SkippedStepRow.song_id == song_id, SkippedStepRow.step == step))
    session.add(SkippedStepRow(song_id=song_id, step=step, said=said, reason=reason, until=until))


def unskip(session: Session, skip_id: int) -> str:
    """Offer a skipped step again; what it is. Raises NotFound."""
    row = session.get(SkippedStepRow, skip_id)
    if row is None:
        raise NotFound("That step is offered already.")
    said = row.said
    session.delete(row)
    return said


# sets -------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class SetState:
    """A set as it stands: its document as plain data, and whether there is something to undo and redo."""

    set_id: int
    state_id: int
    document: Any
    can_undo: bool
    can_redo: bool


def all_sets(session: Session, deleted: bool = False) -> list[SetState]:
    """Sets in the order in which they were made."""
    where = SongSetRow.deleted_at.is_not(None) if deleted else SongSetRow.deleted_at.is_(None)
    return [_state(session, row) for row in session.scalars(select(SongSetRow).where(where).order_by(SongSetRow.id))]


def set_state(session: Session, set_id: int) -> SetState:
    """The present state of a set. Raises NotFound."""
    row = session.get(SongSetRow, set_id)
    if row is None or row.deleted_at is not None:
        raise NotFound("There is no such set. The list shows those there are.")
    return _state(session, row)


def _state(session: Session, row: SongSetRow) -> SetState:
    head = session.get(SetStateRow, row.head_id)
    ids = _ids(session, row.id)
    document = json.loads(head.document) if head is not None else {}
    return SetState(
        row.id, row.head_id or 0, document, bool(ids) and ids[0] != row.head_id, bool(ids) and ids[-1] != row.head_id
    )


def _ids(session: Session, set_id: int) -> list[int]:
    return list(session.scalars(select(SetStateRow.id).where(SetStateRow.set_id == set_id).order_by(SetStateRow.id)))


def make_set(session: Session, name: str, document: Any, said: str) -> int:
    """Make a set; its id."""
    row = SongSetRow(name=name)
    session.add(row)
    session.flush()
    append_state(session, row.id, name, document, said)
    return row.id


def append_state(session: Session, set_id: int, name: str, document: Any, said: str) -> None:
    """Put a state after the present one; what was undone is gone then, and the oldest states go where there are very many."""
    row = session.get(SongSetRow, set_id)
    assert row is not None
    session.execute(delete(SetStateRow).where(SetStateRow.set_id == set_id, SetStateRow.id > (row.head_id or 0)))
    state = SetStateRow(set_id=set_id, summary=said[:300], document=json.dumps(document, separators=(",", ":")))
    session.add(state)
    session.flush()
    row.head_id, row.name = state.id, name
    for old in _ids(session, set_id)[:-MOST_STATES]:
        session.execute(delete(SetStateRow).where(SetStateRow.id == old))


def step_set(session: Session, set_id: int, forward: bool) -> str | None:
    """Go to the state before or after; what is undone or done again, None where there is nothing."""
    row = session.get(SongSetRow, set_id)
    ids = _ids(session, set_id)
    if row is None or row.head_id not in ids:
        return None
    place = ids.index(row.head_id) + (1 if forward else -1)
    if not 0 <= place < len(ids):
        return None
    said = session.get(SetStateRow, ids[max(place, ids.index(row.head_id))])
    row.head_id = ids[place]
    state = session.get(SetStateRow, ids[place])
    row.name = json.loads(state.document)["name"] if state is not None else row.name
    return said.summary if said is not None else ""


def set_history(session: Session, set_id: int) -> list[tuple[datetime, str, bool]]:
    """When, what, and whether it is in effect, the newest first."""
    row = session.get(SongSetRow, set_id)
    states = session.scalars(select(SetStateRow).where(SetStateRow.set_id == set_id).order_by(SetStateRow.id.desc()))
    return [(s.created_at, s.summary, row is not None and s.id <= (row.head_id or 0)) for s in states]


def set_deleted(session: Session, set_id: int, deleted: bool) -> str:
    """Put a set away, or take it out again; its name. Raises NotFound."""
    row = session.get(SongSetRow, set_id)
    if row is None:
        raise NotFound("There is no such set. The list shows those there are.")
    row.deleted_at = now() if deleted else None
    return row.name


# prompts and choices ----------------------------------------------------------------------------------------------


def own_prompts(session: Session) -> list[OwnPromptRow]:
    """Prompts of one's own, the newest first."""
    return list(session.scalars(select(OwnPromptRow).order_by(OwnPromptRow.id.desc())))


def keep_prompt(session: Session, name: str, words: str, rules: Sequence[tuple[str, str]]) -> int:
    """Keep a prompt; its id."""
    row = OwnPromptRow(name=name, words=words, rules=json.dumps(rules))
    session.add(row)
    session.flush()
    return row.id


def own_prompt_row(session: Session, prompt_id: int) -> OwnPromptRow:
    """A prompt of one's own. Raises NotFound."""
    row = session.get(OwnPromptRow, prompt_id)
    if row is None:
        raise NotFound("That prompt is not kept any more. The list shows those that are.")
    return row


def choice(session: Session, name: str) -> Any:
    """A choice that was made; None where none was, or where it cannot be read."""
    row = session.get(ChoiceRow, name)
    try:
        return json.loads(row.value) if row is not None else None
    except ValueError:
        return None


def choose(session: Session, name: str, value: object) -> None:
    """Keep a choice; None takes it back."""
    if value is None:
        session.execute(delete(ChoiceRow).where(ChoiceRow.name == name))
    else:
        session.merge(ChoiceRow(name=name, value=json.dumps(value)))
