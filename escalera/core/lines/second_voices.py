"""A second voice to a line: parallels inside the key, bent to chord tones where the beat is strong."""

from __future__ import annotations

from collections.abc import Sequence

from escalera.core.lines.frame import Frame
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass

# by key: label, steps of the scale (whole octaves are exact and never bent)
INTERVALS: dict[str, tuple[str, int]] = {
    "third-above": ("a third above", 2),
    "third-below": ("a third below", -2),
    "fourth-below": ("a fourth below", -3),
    "sixth-below": ("a sixth below", -5),
    "octave-above": ("an octave above", 7),
    "octave-below": ("an octave below", -7),
}
REACH = 4  # semitones that a strong beat may bend a note
RUB = 1  # semitones above the bass, octaves left out: a minor ninth
FARTHER = 7  # semitones that a note moves out of the bass's way
LEAST = 2  # semitones from the line: a semitone against it would rub


@dataclass(frozen=True, slots=True)
class Bent:
    """A note that could not hold both wishes: where, the parallel, what was taken, and which wish gave way."""

    tick: int
    wanted: int
    taken: int
    why: str


@dataclass(frozen=True, slots=True)
class Parallel:
    """`pitches` answer the line's notes one by one."""

    pitches: tuple[int, ...]
    bent: tuple[Bent, ...]


def parallel_line(
    notes: Sequence[tuple[int, int]], frame: Frame, interval: str, bass: Sequence[tuple[int, int, int]] = ()
) -> Parallel:
    """A second voice to notes (tick, pitch in the song's own key); `bass` is (start, end, pitch) of what sounds below.

    On strong beats (those of the metre) the voice is a chord tone, between them it runs parallel inside the key. Where the
    parallel is no chord tone on a strong beat, or the line itself leaves the key, the note is bent and listed. A minor ninth over
    the bass gives way to the nearest chord tone that is none.
    """
    steps = INTERVALS[interval][1]
    pitches, bent = [], []
    for tick, pitch in notes:
        if steps % 7 == 0:
            pitches.append(pitch + 12 * steps // 7)
            continue
        wanted, inside = parallel(pitch, steps, frame.key)
        chord, taken = frame.chord_at(tick), wanted
        if tick % frame.metre.bar_ticks % frame.metre.beat_ticks == 0 and wanted % 12 not in chord.classes:
            taken = _nearest(wanted, pitch, steps, chord.classes)
            if taken != wanted:
                bent.append(Bent(tick, wanted, taken, f"no tone of {chord}"))
        elif not inside:
            bent.append(Bent(tick, pitch + (wanted - pitch), wanted, "the line leaves the key here"))
        low = {b % 12 for start, end, b in bass if start <= tick < end}
        if any((taken - b) % 12 == RUB for b in low):
            clear = frozenset(c for c in chord.classes if not any((c - b) % 12 == RUB for b in low))
            better = _nearest(taken, pitch, steps, clear, FARTHER)
            if better != taken:
                bent.append(Bent(tick, taken, better, "it rubs against the bass"))
            taken = better
        pitches.append(taken)
    return Parallel(tuple(pitches), tuple(bent))


def parallel(pitch: int, steps: int, key: Key) -> tuple[int, bool]:
    """The pitch so many steps of the scale away, and whether `pitch` is of the key; what is not leans on the step below."""
    octave, place = divmod(pitch - key.tonic_class, 12)
    below = max(i for i, d in enumerate(key.degrees) if d <= place)
    degree = below + 7 * octave + steps
    return key.tonic_class + 12 * (degree // 7) + key.degrees[degree % 7], key.degrees[below] == place


def _nearest(wanted: int, pitch: int, steps: int, classes: frozenset[int], reach: int = REACH) -> int:
    """The chord tone nearest to the parallel, on the same side of the line."""
    side = 1 if steps > 0 else -1
    near = sorted(range(wanted - reach, wanted + reach + 1), key=lambda p: (abs(p - wanted), p))
    return next((p for p in near if p % 12 in classes and (p - pitch) * side >= LEAST), wanted)
