"""Today: what to do in the time there is, with a timer that measures what steps take, and what was put off with its reason."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta

from escalera.core.document.limits import MAX_REASON
from escalera.core.document.names import clean_name
from escalera.core.edits.edit import one_of, whole_number
from escalera.core.logbook.rest import USUAL_MINUTES, read_rest, worked_without_rest
from escalera.core.planning.choosing import MODES, SongChoice, StepOffer, next_due, offers
from escalera.core.planning.open_steps import STEP_KINDS, OpenStep, overdue_steps
from escalera.errors import EditError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.services.song_index import Index, IndexedSong, SongIndex
from escalera.store import planning_store as kept
from escalera.store.database import Database
from escalera.store.logbook_store import newest_steps
from escalera.store.models import now as moment
from escalera.store.planning_models import TimedStepRow

DONE, STOPPED = OUTCOMES = ("done", "stopped")
SHORTEST_MIN, LONGEST_MIN = 1, 240
LOST_AFTER = 4.0  # times what was planned, after which nobody sat there any more
PUT_OFF_DAYS = {"tomorrow": 1, "in a week": 7, "in a month": 30, "for good": 0}


@dataclass(frozen=True, slots=True)
class Running:
    """The step that runs. `left_s` may be below 0; `lost` says that it was begun too long ago to be one sitting."""

    id: int
    song_id: int
    kind: str
    said: str
    planned_min: int
    began: datetime  # local
    left_s: float
    paused: bool
    lost: bool


@dataclass(frozen=True, slots=True)
class Skipped:
    """A step that is put off: which, why, until when (None is for good)."""

    id: int
    song_id: int
    said: str
    reason: str
    until: date | None


@dataclass(frozen=True, slots=True)
class TodayTold:
    """What the page shows: steps that are offered, the one that runs, what is put off, how many songs are still being read."""

    offers: tuple[StepOffer, ...]
    running: Running | None
    skipped: tuple[Skipped, ...]
    waiting: int
    unreadable: int
    ideas: int
    rest: str


class Today:
    """The daily habit over all songs. `ideas` counts those without a place."""

    def __init__(self, database: Database, index: SongIndex, ideas: Callable[[], int]):
        self._database, self._index, self._ideas = database, index, ideas

    def told(self, mode: str, minutes: int, today: date) -> TodayTold:
        """Steps for a mode (start or finish) and the minutes there are. Raises EditError for another mode."""
        one_of(mode, MODES, "way to begin")
        index = self._index.all()
        with self._database.read() as session:
            rows = kept.skipped(session, today)
            put_off = tuple(Skipped(r.id, r.song_id, r.said, r.reason, r.until) for r in rows)
            skips = {(r.song_id, r.step) for r in rows}
            took = _took(kept.timed_steps(session))
            row = kept.running_step(session)
            running = _running(row) if row is not None else None
        songs = candidates(index, today, skips)
        found = offers(songs, mode, minutes, took, today)
        return TodayTold(
            tuple(found), running, put_off, index.waiting, index.unreadable, self._ideas(), self._rest_said()
        )

    # the timer -------------------------------------------------------------------------------------------------

    def begin(self, song_id: int, step: str, minutes: int) -> Running:
        """Begin a step of a song by its key. Raises EditError where another one runs, NotFound where it is not open any more."""
        planned = int(whole_number(minutes, "number of minutes", SHORTEST_MIN, LONGEST_MIN))
        found = self._step_of(song_id, step)
        with self._database.write() as session:
            row = kept.running_step(session)
            if row is not None:
                raise EditError(
                    f"“{row.said}” runs already, begun at {_local(row.began_at):%H:%M}, perhaps in another tab. End it first."
                )
            made = TimedStepRow(
                song_id=song_id,
                kind=found.kind,
                step=found.key,
                said=found.said,
                planned_min=planned,
                began_at=moment(),
                paused_s=0.0,
            )
            session.add(made)
            session.flush()
            return _running(made)

    def _step_of(self, song_id: int, step: str) -> OpenStep:
        song = self._index.one(song_id)
        if song is None:
            raise NotFound(f"There is no song {song_id} on the shelf.")
        found = next((s for s in _steps(song, date.today()) if s.key == step), None)
        if found is None:
            raise NotFound("That step is not open any more: the song has changed. The list shows what is.")
        return found

    def running(self) -> Running | None:
        with self._database.read() as session:
            row = kept.running_step(session)
            return _running(row) if row is not None else None

    def pause(self, step_id: int, paused: bool) -> Running:
        """Hold the timer, or let it go on. Raises NotFound for a step that does not run."""
        with self._database.write() as session:
            row = _need_running(kept.timed_step(session, step_id))
            if paused and row.paused_at is None:
                row.paused_at = moment()
            elif not paused and row.paused_at is not None:
                row.paused_s += max(0.0, (moment() - row.paused_at).total_seconds())
                row.paused_at = None
            session.flush()
            return _running(row)

    def end(self, step_id: int, outcome: str, minutes: str = "") -> str:
        """End a step as done or stopped; a sentence that says how long it took, and whether it is still open.

        `minutes` says how long it was where the clock cannot know. Raises EditError, NotFound.
        """
        one_of(outcome, OUTCOMES, "way to end a step")
        given = (
            float(whole_number(minutes, "number of minutes", SHORTEST_MIN, LONGEST_MIN)) if minutes.strip() else None
        )
        with self._database.write() as session:
            row = _need_running(kept.timed_step(session, step_id))
            took, why = given if given is not None else _measured(row), ""
            if took is None:
                why = " The clock was changed, or it ran on without you: its time does not count."
            row.ended_at, row.minutes, row.outcome = moment(), took, outcome
            said, song_id, step = row.said, row.song_id, row.step
        told = f"{said}: {'done' if outcome == DONE else 'stopped'}" + (f" after {_minutes(took)}." if took else ".")
        still = outcome == DONE and self._is_open(song_id, step)
        return told + why + (" It still shows as open; the song may need a last touch." if still else "")

    def _is_open(self, song_id: int, step: str) -> bool:
        song = self._index.one(song_id)
        return song is not None and any(s.key == step for s in _steps(song, date.today()))

    # putting off -----------------------------------------------------------------------------------------------

    def skip(self, song_id: int, step: str, reason: str, until: str) -> str:
        """Put a step off with a reason. Raises EditError, NotFound."""
        one_of(until, list(PUT_OFF_DAYS), "day")
        why = clean_name(reason, "reason", MAX_REASON) if reason.strip() else ""
        if not why:
            raise EditError("Say why it is put off: a word will do, and it helps to see later what keeps coming up.")
        found, days = self._step_of(song_id, step), PUT_OFF_DAYS[until]
        with self._database.write() as session:
            day = date.today() + timedelta(days=days) if days else None
            kept.skip(session, song_id, found.key, found.said, why, day)
        return f"{found.said}: put off {'for good' if day is None else f'until {day}'}, {why}."

    def unskip(self, skip_id: int) -> str:
        with self._database.write() as session:
            return f"{kept.unskip(session, skip_id)}: offered again."

    # rest ------------------------------------------------------------------------------------------------------

    def rest(self) -> tuple[int, str]:
        """After how many minutes a break is proposed (0 is never), and from when hours are late (empty is never)."""
        with self._database.read() as session:
            found = kept.choice(session, "rest")
        try:
            return read_rest(str(found["minutes"]), str(found["late"]))
        except (TypeError, KeyError, EditError):
            return USUAL_MINUTES, ""

    def set_rest(self, minutes: str, late: str) -> str:
        """Choose them. Raises EditError."""
        after, hour = read_rest(minutes, late)
        with self._database.write() as session:
            kept.choose(session, "rest", {"minutes": str(after), "late": hour})
        breaks = f"a break after {after} min" if after else "no breaks are proposed"
        return f"{breaks}; late hours {f'from {hour} are noted' if hour else 'are not noted'}."

    def _rest_said(self) -> str:
        after, _ = self.rest()
        if not after:
            return ""
        with self._database.read() as session:
            minutes = worked_without_rest(newest_steps(session), moment())
        if minutes < after:
            return ""
        return f"{minutes} minutes without a break. Ten minutes of quiet now: tired ears turn up the top and the level."

    def history(self, most: int = 60) -> list[TimedStepRow]:
        """Steps that were timed, the newest first."""
        with self._database.read() as session:
            return kept.timed_steps(session, most)


def _steps(song: IndexedSong, today: date) -> tuple[OpenStep, ...]:
    return (*overdue_steps(song.facts.work.due, today), *song.facts.open)


def candidates(index: Index, today: date, skips: set[tuple[int, str]]) -> list[SongChoice]:
    """Songs that one can go on with, with what lies open in them and is not put off."""
    found = []
    for song in index.active:
        due_on, due_what = next_due(song.facts.work)
        steps = tuple(s for s in _steps(song, today) if (song.song_id, s.key) not in skips)
        rests = max(0, (today - song.touched).days)
        found.append(SongChoice(song.song_id, song.title, song.now, steps, due_on, due_what, rests))
    return found


def _took(rows: list[TimedStepRow]) -> dict[str, list[float]]:
    """By kind, what steps took that were done, the newest last."""
    found: dict[str, list[float]] = {key: [] for key in STEP_KINDS}
    for row in reversed(rows):
        if row.outcome == DONE and row.minutes and row.kind in found:
            found[row.kind].append(row.minutes)
    return found


def _elapsed_s(row: TimedStepRow) -> float:
    """Seconds since it was begun, pauses left out; below 0 where the clock was set back."""
    until = row.paused_at or moment()
    return (until - row.began_at).total_seconds() - row.paused_s


def _measured(row: TimedStepRow) -> float | None:
    """Minutes it took; None where the clock cannot have measured one sitting."""
    minutes = _elapsed_s(row) / 60.0
    return None if minutes < 0 or _lost(row) else round(max(minutes, 0.1), 1)


def _lost(row: TimedStepRow) -> bool:
    elapsed = _elapsed_s(row)
    return elapsed < 0 or elapsed > 60.0 * max(LOST_AFTER * row.planned_min, 90.0)


def _running(row: TimedStepRow) -> Running:
    left = 60.0 * row.planned_min - max(0.0, _elapsed_s(row))
    return Running(
        row.id,
        row.song_id,
        row.kind,
        row.said,
        row.planned_min,
        _local(row.began_at),
        round(left, 1),
        row.paused_at is not None,
        _lost(row),
    )


def _need_running(row: TimedStepRow) -> TimedStepRow:
    if row.ended_at is not None:
        raise NotFound("That step was ended already, perhaps in another tab.")
    return row


def _local(at: datetime) -> datetime:
    return at.replace(tzinfo=UTC).astimezone().replace(tzinfo=None)


def _minutes(minutes: float) -> str:
    return f"{minutes:.0f} min" if minutes >= 1 else "less than a minute"
