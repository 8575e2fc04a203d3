"""What the groove page shows: the beat of a phrase, how it measures, what comes near, what it was varied from."""

from __future__ import annotations

from functools import cached_property

from escalera.core.document.song import Groove, Layer, Section
from escalera.core.edits.groove_material_edits import TOMS
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.events import START, layer_events, sounding_layers
from escalera.core.reading.groove_reading import (
    Fill,
    SwingClash,
    drum_layers,
    family_of,
    fill_in,
    fills_in,
    groove_at,
    groove_beat,
    phrase_beat,
    swing_clashes,
    used_in,
)
from escalera.core.reading.timeline import section_metres, timeline
from escalera.core.rhythm.beat import LANES, Beat, changes
from escalera.core.rhythm.measures import Measures, Meeting, kick_and_bass, measures
from escalera.core.rhythm.spoken_beats import write_spoken
from escalera.core.time.metre import Metre
from escalera.lazy_dataclasses import dataclass
from escalera.services.groove_library import Alike, alike, feel_of
from escalera.store.repository import Head
from escalera.web.groove_drawing import RESOLUTIONS, GrooveLine, difference_line, groove_line
from escalera.web.page_view import PhraseView
from escalera.web.song_view import Selection

USUAL_LANES = ("kick", "snare", "closed hat", "open hat")


@dataclass(frozen=True, slots=True)
class PhraseRow:
    """A phrase in the list: its bars and what its drums play."""

    phrase: int
    first_bar: int
    last_bar: int
    name: str


class GrooveView(PhraseView):
    """All that the templates of the groove page ask for."""

    def __init__(self, head: Head, select: str, step: str = "", drum: str = ""):
        super().__init__(head, select)
        self.selection = Selection("section", self.section.id, 0, self.phrase)
        self.step = step if step in RESOLUTIONS else ("1/8" if self.metre.beat_ticks == 1440 else "1/16")
        self.drum = drum if drum in LANES else ""

    @property
    def metre(self) -> Metre:
        return section_metres(self.section, self.song.metre)[sum(self.section.phrases[: self.phrase])]

    @property
    def tempo_bpm(self) -> float:
        return self.span.tempo_points[0].bpm

    @cached_property
    def groove(self) -> Groove | None:
        return groove_at(self.song, self.section, *self.edges)

    @cached_property
    def beat(self) -> Beat:
        return (
            groove_beat(self.song, self.groove, self.metre)
            if self.groove
            else phrase_beat(self.song, self.span, self.phrase)
        )

    @property
    def name(self) -> str:
        if self.groove:
            return self.groove.name
        return f"The beat of {self.section.name}" if self.beat.hits else "No beat yet"

    @property
    def spoken(self) -> str:
        return write_spoken(self.beat, dict(self.song.words)) if self.beat.hits else ""

    @cached_property
    def line(self) -> GrooveLine:
        own = drum_layers(self.song)
        lanes = {*USUAL_LANES, *(d for d in own if len(own) <= 9), *([self.drum] if self.drum else [])}
        return groove_line(self.beat, lanes, RESOLUTIONS[self.step])

    def other_drums(self) -> list[str]:
        shown = {d for d, _ in self.line.lanes}
        return [d for d in LANES if d not in shown]

    # where it is used -----------------------------------------------------------------------------------------------

    def phrases(self, section: Section) -> list[PhraseRow]:
        span = timeline(self.song).span_of(section.id)
        rows, bar = [], span.first_bar
        for i, (bars, (low, high)) in enumerate(zip(section.phrases, span.phrase_ticks())):
            groove = groove_at(self.song, section, low, high)
            drums = any(
                p.start_ticks < high and p.end_ticks > low and self.song.layer_by_id[p.layer_id].sound.is_drum
                for p in section.placements
            )
            rows.append(PhraseRow(i, bar, bar + bars - 1, groove.name if groove else "drums" if drums else "–"))
            bar += bars
        return rows

    def places(self) -> list[str]:
        if not self.groove:
            return []
        found: dict[str, int] = {}
        for section, _ in used_in(self.song, self.groove):
            found[section.name] = found.get(section.name, 0) + 1
        return [name if n == 1 else f"{name} {n}×" for name, n in found.items()]

    def family(self) -> list[Groove]:
        return family_of(self.song, self.groove) if self.groove else []

    def a_bar(self, drum: str) -> float:
        """How often a drum is hit in a bar, on average."""
        return round(len(self.beat.of(drum)) / self.beat.bars, 1)

    def fills(self) -> list[Fill]:
        return fills_in(self.song, self.section)

    def ends_with_fill(self) -> bool:
        return fill_in(self.song, self.section, self.phrase) is not None

    def beats_of_phrase(self) -> list[tuple[int, str]]:
        """The beats of the phrase in ticks from its start, as people count them."""
        low, high = self.edges
        bar, beat = self.metre.bar_ticks, self.metre.beat_ticks
        return [(t, f"{self.bar_range[0] + t // bar}:{t % bar // beat + 1}") for t in range(0, high - low, beat)]

    def has_toms(self) -> bool:
        return any(drum in self.layers() for drum in TOMS)

    # figures ----------------------------------------------------------------------------------------------------------

    def measures(self) -> Measures:
        return measures(self.beat, self.tempo_bpm)

    def feel(self) -> tuple[float | None, float]:
        return feel_of(self.beat, self.tempo_bpm)

    def swing(self, layer_id: int = 0) -> tuple[float, str]:
        """Percent and subdivision that a section's swing is set to, for all or one layer."""
        found = next((s for s in self.section.swings if s.layer_id == layer_id), None)
        return (100 * found.ratio, "1/8" if found.subdivision_ticks == 480 else "1/16") if found else (50.0, "1/8")

    def clashes(self) -> list[SwingClash]:
        return swing_clashes(self.song, self.span)

    def meeting(self) -> Meeting:
        """Kick and bass in this phrase."""
        low, high = self.edges

        def onsets(layers: list[Layer]) -> list[int]:
            tables = [layer_events(self.song, self.span, x).table[:, START] for x in layers]
            return sorted({int(t) for table in tables for t in table if low <= t < high})

        sounding = sounding_layers(self.song, self.section)
        bass = [x for x in sounding if x.family == "low end" and not x.sound.is_kick]
        return kick_and_bass(
            onsets([x for x in sounding if x.sound.is_kick]), onsets(bass), max((x.duck_db for x in bass), default=0.0)
        )

    def against_neighbour(self) -> tuple[str, int] | None:
        """The section before that has drums, and by how many hits its beat differs."""
        index = self.song.index_of(self.section.id)
        for section in reversed(self.song.sections[:index]):
            span = timeline(self.song).span_of(section.id)
            other = phrase_beat(self.song, span, len(section.phrases) - 1)
            if other.hits and other.metre == self.beat.metre:
                return section.name, len(changes(other, self.beat))
        return None

    # what comes near --------------------------------------------------------------------------------------------------

    @cached_property
    def near(self) -> list[tuple[Alike, GrooveLine]]:
        if not self.beat.hits:
            return []
        return near_lines(self.beat, alike(self.beat, self.song, self.groove.id if self.groove else 0))

    def place(self, tick: int) -> str:
        """A tick as people count it: '2', '2.5', with the bar before it in longer beats."""
        bar, into = divmod(tick, self.beat.metre.bar_ticks)
        beat = f"{into / self.beat.metre.beat_ticks + 1:.3g}"
        return f"{bar + 1}:{beat}" if self.beat.bars > 1 else beat

    def label(self, sound_key: str) -> str:
        return BY_KEY[sound_key].label

    # the drums --------------------------------------------------------------------------------------------------------

    @cached_property
    def layer(self) -> Layer | None:
        """The layer of the chosen drum, else of the lowest that is hit."""
        own = drum_layers(self.song)
        return own.get(self.drum) or next((own[d] for d in self.beat.drums if d in own), None)

    def layers(self) -> dict[str, Layer]:
        return drum_layers(self.song)


def near_lines(played: Beat, found: list[Alike]) -> list[tuple[Alike, GrooveLine]]:
    """Grooves near a beat, each with the line that draws what differs."""
    return [(a, difference_line(played, a.beat, a.changes)) for a in found]


def swing_in_words(ratio: float | None) -> str:
    if ratio is None:
        return "no off-beats to swing"
    return "straight" if abs(ratio - 0.5) < 0.02 else f"{100 * ratio:.0f} %"
