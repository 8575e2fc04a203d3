"""All that is read from a performance: its key and mode, its chords, its form."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.performance.chord_reading import Beats, ReadChord, beats_of, read_chords
from escalera.core.performance.form_found import FoundForm, FoundPart, find_form
from escalera.core.performance.key_from_chords import KeyFound, find_mode, weights_of
from escalera.core.performance.played import Played
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

CLEARLY = 0.12  # share of the chords' notes that another key holds more than the song's


@dataclass(frozen=True, eq=False)
class MusicReading:
    """`key` is None where nothing is pitched; chords are spelled in it, every change once."""

    key: KeyFound | None
    chords: tuple[ReadChord, ...]
    form: FoundForm
    shifts: tuple[int, ...] = ()  # semitones that every part lies above the song's key

    def chord_at(self, tick: int) -> ReadChord | None:
        """The chord that sounds at a tick."""
        found = [c for c in self.chords if c.tick <= tick]
        return found[-1] if found else None


def read_music(played: Played, edges: tuple[int, ...] = ()) -> MusicReading:
    """Read a performance; `edges` are bars at which parts begin where the file says so, else they are found."""
    beats = beats_of(played)
    chords = read_chords(played, beats)
    if not chords:
        form = find_form(played, (), edges)
        return MusicReading(None, (), form, (0,) * len(form.parts))
    found = KeyFound(Key(), 0.0)
    for _ in range(2):  # the chords say the key, and the key which of two chords is likelier
        found = find_mode(chords, _lengths(chords, played), weights_of(beats)) or found
        chords = read_chords(played, beats, found.key)
    form = find_form(played, chords, edges)
    home = _home(played, beats, chords, form, found)
    return MusicReading(home, tuple(chords), form, _shifts(played, beats, chords, form, home.key))


def outside(chords: Sequence[ReadChord], lengths: Sequence[float], key: Key) -> float:
    """Share of what chords hold, by their lengths, that lies outside a key."""
    rows = [
        (sum(c not in key.classes for c in x.chord.classes) / len(x.chord.classes), n) for x, n in zip(chords, lengths)
    ]
    return sum(share * n for share, n in rows) / max(1e-9, sum(n for _, n in rows))


def _shifts(played: Played, beats: Beats, chords: list[ReadChord], form: FoundForm, home: Key) -> tuple[int, ...]:
    """How much higher every part lies: as the part it repeats lies, or by a key of its own that it clearly keeps to."""
    found: list[int] = []
    pairs = list(zip(chords, _lengths(chords, played)))
    for part in form.parts:
        if part.like >= 0:
            found.append(found[part.like] + part.shift)
            continue
        bars = range(part.first_bar, part.first_bar + part.bars)
        mine = [(c, n) for c, n in pairs if c.bar in bars]
        here = (beats.bars >= bars.start) & (beats.bars < bars.stop)
        own = find_mode([c for c, _ in mine], [n for _, n in mine], beats.weights[here].sum(axis=0)) if mine else None
        shift = 0
        if own is not None and own.key.mode == home.mode and part.bars >= 4:
            cs, ns = [c for c, _ in mine], [n for _, n in mine]
            if outside(cs, ns, home) - outside(cs, ns, own.key) > CLEARLY:
                shift = (own.key.tonic_class - home.tonic_class + 5) % 12 - 5
        found.append(shift)
    return tuple(shift if _fits(played, part, shift) else 0 for part, shift in zip(form.parts, found))


def _fits(played: Played, part: FoundPart, shift: int) -> bool:
    """Whether all notes about a part have a pitch where it is written without its shift."""
    if not shift:
        return True
    edges = played.bar_ticks
    low, high = edges[max(0, part.first_bar - 1)], edges[min(len(edges) - 1, part.first_bar + part.bars + 1)]
    for each in played.parts:
        notes = each.notes[(each.notes[:, 0] >= low) & (each.notes[:, 0] < high)]
        if not each.is_drum and len(notes) and not 0 <= notes[:, 2].min() - shift <= notes[:, 2].max() - shift <= 127:
            return False
    return True


def _lengths(chords: list[ReadChord], played: Played) -> list[float]:
    ends = [c.tick for c in chords[1:]] + [played.bar_ticks[-1]]
    return [float(end - c.tick) for c, end in zip(chords, ends)]


def _home(played: Played, beats: Beats, chords: list[ReadChord], form: FoundForm, whole: KeyFound) -> KeyFound:
    """The key without the parts that lie higher or lower than the ones they repeat, so that a last chorus a tone up does not
    blur it."""
    moved = [p for p in form.parts if p.shift]
    if not moved:
        return whole
    away = {bar for p in moved for bar in range(p.first_bar, p.first_bar + p.bars)}
    stay = [i for i, bar in enumerate(beats.bars.tolist()) if bar not in away]
    kept = [(c, n) for c, n in zip(chords, _lengths(chords, played)) if c.bar not in away]
    if not kept or not stay:
        return whole
    return find_mode([c for c, _ in kept], [n for _, n in kept], beats.weights[stay].sum(axis=0)) or whole
