"""What a recorded layer plays, to be cut and mended: its clip drawn large against bars, chords and what begins in it, and its slices."""

from __future__ import annotations

from functools import cached_property

from markupsafe import Markup

from escalera.core.bench.loop_timing import SWING_APART, LoopTiming, loop_timing
from escalera.core.bench.sample_fit import fitting
from escalera.core.document.recordings import FITS, QUARTER_TICKS, Clip, Sample
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.clip_mends import neighbours_of
from escalera.core.edits.recording_edits import GRIDS, WAYS
from escalera.core.palette.recorded_sounds import BEAT, NOTE, PART
from escalera.core.reading.clip_reading import clip_patterns
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.pattern import CLIP
from escalera.lazy_dataclasses import dataclass
from escalera.services.sample_hearing import is_here, outline

WIDTH, HEIGHT, TOP = 880, 150, 26
STEPS = 440
WAY_SAID = {
    "stretch": "Stretch it to whole bars",
    "repeat tail": "Repeat its tail",
    "gap": "Leave the rest silent",
    "trim": "Cut it off",
}
FIT_SAID = {
    "stretch": "by stretch: time without pitch",
    "slices": "by slices: attacks moved, nothing stretched",
    "speed": "by speed: pitch follows",
    "alone": "left alone",
}


@dataclass(frozen=True)
class Piece:
    """A slice in the pattern: where it lies, which clip it plays, how it is changed."""

    index: int
    x: float
    width: float
    clip: int
    said: str
    octave: int


class ClipView:
    """One recorded layer in one section; `number` is the clip that is worked on."""

    ways, fits, grids, fit_said, way_said = tuple(WAYS), FITS, tuple(GRIDS), FIT_SAID, WAY_SAID
    width, height = WIDTH, HEIGHT

    def __init__(self, song: Song, section: Section, layer: Layer, number: int):
        self.song, self.section, self.layer = song, section, layer
        self.number = number if 0 <= number < len(layer.clips) else 0
        self.clip: Clip = layer.clips[self.number]
        self.sample: Sample | None = song.sample_by_content.get(self.clip.sample)
        self.missing = not is_here(self.clip.sample)
        self.loops = layer.sound_key in (BEAT, PART)

    @property
    def costs(self) -> str:
        return fitting(self.song, self.sample, self.layer.family, self.section).costs if self.sample else ""

    @property
    def bar_ticks(self) -> int:
        return self.song.metre.bar_ticks

    @property
    def off_bars(self) -> str:
        """What the clip lacks of whole bars or has over; empty where it is whole."""
        if not self.loops or self.number or self.pieces:
            return ""
        rest = self.clip.length_ticks % self.bar_ticks
        if min(rest, self.bar_ticks - rest) <= self.bar_ticks // 32:
            return ""
        beats = rest / QUARTER_TICKS if rest < self.bar_ticks / 2 else (self.bar_ticks - rest) / QUARTER_TICKS
        word = "beat" if beats == 1 else "beats"
        return f"{beats:g} {word} {'over' if rest < self.bar_ticks / 2 else 'short'} of whole bars"

    @property
    def short(self) -> bool:
        """Whether whole bars lack something that a fill could be."""
        return self.off_bars.endswith("short of whole bars")

    @property
    def at_pitches(self) -> bool:
        """Whether notes play it, so that it may go round and glide."""
        return self.layer.sound_key == NOTE

    @property
    def has_neighbours(self) -> bool:
        return bool(neighbours_of(self.song, self.layer, self.number))

    @property
    def strokes(self) -> bool:
        """Whether it has a beat whose timing others can follow."""
        return self.layer.sound_key == BEAT and len(self.onsets) > 3

    @property
    def swings_apart(self) -> bool:
        own, drums = (self.timing.own_swing, self.timing.drums_swing) if self.timing else (None, None)
        return own is not None and drums is not None and abs(own - drums) > SWING_APART

    @cached_property
    def timing(self) -> LoopTiming | None:
        """How it lies on the song's own drums in the section."""
        if self.layer.sound_key != BEAT:
            return None
        return loop_timing(self.song, timeline(self.song).span_of(self.section.id), self.layer)

    @property
    def nudge_ms(self) -> float:
        """The delay of the layer at which its strokes would fall on the drums'."""
        return round(max(-50.0, min(50.0, self.layer.delay_ms - (self.timing.late_ms if self.timing else 0.0))), 1)

    @cached_property
    def pattern_id(self) -> int:
        """The pattern it plays in the section, else its usual one; 0 where it plays no clips."""
        playing = clip_patterns(self.song, self.layer)
        here = [
            p.pattern_id for p in self.section.placements if p.layer_id == self.layer.id and p.pattern_id in playing
        ]
        return here[0] if here else playing[0] if playing else 0

    @cached_property
    def pieces(self) -> list[Piece]:
        """The slices of that pattern, in order; none where it is one clip from end to end."""
        if not self.pattern_id:
            return []
        pattern = self.song.pattern_by_id[self.pattern_id].pattern
        rows = [r for r in pattern.to_list() if r[2] == CLIP]
        if len(rows) < 2:
            return []
        found = []
        for index, (start, length, _, number, octave, _) in enumerate(rows):
            clip = self.layer.clips[number] if number < len(self.layer.clips) else self.clip
            said = [f"{clip.semitones:+.3g} st".replace("-", "−")] if abs(clip.semitones) > 0.005 else []
            said += ["backwards"] if clip.reversed else []
            said += [f"{octave:+d} oct".replace("-", "−")] if octave else []
            share = 100.0 / pattern.length_ticks
            found.append(Piece(index, start * share, length * share, number + 1, ", ".join(said), octave))
        return found

    # drawing -------------------------------------------------------------------------------------------------------

    def _x(self, seconds: float) -> float:
        share = (seconds - self.clip.start_s) / max(self.clip.seconds, 1e-6)
        return round(WIDTH * (1.0 - share if self.clip.reversed else share), 1)

    @cached_property
    def wave(self) -> Markup:
        """The stretch that is played, as it lies in time."""
        rows = outline(self.clip.sample, self.clip.start_s, self.clip.end_s, STEPS)
        if not rows:
            return Markup("")
        rows = tuple(reversed(rows)) if self.clip.reversed else rows
        middle, half, step = (HEIGHT + TOP) / 2, (HEIGHT - TOP) / 2 - 4, WIDTH / len(rows)
        top = " ".join(f"{step * i:.1f},{middle - half * b:.1f}" for i, (_, b) in enumerate(rows))
        low = " ".join(f"{step * i:.1f},{middle - half * a:.1f}" for i, (a, _) in reversed(list(enumerate(rows))))
        return Markup(f'<polygon class="wave" points="{top} {low}"/>')

    @property
    def beats(self) -> list[tuple[float, bool]]:
        """Places of beats, and whether a bar begins there."""
        length = self.clip.length_ticks
        step = self.song.metre.beat_ticks
        while length / step > 128:
            step *= 2
        return [(round(WIDTH * t / length, 1), t % self.bar_ticks == 0) for t in range(0, length, step)]

    @property
    def onsets(self) -> list[tuple[float, float, str]]:
        """Places of onsets, their seconds, and where in the spectrum they rise."""
        if self.sample is None:
            return []
        rows = self.sample.onset_rows
        inside = rows[(rows[:, 0] >= self.clip.start_s - 0.001) & (rows[:, 0] < self.clip.end_s)]
        return [(self._x(float(t)), round(float(t), 3), ("low", "middle", "high")[int(z)]) for t, _, z in inside[:200]]

    @property
    def chords(self) -> list[tuple[float, str]]:
        """The section's chords over the clip, where it begins with the section."""
        harmony = section_harmony(self.song, timeline(self.song).span_of(self.section.id))
        length = self.clip.length_ticks
        return [
            (round(WIDTH * max(0, t) / length, 1), chord.name())
            for t, chord in zip(harmony.ticks, harmony.chords)
            if t < length
        ]
