"""Grooves from and to files, and the grooves that come nearest to a beat."""

from __future__ import annotations

import io
from collections.abc import Sequence

import mido

from escalera.core.document.song import Song
from escalera.core.palette.sounds import BY_KEY, DRUM_NOTES, DRUM_SOUND
from escalera.core.reading.groove_reading import groove_beat
from escalera.core.rhythm.beat import MAX_BARS, Beat, Hit, HitChange, beat, changes, shortest
from escalera.core.rhythm.likeness import folded, nearest
from escalera.core.rhythm.measures import looseness_ms, measures, swing_of
from escalera.core.rhythm.performance import quantise
from escalera.core.rhythm.spoken_beats import write_spoken
from escalera.core.time.metre import DENOMINATORS, MAX_NUMERATOR, Metre
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.errors import FormatError
from escalera.formats.midi_read import read_midi
from escalera.lazy_dataclasses import dataclass
from escalera.services import library

DRUM_CHANNEL = 9
GRID = 240
MAX_LINES = 4
MOST_SWING = 0.72  # beyond that an eighth is a dotted figure of sixteenths


@dataclass(frozen=True, slots=True)
class ReadGroove:
    """A drum track as a groove: as it was played, with how it swings and how loose it is, and what was not understood."""

    name: str
    beat: Beat
    swing: float | None
    looseness_ms: float
    report: tuple[str, ...]


def groove_of_midi(name: str, data: bytes) -> ReadGroove:
    """The drum track of a MIDI file with its timing kept, up to 16 bars. Raises FormatError."""
    facts = read_midi(data)
    drums = [part for part in facts.parts if part.channel == DRUM_CHANNEL]
    if not drums:
        raise FormatError(
            "The file has no drum track (channel 10). Export it again with its drums, or import it as a song."
        )
    notes = [note for part in drums for note in part.notes]
    unknown = sorted({pitch for _, _, pitch, _ in notes if pitch not in DRUM_NOTES})
    known = [(start, DRUM_NOTES[pitch], velocity) for start, _, pitch, velocity in notes if pitch in DRUM_NOTES]
    if not known:
        raise FormatError(
            "None of the drum notes is known (General MIDI, 35 to 77). Map them in the other program first."
        )
    metre = _metre(facts.metres)
    first = min(t for t, _, _ in known) // metre.bar_ticks * metre.bar_ticks
    length = min(MAX_BARS, (max(t for t, _, _ in known) - first) // metre.bar_ticks + 1) * metre.bar_ticks
    hits = [Hit(t - first, drum, velocity) for t, drum, velocity in known if t - first < length]
    played = beat(length, metre, hits)
    tempo = facts.tempos[0][1] if facts.tempos else 120.0
    report = [f"{len(played.hits)} hits on {len(played.drums)} drums in {played.bars} bars of {metre}."]
    if unknown:
        report.append(f"Notes {', '.join(map(str, unknown))} are no known drums and were left out.")
    if len(known) > len(hits):
        report.append(f"Only the first {MAX_BARS} bars were taken.")
    return ReadGroove(
        name.rsplit(".", 1)[0][:60] or "Drum track", shortest(played), *feel_of(played, tempo), tuple(report)
    )


def feel_of(played: Beat, tempo_bpm: float) -> tuple[float | None, float]:
    """Swing (0.5 straight, by eighths else by sixteenths) and looseness in milliseconds against the swung grid."""
    ticks = [h.tick for h in played.hits]
    eighths, sixteenths = swing_of(ticks, 480), swing_of(ticks, 240)
    by_eighths = eighths is not None and (0.54 <= eighths <= MOST_SWING or (sixteenths is None and eighths < 0.54))
    swing, subdivision = (eighths, 480) if by_eighths else (sixteenths, 240)
    straight = (
        [_unswung(t, subdivision, swing) for t in ticks] if swing and swing >= 0.54 else [float(t) for t in ticks]
    )
    return swing, looseness_ms(straight, GRID, tempo_bpm)


def _unswung(tick: int, subdivision: int, ratio: float) -> float:
    pair = 2 * subdivision
    start, share = tick // pair * pair, tick % pair / pair
    flat = share / ratio / 2 if share < ratio else 0.5 + (share - ratio) / (1 - ratio) / 2
    return start + flat * pair


def _metre(metres: Sequence[tuple[int, int, int]]) -> Metre:
    if metres:
        _, numerator, denominator = metres[0]
        if 1 <= numerator <= MAX_NUMERATOR and denominator in DENOMINATORS:
            return Metre(numerator, denominator)
    return Metre()


def midi_of_groove(name: str, played: Beat, tempo_bpm: float) -> bytes:
    """A groove as a MIDI file of one drum track, its timing kept."""
    file = mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_QUARTER)
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.MetaMessage("track_name", name=name.encode("ascii", "replace").decode()))
    track.append(mido.MetaMessage("set_tempo", tempo=round(60_000_000 / tempo_bpm)))
    track.append(
        mido.MetaMessage("time_signature", numerator=played.metre.numerator, denominator=played.metre.denominator)
    )
    lead = played.metre.bar_ticks if any(h.tick < 0 for h in played.hits) else 0
    rows = []
    for h in played.hits:
        note = BY_KEY[DRUM_SOUND[h.drum]].drum_note
        rows += [(h.tick + lead, 1, note, h.velocity), (h.tick + lead + 60, 0, note, 0)]
    at = 0
    for tick, on, note, velocity in sorted(rows):
        track.append(
            mido.Message(
                "note_on" if on else "note_off", channel=DRUM_CHANNEL, note=note, velocity=velocity, time=tick - at
            )
        )
        at = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, played.length_ticks + lead - at)))
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


@dataclass(frozen=True, slots=True)
class Alike:
    """A groove near a beat: where it is from, how far it is, and what would have to be changed to become it."""

    key: str
    name: str
    feel: str
    own: bool
    beat: Beat
    distance: float
    changes: tuple[HitChange, ...]


def alike(
    played: Beat, song: Song | None = None, but: int = 0, limit: int = MAX_LINES, fills: bool = False
) -> list[Alike]:
    """The song's own and the built-in grooves nearest to a beat (on its steps, its looseness left out), nearest first."""
    candidates: list[tuple[tuple[str, str, str, bool, Beat], Beat]] = []
    for groove in song.grooves if song else ():
        if groove.id != but:
            own = groove_beat(song, groove)  # type: ignore[arg-type]
            candidates.append(((f"own:{groove.id}", groove.name, groove.feel, True, own), own))
    for entry in library.grooves().values():
        if fills or entry.role != "ends":
            candidates.append(((entry.key, entry.name, entry.feel, False, entry.beat), entry.beat))
    straight = quantise(played, _fine(played), 1.0)
    found = nearest(straight, candidates, limit)
    return [Alike(*item, apart, tuple(changes(straight, item[4]))) for item, apart in found]


def _fine(played: Beat) -> int:
    """The step that holds more of the hits: sixteenths, or triplets."""
    ticks = [h.tick for h in played.hits]
    off = {grid: sum(abs(t - round(t / grid) * grid) for t in ticks) for grid in (240, 160)}
    return 240 if off[240] <= off[160] * 1.2 else 160


@dataclass(frozen=True, slots=True)
class Shown:
    """A groove in the list: the song's own or a built-in one, with what it is found by."""

    key: str
    name: str
    feel: str
    energy: int
    role: str
    beat: Beat
    own_id: int = 0

    @property
    def drums(self) -> str:
        return ", ".join(self.beat.drums)


def listed_grooves(song: Song) -> list[Shown]:
    """The song's own grooves, then the built-in ones; the energy of one's own follows from how much it plays."""
    found = []
    for groove in song.grooves:
        played = groove_beat(song, groove)
        if played is not None and played.hits:
            energy = max(1, min(5, round(1.4 * measures(played, song.tempo_bpm).hits_per_beat)))
            found.append(Shown(f"own:{groove.id}", groove.name, groove.feel, energy, "own", played, groove.id))
    rest = (Shown(k, g.name, g.feel, g.energy, g.role, g.beat) for k, g in library.grooves().items())
    return [*found, *rest]


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a groove that is looked for has: a drum or none of it, energy from 1 to 5, and whether it is a beat, a fill or the song's own."""

    has: str = ""
    lacks: str = ""
    energy_from: int = 1
    energy_to: int = 5
    role: str = ""

    def meets(self, shown: Shown) -> bool:
        kind = {"": True, "own": bool(shown.own_id), "ends": shown.role == "ends", "beat": shown.role != "ends"}
        return (
            (not self.has or self.has in shown.beat.drums)
            and (not self.lacks or self.lacks not in shown.beat.drums)
            and self.energy_from <= shown.energy <= self.energy_to
            and kind.get(self.role, True)
        )


def tapped_alike(played: Beat, song: Song, wanted: Wanted, limit: int = 3) -> list[Alike]:
    """Grooves whose low and middle drums fall as a beat tapped on two pads does, of those that have what is wanted; nearest first."""
    shown = [g for g in listed_grooves(song) if wanted.meets(g)]
    candidates = [(g, folded(g.beat)) for g in shown if folded(g.beat).hits]
    found = nearest(quantise(folded(played), _fine(played), 1.0), candidates, limit)
    return [
        Alike(g.key, g.name, g.feel, bool(g.own_id), g.beat, apart, tuple(changes(played, folded(g.beat))))
        for g, apart in found
    ]


def groove_table() -> str:
    """All built-in grooves and fills with their measures, as the document docs/grooves.md."""
    head = (
        "# Grooves and fills\n\nBuilt in, as data in `escalera/demo/grooves.json`; this "
        "table is written by `tools/list_grooves.py`. Energy goes from 1 to 5;"
        " hits are a beat, syncopation and evenness go from 0 to 1 (see `core/rhythm/measures.py`).\n\n"
        "| name | feel | role | energy | metre | hits | syncopation | evenness | said "
        "|\n|---|---|---|---|---|---|---|---|---|\n"
    )
    rows = []
    for g in library.grooves().values():
        m = measures(g.beat, 120.0)
        spoken = write_spoken(g.beat).replace("|", "\\|")
        rows.append(
            f"| {g.name} | {g.feel} | {g.role} | {g.energy} | {g.beat.metre} | "
            f"{m.hits_per_beat:.2f} | {m.syncopation:.2f} | {m.evenness:.2f} | `{spoken}` |"
        )
    return head + "\n".join(rows) + "\n"
