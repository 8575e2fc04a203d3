"""From an idea that was caught to a song that can be worked on: everything inferred, nothing asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime

from escalera.core.document.names import clean_name
from escalera.core.document.song import Progression, Song
from escalera.core.edits import Edit
from escalera.core.edits.groove_edits import AddGroove
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.line_edits import MakeLine
from escalera.core.edits.note_edits import ChangeNotes
from escalera.core.lines.idea_capture import Captured, Played, read_capture
from escalera.errors import InputError
from escalera.services.new_song import new_song

LINE_SOUND, CHORD_SOUND = "tine-keys", "soft-pad"
DRUMS = {"l": "kick", "h": "snare"}


def captured_song(
    notes: Sequence[Sequence[float]], taps: Sequence[Sequence[object]], now: datetime
) -> tuple[Song, Captured]:
    """A song of one short section that holds what was played (seconds, seconds long, pitch) and tapped (seconds, l or h)."""
    try:
        played: list[Played] = [(float(a), float(b), int(p)) for a, b, p in notes]
        tapped = [(float(str(t)), DRUMS[str(d)]) for t, d in taps]
    except (ValueError, TypeError, KeyError, OverflowError):
        raise InputError("What was played cannot be read. Start again.") from None
    if any(not 0 <= p <= 127 for _, _, p in played) or any(
        not 0 <= t < 3600 for t in [n[0] for n in played] + [t for t, _ in tapped]
    ):
        raise InputError("What was played cannot be read. Start again.")
    found = read_capture(played, tapped)
    song = new_song(
        f"Idea of {now.day} {now:%B}, {now:%H:%M}", found.tempo_bpm, form_text=f"Idea {found.bars}", start="empty"
    )
    length = song.metre.bar_ticks * found.bars
    chords = Progression(found.chords, length) if found.chords else song.progression
    song = replace(song, key=found.key, progression=chords, notes=f"Caught as it was played: {'; '.join(found.told)}.")
    for step in _steps(song, found):
        song = step.apply(song)
    return song, found


def _steps(song: Song, found: Captured) -> list[Edit]:
    section, at = song.sections[0], song.next_id
    steps: list[Edit] = []
    if found.chords:
        steps.append(AddLayer(CHORD_SOUND, clean_name("Caught chords")))
        steps += [MakeLine(section.id, at, i, "pad") for i in range(len(section.phrases))]
    if found.line:
        steps.append(_Line(found))
    if found.beat:
        hits = [[h.tick, h.drum, h.velocity] for h in found.beat.hits]
        steps.append(AddGroove("Caught beat", found.beat.length_ticks, hits, "tapped", 0, section.id))
    return steps


class _Line:
    """The line that was played, on keys, phrase by phrase."""

    def __init__(self, found: Captured):
        self.found = found

    def apply(self, song: Song) -> Song:
        section, layer_id = song.sections[0], song.next_id
        song = AddLayer(LINE_SOUND, "Caught line").apply(song)
        bar, first = song.metre.bar_ticks, 0
        for phrase, bars in enumerate(section.phrases):
            low, high = first * bar, (first + bars) * bar
            rows = [[None, None, t - low, p, d, 96] for t, d, p in self.found.line if low <= t < high]
            if rows:
                song = ChangeNotes(section.id, layer_id, phrase, rows, "scale", True).apply(song)
            first += bars
        return song

    def summary(self, song: Song) -> str:
        return "Caught line"
