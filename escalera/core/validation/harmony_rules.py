"""Whole validation of chords, tuning and voicings that come from outside."""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.document.limits import MAX_EARLY_TICKS, MAX_PASSES, PUSHES
from escalera.core.document.song import Changes, Progression, Song
from escalera.core.theory.voicings import DOUBLES, INVERSIONS, MAX_VOICES, OMITS, PAIRS, SPREADS

Need = Callable[[bool, str], None]


def harmony(song: Song, need: Need) -> None:
    """Hold that progressions and voicings fit the song; `need` collects what fails."""
    owners = [("the song", song.progression), *((s.name, s.progression) for s in song.bodies)]
    for name, progression in owners:
        if progression is not None:
            _progression(name, progression, need)
    need(song.push_ticks in PUSHES, f"chords come {song.push_ticks} ticks early, which is not offered")
    for layer in song.layers:
        v = layer.voicing
        known = v.spread in SPREADS and v.inversion in INVERSIONS and v.omit in OMITS and v.double in DOUBLES
        known = known and 0 <= v.voices <= MAX_VOICES and v.pair in ("", *PAIRS) and len(v.pairs_at) <= MAX_PAIRS_TEXT
        need(known, f"the voicing of {layer.name} is not known")


MAX_PAIRS_TEXT = 2000  # characters of pairs of single chords


def _progression(name: str, progression: Progression, need: Need) -> None:
    passes = [n for n, _ in progression.passes]
    need(
        len(passes) == len(set(passes)) and all(n == 0 or 2 <= n <= MAX_PASSES for n in passes),
        f"the passes of the chords of {name} are not in order",
    )
    for changes in (progression.changes, *(c for _, c in progression.passes)):
        _changes(name, changes, progression.length_ticks, need)


def _changes(name: str, changes: Changes, length_ticks: int, need: Need) -> None:
    ticks = [t for t, _ in changes]
    need(bool(ticks) and ticks == sorted(set(ticks)), f"the chords of {name} are not in order")
    need(-MAX_EARLY_TICKS <= ticks[0] <= 0, f"the first chord of {name} does not stand at its start")
    need(ticks[-1] < length_ticks, f"a chord of {name} stands after its loop")
