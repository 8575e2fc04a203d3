"""Drills: sessions of five minutes, the next question prepared while the last one is thought about, answers kept, thresholds over time."""

from __future__ import annotations

import io
import json
import random
import wave
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.drills import ear_drills as ear_drills
from escalera.core.drills import song_drills as song_drills
from escalera.core.drills.question import DRILLS, DrillMaterial, HeardPassage, Question, make_question
from escalera.core.drills.staircase import Answered, AskedBefore, due_again, next_size, threshold
from escalera.core.edits.edit import one_of, whole_number, within
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, EscaleraError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import loudness
from escalera.services.passages import passage, smoothed
from escalera.services.rendering import Rendering, wav_bytes
from escalera.sound.schedule import RATE_HZ
from escalera.store.database import Database
from escalera.store.drill_models import DrillAnswerRow, DrillSessionRow
from escalera.store.models import now as moment

MINUTES = 5
QUIET_LUFS = -26.0  # drills begin quiet: matched passages are brought to it, all others are lowered together
JOIN_BARS = 2
NEWEST = 400  # answers of a kind that are looked at
MOST_KINDS, MOST_TRIES, MOST_AHEAD = 24, 8, 20


@dataclass(frozen=True, slots=True)
class Item:
    """All that makes a question: the same item is the same question."""

    kind: str
    seed: int
    size: float
    song_id: int = 0
    revision_id: int = 0
    section_id: int = 0

    @property
    def text(self) -> str:
        return json.dumps([self.kind, self.seed, round(self.size, 5), self.song_id, self.revision_id, self.section_id])

    @staticmethod
    def read(text: str) -> Item:
        """An item from its text. Raises EditError."""
        try:
            kind, seed, size, song_id, revision_id, section_id = json.loads(text)
            item = Item(str(kind), int(seed), float(size), int(song_id), int(revision_id), int(section_id))
        except (ValueError, TypeError, OverflowError):
            raise EditError("That question cannot be asked again. Take the next one.") from None
        kind = DRILLS[one_of(item.kind, list(DRILLS), "drill")]
        within(item.size, 0.99 * min(kind.hard, kind.easy), 1.01 * max(kind.hard, kind.easy), "A size of", kind.unit)
        for number in (item.seed, item.song_id, item.revision_id, item.section_id):
            whole_number(number, "number", 0)
        return item


@dataclass(frozen=True, slots=True)
class Posed:
    """A question as it is posed: its number in the session, and whether it comes again because it was wrong."""

    session_id: int
    number: int
    item: Item
    question: Question
    again: bool
    left_s: float


@dataclass(frozen=True, slots=True)
class Told:
    """What came of an answer."""

    right: bool
    question: Question
    said: str


@dataclass(frozen=True, slots=True)
class DrillProgress:
    """A kind over time: answers, share right of the last twenty, the threshold, and thresholds after every ten answers."""

    kind: str
    answers: int
    right: float
    threshold: float | None
    over_time: tuple[float, ...]


class Drills:
    """`head` gives a song's present state, `at` one that was, `songs` the ids of songs that can be used, newest first."""

    def __init__(
        self,
        database: Database,
        rendering: Rendering,
        head: Callable[[int], tuple[int, Song]],
        at: Callable[[int, int], Song],
        songs: Callable[[], list[int]],
    ):
        self._database, self._rendering = database, rendering
        self._head, self._at, self._songs = head, at, songs
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="drills")
        self._ahead: dict[tuple[int, int], Future[Posed]] = {}
        self._sounds: Results[bytes] = Results(60_000_000, len)
        self._questions: Results[Question] = Results(200)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    # sessions --------------------------------------------------------------------------------------------------

    def begin(self, kinds: list[str], song_id: int = 0, section_id: int = 0) -> int:
        """Begin a session of five minutes; its id. Raises EditError, NotFound."""
        if not kinds:
            raise EditError("Choose at least one drill.")
        for kind in kinds[:MOST_KINDS]:
            one_of(kind, list(DRILLS), "drill")
        if song_id:
            self._head(song_id)
        with self._database.write() as session:
            row = DrillSessionRow(
                kinds=json.dumps(kinds[:MOST_KINDS]), song_id=song_id, section_id=section_id, began_at=moment()
            )
            session.add(row)
            session.flush()
            session_id = row.id
        self._prepare(session_id, 0)
        return session_id

    def pose(self, session_id: int) -> Posed | None:
        """The next question; None when the time is over. What comes after it is prepared at once. Raises NotFound, EditError."""
        with self._database.read() as session:
            row = _session(session, session_id)
            number = len(_answers_of(session, session_id))
            over = moment() - row.began_at > timedelta(minutes=MINUTES)
        if over:
            return None
        ready = self._ahead.pop((session_id, number), None)
        posed = ready.result() if ready is not None else self._made(session_id, number)
        for key in [k for k in self._ahead if k[0] == session_id and k[1] < number]:
            del self._ahead[key]
        left = MINUTES * 60 - (moment() - row.began_at).total_seconds()
        return Posed(session_id, number, posed.item, posed.question, posed.again, left)

    def _prepare(self, session_id: int, number: int) -> None:
        """Make the question after this one, with its sound, behind the page."""

        def made() -> Posed:
            posed = self._made(session_id, number)
            for part in range(len(posed.question.heard)):
                self.sound(posed.item, part)
            return posed

        while len(self._ahead) >= MOST_AHEAD:  # of sessions that nobody went on with
            self._ahead.pop(next(iter(self._ahead))).cancel()
        self._ahead[session_id, number] = self._pool.submit(made)

    def _made(self, session_id: int, number: int) -> Posed:
        with self._database.read() as session:
            row = _session(session, session_id)
            kinds: list[str] = json.loads(row.kinds)
            rows = _answers(session, kinds)
        again = self._due(rows, number)
        if again is not None:
            return Posed(session_id, number, again, self.question(again), True, 0.0)
        trouble: EscaleraError | None = None
        for attempt in range(MOST_TRIES):
            item = self._new_item(row, kinds, rows, number, attempt)
            try:
                return Posed(session_id, number, item, self.question(item), False, 0.0)
            except EditError as error:  # this song has nothing for this kind: another kind, another song
                trouble = error
        raise trouble or EditError("Nothing can be asked of this song. Choose another one.")

    def _new_item(
        self, row: DrillSessionRow, kinds: list[str], rows: list[DrillAnswerRow], number: int, attempt: int
    ) -> Item:
        chance = random.Random(f"{row.id}.{number}.{attempt}")
        kind = kinds[(number + attempt) % len(kinds)]
        size = next_size(DRILLS[kind], [Answered(r.size, r.right) for r in rows if r.kind == kind])
        song_id = revision_id = 0
        if DRILLS[kind].own:
            songs = [row.song_id] if row.song_id else self._songs()[:12]
            if not songs:
                raise EditError("There is no song to ask about yet. Begin one, or choose drills without songs.")
            song_id = chance.choice(songs)
            revision_id, _ = self._head(song_id)
        return Item(kind, chance.randrange(2**31), size, song_id, revision_id, row.section_id if song_id else 0)

    def _due(self, rows: list[DrillAnswerRow], number: int) -> Item | None:
        """Every third question is one that was wrong, where one is due."""
        if number % 3 != 2:
            return None
        history = [AskedBefore(r.item, r.right, r.answered_at.toordinal()) for r in rows]
        for text in due_again(history, moment().toordinal()):
            try:
                item = Item.read(text)
                self.question(item)
                return item
            except EscaleraError:
                continue
        return None

    def question(self, item: Item) -> Question:
        """The question of an item. Raises EditError, NotFound."""
        return self._questions.get_or_make(item, lambda: self._asked(item))

    def _asked(self, item: Item) -> Question:
        song = self._at(item.song_id, item.revision_id) if item.song_id else Song()
        return make_question(item.kind, item.seed, item.size, DrillMaterial(song, item.section_id))

    def answer(self, session_id: int, number: int, item: Item, answer: str) -> Told:
        """Keep an answer. Raises EditError after the end and for what was answered already; the answers before are kept."""
        question = self.question(item)
        right = question.is_right(answer)
        with self._database.write() as session:
            row = _session(session, session_id)
            if moment() - row.began_at > timedelta(minutes=MINUTES, seconds=90):
                raise EditError(
                    "The five minutes are over, and this answer came after them. What was answered before is kept."
                )
            if number != len(_answers_of(session, session_id)):
                raise EditError("This question was answered already, perhaps in another tab. Take the next one.")
            session.add(
                DrillAnswerRow(
                    session_id=session_id,
                    number=number,
                    kind=item.kind,
                    item=item.text,
                    size=item.size,
                    right=right,
                    answered_at=moment(),
                )
            )
        self._prepare(session_id, number + 1)
        return Told(right, question, f"{'Right' if right else 'No'}: {question.answer}. {question.why}")

    # sound -----------------------------------------------------------------------------------------------------

    def sound(self, item: Item, part: int) -> bytes:
        """A passage of a question as a WAV. Raises NotFound, EditError."""
        question = self.question(item)
        if not 0 <= part < len(question.heard):
            raise NotFound("There is no such passage in this question.")
        return self._sounds.get_or_make((item, part), lambda: self._rendered(question, part))

    def _rendered(self, question: Question, part: int) -> bytes:
        parts = [self._audio(h) for h in question.heard]
        levels = [float(loudness(a, RATE_HZ).integrated_lufs) for a in parts]
        if question.matched:
            gains = [QUIET_LUFS - v if np.isfinite(v) else 0.0 for v in levels]
        else:  # what is louder stays louder: all are brought down together
            loudest = max((v for v in levels if np.isfinite(v)), default=QUIET_LUFS)
            gains = [QUIET_LUFS + 4.0 - loudest] * len(parts)
        audio = parts[part] * np.float32(10 ** (gains[part] / 20))
        peak = float(np.max(np.abs(audio), initial=1e-9))
        return wav_bytes(smoothed(audio * np.float32(min(1.0, 0.9 / peak))))

    def _audio(self, heard: HeardPassage) -> NDArray[np.float32]:
        song = heard.song
        line = timeline(song)
        if not heard.most_s:  # a join: the end of the first section and the beginning of the second
            return self._join(song)
        keys = self._rendering.renderer.chunk_keys(song, line)
        audio = self._rendering.renderer.chunk(song, line, 0, keys[0])
        return audio[:, : round(heard.most_s * RATE_HZ)].copy()

    def _join(self, song: Song) -> NDArray[np.float32]:
        found = passage(self._rendering, song, song.sections[1].id, JOIN_BARS, JOIN_BARS)
        with wave.open(io.BytesIO(found.wav)) as file:
            data = np.frombuffer(file.readframes(file.getnframes()), np.int16).reshape(-1, 2).T
        return data.astype(np.float32) / np.float32(32768)

    # progress --------------------------------------------------------------------------------------------------

    def progress(self) -> list[DrillProgress]:
        """Every kind that was practised, with thresholds over time."""
        with self._database.read() as session:
            rows = _answers(session, list(DRILLS))
        found = []
        for key, kind in DRILLS.items():
            own = [Answered(r.size, r.right) for r in rows if r.kind == key]
            if own:
                last = own[-20:]
                over = [threshold(kind, own[max(0, n - 40) : n]) for n in range(10, len(own) + 1, 10)]
                share = sum(a.right for a in last) / len(last)
                found.append(
                    DrillProgress(
                        key, len(own), share, threshold(kind, own[-80:]), tuple(v for v in over if v is not None)
                    )
                )
        return found

    def summary(self, session_id: int) -> tuple[int, int]:
        """How many were right in a session, of how many."""
        with self._database.read() as session:
            _session(session, session_id)
            rows = _answers_of(session, session_id)
        return sum(r.right for r in rows), len(rows)


def _session(session: Session, session_id: int) -> DrillSessionRow:
    row = session.get(DrillSessionRow, session_id)
    if row is None:
        raise NotFound("There is no such session of drills. Begin one.")
    return row


def _answers_of(session: Session, session_id: int) -> list[DrillAnswerRow]:
    return list(session.scalars(select(DrillAnswerRow).where(DrillAnswerRow.session_id == session_id)))


def _answers(session: Session, kinds: list[str]) -> list[DrillAnswerRow]:
    """Answers of these kinds, the newest last."""
    rows = (
        select(DrillAnswerRow)
        .where(DrillAnswerRow.kind.in_(kinds))
        .order_by(DrillAnswerRow.id.desc())
        .limit(NEWEST * len(kinds))
    )
    return list(reversed(list(session.scalars(rows))))
