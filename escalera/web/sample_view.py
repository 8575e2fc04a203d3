"""What the page of samples shows: a wall of tiles whose relief is each sample's own envelope, and one of them in detail."""

from __future__ import annotations

from functools import cached_property, lru_cache
from math import log2
from typing import Any

from markupsafe import Markup

from escalera.core.bench.sample_fit import Fitting, along_chords, fitting, section_tempo
from escalera.core.document.recordings import Sample
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.recording_edits import usual_family
from escalera.core.energy.model import section_energy
from escalera.core.reading.timeline import timeline
from escalera.core.samples.finding import SORTS, WAYS, SampleCard, SampleWish
from escalera.core.samples.licences import LICENCES
from escalera.core.samples.reading import KINDS, SampleReading, bars_of
from escalera.core.samples.said_names import Contradiction
from escalera.core.theory.keys import key_text
from escalera.core.theory.pitch import nearest_fifths, pitch_label
from escalera.lazy_dataclasses import dataclass
from escalera.services.sample_hearing import chord_third
from escalera.services.sample_making import words_of
from escalera.services.samples import Samples
from escalera.store.repository import Head
from escalera.web.clip_view import ClipView
from escalera.web.page_view import PageView
from escalera.web.song_view import Selection, some_section

PAGE = 48
WIDTH, HEIGHT = 288, 92
GROUPS = (("", "all"), *((kind, f"{kind}s" if kind != "hit" else "hits") for kind in KINDS))
SURE, FAIR = 0.7, 0.4


@dataclass(frozen=True)
class SampleTile:
    """A sample as its tile: the family it is glazed as, its relief, its joints, and the words beneath."""

    card: SampleCard
    family: str
    relief: Markup
    figures: str
    rights: str
    doubt: str


def family_of(card: SampleCard) -> str:
    """The glaze of a sample: by what it would be laid as."""
    if card.kind == "voice":
        return "voices"
    if card.kind == "texture":
        return "atmosphere"
    low = bool(card.bands_db) and card.bands_db[0] + card.bands_db[1] > sum(card.bands_db[2:4]) + 24
    if card.key:
        return "low end" if low else "chords"
    if card.pitch_hz and card.kind == "hit" and not card.has_kick:
        return "low end" if card.pitch_hz < 120 else "leads"
    return "drums"


@lru_cache(maxsize=4096)
def relief(envelope: str, seconds: float, tempo: float | None, beats_a_bar: int) -> Markup:
    """The tile's drawing: its envelope cut out of the glaze, a joint at every bar, and a broken edge where a bar is not whole."""
    levels = [int(envelope[i : i + 2]) / 99 for i in range(0, len(envelope) - 1, 2)] or [0.0]
    step, middle = WIDTH / len(levels), HEIGHT / 2
    top = " ".join(f"{step * (i + 0.5):.1f},{middle - (middle - 4) * v:.1f}" for i, v in enumerate(levels))
    below = " ".join(
        f"{step * (i + 0.5):.1f},{middle + (middle - 4) * v:.1f}" for i, v in reversed(list(enumerate(levels)))
    )
    parts = [f'<polygon class="relief" points="0,{middle} {top} {WIDTH},{middle} {below}"/>']
    if tempo:
        bar_s = 60.0 / tempo * beats_a_bar
        bars, rest = bars_of(seconds * tempo / 60.0, beats_a_bar)
        places = [WIDTH * n * bar_s / seconds for n in range(1, 33) if n * bar_s < seconds * 0.995]
        parts += [f'<path class="joint" d="M{x:.1f} 0V{HEIGHT}"/>' for x in places]
        if rest:
            edge = " ".join(f"L{WIDTH - (7 if i % 2 else 1)} {HEIGHT * (i + 1) / 8:.1f}" for i in range(8))
            parts.append(f'<path class="broken" d="M{WIDTH - 1} 0{edge}"/>')
    return Markup("".join(parts))


def tile_of(card: SampleCard) -> SampleTile:
    """A sample's tile."""
    figures = [f"{card.tempo_bpm:.4g} bpm"] if card.tempo_bpm else []
    if card.tempo_bpm:
        figures.append(bars_said(*bars_of(card.seconds * card.tempo_bpm / 60.0, card.beats_a_bar)))
    else:
        figures.append(f"{card.seconds:.2g} s")
    if card.key:
        figures.append(card.key)
    elif card.pitch_hz:
        figures.append(note_name(card.pitch_hz))
    licence = LICENCES[card.licence]
    doubt = "" if licence.cleared else "not cleared"
    if card.doubts:
        doubt = "said otherwise"
    return SampleTile(
        card,
        family_of(card),
        relief(card.envelope, card.seconds, card.tempo_bpm, card.beats_a_bar),
        " · ".join(figures),
        licence.label,
        doubt,
    )


def bars_said(bars: int, rest: float) -> str:
    """A length in whole bars, and the beats that are over or short of them."""
    beats = f"{abs(round(rest, 1)):g} beat{'s' if abs(rest) != 1 else ''}"
    if not bars:
        return beats
    whole = f"{bars} bar{'s' if bars != 1 else ''}"
    return f"{whole}, {beats} {'over' if rest > 0 else 'short'}" if rest else whole


def note_name(hz: float) -> str:
    """The nearest note of a frequency, with its cents where it is off."""
    exact = 69 + 12 * log2(hz / 440.0)
    note = round(exact)
    cents = round(100 * (exact - note))
    off = f" {cents:+d} cents".replace("-", "−") if abs(cents) >= 3 else ""
    return pitch_label(note, nearest_fifths(note % 12, 0)) + off


def surely(confidence: float) -> str:
    """How sure a reading is, in a word."""
    return "sure" if confidence >= SURE else "likely" if confidence >= FAIR else "a guess"


class Detail:
    """One sample: all that was read, where it came from, and how it fits the song that is open."""

    def __init__(
        self, samples: Samples, card: SampleCard, song: Song | None, section: Section | None, layer: Layer | None
    ):
        self.card, self.song, self.section, self.layer, self.samples = card, song, section, layer, samples
        self.reading: SampleReading = samples.reading(card.id)
        self.doubts: tuple[Contradiction, ...] = samples.doubts(card.id)
        self.more: dict[str, Any] = samples.details(card.id)
        self.sample: Sample = samples.sample(card.id)
        self.tile = tile_of(card)
        self.licence = LICENCES[card.licence]

    @cached_property
    def family(self) -> str:
        return self.layer.family if self.layer else usual_family(self.sample, self.reading.usual_use)

    @cached_property
    def fit(self) -> Fitting | None:
        return fitting(self.song, self.sample, self.family, self.section) if self.song else None

    @property
    def outdated(self) -> bool:
        """Whether the song that is open uses the sample and goes by an earlier reading of it."""
        known = self.song.sample_by_content.get(self.card.content) if self.song else None
        return known is not None and known != self.sample

    @cached_property
    def thirds(self) -> str:
        """What goes wrong where a full chord is moved along the section's chords; empty where nothing does."""
        if not (self.song and self.section and self.reading.kind in ("hit", "ending") and self.card.key):
            return ""
        third = chord_third(self.card.content, self.card.key)
        return along_chords(self.song, self.section, third == "minor").said if third else ""

    @cached_property
    def family_parts(self) -> tuple[str, ...]:
        """The parts of the form that the recordings of its performance play; none where it stands alone."""
        family = self.samples.family(self.card.id) if self.song else None
        return tuple(dict.fromkeys(m.part for m in family.members)) if family else ()

    @property
    def takers(self) -> list[Layer]:
        """Layers that could play it with their own hits or notes."""
        return [x for x in self.song.layers if not x.clips and not x.sound.mono] if self.song else []

    @cached_property
    def words(self) -> int:
        """How many words or phrases, between gaps, are heard in it."""
        return len(words_of(self.card.content)) if self.reading.kind in ("voice", "phrase") else 0

    @property
    def rows(self) -> list[tuple[str, str, str]]:
        """Facts as on a museum label: what, the figure, how sure."""
        r = self.reading
        rows = [("kind", r.kind, surely(r.kind_confidence)), ("length", f"{r.seconds:.3f} s", "")]
        if r.tempo_bpm:
            rows.append(("tempo", f"{r.tempo_bpm:.5g} bpm", surely(r.tempo_confidence)))
            if r.tempo_others:
                rows.append(("or", ", ".join(f"{x:.4g}" for x in r.tempo_others[:3]), ""))
            rows.append(("bars", f"{self.bars_said} ({r.beats_a_bar} beats a bar)", ""))
        else:
            rows.append(("tempo", "none heard", ""))
        rows.append(("key", r.key, surely(r.key_confidence)) if r.key else ("key", "none heard", ""))
        if r.tuning_cents is not None and abs(r.tuning_cents) >= 3:
            rows.append(("tuning", f"{r.tuning_cents:+.0f} cents".replace("-", "−"), ""))
        if r.pitch_hz:
            rows.append(("pitch", f"{note_name(r.pitch_hz)} ({r.pitch_hz:.2f} Hz)", surely(r.pitch_confidence)))
        if r.integrated_lufs is not None:
            rows.append(
                (
                    "loudness",
                    f"{r.integrated_lufs:.1f} LUFS, peak {r.true_peak_dbtp or 0:.1f} dBTP".replace("-", "−"),
                    "",
                )
            )
        has = [w for w, there in (("a kick", r.has_kick), ("a backbeat", r.has_backbeat)) if there]
        rows.append(("has", ", ".join(has) or "no kick, no backbeat", ""))
        if r.leaves_middle:
            rows.append(("leaves", "the middle free", ""))
        return rows

    @property
    def bars_said(self) -> str:
        """Its length in bars, as on its tile."""
        return bars_said(self.reading.bars or 0, self.reading.remainder_beats or 0.0)


class SampleView(PageView):
    """The wall of samples beside a song: a section goes round, and samples are tried in it."""

    def __init__(self, head: Head, samples: Samples, wish: SampleWish, select: str, chosen: int, number: int = 0):
        super().__init__(head)
        numbers = [*((select or "").split(":")[1:3]), "0", "0"]
        ids = [int(n) if n.isdecimal() and len(n) < 10 else 0 for n in numbers[:2]]
        self.section = some_section(self.song, ids[0])
        layer = self.song.layer_by_id.get(ids[1])
        self.layer = layer if layer is not None and layer.clips else None
        self.wall = Wall(samples, wish, chosen, self.song, self.section, self.layer)
        self.clips = ClipView(self.song, self.section, self.layer, number) if self.layer else None

    @property
    def selection(self) -> Selection:
        return Selection("section", self.section.id)

    @property
    def beat_s(self) -> float:
        """Seconds of a quarter at the section's beginning: when a sample takes over."""
        return 60.0 / section_tempo(self.song, self.section)

    @property
    def select(self) -> str:
        return f"section:{self.section.id}:{self.layer.id if self.layer else 0}"

    @cached_property
    def energy(self) -> float:
        return float(section_energy(self.song, timeline(self.song).span_of(self.section.id)).value)

    @property
    def wanted(self) -> float:
        return (self.section.target.start + self.section.target.end) / 2

    @property
    def key(self) -> str:
        return key_text(self.song.key)


class Wall:
    """The samples that fit a wish, and the one that is chosen."""

    kinds, ways, sorts, groups = KINDS, WAYS, SORTS, GROUPS

    def __init__(
        self,
        samples: Samples,
        wish: SampleWish,
        chosen: int,
        song: Song | None = None,
        section: Section | None = None,
        layer: Layer | None = None,
    ):
        self.samples, self.wish, self.song, self.section, self.layer = samples, wish, song, section, layer
        self.count = samples.count()
        self.cards = samples.cards(wish)
        self.chosen = next((c for c in self.cards if c.id == chosen), self.cards[0] if self.cards else None)

    @property
    def apart(self) -> int:
        """How many takes there are beside the samples, shown when they are asked for."""
        return 0 if self.wish.asks else self.count - len(self.cards)

    def page(self, number: int) -> list[SampleTile]:
        """Tiles of a page, from 0."""
        return [tile_of(c) for c in self.cards[number * PAGE : (number + 1) * PAGE]]

    def more(self, number: int) -> bool:
        return len(self.cards) > (number + 1) * PAGE

    @cached_property
    def detail(self) -> Detail | None:
        return Detail(self.samples, self.chosen, self.song, self.section, self.layer) if self.chosen else None
