"""Ten tasks of rising difficulty, which double as a course: each with an explanation, work that passes and work that fails."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache
from typing import Any

from escalera.core.commands import COMMANDS
from escalera.core.document.song import Section, Song
from escalera.core.document.task import Task
from escalera.core.edits.edit import section_of
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.reading.events import PITCH, section_events
from escalera.core.reading.timeline import timeline
from escalera.core.tasks.music_criteria import VOICE_HIGH, VOICE_LOW
from escalera.core.tasks.task_text import read_task
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.new_song import new_song

TASKS_FILE = "tasks.json"


@dataclass(frozen=True, slots=True)
class LibraryTask:
    """A task of the course. `passes` and `fails` make songs that do."""

    task: Task
    passes: Callable[[], Song]
    fails: Callable[[], Song]


@cache
def task_library() -> tuple[LibraryTask, ...]:
    """The ten tasks, the easiest first."""
    rows = library.data(TASKS_FILE)
    return tuple(_row(row) for row in rows)


def of_course(task: Task) -> LibraryTask | None:
    """The task of the course that a task was taken from; None for another one."""
    return next((t for t in task_library() if (t.task.title, t.task.said) == (task.title, task.said)), None)


def _row(row: Any) -> LibraryTask:
    task = replace(read_task(row["text"], row["title"]).task, explanation=row["explanation"], level=row["level"])
    return LibraryTask(task, lambda: _example(row["passes"]), lambda: _example(row["fails"]))


def _example(made: dict[str, Any]) -> Song:
    """A song from its recipe: how it begins, then commands, or the few things below that only examples do."""
    song = new_song(**{"start": "style", **made["new"]})
    for kind, fields in made.get("do", ()):
        values = {k: _id(song, v) for k, v in fields.items()}
        song = OWN_ACTS[kind](song, **values) if kind in OWN_ACTS else COMMANDS[kind](**values).apply(song)
    return song


def _id(song: Song, value: Any) -> Any:
    """'@Verse 1' is the id of the section of that name."""
    if not (isinstance(value, str) and value.startswith("@")):
        return value
    return next(s.id for s in song.sections if s.name == value[1:])


def _only(song: Song, section: Section, keep: Callable[[int], bool]) -> Song:
    return song.with_section(replace(section, placements=tuple(p for p in section.placements if keep(p.layer_id))))


def _empty_most(song: Song, section_id: int, keep: int) -> Song:
    """Leave the few layers in a section that are the least: pitched ones first."""
    section = section_of(song, section_id)
    there = [x.id for x in song.layers if any(p.layer_id == x.id for p in section.placements)]
    quiet = sorted(there, key=lambda i: song.layer_by_id[i].family in ("drums", "low end"))[:keep]
    return _only(song, section, lambda i: i in quiet)


def _flatten(song: Song, section_id: int) -> Song:
    """Let the first phrase of a section go on through all of it."""
    section = section_of(song, section_id)
    low, high = timeline(song).span_of(section_id).phrase_ticks()[0]
    end = timeline(song).span_of(section_id).length_ticks
    first = {p.layer_id: p for p in section.placements if p.start_ticks <= low and p.end_ticks >= high}
    return song.with_section(
        replace(section, placements=tuple(replace(p, start_ticks=0, end_ticks=end) for p in first.values()))
    )


def _copy_body(song: Song, section_id: int, source_id: int) -> Song:
    """Play in a section just what another one plays."""
    section, source = section_of(song, section_id), section_of(song, source_id)
    placed, next_id = [], song.next_id
    for p in source.placements:
        placed.append(replace(p, id=next_id))
        next_id += 1
    return replace(song.with_section(replace(section, placements=tuple(placed))), next_id=next_id)


def _in_the_middle(song: Song, section_id: int) -> set[int]:
    events = section_events(song, timeline(song).span_of(section_id))
    return {
        i
        for i, e in events.items()
        if len(e) and bool(((e.table[:, PITCH] >= VOICE_LOW) & (e.table[:, PITCH] <= VOICE_HIGH)).any())
        and not song.layer_by_id[i].sound.is_drum
        and song.layer_by_id[i].family not in ("voices", "low end")
    }  # fmt: skip


def _clear_middle(song: Song, section_id: int) -> Song:
    """Take out of a section what plays where a voice sings."""
    away = _in_the_middle(song, section_id)
    return _only(song, section_of(song, section_id), lambda i: i not in away)


def _crowd_middle(song: Song, section_id: int) -> Song:
    """Add busy chords where a voice sings."""
    rows = [[240 * i, 220, 3, v, 0, 90] for i in range(16) for v in range(3)]
    return AddLayer("tine-keys", "Busy keys", rows=rows, length_ticks=3840, section_id=section_id).apply(song)


def _give_reasons(song: Song) -> Song:
    return replace(song, layers=tuple(replace(x, reason=x.reason or f"it carries the {x.job}") for x in song.layers))


OWN_ACTS: dict[str, Callable[..., Song]] = {
    "empty_most": _empty_most,
    "lift_all": _empty_most,
    "flatten": _flatten,
    "copy_body": _copy_body,
    "clear_middle": _clear_middle,
    "crowd_middle": _crowd_middle,
    "give_reasons": _give_reasons,
}
