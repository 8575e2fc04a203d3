"""What the harmony page shows: the chords of a section or of the song, how they are voiced, where they come from."""

from __future__ import annotations

from bisect import bisect_right
from functools import cached_property
from itertools import pairwise

from escalera.core.document.chord_text import ChordLine, cycles, read_chordline, write_chordline
from escalera.core.document.song import Layer, Progression, Section
from escalera.core.edits.edit import id_in
from escalera.core.edits.harmony_edits import metre_of, sounding_chords
from escalera.core.reading.section_harmony import (
    Harmony,
    harmony_of,
    progression_of,
    section_harmony,
    section_key,
    tonic_chord,
)
from escalera.core.reading.timeline import Span, timeline
from escalera.core.reading.voicing_reading import LaidOut, laid_out, voices_of
from escalera.core.theory.chords import Chord, roman
from escalera.core.theory.keys import Key, transpose_key
from escalera.core.theory.note_roles import NoteRole, Throughout, held_over, holds_throughout, role_of
from escalera.core.theory.origin import OWN, origin
from escalera.core.theory.pitch import pitch_label
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass
from escalera.store.repository import Head
from escalera.web.harmony_drawing import Strip, draw_strip
from escalera.web.page_view import PageView
from escalera.web.song_view import Selection, read_selection

MAX_HELD = 6


@dataclass(frozen=True, slots=True)
class SectionRow:
    """A section in the list: its chords in short, whether they are its own, its key where that differs."""

    section: Section
    first_bar: int
    last_bar: int
    chords: str
    own: bool
    key: Key | None


@dataclass(frozen=True, slots=True)
class ChordFacts:
    """One change with all that is said of it."""

    tick: int
    chord: Chord
    numeral: str
    kind: str
    said: str
    notes: str


class HarmonyView(PageView):
    """All that the templates of the harmony page ask for."""

    def __init__(self, head: Head, select: str, hear: str = "", held: str = ""):
        super().__init__(head)
        self.selection: Selection = read_selection(select, head.song)
        self.hear_id = id_in(hear) if id_in(hear) in self.song.layer_by_id else None
        self.held_text = held[:40]

    @cached_property
    def section(self) -> Section | None:
        return None if self.selection.what == "song" else self.song.section_by_id.get(self.selection.section_id)

    @cached_property
    def span(self) -> Span | None:
        return timeline(self.song).span_of(self.section.id) if self.section else None

    # what is edited -----------------------------------------------------------------------------------------------

    @property
    def name(self) -> str:
        return self.section.name if self.section else "The whole song"

    @property
    def key(self) -> Key:
        return section_key(self.song, self.section) if self.section else self.song.key

    @property
    def own(self) -> bool:
        """Whether what is shown has chords of its own (a section without them plays the song's)."""
        return self.section is None or self.section.progression is not None

    @cached_property
    def progression(self) -> Progression | None:
        return sounding_chords(self.song, self.section)

    @property
    def metre(self) -> Metre:
        return metre_of(self.song, self.section)

    @property
    def line(self) -> str:
        return write_chordline(self.progression, self.metre)

    def pass_lines(self) -> list[tuple[int, str]]:
        """The loop's variations: on which pass, and their line."""
        p = self.progression
        return [(n, write_chordline(p, self.metre, changes)) for n, changes in p.passes] if p else []

    @property
    def loop_bars(self) -> float:
        return self.progression.length_ticks / self.metre.bar_ticks if self.progression else 0

    def passes_here(self) -> int:
        """How often the loop goes round in the section."""
        return len(cycles(self.progression, self.span.length_ticks)) if self.progression and self.span else 0

    def stretches(self) -> list[int]:
        """Lengths in bars over which the loop may be spread."""
        most = self.section.bars if self.section else 16
        return [n for n in (1, 2, 4, 8, 16) if n <= most]

    def read(self, text: str) -> ChordLine:
        return read_chordline(text, self.key, self.metre, self.section.bars if self.section else 0)

    # what sounds --------------------------------------------------------------------------------------------------

    @cached_property
    def harmony(self) -> Harmony:
        """The section's harmony, or one pass of the song's loop."""
        if self.span:
            return section_harmony(self.song, self.span)
        bar, length = self.song.metre.bar_ticks, self._loop_ticks
        return harmony_of(
            self.song.progression, self.song.key, 0, (*range(0, length, bar), length), self.song.push_ticks
        )

    @property
    def _loop_ticks(self) -> int:
        return self.song.progression.length_ticks if self.song.progression else 4 * self.song.metre.bar_ticks

    @property
    def bar_ticks(self) -> tuple[int, ...]:
        if self.span:
            return self.span.bar_ticks
        return (*range(0, self._loop_ticks, self.song.metre.bar_ticks), self._loop_ticks)

    @cached_property
    def changes(self) -> list[ChordFacts]:
        return [self.facts(tick, chord) for tick, chord in zip(self.harmony.ticks, self.harmony.chords)]

    def facts(self, tick: int, chord: Chord) -> ChordFacts:
        source = origin(chord, self.key)
        said = "" if source.kind == OWN and "raised" not in source.said else source.said
        return ChordFacts(tick, chord, roman(chord, self.key), source.kind, said, " ".join(chord.note_names))

    def changes_per_bar(self) -> float:
        """How often the chord changes: the harmonic rhythm."""
        moves = sum(a.chord != b.chord for a, b in pairwise(self.changes))
        return moves / max(1, len(self.bar_ticks) - 1)

    # voicings -----------------------------------------------------------------------------------------------------

    @cached_property
    def chord_layers(self) -> list[Layer]:
        """Layers with a pitch, those that play chords first."""
        pitched = [x for x in self.song.layers if not x.sound.is_drum and x.sound.register[0] < x.sound.register[1]]
        return sorted(pitched, key=lambda x: x.family != "chords")

    @property
    def layer(self) -> Layer | None:
        """The layer whose voicing is shown: the one that is heard, else the first that plays chords."""
        if self.hear_id:
            return self.song.layer_by_id[self.hear_id]
        return self.chord_layers[0] if self.chord_layers else None

    @cached_property
    def voicings(self) -> list[LaidOut]:
        layer = self.layer
        if layer is None or layer.sound.is_drum:
            return []
        shift = self.section.shift_semitones if self.section else 0
        return laid_out(self.harmony, layer, voices_of(self.song, layer), shift)

    def spelled(self, chord: Chord, pitches: tuple[int, ...]) -> str:
        """Pitches named as the chord spells them."""
        return " ".join(pitch_label(p, chord.fifths_of(p, self.key)) for p in pitches)

    def tones(self, chord: Chord, tones: tuple[int, ...]) -> str:
        """Tones of a chord in words: 'fifth, seventh'."""
        return ", ".join(role_of((chord.root_class + t) % 12, chord) for t in tones)

    def bar_of(self, tick: int) -> str:
        """The bar and, off the bar line, the beat of a tick: '33', '34.3', and '33 early' for one that comes before it."""
        first = self.span.first_bar if self.span else 1
        if tick < 0:
            return f"{first} early"
        index = max(0, bisect_right(self.bar_ticks, tick) - 1)
        into = (tick - self.bar_ticks[index]) / self.metre.beat_ticks
        return f"{first + index}" + (f".{into + 1:g}" if into else "")

    @cached_property
    def strip(self) -> Strip:
        return draw_strip(self.changes, self.voicings, self.bar_ticks, self.span.first_bar if self.span else 1)

    # held notes ---------------------------------------------------------------------------------------------------

    @cached_property
    def held_chords(self) -> list[Chord]:
        """Every chord of the section, or of the whole song, once."""
        harmonies = [self.harmony] if self.section else [section_harmony(self.song, s) for s in self.spans]
        return list(dict.fromkeys(c for h in harmonies for c in h.chords))

    def held_table(self, classes: list[int]) -> list[tuple[Chord, list[NoteRole]]]:
        return list(zip(self.held_chords, held_over(classes[:MAX_HELD], self.held_chords, self.key)))

    def throughout(self) -> list[Throughout]:
        return holds_throughout(self.held_chords, self.key)

    # cadence ------------------------------------------------------------------------------------------------------

    def cadence(self) -> tuple[str, str]:
        """The dominant and the home chord of the key."""
        return str(Chord(self.key.tonic_fifths + 1, "7")), str(tonic_chord(self.key))

    def cadence_edit(self) -> dict[str, object]:
        """The edit that lets the last pass end with the cadence: the dominant takes its last bar but one, home its last."""
        p = self.progression
        assert p is not None
        dominant, home = (name.replace("♭", "b").replace("♯", "#") for name in self.cadence())
        bars = write_chordline(p, self.metre).split(" | ")
        ending = [*bars[:-2], dominant, home] if len(bars) > 1 else [f"{dominant} {home}"]
        ending[0] = str(p.changes[0][1].name(True)) if ending[0].startswith("%") else ending[0]
        where = {"section_id": self.section.id} if self.section else {}
        return {"kind": "vary_chords", "on_pass": 0, "chords": " | ".join(ending), **where}

    def rungs(self) -> list[dict[str, object]]:
        """The key's seven steps: semitones above C, rising from the tonic, and the name."""
        low = self.key.tonic_class
        return [{"step": low + s, "name": self.key.spell(low + s)} for s in self.key.degrees]

    # the song -----------------------------------------------------------------------------------------------------

    def sections(self) -> list[SectionRow]:
        rows = []
        for span in self.spans:
            s = span.section
            harmony = section_harmony(self.song, span)
            names = list(dict.fromkeys(str(c) for c in harmony.chords))
            short = " ".join(names[:5]) + (" …" if len(names) > 5 else "")
            key = section_key(self.song, s) if s.shift_semitones else None
            rows.append(SectionRow(s, span.first_bar, span.last_bar, short, s.progression is not None, key))
        return rows

    @property
    def fingered(self) -> Key:
        """The key that a player fingers on an instrument tuned down, with a capo."""
        return transpose_key(self.key, self.song.tuned_down - self.song.capo_fret)

    @property
    def has_chords(self) -> bool:
        return self.progression is not None or (
            self.section is not None and progression_of(self.song, self.section) is not None
        )
