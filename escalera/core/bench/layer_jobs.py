"""The pitched layers of a section by register and job: overlaps, the voice's room, who answers whom."""

from __future__ import annotations

from bisect import bisect_left, bisect_right

from escalera.core.caching import Results
from escalera.core.document.song import Layer, Song
from escalera.core.reading.events import DURATION, PITCH, START, heard_in, layer_events, sounding_layers
from escalera.core.reading.timeline import Span
from escalera.lazy_dataclasses import dataclass

SAME_REGISTER = 0.6  # of the smaller range
SAME_RHYTHM = 0.5  # of both layers' onsets
ANSWERS = 0.7  # of the notes that must fall into the other's rests
SOON_BEATS = 2.0  # after the other ended
Notes = list[tuple[int, int, int]]  # start, end, pitch


@dataclass(frozen=True, slots=True)
class LayerRange:
    """A layer as it sounds in a section: its lowest and highest pitch, and how many notes."""

    layer: Layer
    low: int
    high: int
    notes: int


@dataclass(frozen=True, slots=True)
class Clash:
    """Notes of a layer that sound in the voice's range while it sings."""

    layer: Layer
    voice: Layer
    notes: int
    of: int


@dataclass(frozen=True, slots=True)
class AnsweringLayer:
    """`notes` of `of` notes of one layer fall into another's rests."""

    layer: Layer
    to: Layer
    notes: int
    of: int


@dataclass(frozen=True, slots=True)
class Gap:
    """A rest of the voice, in ticks of the section, and who plays in it."""

    start: int
    end: int
    answered: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SectionJobs:
    parts: tuple[LayerRange, ...]
    same: tuple[tuple[LayerRange, LayerRange], ...]  # two with the same job in the same register and rhythm
    voice: LayerRange | None
    clashes: tuple[Clash, ...]
    gaps: tuple[Gap, ...]
    answers: tuple[AnsweringLayer, ...]


def pitched_notes(song: Song, span: Span, layer: Layer) -> Notes:
    """What a layer plays in a section, by start."""
    rows = layer_events(song, span, layer).table[:, [START, DURATION, PITCH]].tolist()
    return sorted((s, s + d, p) for s, d, p in rows)


def jobs(song: Song, span: Span) -> SectionJobs:
    """The jobs view of one section."""
    key = ("jobs", span.section.id)
    if key not in song.memo:
        named = tuple((x.id, x.name, x.job) for x in sounding_layers(song, span.section))
        song.memo[key] = _kept.get_or_make((heard_in(song, span), named), lambda: _jobs(song, span))
    return song.memo[key]


_kept: Results[SectionJobs] = Results(512)


def _jobs(song: Song, span: Span) -> SectionJobs:
    played: dict[int, Notes] = {}
    parts = []
    for layer in sounding_layers(song, span.section):
        notes = pitched_notes(song, span, layer)
        if notes and not layer.sound.is_drum and layer.sound.register[0] < layer.sound.register[1]:
            played[layer.id] = notes
            parts.append(LayerRange(layer, min(n[2] for n in notes), max(n[2] for n in notes), len(notes)))
    voice = max(
        (p for p in parts if p.layer.family == "voices" and p.layer.job != "width"), key=lambda p: p.notes, default=None
    )
    others = [p for p in parts if voice and p.layer.family in ("chords", "leads")]
    beat = span.bar_metres[0].beat_ticks
    clashes = tuple(c for p in others if voice and (c := _clash(p, voice, played)).notes)
    gaps = tuple(_gaps(voice, played, others, beat, span.length_ticks)) if voice else ()
    return SectionJobs(
        tuple(parts), tuple(_same(parts, played)), voice, clashes, gaps, tuple(_answers(parts, played, beat))
    )


def _same(parts: list[LayerRange], played: dict[int, Notes]) -> list[tuple[LayerRange, LayerRange]]:
    """Pairs of one job whose ranges and rhythms lie on each other; a held and a struck part are no pair."""
    found = []
    for i, a in enumerate(parts):
        for b in parts[i + 1 :]:
            shared = min(a.high, b.high) - max(a.low, b.low) + 1
            smaller = min(a.high - a.low, b.high - b.low) + 1
            if (
                a.layer.job == b.layer.job
                and shared >= SAME_REGISTER * smaller
                and _rhythm(a, b, played) >= SAME_RHYTHM
            ):
                found.append((a, b))
    return found


def _rhythm(a: LayerRange, b: LayerRange, played: dict[int, Notes]) -> float:
    """Share of both layers' onsets that they have in common."""
    first, second = ({start for start, _, _ in played[p.layer.id]} for p in (a, b))
    return len(first & second) / len(first | second)


def _clash(part: LayerRange, voice: LayerRange, played: dict[int, Notes]) -> Clash:
    inside = clashing(voice, played[part.layer.id], played[voice.layer.id])
    return Clash(part.layer, voice.layer, len(inside), part.notes)


class Stretches:
    """The stretches in which a line sounds, for asking quickly whether another note meets them."""

    def __init__(self, notes: Notes):
        self.starts: list[int] = []
        self.ends: list[int] = []
        for start, end, _ in notes:
            if self.ends and start <= self.ends[-1]:
                self.ends[-1] = max(self.ends[-1], end)
            else:
                self.starts.append(start)
                self.ends.append(end)

    def meets(self, note: tuple[int, int, int]) -> bool:
        at = bisect_left(self.starts, note[1]) - 1
        return at >= 0 and self.ends[at] > note[0]


def clashing(voice: LayerRange, notes: Notes, sung: Notes) -> list[tuple[int, int, int]]:
    """Notes that sound in the voice's range while it sings."""
    stretches = Stretches(sung)
    return [n for n in notes if voice.low <= n[2] <= voice.high and stretches.meets(n)]


def rests(notes: Notes, least: int, length: int) -> list[tuple[int, int]]:
    """Stretches of at least `least` ticks in which nothing sounds."""
    found, at = [], 0
    for start, end, _ in notes:
        if start - at >= least:
            found.append((at, start))
        at = max(at, end)
    return [*found, (at, length)] if length - at >= least else found


def _gaps(voice: LayerRange, played: dict[int, Notes], others: list[LayerRange], beat: int, length: int) -> list[Gap]:
    found = []
    for start, end in rests(played[voice.layer.id], beat, length):
        names = tuple(
            p.layer.name
            for p in others
            if p.layer.family == "leads" and any(start <= n[0] < end for n in played[p.layer.id])
        )
        found.append(Gap(start, end, names))
    return found


def _answers(parts: list[LayerRange], played: dict[int, Notes], beat: int) -> list[AnsweringLayer]:
    """Leads and voices whose notes begin soon after another's end, in its rests."""
    tuneful = [p for p in parts if p.layer.family in ("leads", "voices")]
    heard = {p.layer.id: (sorted(n[1] for n in played[p.layer.id]), Stretches(played[p.layer.id])) for p in tuneful}
    found = []
    for part in tuneful:
        for other in tuneful:
            if part is other:
                continue
            ends, stretches = heard[other.layer.id]
            after = [
                n
                for n in played[part.layer.id]
                if not stretches.meets(n)
                and (at := bisect_right(ends, n[0]))
                and n[0] <= ends[at - 1] + SOON_BEATS * beat
            ]
            if len(after) >= 3 and len(after) >= ANSWERS * part.notes:
                found.append(AnsweringLayer(part.layer, other.layer, len(after), part.notes))
    return found
