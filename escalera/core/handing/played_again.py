"""Parts that came back, taken into the song: a recording in place of a layer, or the notes of a track where they differ."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from escalera.core.document.limits import MAX_LAYERS
from escalera.core.document.names import clean_name
from escalera.core.document.recordings import QUARTER_TICKS, Clip, Sample
from escalera.core.document.song import Ids, Layer, Placement, Section, Song
from escalera.core.edits.edit import layer_of
from escalera.core.edits.layer_edits import free_layer_name, in_family_order, seed_of
from escalera.core.edits.note_edits import unswung
from escalera.core.edits.recording_edits import USUAL_JOB, VELOCITY, with_sample
from escalera.core.palette.recorded_sounds import BEAT, PART
from escalera.core.reading.events import swing_of
from escalera.core.reading.phrase_notes import Note, encoder, line_in, put_rows
from escalera.core.reading.placements import add_pattern, cleared, joined, ordered
from escalera.core.reading.timeline import Span, timeline
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.core.study.kit import bar_levels, sounds_in
from escalera.core.voices.comp import ticks_at
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

SEAM_S = 0.012  # so long a clip sounds on where the next section's begins
AHEAD_TICKS = 30  # so far ahead of a section its first notes may be played
NEAR_TICKS = 120  # so far a note may lie from where it was, and be the same one
Notes = tuple[tuple[int, int, int, int], ...]  # start tick from the song's start, length, pitch, velocity


@dataclass(frozen=True)
class TakeStem:
    """Lay a recording that came back over the song, from where it begins, as a pinned layer; the one it stands for is set aside.

    `late_s` says how much later than the song the file begins; `sections` are those it is laid in (None: all in which it sounds), and
    there the layer that it stands for (`layer_id`, 0: none) falls silent, or everywhere.
    """

    sample: Sample
    layer_id: int = 0
    late_s: float = 0.0
    sections: tuple[int, ...] | None = None
    who: str = ""
    level_db: float = 0.0
    family: str = "effects"

    def apply(self, song: Song) -> Song:
        if len(song.layers) >= MAX_LAYERS:
            raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
        old = layer_of(song, self.layer_id) if self.layer_id else None
        layer = self._layer(song, old)
        song = with_sample(song, self.sample)
        song = replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1)
        spans = [s for s in timeline(song).spans if self._sounds(s) and (self.sections is None or s.section.id in self.sections)]  # fmt: skip
        if not spans:
            raise EditError(f"{self.sample.name} is silent in all of these sections, so there is nothing to lay.")
        for number, span in enumerate(spans):
            meets = number + 1 < len(spans) and spans[number + 1].first_bar == span.last_bar + 1
            song = self._laid(song, span, layer.id, meets)
        return self._set_aside(song, old) if old else song

    def _layer(self, song: Song, old: Layer | None) -> Layer:
        family = old.family if old else self.family
        name = free_layer_name(song, clean_name(old.name if old else self.sample.name))
        return Layer(
            song.next_id, name, BEAT if family in ("drums", "effects") else PART, family, old.job if old else USUAL_JOB[family],
            seed_of(name, {x.seed for x in song.layers}), self.level_db, source=self.sample.source[:200], group=old.group if old else "",
            reason=f"came back as a recording{f' of {old.name}' if old else ''}", sent_by=self.who.strip() or "a collaborator",
        )  # fmt: skip

    def _sounds(self, span: Span) -> bool:
        starts = np.array([span.start_seconds + span.seconds_at(t) + self.late_s for t in span.bar_ticks])
        heard = sounds_in(bar_levels(self.sample, np.concatenate(([0.0], starts, [max(starts[-1], self.sample.seconds)]))))  # fmt: skip
        return bool(heard[1 : len(starts)].any())

    def _laid(self, song: Song, span: Span, layer_id: int, meets: bool) -> Song:
        """A clip from the section's start to its end, or to the end of the file where nothing of it follows."""
        layer, section = song.layer_by_id[layer_id], song.section_by_id[span.section.id]
        zero = span.start_seconds + self.late_s
        start_s, end_s = max(0.0, zero), zero + span.length_seconds
        end_s = min(self.sample.seconds, end_s + SEAM_S) if meets else min(self.sample.seconds, end_s + 4.0)
        if end_s - start_s < 2 * SEAM_S:
            return song
        begins = ticks_at(span, start_s - zero) if start_s > zero else 0
        length = max(1, round((end_s - start_s) / span.length_seconds * span.length_ticks))
        clip = Clip(
            self.sample.content, round(start_s, 6), round(end_s, 6), length / QUARTER_TICKS, "alone", -float(section.shift_semitones),
            fade_in_ms=SEAM_S * 1000 if layer.clips else 3.0, fade_out_ms=SEAM_S * 1000,
        )  # fmt: skip
        song = song.with_layer(replace(layer, clips=(*layer.clips, clip)))
        whole = max(
            span.length_ticks, begins + length
        )  # a pattern that is shorter than its note would bring its end round
        pattern = Pattern(whole, [[begins, length, CLIP, len(layer.clips), 0, VELOCITY]])
        song, pattern_id = add_pattern(song, f"{layer.name}, {section.name}"[:80], layer.family, pattern)
        ids = Ids(song.next_id)
        placed = Placement(ids(), layer_id, pattern_id, 0, span.length_ticks)
        song = song.with_section(replace(section, placements=ordered([*section.placements, placed])))
        return replace(song, next_id=ids.next_id)

    def _set_aside(self, song: Song, old: Layer) -> Song:
        if self.sections is None:
            return song.with_layer(replace(song.layer_by_id[old.id], muted=True, aside="came back as a recording"))
        ids = Ids(song.next_id)
        for section in song.sections:
            if section.id in self.sections:
                end = timeline(song).span_of(section.id).length_ticks
                rest = cleared(section.placements, old.id, 0, end, ids)
                song = song.with_section(replace(section, placements=joined(rest)))
        return replace(song, next_id=ids.next_id)

    def summary(self, song: Song) -> str:
        return f"Taken of what came back: {self.sample.name}"[:300]


def tracks_differ(song: Song, theirs: Notes, mine: Notes) -> list[tuple[Section, int, int]]:
    """Sections in which two tracks differ, with how many notes theirs has more, and fewer."""
    found = []
    for span, there, here in _by_section(song, theirs, mine):
        more, fewer = _beyond(there, here), _beyond(here, there)
        if more or fewer:
            found.append((span.section, len(more), len(fewer)))
    return found


def _by_section(song: Song, theirs: Notes, mine: Notes) -> Iterator[tuple[Span, Notes, Notes]]:
    """Every section with the notes of both in it, from its start; one played just ahead of a section belongs to it."""
    at = 0
    for span in timeline(song).spans:
        low, high = at - AHEAD_TICKS, at + span.length_ticks - AHEAD_TICKS
        rows = [tuple((s - at, n, p, v) for s, n, p, v in notes if low <= s < high) for notes in (theirs, mine)]
        at += span.length_ticks
        yield span, rows[0], rows[1]


def _beyond(one: Notes, other: Notes) -> Notes:
    """Notes of one that the other has not: same tick, length within a 32nd, pitch, and velocity within two."""
    there: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for start, length, pitch, velocity in other:
        there.setdefault((start, pitch), []).append((length, velocity))
    return tuple(
        (start, length, pitch, velocity)
        for start, length, pitch, velocity in one
        if not any(abs(n - length) <= NEAR_TICKS and abs(v - velocity) <= 2 for n, v in there.get((start, pitch), ()))
    )


@dataclass(frozen=True)
class TakeTrack:
    """Take the notes of a track that came back, phrase by phrase where they differ from the layer's own; what is the same stays written as it is."""

    layer_id: int
    theirs: Notes
    mine: Notes  # as the song's own MIDI file has them

    def apply(self, song: Song) -> Song:
        layer_of(song, self.layer_id)
        before = song
        for span, there, here in _by_section(song, self.theirs, self.mine):
            more, fewer = _beyond(there, here), _beyond(here, there)
            for phrase, (low, high) in enumerate(span.phrase_ticks()):
                first = low - AHEAD_TICKS if phrase == 0 else low
                rows = [[n for n in notes if first <= n[0] < high] for notes in (more, fewer)]
                if rows[0] or rows[1]:
                    song = self._phrase(song, span.section.id, phrase, rows[0], rows[1])
        if song is before:
            raise EditError("That track plays what the layer plays already, so nothing was changed.")
        return song

    def _phrase(self, song: Song, section_id: int, phrase: int, more: Sequence[tuple[int, int, int, int]], fewer: Sequence[tuple[int, int, int, int]]) -> Song:  # fmt: skip
        span, layer = timeline(song).span_of(section_id), song.layer_by_id[self.layer_id]
        line, swing = line_in(song, span, phrase, layer), swing_of(span.section.swings, layer.id)
        gone: set[Note] = set()
        for start, _, pitch, _ in fewer:
            at = unswung(start - line.low, swing)
            near = [n for n in line.notes if n not in gone and abs(n.tick - at) <= NEAR_TICKS and (layer.sound.is_drum or n.pitch == pitch)]  # fmt: skip
            if near:
                gone.add(min(near, key=lambda n: abs(n.tick - at)))
        write = encoder(song, span, phrase, layer)
        rows = [n.row for n in line.notes if n not in gone]
        for start, length, pitch, velocity in more:
            tick = min(max(0, round(unswung(start - line.low, swing))), line.length - 1)
            how = (0, 0, 0) if layer.sound.is_drum else write(tick, pitch, "chord")
            rows.append((tick, max(1, min(length, 4 * line.length)), *how, max(1, min(velocity, 127))))
        return put_rows(song, span, phrase, layer, rows, line.names[0] if line.names else f"{layer.name}, came back")

    def summary(self, song: Song) -> str:
        return f"Notes of {layer_of(song, self.layer_id).name} as they came back"


__all__ = ["Notes", "TakeStem", "TakeTrack", "tracks_differ"]
