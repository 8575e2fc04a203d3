"""What the bench shows: a phrase of a section with one layer's line on the ladder, its drums, its low end, and readings."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from escalera.core.bench.bass_faults import Fault, bass_faults, has_bass_pitch
from escalera.core.bench.layer_jobs import SectionJobs, clashing, jobs, pitched_notes
from escalera.core.bench.line_choice import hook_of, makers_for
from escalera.core.bench.low_end import LowEnd, low_end
from escalera.core.bench.tune_map import TuneMap, tune_map, without_place
from escalera.core.checks.line_findings import LineFinding, line_findings
from escalera.core.document.chord_text import write_chordline
from escalera.core.document.song import Layer, NamedPattern
from escalera.core.edits.harmony_edits import sounding_chords
from escalera.core.edits.note_edits import GRIDS
from escalera.core.lines.line_reading import LineReading
from escalera.core.lines.makers import Maker
from escalera.core.lines.note_encoding import HOWS, how_written
from escalera.core.moves.move import is_pitched
from escalera.core.reading.events import DURATION, PITCH, START, VELOCITY, layer_events, sounding_layers
from escalera.core.reading.groove_reading import drum_layers, groove_at, phrase_beat
from escalera.core.reading.phrase_frames import line_reading
from escalera.core.reading.phrase_notes import PhraseNotes, line_in, played_in, range_of
from escalera.core.rhythm.beat import RANK
from escalera.core.theory.voicings import place_class
from escalera.store.repository import Head
from escalera.web.bench_drawing import (
    Ladder,
    Lanes,
    LowDrawing,
    draw_ladder,
    draw_lanes,
    draw_low_end,
    rungs_of,
    span_of_pitches,
)
from escalera.web.page_view import PhraseView
from escalera.web.song_view import Selection

LETTERS = ("ZXCVBNM", "ASDFGHJ", "QWERTYU")  # rows of the keyboard from low to high, a step of the key a letter
USUAL_LANES = ("kick", "snare", "closed hat")


class BenchView(PhraseView):
    """All that the templates of the bench ask for. `fields` are what the page says of itself."""

    def __init__(self, head: Head, select: str, fields: Mapping[str, str] | None = None):
        super().__init__(head, select)
        fields = fields or {}
        self.layer = self._chosen(self.asked_layer)
        self.selection = Selection("tile", self.section.id, self.layer.id if self.layer else 0, self.phrase)
        self.chromatic = fields.get("rungs") == "all"
        self.reach = "here" if fields.get("reach") == "here" else "everywhere"
        usual = "chord" if self.layer and self.layer.family in ("chords", "low end") else "scale"
        self.write = fields.get("write", "") if fields.get("write") in HOWS else usual
        self.grid = fields.get("steps", "") if fields.get("steps") in GRIDS else "1/16"

    def _chosen(self, layer_id: int) -> Layer | None:
        layer = self.song.layer_by_id.get(layer_id)
        if layer is not None and is_pitched(layer):
            return layer
        return next(iter(self.playing), None) or next((x for x in self.song.layers if is_pitched(x)), None)

    @cached_property
    def playing(self) -> list[Layer]:
        """Pitched layers with a placement in the section, tunes first."""
        placed = {p.layer_id for p in self.section.placements}
        rank = {"voices": 0, "leads": 1, "chords": 2, "low end": 3}
        found = [x for x in self.song.layers if x.id in placed and is_pitched(x)]
        return sorted(found, key=lambda x: rank.get(x.family, 4))

    def tabs(self) -> list[Layer]:
        """Layers with a tab: those that play here, and the chosen one."""
        found = list(self.playing)
        return found if self.layer is None or self.layer in found else [*found, self.layer]

    def unpitched(self) -> list[Layer]:
        """What sounds here without a pitch to write: places and effects."""
        placed = {p.layer_id for p in self.section.placements}
        return [x for x in self.song.layers if x.id in placed and not is_pitched(x) and not x.sound.is_drum]

    def other_layers(self) -> list[Layer]:
        shown = self.tabs()
        return [x for x in self.song.layers if is_pitched(x) and x not in shown]

    # where --------------------------------------------------------------------------------------------------------

    @property
    def beat_ticks(self) -> int:
        return self.span.bar_metres[self.bar_range[0]].beat_ticks

    # the ladder -----------------------------------------------------------------------------------------------------

    @cached_property
    def line(self) -> PhraseNotes | None:
        return line_in(self.song, self.span, self.phrase, self.layer) if self.layer else None

    @cached_property
    def ladder(self) -> Ladder | None:
        if self.layer is None or self.line is None:
            return None
        low, high = span_of_pitches(self.line.notes, range_of(self.layer), self.key)
        rungs = rungs_of(self.key, low, high, self.chromatic)
        return draw_ladder(
            self.line,
            rungs,
            self.shades,
            self.bars,
            self.beats,
            self._in_the_way(),
            self.layer.sound.mono,
            range_of(self.layer),
        )

    def _in_the_way(self) -> frozenset[tuple[int, int]]:
        """Notes of the phrase (tick, pitch) that sound in the voice's range while it sings."""
        voice = self.jobs.voice
        if (
            voice is None
            or self.layer is None
            or self.layer.id == voice.layer.id
            or self.layer.family not in ("chords", "leads")
        ):
            return frozenset()
        low, sung = self.edges[0], pitched_notes(self.song, self.span, voice.layer)
        mine = pitched_notes(self.song, self.span, self.layer)
        return frozenset((start - low, pitch) for start, _, pitch in clashing(voice, mine, sung))

    def rungs(self) -> list[list[float]]:
        """[pitch, y] of every rung, for the hand on the ladder."""
        return [[r.pitch, r.y] for r in self.ladder.rungs] if self.ladder else []

    def letters(self) -> dict[str, int]:
        """The pitch that every letter of the keyboard plays: rows are octaves, letters steps of the key."""
        if self.layer is None:
            return {}
        low, high = range_of(self.layer)
        home = place_class(self.key.tonic_class, min(low + 12, max(low, (low + high) // 2 - 8)))
        return {
            letter: min(127, max(0, home + 12 * (row - 1) + self.key.degrees[i]))
            for row, letters in enumerate(LETTERS)
            for i, letter in enumerate(letters)
        }

    def played_in(self) -> list[str]:
        return played_in(self.song, self.line.pattern_id) if self.line and self.line.pattern_id else []

    def follows(self) -> str:
        """How the line's notes are written: chord, scale, fixed, or mixed."""
        hows = {how_written(n.kind) for n in self.line.notes} if self.line else set()
        return hows.pop() if len(hows) == 1 else "mixed" if hows else ""

    def chords(self) -> str:
        """The section's chords as they sound, its own or the song's."""
        return write_chordline(sounding_chords(self.song, self.section), self.song.metre)

    # drums and the low end ------------------------------------------------------------------------------------------

    @cached_property
    def lanes(self) -> Lanes:
        own, low = drum_layers(self.song), self.edges[0]
        rows = []
        for drum in sorted({*own, *USUAL_LANES}, key=RANK.__getitem__, reverse=True):
            layer = own.get(drum)
            table = layer_events(self.song, self.span, layer).table.tolist() if layer else []
            hits = [(r[START] - low, r[VELOCITY]) for r in table if 0 <= r[START] - low < self.length]
            if hits or drum in USUAL_LANES:
                rows.append((drum, layer.name if layer else drum, hits))
        return draw_lanes(rows, self.length, self.beats, self.bars)

    def groove_name(self) -> str:
        groove = groove_at(self.song, self.section, *self.edges)
        hits = len(phrase_beat(self.song, self.span, self.phrase).hits)
        return groove.name if groove else "the drums of this phrase" if hits else "no drums yet"

    @cached_property
    def low(self) -> LowEnd:
        return low_end(self.song, self.span, *self.edges)

    @cached_property
    def faults(self) -> list[Fault]:
        """Bass faults of the section, the most frequent first."""
        return sorted(bass_faults(self.song, self.span), key=lambda f: -len(f.ticks))

    @cached_property
    def owners(self) -> list[tuple[int, str, float]]:
        """Who owns the lows: (mark, name, share), nobody last."""
        names = self.song.layer_by_id
        found = [
            (i, names[k].name, share) for i, (k, share) in enumerate((k, s) for k, s in self.low.owned().items() if k)
        ]
        nobody = self.low.owned().get(0, 0.0)
        return [*found, (-1, "nobody", nobody)] if nobody else found

    @cached_property
    def low_drawing(self) -> LowDrawing:
        low, high = self.edges
        basses = [x for x in sounding_layers(self.song, self.section) if x.family == "low end"]
        wrong = {(f.layer_id, t) for f in self.faults for t in f.ticks}
        notes = [
            (int(r[START]), int(r[DURATION]), int(r[PITCH]), (x.id, int(r[START])) in wrong)
            for x in basses
            for r in layer_events(self.song, self.span, x).table
            if low <= r[START] < high
        ]
        kicks = [
            int(r[START])
            for x in sounding_layers(self.song, self.section)
            if x.sound.is_kick and x.sound.is_drum
            for r in layer_events(self.song, self.span, x).table
            if low <= r[START] < high
        ]
        marks = {k: i for i, k in enumerate(k for k in self.low.owned() if k)}
        return draw_low_end(self.low, notes, kicks, low, high - low, self.key, self.beats, self.bars, marks)

    def deep(self) -> list[int]:
        """Layers that are heard as basses here: basses, tuned drums, long kicks."""
        return [x.id for x in sounding_layers(self.song, self.section) if has_bass_pitch(self.song, x)]

    def steps(self) -> dict[str, str]:
        """What every sixteenth of the strip says when it is pointed at."""
        names = {x.id: x.name for x in self.song.layers}
        told = {}
        for s in self.low.steps:
            first = names.get(s.owner, "nobody")
            behind = f", {s.behind_db:.0f} dB ahead of {names[s.second]}" if s.second in names else ""
            told[str(s.tick)] = f"{first} owns 30–90 Hz{behind}" if s.owner else "nobody owns 30–90 Hz"
        return told

    def at(self, tick: int) -> str:
        """A tick of the section as the song's bar and beat: '41.3'."""
        bar = self.span.bar_of(tick)
        beat = (tick - self.span.bar_ticks[bar]) / self.span.bar_metres[bar].beat_ticks + 1
        return f"{self.span.first_bar + bar}.{beat:.3g}"

    def layer_name(self, layer_id: int) -> str:
        return self.song.layer_by_id[layer_id].name

    # readings ---------------------------------------------------------------------------------------------------------

    @cached_property
    def reading(self) -> LineReading | None:
        return line_reading(self.song, self.span, self.phrase, self.layer) if self.layer else None

    def hook(self) -> list[tuple[bool, str]]:
        """What makes the line stay in the ear; nothing for layers that carry no tune."""
        tuneful = self.layer and (self.layer.family in ("leads", "voices") or self.layer.job in ("hook", "answer"))
        return hook_of(self.layer, self.reading) if self.layer and self.reading and tuneful else []

    @cached_property
    def jobs(self) -> SectionJobs:
        return jobs(self.song, self.span)

    def tune(self) -> TuneMap:
        return tune_map(self.song)

    def ideas(self) -> list[NamedPattern]:
        """Lines that were kept and play nowhere, which the chosen layer could play."""
        return [p for p in without_place(self.song) if self.layer and p.family == self.layer.family]

    def makers(self) -> list[Maker]:
        """The makers that suit the layer, its own family's first."""
        assert self.layer is not None
        return makers_for(self.layer)

    def place(self) -> dict[str, int]:
        """The fields that every edit of the chosen line carries."""
        return {"section_id": self.section.id, "layer_id": self.layer.id if self.layer else 0, "phrase": self.phrase}

    def findings(self) -> list[LineFinding]:
        """What is wrong with the line here, each with a remedy."""
        return (
            line_findings(self.song, self.span, self.phrase, self.layer, self.line) if self.layer and self.line else []
        )
