"""The pitched layers of a section by register and job: overlaps, the voice's room, who answers whom, what a copy adds."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass

from escalera.core.energy.model import section_energy
from escalera.core.kept import Kept
from escalera.core.song.document import Layer, Song
from escalera.core.song.edits.lines import DoubleLine
from escalera.core.song.resolve import DURATION, PITCH, START, heard_in, layer_events, sounding_layers
from escalera.core.song.timeline import Span, timeline
from escalera.errors import EditError

SAME_REGISTER = 0.6  # of the smaller range
SAME_RHYTHM = 0.5  # of both layers' onsets
ANSWERS = 0.7  # of the notes that must fall into the other's rests
SOON_BEATS = 2.0  # after the other ended
Notes = list[tuple[int, int, int]]  # start, end, pitch


@dataclass(frozen=True, slots=True)
class Part:
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
class Answer:
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
class Jobs:
    parts: tuple[Part, ...]
    same: tuple[tuple[Part, Part], ...]  # two with the same job in the same register and rhythm
    voice: Part | None
    clashes: tuple[Clash, ...]
    gaps: tuple[Gap, ...]
    answers: tuple[Answer, ...]


def pitched_notes(song: Song, span: Span, layer: Layer) -> Notes:
    """What a layer plays in a section, by start."""
    rows = layer_events(song, span, layer).table[:, [START, DURATION, PITCH]].tolist()
    return sorted((s, s + d, p) for s, d, p in rows)


def jobs(song: Song, span: Span) -> Jobs:
    """The jobs view of one section."""
    key = ("jobs", span.section.id)
    if key not in song.memo:
        named = tuple((x.id, x.name, x.job) for x in sounding_layers(song, span.section))
        song.memo[key] = _kept.get_or_make((heard_in(song, span), named), lambda: _jobs(song, span))
    return song.memo[key]


_kept: Kept[Jobs] = Kept(512)


def _jobs(song: Song, span: Span) -> Jobs:
    played: dict[int, Notes] = {}
    parts = []
    for layer in sounding_layers(song, span.section):
        notes = pitched_notes(song, span, layer)
        if notes and not layer.sound.is_drum and layer.sound.register[0] < layer.sound.register[1]:
            played[layer.id] = notes
            parts.append(Part(layer, min(n[2] for n in notes), max(n[2] for n in notes), len(notes)))
    voice = max(
        (p for p in parts if p.layer.family == "voices" and p.layer.job != "width"), key=lambda p: p.notes, default=None
    )
    others = [p for p in parts if voice and p.layer.family in ("chords", "leads")]
    beat = span.bar_metres[0].beat_ticks
    clashes = tuple(c for p in others if voice and (c := _clash(p, voice, played)).notes)
    gaps = tuple(_gaps(voice, played, others, beat, span.length_ticks)) if voice else ()
    return Jobs(tuple(parts), tuple(_same(parts, played)), voice, clashes, gaps, tuple(_answers(parts, played, beat)))


def _same(parts: list[Part], played: dict[int, Notes]) -> list[tuple[Part, Part]]:
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


def _rhythm(a: Part, b: Part, played: dict[int, Notes]) -> float:
    """Share of both layers' onsets that they have in common."""
    first, second = ({start for start, _, _ in played[p.layer.id]} for p in (a, b))
    return len(first & second) / len(first | second)


def _clash(part: Part, voice: Part, played: dict[int, Notes]) -> Clash:
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


def clashing(voice: Part, notes: Notes, sung: Notes) -> list[tuple[int, int, int]]:
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


def _gaps(voice: Part, played: dict[int, Notes], others: list[Part], beat: int, length: int) -> list[Gap]:
    found = []
    for start, end in rests(played[voice.layer.id], beat, length):
        names = tuple(
            p.layer.name
            for p in others
            if p.layer.family == "leads" and any(start <= n[0] < end for n in played[p.layer.id])
        )
        found.append(Gap(start, end, names))
    return found


def _answers(parts: list[Part], played: dict[int, Notes], beat: int) -> list[Answer]:
    """Leads and voices whose notes begin soon after another's end, in its rests."""
    tuneful = [p for p in parts if p.layer.family in ("leads", "voices")]
    found = []
    for part in tuneful:
        for other in tuneful:
            if part is other:
                continue
            asked = played[other.layer.id]
            ends, stretches = sorted(n[1] for n in asked), Stretches(asked)
            after = [
                n for n in played[part.layer.id]
                if not stretches.meets(n) and (at := bisect_right(ends, n[0])) and n[0] <= ends[at - 1] + SOON_BEATS * beat
            ]  # fmt: skip
            if len(after) >= 3 and len(after) >= ANSWERS * part.notes:
                found.append(Answer(part.layer, other.layer, len(after), part.notes))
    return found


@dataclass(frozen=True, slots=True)
class Copy:
    """What a copy of a line on another sound, octave or side would add to the section: energy, and by which terms."""

    label: str
    sound: str
    octave: int
    pan: float
    energy: float
    terms: tuple[tuple[str, float], ...]


OTHER_SOUNDS = {"low end": "growl-bass", "chords": "wide-saws", "leads": "glass-bell", "voices": "ooh-voices"}


def copies(song: Song, span: Span, layer: Layer) -> list[Copy]:
    """Ways to duplicate a layer's line, each with its exact effect on the section, the largest first."""
    before = section_energy(song, span)
    away = -0.6 if layer.pan >= 0 else 0.6
    other = OTHER_SOUNDS.get(layer.family, "glass-bell")
    other = other if other != layer.sound_key else {"leads": "music-box"}.get(layer.family, "bowed-strings")
    ways = [
        ("an octave up", layer.sound_key, 1, layer.pan), ("an octave down", layer.sound_key, -1, layer.pan),
        ("on the other side", layer.sound_key, 0, away), (f"on {other.replace('-', ' ')}", other, 0, 0.0),
    ]  # fmt: skip
    found = []
    for label, sound, octave, pan in ways:
        try:
            after = DoubleLine(layer.id, sound, octave, pan).apply(song)
        except EditError:
            continue
        now = section_energy(after, timeline(after).span_of(span.section.id))
        was, has = before.contributions(), now.contributions()
        terms = sorted(((t, has.get(t, 0.0) - was.get(t, 0.0)) for t in {*was, *has}), key=lambda r: -abs(r[1]))
        found.append(
            Copy(label, sound, octave, pan, now.value - before.value, tuple(r for r in terms[:2] if abs(r[1]) >= 0.02))
        )
    return sorted(found, key=lambda c: -c.energy)
