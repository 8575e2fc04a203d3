"""Sessions of work, out of the steps that songs remember: when, how long, on what, what was decided."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime, timedelta

from escalera.lazy_dataclasses import dataclass

PAUSE = timedelta(minutes=45)  # after which work begins anew
AT_ONE_STEP = timedelta(minutes=12)  # that listening and thinking before a step counts at most
DECISION = re.compile(
    r"^(?:Accepted \(|Reopened: |Brief: )|”: (?:open|taken|not taken)|set aside: |reason: |, sent by .*stays as it is"
    r"|^.{1,80}: .{1,80} over .{1,80}|^.{1,80} stays "
)


@dataclass(frozen=True, slots=True)
class StepDone:
    """A step in a song's history: the state it led to, the one it came from (None for the first), when, and its line."""

    revision_id: int
    parent_id: int | None
    song_id: int
    at: datetime
    said: str


@dataclass(frozen=True, slots=True)
class SongWork:
    """What was done to one song in a session: the states before (None where it was begun), after its first step and at the end; steps,
    decisions."""

    song_id: int
    before_id: int | None
    first_id: int
    after_id: int
    said: tuple[str, ...]  # the lines of all steps
    decisions: tuple[str, ...]

    @property
    def steps(self) -> int:
        return len(self.said)


@dataclass(frozen=True, slots=True)
class WorkSession:
    """A stretch of work without a long pause. `minutes` leaves pauses out."""

    began: datetime
    ended: datetime
    minutes: int
    songs: tuple[SongWork, ...]


def work_sessions(steps: Iterable[StepDone]) -> list[WorkSession]:
    """The newest first. Steps count in the order in which they were made, whatever a clock that was set back says."""
    runs: list[list[StepDone]] = []
    for step in sorted(steps, key=lambda s: s.revision_id):
        if runs and abs(step.at - runs[-1][-1].at) <= PAUSE:
            runs[-1].append(step)
        else:
            runs.append([step])
    return [_session(run) for run in reversed(runs)]


def _session(run: list[StepDone]) -> WorkSession:
    gaps = [max(timedelta(0), min(b.at - a.at, AT_ONE_STEP)) for a, b in zip(run, run[1:])]
    seconds = sum((g.total_seconds() for g in gaps), 60.0)
    songs = dict.fromkeys(s.song_id for s in run)
    times = [s.at for s in run]
    return WorkSession(min(times), max(times), max(1, round(seconds / 60)), tuple(_of_song(run, i) for i in songs))


def _of_song(run: list[StepDone], song_id: int) -> SongWork:
    own = [s for s in run if s.song_id == song_id]
    decisions = tuple(dict.fromkeys(s.said for s in own if DECISION.search(s.said)))
    return SongWork(
        song_id, own[0].parent_id, own[0].revision_id, own[-1].revision_id, tuple(s.said for s in own), decisions
    )
