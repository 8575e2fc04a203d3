"""Edits that make material of a take: a hummed line as pegs, a beat of mouth or table as hits."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.document.limits import MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.singing import SungAt, Take
from escalera.core.document.song import Song
from escalera.core.edits.beat_edits import TakeBeat
from escalera.core.edits.edit import edit, one_of, section_of, within
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.note_edits import pitched
from escalera.core.edits.stack_edits import written_voice
from escalera.core.edits.take_edits import said_take, take_of
from escalera.core.palette.sounds import DRUM_SOUND
from escalera.core.palette.voice_parts import LEAD
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.samples.reading import ZONES
from escalera.core.samples.slowing import beats_followed
from escalera.core.time.tempo import TempoPoint
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.core.voices.comp import take_number, ticks_at
from escalera.core.voices.melody import MelodyNote, guide_of
from escalera.errors import EditError

GRID = 240
FEWEST_BEATS = 4
EARLY_S = 0.15
LEAST_STRENGTH = 0.2


@edit("take_to_line", "layers notes placements")
class TakeToLine:
    """Write a hummed take down as notes of a layer: timing snapped to sixteenths by an amount, pitches to semitones or to the key."""

    take_id: int
    layer_id: int = 0
    amount: float = 0.0
    pitches: str = "key"

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        section = section_of(song, take.section_id)
        amount = within(self.amount, 0, 1, "An amount of")
        in_key = one_of(self.pitches, ["key", "semitones"], "way of snapping pitches") == "key"
        notes = hummed(song, timeline(song).span_of(section.id), take, amount, in_key)
        if not notes:
            raise EditError(f"No note holds a pitch in {said_take(song, take)}. Hum it once more, a little louder.")
        layer_id = self.layer_id
        if not layer_id:
            known = guide_of(song, section) if guide_of(song) else None
            if known is not None and known.family == "voices":
                layer_id = known.id
        if not layer_id:
            before = {x.id for x in song.layers}
            song = AddLayer("vowel-voice", "Guide voice", "voices", "hook").apply(song)
            layer_id = next(x.id for x in song.layers if x.id not in before)
            song = song.with_layer(replace(song.layer_by_id[layer_id], voice=LEAD))
        return written_voice(song, song.section_by_id[section.id], pitched(song, layer_id).id, notes, "hummed")

    def summary(self, song: Song) -> str:
        take = take_of(song, self.take_id)
        return f"{said_take(song, take).capitalize()} written down as notes"


def hummed(song: Song, span: Span, take: Take, amount: float, in_key: bool) -> tuple[MelodyNote, ...]:
    """The notes of a take on the ticks of its section: `amount` of the way to the next sixteenth, one pitch each."""
    classes = section_harmony(song, span).key.classes
    found: list[MelodyNote] = []
    for note in take.sung:
        start, end = (_snapped(ticks_at(span, s - take.zero_s), amount) for s in (note.start_s, note.end_s))
        if -GRID <= start < span.length_ticks and end > start:
            start = max(0, start)
            found.append(
                MelodyNote(
                    start, max(start + 60, min(end, span.length_ticks)), _pitch(note, classes if in_key else None)
                )
            )
    return tuple(found)


def _snapped(tick: int, amount: float) -> int:
    return round(tick + amount * (round(tick / GRID) * GRID - tick))


def _pitch(note: SungAt, classes: frozenset[int] | None) -> int:
    near = [p for p in range(round(note.pitch) - 2, round(note.pitch) + 3) if classes is None or p % 12 in classes]
    return min(near or [round(note.pitch)], key=lambda p: abs(p - note.pitch))


@edit("take_to_beat", "layers notes placements")
class TakeToBeat:
    """Let the drums play what was beaten with mouth, hands or on a table: low, middle and high sounds become drums, on sixteenths."""

    take_id: int
    low: str = "kick"
    middle: str = "snare"
    high: str = "closed hat"
    kinds: list[Any] | None = None  # of every onset: 0 low, 1 middle, 2 high; as it was read where nothing is said

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        section = section_of(song, take.section_id)
        drums = [one_of(d, [*DRUM_SOUND, "none"], "drum") for d in (self.low, self.middle, self.high)]
        hits = beaten(song, timeline(song).span_of(section.id), take, drums, self.kinds)
        if len(hits) < 2:
            raise EditError(
                f"No beat is heard in {said_take(song, take)}. Beat it once more, nearer to the microphone."
            )
        name, length = f"Beaten, take {take_number(song, take)}", timeline(song).span_of(section.id).length_ticks
        rows = [[tick, drum, velocity] for (tick, drum), velocity in sorted(hits.items())]
        return TakeBeat(section.id, 0, name, length, rows, "beaten", True).apply(song)

    def summary(self, song: Song) -> str:
        return f"{said_take(song, take_of(song, self.take_id)).capitalize()} played by the drums"


@edit("take_tempo", "time")
class TakeTempo:
    """Give a section the tempo of a take that was played without a click, beat by beat, so that the others follow it."""

    take_id: int

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        section = section_of(song, take.section_id)
        span = timeline(song).span_of(section.id)
        beats = played_beats(song, span, take)
        if len(beats) < FEWEST_BEATS:
            raise EditError(
                f"No steady beat is heard in {said_take(song, take)}: {len(beats)} beats, and {FEWEST_BEATS} are needed. "
                "Play it with clearer strokes."
            )
        step = span.bar_metres[0].beat_ticks
        quarters = step / TICKS_PER_QUARTER
        points = [
            TempoPoint(i * step, round(min(MAX_TEMPO_BPM, max(MIN_TEMPO_BPM, 60.0 * quarters / (b - a))), 3))
            for i, (a, b) in enumerate(zip(beats, beats[1:]))
            if i * step < span.length_ticks
        ]
        return song.with_section(replace(section, tempo_changes=tuple(points)))

    def summary(self, song: Song) -> str:
        return f"{said_take(song, take_of(song, self.take_id)).capitalize()} gives its tempo"


def played_beats(song: Song, span: Span, take: Take) -> list[float]:
    """Seconds of a take's beats from its section's start, followed from stroke to stroke; empty where nothing begins in it."""
    sample = song.sample_by_content.get(take.content)
    if sample is None:
        return []
    onsets = sample.onset_rows.copy()
    onsets[:, 0] -= take.zero_s
    onsets = onsets[onsets[:, 0] > -EARLY_S]
    beat = span.bar_metres[0].beat_ticks / TICKS_PER_QUARTER
    until = min(sample.seconds - take.zero_s, 2.0 * span.length_seconds)
    return beats_followed(onsets, span.tempo_points[0].bpm / beat, until) if len(onsets) else []


def beaten(
    song: Song, span: Span, take: Take, drums: list[str], kinds: list[Any] | None = None
) -> dict[tuple[int, str], int]:
    """Hits of a take by tick and drum with their velocity; `drums` play low, middle and high sounds, “none” leaves them out."""
    sample = song.sample_by_content.get(take.content)
    rows = sample.onset_rows.tolist() if sample else []
    read = [int(zone) for _, _, zone in rows]
    if kinds is not None and len(kinds) == len(rows) and all(k in (0, 1, 2) for k in kinds):
        read = [int(k) for k in kinds]
    hits: dict[tuple[int, str], int] = {}
    for (at_s, strength, _), kind in zip(rows, read):
        drum = drums[min(kind, len(ZONES) - 1)]
        tick = _snapped(ticks_at(span, at_s - take.zero_s), 1.0)
        if strength >= LEAST_STRENGTH and drum != "none" and 0 <= tick < span.length_ticks:
            hits[tick, drum] = max(hits.get((tick, drum), 1), min(127, round(45 + 75 * strength)))
    return hits
