"""What a year of work looks like: started and finished, how long it took, where songs get stuck, what repeats. No streaks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import date

import numpy as np

from escalera.core.document.days import days_said
from escalera.core.document.work_state import LEFT, MIXED, WorkState
from escalera.core.planning.stages import WORKED, stage_days, standing, usual_times
from escalera.core.theory.keys import parse_key
from escalera.lazy_dataclasses import dataclass

FINISHED = WORKED[WORKED.index(MIXED) :]  # from a mix on a song counts as finished
TEMPO_STEP_BPM = 10
REPEATS = 0.4  # share of songs from which something is said to repeat
FROM = 4  # songs from which something can be said to repeat
MONTHS = 12
STUCK_DAYS = 45


@dataclass(frozen=True, slots=True)
class SongRecord:
    """What statistics need of a song: when it was begun and its state of work; key as text, tempo, sounds that play."""

    title: str
    began: date
    work: WorkState
    key: str
    tempo_bpm: float
    sounds: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Month:
    """Songs begun and finished in a month."""

    year: int
    month: int
    begun: int
    finished: int


@dataclass(frozen=True, slots=True)
class WaitingAt:
    """A stage at which songs stand: how many, and the days that the middle one has stood there."""

    stage: str
    songs: int
    middle_days: int


@dataclass(frozen=True, slots=True)
class Counted:
    """Something that songs share, and in how many."""

    name: str
    count: int


@dataclass(frozen=True, slots=True)
class Statistics:
    """Figures, and beside each picture what it says."""

    songs: int
    months: tuple[Month, ...]
    days_to_done: tuple[int, ...]
    stages: tuple[tuple[str, float, int], ...]  # stage, usual days, of how many songs
    waiting: tuple[WaitingAt, ...]
    keys: tuple[Counted, ...]
    tempi: tuple[Counted, ...]
    sounds: tuple[Counted, ...]
    said: dict[str, str]


def statistics(songs: Sequence[SongRecord], today: date) -> Statistics:
    """All figures over songs that are not in the bin, archived ones too."""
    done = [(s, d) for s in songs if (d := finished_on(s.work)) is not None]
    days = tuple(sorted(max(0, (d - s.began).days) for s, d in done))
    usual = usual_times(stage_days(s.work, s.began) for s in songs)
    months, waiting = _months(songs, done, today), _waiting(songs, today)
    keys = _counted(_key_name(s.key) for s in songs)
    low = [int(s.tempo_bpm // TEMPO_STEP_BPM) * TEMPO_STEP_BPM for s in songs]
    tempi = tuple(Counted(f"{v} to {v + TEMPO_STEP_BPM}", low.count(v)) for v in sorted(set(low)))
    sounds = _counted(name for s in songs for name in set(s.sounds))
    said = {
        "months": _said_months(songs, done, today),
        "days": _said_days(days),
        "waiting": _said_waiting(waiting, songs),
        "keys": _said_repeats(keys, len(songs), "the key", "keys"),
        "tempi": _said_repeats(tuple(sorted(tempi, key=lambda c: -c.count)), len(songs), "a tempo of", "tempi", " bpm"),
        "sounds": _said_repeats(sounds, len(songs), "the sound", "sounds"),
    }
    stages = tuple((stage, time.days, time.count) for stage, time in usual.items())
    return Statistics(len(songs), months, days, stages, waiting, keys[:8], tempi, sounds[:8], said)


def finished_on(work: WorkState) -> date | None:
    """The day a song was first mixed, mastered or released; None for one that was not, or went back and was left."""
    if work.marks and work.marks[-1].stage not in FINISHED:
        return None
    return next((m.on for m in work.marks if m.stage in FINISHED), None)


def _months(songs: Sequence[SongRecord], done: list[tuple[SongRecord, date]], today: date) -> tuple[Month, ...]:
    begun = Counter((s.began.year, s.began.month) for s in songs)
    ended = Counter((d.year, d.month) for _, d in done)
    rows = []
    for back in range(MONTHS - 1, -1, -1):
        year, month = divmod(12 * today.year + today.month - 1 - back, 12)
        at = (year, month + 1)
        rows.append(Month(*at, begun[at], ended[at]))
    return tuple(rows)


def _waiting(songs: Sequence[SongRecord], today: date) -> tuple[WaitingAt, ...]:
    days: dict[str, list[int]] = {}
    for s in songs:
        at = standing(s.work, s.began)
        if not at.done and not s.work.archived:
            days.setdefault(at.stage, []).append(at.days(today))
    return tuple(
        WaitingAt(stage, len(days[stage]), round(float(np.median(days[stage])))) for stage in WORKED if stage in days
    )


def _key_name(key: str) -> str:
    return str(parse_key(key))


def _counted(names: object) -> tuple[Counted, ...]:
    found = Counter(names)  # type: ignore[call-overload]
    return tuple(Counted(name, count) for name, count in sorted(found.items(), key=lambda row: (-row[1], row[0])))


def _said_months(songs: Sequence[SongRecord], done: list[tuple[SongRecord, date]], today: date) -> str:
    year = [s for s in songs if (today - s.began).days <= 365]
    ended = [d for _, d in done if (today - d).days <= 365]
    left = sum(bool(s.work.marks) and s.work.marks[-1].stage == LEFT for s in songs)
    told = f"In twelve months {len(year)} songs were begun and {len(ended)} finished."
    return told + (f" {left} {'was' if left == 1 else 'were'} left on purpose, which is an ending too." if left else "")


def _said_days(days: tuple[int, ...]) -> str:
    if not days:
        return "No song is mixed yet, so there is nothing to say about how long one takes."
    middle = round(float(np.median(days)))
    if len(days) < 3:
        return f"From the idea to the mix: {' and '.join(days_said(d) for d in days)}. Three songs would say more."
    low, high = (round(float(v)) for v in np.percentile(days, (25, 75)))
    return f"From the idea to the mix half of {len(days)} songs took {days_said(low)} to {days_said(high)}, the middle one {days_said(middle)}."


def _said_waiting(waiting: tuple[WaitingAt, ...], songs: Sequence[SongRecord]) -> str:
    if not waiting:
        return "No song is waiting for its next stage."
    worst = max(waiting, key=lambda w: w.songs * w.middle_days)
    if worst.middle_days < STUCK_DAYS:
        return f"Nothing is stuck: most wait at “{worst.stage}”, the middle one for {days_said(worst.middle_days)}."
    songs_said = "song stands" if worst.songs == 1 else "songs stand"
    return (
        f"Songs get stuck at “{worst.stage}”: {worst.songs} {songs_said} there, the middle one for {days_said(worst.middle_days)}. "
        f"One short step in the oldest would move more than a new song."
    )


def _said_repeats(rows: tuple[Counted, ...], songs: int, one: str, many: str, unit: str = "") -> str:
    if songs < FROM:
        return f"{FROM} songs are needed to say which {many} repeat."
    if rows and rows[0].count >= max(3, REPEATS * songs):
        top = rows[0]
        return f"{top.count} of {songs} songs have {one} {top.name}{unit}. For the next one, try another."
    return f"No {many.removesuffix('s') if many != 'tempi' else 'tempo'} repeats in most songs: {len(rows)} different {many} in {songs} songs."
