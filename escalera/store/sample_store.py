"""Samples in the database, and what is still looked for."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from escalera.core.samples.finding import SampleCard
from escalera.errors import NotFound
from escalera.store.models import RevisionRow, SampleRow, SongRow, VersionRow, WantedRow

CARD = (
    SampleRow.id, SampleRow.content, SampleRow.name, SampleRow.seconds, SampleRow.kind, SampleRow.tempo_bpm, SampleRow.key,
    SampleRow.pitch_hz, SampleRow.has_kick, SampleRow.leaves_middle, SampleRow.bands, SampleRow.envelope, SampleRow.favourite,
    SampleRow.licence, SampleRow.credit, SampleRow.source, SampleRow.doubts, SampleRow.rejected,
    SampleRow.beats_a_bar,
)  # fmt: skip


def all_cards(session: Session, used: dict[str, tuple[str, ...]]) -> list[SampleCard]:
    """Every sample, the newest first; `used` tells in which songs each content plays."""
    return [_card(row, used) for row in session.execute(select(*CARD).order_by(SampleRow.id.desc()))]


def _card(row: Any, used: dict[str, tuple[str, ...]]) -> SampleCard:
    values = dict(row._mapping)
    bands = tuple(float(x) for x in values.pop("bands").split())
    rejected = tuple(int(x) for x in values.pop("rejected").split())
    return SampleCard(**values, bands_db=bands, rejected=rejected, used_in=used.get(values["content"], ()))


def row_of(session: Session, sample_id: int) -> SampleRow:
    """Raises NotFound."""
    row = session.get(SampleRow, sample_id)
    if row is None:
        raise NotFound("This sample is not in the library any more. The list shows what there is.")
    return row


def by_content(session: Session, content: str) -> SampleRow | None:
    return session.scalars(select(SampleRow).where(SampleRow.content == content)).first()


def add(session: Session, row: SampleRow) -> int:
    session.add(row)
    session.flush()
    return row.id


def remove(session: Session, sample_id: int) -> str:
    """The content of what was removed."""
    row = row_of(session, sample_id)
    session.delete(row)
    return row.content


def count(session: Session) -> tuple[int, int]:
    """How many samples there are, and their bytes."""
    number, size = session.execute(
        select(func.count(), func.coalesce(func.sum(SampleRow.size_bytes), 0)).select_from(SampleRow)
    ).one()
    return int(number), int(size)


CONTENT = re.compile(r'"sample": ?"([0-9a-f]{32})"')


def used_contents(session: Session, unpacked: Any) -> dict[str, tuple[str, ...]]:
    """In which songs (by title) each sample plays now; `unpacked` turns a revision into the text of its document."""
    heads = select(SongRow.title, RevisionRow).join(VersionRow, VersionRow.song_id == SongRow.id).join(
        RevisionRow, RevisionRow.id == VersionRow.head_id
    ).where(SongRow.deleted_at.is_(None))  # fmt: skip
    found: dict[str, dict[str, None]] = {}
    for title, revision in session.execute(heads):
        for content in set(CONTENT.findall(unpacked(revision).decode("utf-8", "ignore"))):
            found.setdefault(content, {})[title] = None
    return {content: tuple(titles) for content, titles in found.items()}


def named_anywhere(session: Session, unpacked: Any) -> set[str]:
    """Contents that any state of any song names."""
    found: set[str] = set()
    for revision in session.scalars(select(RevisionRow)):
        found.update(CONTENT.findall(unpacked(revision).decode("utf-8", "ignore")))
    return found


# what is looked for ----------------------------------------------------------------------------------------------


def wanted(session: Session) -> list[WantedRow]:
    """What is looked for, the newest first."""
    return list(session.scalars(select(WantedRow).order_by(WantedRow.id.desc())))


def want(session: Session, words: str, song_id: int, stand_in: str, layer_id: int) -> None:
    session.add(WantedRow(words=words, song_id=song_id, stand_in=stand_in, layer_id=layer_id))


def forget_wanted(session: Session, ids: Iterable[int]) -> None:
    session.execute(delete(WantedRow).where(WantedRow.id.in_(list(ids))))


def loaded(text: str) -> dict[str, Any]:
    """JSON of a column; nothing where it is damaged."""
    try:
        plain = json.loads(text)
    except ValueError:
        return {}
    return plain if isinstance(plain, dict) else {}
