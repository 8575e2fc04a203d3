"""Sections of a MIDI file: by its markers, or found; with their chords, their key, and roles where those are sure."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from dataclasses import replace

import numpy as np

from escalera.core.document.limits import MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.names import guess_role, next_name
from escalera.core.document.song import Progression, Section, Song, default_phrases
from escalera.core.document.target import Target
from escalera.core.edits.form_layout import number_repeats
from escalera.core.edits.section_edits import USUAL_TARGET
from escalera.core.performance.form_found import FoundPart
from escalera.core.performance.music_reading import MusicReading, outside
from escalera.core.performance.played import Played
from escalera.core.reading.played_loops import as_loop
from escalera.core.theory.keys import Key, transpose_key
from escalera.core.time.tempo import TempoPoint
from escalera.formats.midi_read import MidiFacts
from escalera.lazy_dataclasses import dataclass

SURE_OF_FORM, SURE_OF_ROLE = 0.35, 0.5
WRONG = 0.2  # share of the chords' notes outside a written key, beyond which it is not believed


@dataclass(frozen=True, slots=True)
class NamedPart:
    """A part of the file with what it is called; the role is 'none' where it is only guessed. It lies `shift` semitones above
    the song's key."""

    part: FoundPart
    shift: int
    name: str
    role: str


def marked_bars(facts: MidiFacts, played: Played) -> list[tuple[int, str]]:
    """Bars at which the file's own markers say that a part begins, with their names; empty where it has none that divide it."""
    edges = np.array(played.bar_ticks)
    found: dict[int, str] = {}
    for tick, name in facts.markers:
        bar = int(np.abs(edges - tick).argmin())
        if name and bar < played.bars and tick < edges[-1]:
            found[bar] = name
    rows = sorted(found.items())
    if not rows or (len(rows) == 1 and rows[0][0] == 0):
        return []
    return rows if rows[0][0] == 0 else [(0, "Start"), *rows]


def named_parts(
    reading: MusicReading, marked: list[tuple[int, str]], played: Played, report: list[str]
) -> list[NamedPart]:
    """Every part with a name and a role, and what is worth saying about how they were found."""
    parts = reading.form.parts
    if marked:
        report.append(f"{len(marked)} sections were read from markers.")
        found = zip(parts, reading.shifts, marked)
        return [NamedPart(part, shift, name, guess_role(name)) for part, shift, (_, name) in found]
    letters = _letters(parts)
    roles, sure = guessed_roles(parts, played)
    report.append(
        f"No markers: {len(parts)} sections were found by change and repetition (confidence {reading.form.confidence:.0%})."
    )
    if reading.form.confidence < SURE_OF_FORM or sure < SURE_OF_ROLE:
        roles = ["none"] * len(parts)
        report.append(
            "What each section is for is not clear from the notes, so none has a role yet. Say in the inspector which are verses and choruses."
        )
    rows = zip(parts, reading.shifts, letters, roles)
    return [NamedPart(part, shift, f"Part {letter}", role) for part, shift, letter, role in rows]


def _letters(parts: tuple[FoundPart, ...]) -> list[str]:
    letters: list[str] = []
    fresh = 0
    for part in parts:
        if part.like >= 0:
            letters.append(letters[part.like])
        else:
            letters.append(chr(ord("A") + fresh % 26) + (str(fresh // 26) if fresh >= 26 else ""))
            fresh += 1
    return letters


def guessed_roles(parts: tuple[FoundPart, ...], played: Played) -> tuple[list[str], float]:
    """Roles from what comes back, how full it is and where it lies, and how sure they are, 0..1."""
    if len(parts) < 4:
        return ["none"] * len(parts), 0.0
    fullness = [_fullness(played, p) for p in parts]
    root = [i if p.like < 0 else p.like for i, p in enumerate(parts)]
    groups = {r: [fullness[i] for i in range(len(parts)) if root[i] == r] for r in set(root)}
    back = sorted((g for g in groups if len(groups[g]) > 1), key=lambda g: -float(np.mean(groups[g])))
    if len(back) < 2:
        return ["none"] * len(parts), 0.0
    chorus, middle = back[0], float(np.median(fullness))
    apart = float(np.mean(groups[chorus]) - np.mean(groups[back[1]]))
    roles = []
    for i, value in enumerate(fullness):
        if root[i] == chorus:
            roles.append("chorus")
        elif i == 0 and (value < middle or parts[i].bars <= 4):
            roles.append("intro")
        elif i == len(parts) - 1 and (value < middle or parts[i].bars <= 4):
            roles.append("outro")
        elif root[i] in back[1:]:
            roles.append("verse")
        else:
            roles.append("break" if value < 0.7 * middle else "bridge")
    return roles, min(1.0, 0.4 + apart / 1.5)


def _fullness(played: Played, part: FoundPart) -> float:
    """How many parts play, and how loud: a rough measure for telling sections apart."""
    bars = slice(part.first_bar, part.first_bar + part.bars)
    playing = float((played.kinds[:, bars] >= 0).mean(axis=1).sum())
    notes = [rows for p in played.by_bar for rows in p[bars]]
    loud = [float(r[:, 3].mean()) for r in notes if len(r)]
    return playing + (float(np.mean(loud)) / 127 if loud else 0.0) + sum(len(r) for r in notes) / max(1, part.bars) / 40


def add_sections(song: Song, named: list[NamedPart], reading: MusicReading, facts: MidiFacts, played: Played) -> Song:
    """The sections in order, with tempo, metre and chords; those that repeat another one higher are shifted by so much."""
    rows = []
    for each in named:
        song = _add_section(song, each, facts, played)
        if reading.key is not None:
            rows.append(_progression(song, reading, each, played))
    loops = Counter(p for p in rows if p is not None)
    if loops:
        own = loops.most_common(1)[0][0]
        song = replace(
            song,
            progression=own,
            sections=tuple(
                replace(s, progression=None if p in (own, None) else p) for s, p in zip(song.sections, rows)
            ),
        )
    return number_repeats(song)


def _progression(song: Song, reading: MusicReading, named: NamedPart, played: Played) -> Progression | None:
    """The chords of a part in the song's key, as the shortest loop of bars that gives them, single passes apart."""
    part = named.part
    low, high = played.bar_ticks[part.first_bar], played.bar_ticks[part.first_bar + part.bars]
    first = reading.chord_at(low)
    inside = [(c.tick - low, c.chord) for c in reading.chords if low < c.tick < high]
    changes = ([(0, first.chord)] if first else []) + inside
    if not changes:
        return None
    if changes[0][0] > 0:  # it begins with silence: the first chord stands there already
        changes[0] = (0, changes[0][1])
    down = song.key.tonic_fifths - transpose_key(song.key, named.shift).tonic_fifths
    rows = [(t, chord.moved(down)) for t, chord in changes]
    metres = set(played.metres[part.first_bar : part.first_bar + part.bars])
    if len(metres) == 1:
        return as_loop(rows, high - low, metres.pop().bar_ticks)
    return Progression(tuple(rows), high - low)


def _add_section(song: Song, named: NamedPart, facts: MidiFacts, played: Played) -> Song:
    part, name = named.part, named.name
    low, high = part.first_bar, part.first_bar + part.bars
    if any(section.name == name for section in song.sections):
        name = next_name(song, name)
    metres, current = [], song.metre
    for bar in range(low, high):
        if played.metres[bar] != current:
            current = played.metres[bar]
            metres.append((bar - low, current))
    start, end = played.bar_ticks[low], played.bar_ticks[high]
    tempo = tempo_at(facts, start)
    tempos = [] if tempo == song.tempo_bpm else [TempoPoint(0, tempo)]
    tempos += [
        TempoPoint(t - start, tempo_at(facts, t)) for t in sorted({t for t, _ in facts.tempos if start < t < end})
    ]
    section = Section(
        song.next_id,
        name[:80],
        named.role,
        part.bars,
        default_phrases(part.bars),
        Target(*USUAL_TARGET[named.role]),
        tuple(metres),
        tuple(tempos),
        named.shift,
    )
    return replace(song, sections=(*song.sections, section), next_id=song.next_id + 1)


def tempo_at(facts: MidiFacts, tick: int, report: list[str] | None = None) -> float:
    """Tempo at a tick within what a song may have."""
    at = bisect_right(facts.tempos, tick, key=lambda row: row[0])
    bpm = facts.tempos[at - 1][1] if at else 120.0
    inside = min(max(bpm, MIN_TEMPO_BPM), MAX_TEMPO_BPM)
    if report is not None and inside != bpm:
        report.append(
            f"The tempo {bpm:.1f} bpm lies outside {MIN_TEMPO_BPM:g} to {MAX_TEMPO_BPM:g}; {inside:g} is used."
        )
    return round(inside, 3)


def song_key(facts: MidiFacts, reading: MusicReading, written: Key | None, report: list[str]) -> Key:
    """The key the file says, unless what is played contradicts it; else the one that is read."""
    if reading.key is None:
        if written is None:
            report.append("No key was written and no pitched note was found; C major is taken.")
        return written or Key()
    read, sure = reading.key.key, reading.key.confidence
    if written is None:
        second = f", then {reading.key.second}" if reading.key.second else ""
        report.append(f"No key was written; {read} fits best{second} (confidence {sure:.0%}).")
        return read
    ends = [c.tick for c in reading.chords[1:]] + [facts.end_tick]
    lengths = [float(max(1, end - c.tick)) for c, end in zip(reading.chords, ends)]
    wrong = outside(reading.chords, lengths, written) - outside(reading.chords, lengths, read)
    if read == written or (sure < 0.5 and wrong < WRONG):
        return written
    if read.signature == written.signature and (read.mode in ("major", "minor")):
        report.append(f"The file says {written}; what is played sits on {read}, which has the same notes.")
        return written
    if len(facts.keys) > 1:
        return written
    report.append(f"The file says {written}, but what is played is {read} (confidence {sure:.0%}); {read} is taken.")
    return read
