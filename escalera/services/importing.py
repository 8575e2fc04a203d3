"""Bringing a file in: a project as it is, a MIDI file as a song with sections, layers and shared patterns."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, replace
from pathlib import PurePath

import numpy as np

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_BARS, MAX_LAYERS, MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.names import guess_role, next_name
from escalera.core.document.song import Ids, Layer, NamedPattern, Placement, Section, Song, Target, default_phrases
from escalera.core.edits.form_layout import number_repeats
from escalera.core.edits.layer_edits import free_layer_name, seed_of
from escalera.core.edits.section_edits import USUAL_TARGET
from escalera.core.energy.model import arranged
from escalera.core.palette.sounds import (
    BY_KEY,
    DEFAULT_FOR_FAMILY,
    DRUM_NOTES,
    DRUM_SOUND,
    PROGRAM_FAMILY,
    sound_for_program,
)
from escalera.core.reading.placements import joined
from escalera.core.reading.section_finding import bar_features, find_sections, guess_roles
from escalera.core.rhythm.pattern import FIXED, Pattern
from escalera.core.theory.key_finding import find_key, slices_of_notes
from escalera.core.theory.keys import Key, parse_key
from escalera.core.time.metre import DENOMINATORS, MAX_NUMERATOR, Metre
from escalera.core.time.tempo import TempoPoint
from escalera.core.validation.whole import validate
from escalera.errors import FormatError, InputError
from escalera.formats.midi_read import ChannelNotes, MidiFacts, NoteRow, read_midi
from escalera.formats.project import read_project

DRUM_CHANNEL = 9
TEMPO_STEP = 240
SILENT_END_BARS = 4  # whole bars of silence after the last note that are kept
NAME_FAMILIES = {
    "bass": "low end", "sub": "low end", "pad": "chords", "key": "chords", "piano": "chords", "chord": "chords", "guitar": "chords",
    "string": "chords", "lead": "leads", "melody": "leads", "hook": "leads", "bell": "leads", "vox": "voices", "voc": "voices",
    "voice": "voices", "choir": "voices", "fx": "effects", "rise": "effects",
}  # fmt: skip


@dataclass(frozen=True)
class Imported:
    """A song, and what is worth saying about how it was read."""

    song: Song
    report: tuple[str, ...]


def import_file(name: str, data: bytes) -> Imported:
    """A song from a project or MIDI file; the kind is told by its content. Raises FormatError."""
    if data[:4] == b"MThd":
        return import_midi(data, clean_line(PurePath(name).stem.replace("_", " "), 80) or "Imported")
    if data.lstrip()[:1] == b"{":
        return Imported(read_project(data), ("The project was read as it is.",))
    raise FormatError("This is neither a MIDI file nor an Escalera project. Choose a file that ends in .mid or .json.")


@dataclass(frozen=True, slots=True)
class Bars:
    """The bar lines of a file: start ticks (one more than bars) and the metre of every bar."""

    ticks: list[int]
    metres: list[Metre]

    def of(self, tick: int) -> int:
        return min(max(bisect_right(self.ticks, tick) - 1, 0), len(self.metres) - 1)

    def nearest(self, tick: int) -> int:
        """Index of the bar line nearest to a tick."""
        at = self.of(tick)
        return at + 1 if tick - self.ticks[at] > self.ticks[at + 1] - tick else at


def import_midi(data: bytes, title: str) -> Imported:
    facts = _thinned(read_midi(data))
    report: list[str] = []
    bars = _bars(facts, report)
    key = _key(facts, report)
    song = Song(title=title, tempo_bpm=_tempo_at(facts, 0, report), metre=bars.metres[0], key=key)
    song, rows = _layers(song, facts, report)
    song = _sections(song, facts, bars, rows, report)
    for layer, notes in zip(song.layers, rows):
        song = _place(song, layer, notes, bars)
    for what, count in facts.dropped.items():
        report.append(f"{count:,} × {what}" + ("." if "kept" in what else " dropped."))
    return Imported(_with_targets(validate(song)), tuple(report))


def _thinned(facts: MidiFacts) -> MidiFacts:
    """At most one tempo a sixteenth, the last one written there: more is the noise of a recorded clock."""
    facts.tempos = list({tick // TEMPO_STEP: (tick, bpm) for tick, bpm in facts.tempos}.values())
    return facts


def _bars(facts: MidiFacts, report: list[str]) -> Bars:
    """Bar lines from the metre changes; a change inside a bar makes that bar shorter where it can be written."""
    changes = [(t, Metre(n, d)) for t, n, d in facts.metres if 1 <= n <= MAX_NUMERATOR and d in DENOMINATORS]
    if len(changes) < len(facts.metres):
        report.append(f"{len(facts.metres) - len(changes)} metre changes cannot be counted and were left out.")
    last = max(start for part in facts.parts for start, *_ in part.notes)
    ticks, metres, metre = [0], [], Metre()
    while ticks[-1] <= last or ticks[-1] + metre.bar_ticks <= min(
        facts.end_tick, last + SILENT_END_BARS * metre.bar_ticks
    ):
        start = ticks[-1]
        at = bisect_right(changes, start, key=lambda row: row[0])
        metre = changes[at - 1][1] if at else metre
        cut = changes[at][0] if at < len(changes) and changes[at][0] < start + metre.bar_ticks else None
        bar = metre
        if cut is not None and (cut - start) % 120 == 0 and (cut - start) // 120 <= MAX_NUMERATOR:
            bar = _reduced((cut - start) // 120)
        metres.append(bar)
        ticks.append(start + bar.bar_ticks)
        if len(metres) > MAX_BARS:
            raise FormatError(f"The file has more than {MAX_BARS} bars, the most a song may have. Cut it in two.")
    return Bars(ticks, metres)


def _reduced(thirty_seconds: int) -> Metre:
    numerator, denominator = thirty_seconds, 32
    while numerator % 2 == 0 and denominator > 4:
        numerator, denominator = numerator // 2, denominator // 2
    return Metre(numerator, denominator)


def _tempo_at(facts: MidiFacts, tick: int, report: list[str] | None = None) -> float:
    at = bisect_right(facts.tempos, tick, key=lambda row: row[0])
    bpm = facts.tempos[at - 1][1] if at else 120.0
    inside = min(max(bpm, MIN_TEMPO_BPM), MAX_TEMPO_BPM)
    if report is not None and inside != bpm:
        report.append(
            f"The tempo {bpm:.1f} bpm lies outside {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g}; {inside:g} is used."
        )
    return round(inside, 3)


def _key(facts: MidiFacts, report: list[str]) -> Key:
    if facts.keys:
        name = facts.keys[0][1]
        try:
            return parse_key(name[:-1] + " minor" if name.endswith("m") else name + " major")
        except InputError:
            pass
    notes = [
        (start, start + duration, pitch)
        for part in facts.parts
        if part.channel != DRUM_CHANNEL
        for start, duration, pitch, _ in part.notes
    ]
    found = find_key(slices_of_notes(np.array(notes, np.int64).reshape(-1, 3)))
    if found is None:
        report.append("No key was written and no pitched note was found; C major is taken.")
        return Key()
    report.append(f"No key was written; {found.best} fits best, then {found.second} (margin {found.margin:.2f}).")
    return found.best


def _layers(song: Song, facts: MidiFacts, report: list[str]) -> tuple[Song, list[list[NoteRow]]]:
    """Layers and, beside them, their notes. A drum channel becomes one layer a drum."""
    rows: list[list[NoteRow]] = []
    for part in facts.parts:
        source = f"track {part.track + 1}, channel {part.channel + 1}" + (f": {part.name}" if part.name else "")
        if part.channel == DRUM_CHANNEL:
            for drum in dict.fromkeys(DRUM_NOTES.get(p, "shaker") for *_, p, _ in part.notes):
                mine = [n for n in part.notes if DRUM_NOTES.get(n[2], "shaker") == drum]
                song = _add_layer(song, drum.capitalize(), DRUM_SOUND[drum], "drums", part, source)
                rows.append(mine)
        else:
            family, sound_key = _guess(part)
            song = _add_layer(song, part.name or BY_KEY[sound_key].label, sound_key, family, part, source)
            rows.append(part.notes)
        if len(song.layers) > MAX_LAYERS:
            raise FormatError(
                f"The file has more than {MAX_LAYERS} parts, the most that a song may have layers. Merge some tracks."
            )
    report.append(f"{len(facts.parts)} tracks and channels became {len(song.layers)} layers.")
    return song, rows


def _add_layer(song: Song, name: str, sound_key: str, family: str, part: ChannelNotes, source: str) -> Song:
    sound, name = BY_KEY[sound_key], free_layer_name(song, name)
    level = sound.level_db + (max(-24.0, part.level_db) if part.level_db is not None else 0.0)
    layer = Layer(
        song.next_id,
        name,
        sound_key,
        family,
        sound.job,
        seed_of(name, {x.seed for x in song.layers}),
        round(max(-60.0, level), 1),
        round(part.pan or 0.0, 2),
        source=source[:200],
    )
    return replace(song, layers=(*song.layers, layer), next_id=song.next_id + 1)


def _guess(part: ChannelNotes) -> tuple[str, str]:
    """Family and sound from the name, the program, the register and how many notes sound together."""
    pitches = [pitch for _, _, pitch, _ in part.notes]
    together = len(part.notes) / len({start for start, *_ in part.notes})
    named = next((family for word, family in NAME_FAMILIES.items() if word in part.name.lower()), None)
    if part.program is not None and (part.program > 0 or named is None):
        family = named or PROGRAM_FAMILY[part.program // 8]
        sound_key = sound_for_program(part.program)
        if BY_KEY[sound_key].family == family and not BY_KEY[sound_key].is_drum:
            return family, sound_key
        return family, DEFAULT_FOR_FAMILY[family]
    if named:
        return named, DEFAULT_FOR_FAMILY[named]
    if np.median(pitches) < 48 and together < 1.3:
        return "low end", "plucked-bass"
    return ("chords", "tine-keys") if together >= 1.8 else ("leads", "plucked-lead")


def _sections(song: Song, facts: MidiFacts, bars: Bars, rows: list[list[NoteRow]], report: list[str]) -> Song:
    count = len(bars.metres)
    marked = sorted({bars.nearest(t): name for t, name in facts.markers if name and t < bars.ticks[-1]}.items())
    marked = [(bar, name) for bar, name in marked if bar < count]
    if len(marked) > 1 or (marked and marked[0][0] > 0):
        if marked[0][0] > 0:
            marked.insert(0, (0, "Start"))
        edges = [bar for bar, _ in marked] + [count]
        names, roles = [name for _, name in marked], [guess_role(name) for _, name in marked]
        report.append(f"{len(names)} sections were read from markers.")
    else:
        onsets = [(bars.of(start), i, pitch) for i, notes in enumerate(rows) for start, _, pitch, _ in notes]
        found = find_sections(bar_features(onsets, count, len(rows)))
        edges = [0, *np.cumsum(found.bars).tolist()]
        names, roles = [f"Part {letter}" for letter in found.letters], list(guess_roles(found))
        report.append(
            f"No markers: {len(names)} sections were found by change and repetition (confidence "
            f"{found.confidence:.0%})."
        )
    for name, role, low, high in zip(names, roles, edges, edges[1:]):
        song = _add_section(song, name, role, low, high, facts, bars)
    return number_repeats(song)


def _add_section(song: Song, name: str, role: str, low: int, high: int, facts: MidiFacts, bars: Bars) -> Song:
    if any(section.name == name for section in song.sections):
        name = next_name(song, name)
    metres, current = [], song.metre
    for bar in range(low, high):
        if bars.metres[bar] != current:
            current = bars.metres[bar]
            metres.append((bar - low, current))
    start, end = bars.ticks[low], bars.ticks[high]
    tempo = _tempo_at(facts, start)
    tempos = [] if tempo == song.tempo_bpm else [TempoPoint(0, tempo)]
    tempos += [
        TempoPoint(t - start, _tempo_at(facts, t)) for t in sorted({t for t, _ in facts.tempos if start < t < end})
    ]
    section = Section(
        song.next_id,
        name[:80],
        role,
        high - low,
        default_phrases(high - low),
        Target(*USUAL_TARGET[role]),
        tuple(metres),
        tuple(tempos),
    )
    return replace(song, sections=(*song.sections, section), next_id=song.next_id + 1)


def _place(song: Song, layer: Layer, notes: list[NoteRow], bars: Bars) -> Song:
    """Cut a layer's notes into bars; equal bars share a pattern, and neighbours that repeat become one placement."""
    by_bar: dict[int, list[tuple[int, ...]]] = {}
    for start, duration, pitch, velocity in notes:
        bar = bars.of(start)
        by_bar.setdefault(bar, []).append((start - bars.ticks[bar], duration, FIXED, pitch, 0, velocity))
    ids = Ids(song.next_id)
    known: dict[Pattern, int] = {}
    used: dict[int, int] = {}
    entries, sections = list(song.patterns), []
    first = 0
    for section in song.sections:
        placements = list(section.placements)
        for bar in range(first, first + section.bars):
            if bar not in by_bar:
                continue
            pattern = Pattern(bars.metres[bar].bar_ticks, by_bar[bar])
            if pattern not in known:
                known[pattern] = ids()
                entries.append(NamedPattern(known[pattern], f"{layer.name[:70]} {len(known)}", layer.family, pattern))
            pattern_id = known[pattern]
            used[pattern_id] = used.get(pattern_id, 0) + 1
            low, high = bars.ticks[bar] - bars.ticks[first], bars.ticks[bar + 1] - bars.ticks[first]
            placements.append(Placement(ids(), layer.id, pattern_id, low, high, low % pattern.length_ticks))
        sections.append(replace(section, placements=joined(placements)))
        first += section.bars
    song = replace(song, sections=tuple(sections), patterns=tuple(entries), next_id=ids.next_id)
    return song.with_layer(replace(layer, pattern_id=max(used, key=lambda k: used[k]))) if used else song


def _with_targets(song: Song) -> Song:
    """Sections without a role start from what they have, so that the stair shows only what the user then asks for."""
    values = {s.span.section.id: min(10.0, round(s.value, 1)) for s in arranged(song).sections}
    return replace(
        song,
        sections=tuple(
            replace(s, target=Target(values[s.id], values[s.id])) if s.role == "none" else s for s in song.sections
        ),
    )
