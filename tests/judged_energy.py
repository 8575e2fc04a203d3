"""Pairs of sections of which one clearly has more energy, or which are alike, with the reason; in several styles.

All are variants of one full section, laid one after the other into a song. FITTING bands were looked at when the model was fitted,
FROZEN ones were not: they are played by another generator, with the sounds that stand in for General MIDI programs.
"""

from __future__ import annotations

from dataclasses import replace

from benchmarks.songs import generated
from escalera.core.document.song import Song, default_phrases
from escalera.services.demo import demo_songs
from escalera.services.importing import import_midi
from tests.performances import FIT, JUDGE, perform

BARS = 5


def _is_drum(x):
    return x.sound.is_drum


def _pitched(x):
    return not x.sound.is_drum


# variant: (which layers play, level in dB, low-pass in Hz or None, semitones for tunes)
VARIANTS = {
    "full": (lambda x: True, 0, None, 0), "drums only": (_is_drum, 0, None, 0), "no kick": (lambda x: not x.sound.is_kick, 0, None, 0),
    "bass out": (lambda x: x.family != "low end", 0, None, 0), "no drums": (_pitched, 0, None, 0), "chords only": (lambda x: x.family == "chords", 0, None, 0),
    "drums and bass": (lambda x: x.sound.is_drum or x.family == "low end", 0, None, 0), "louder": (lambda x: True, 6, None, 0),
    "quiet": (lambda x: True, -12, None, 0), "dull": (lambda x: True, 0, 300.0, 0), "chords quiet": (lambda x: x.family == "chords", -9, None, 0),
    "hats only": (lambda x: x.sound.is_drum and "hat" in x.sound.drum, 0, None, 0), "again": (lambda x: True, 0, None, 0),
    "a little softer": (lambda x: True, -1, None, 0), "tunes higher": (lambda x: True, 0, None, 12),
}  # fmt: skip
# (the one with more, the one with less, why); None where they are alike
PAIRS = (
    ("full", "drums only", "everything that carries harmony and tune is gone"), ("full", "no kick", "low end and beat are gone"),
    ("full", "bass out", "the low end is thin"), ("full", "no drums", "no beat"), ("full", "chords only", "one of many parts is left"),
    ("full", "drums and bass", "harmony and tune are gone"), ("louder", "full", "the same, 6 dB louder"), ("full", "quiet", "the same, 12 dB softer"),
    ("full", "dull", "closed filters take away what is bright"), ("drums and bass", "drums only", "a bass more"), ("no drums", "chords only", "bass and tune more"),
    ("chords only", "chords quiet", "the same, 9 dB softer"), ("drums only", "hats only", "kick and snare more"), ("full", "hats only", "nothing but hats"),
    ("no kick", "hats only", "nothing but hats"), ("louder", "quiet", "18 dB apart"), ("no drums", "chords quiet", "one soft part is left"),
)  # fmt: skip
ALIKE = (("full", "again", "the same twice"), ("full", "a little softer", "one dB is hardly heard"))


def _cut(song, section):
    """The first bars of a section: enough to be judged."""
    if section.bars <= BARS:
        return section
    end = BARS * song.metre.bar_ticks
    placements = tuple(replace(p, end_ticks=min(end, p.end_ticks)) for p in section.placements if p.start_ticks < end)
    return replace(
        section, bars=BARS, phrases=default_phrases(BARS), placements=placements, metre_changes=(), tempo_changes=()
    )


def laid_out(song: Song) -> Song:
    """The variants of a song's fullest section of at most eight bars, one after the other."""
    base = _cut(song, max(song.sections, key=lambda s: (len({p.layer_id for p in s.placements}), -s.bars)))
    sections, number = [], song.next_id
    for name, (plays, level_db, lowpass_hz, up) in VARIANTS.items():
        placements = []
        for p in base.placements:
            layer = song.layer_by_id[p.layer_id]
            if not plays(layer):
                continue
            v = replace(p.variation, level_start_db=level_db, level_end_db=level_db)
            if lowpass_hz:
                v = replace(v, lowpass_start_hz=lowpass_hz, lowpass_end_hz=lowpass_hz)
            if up and layer.family in ("leads", "voices"):
                v = replace(v, transpose_semitones=up)
            number += 1
            placements.append(replace(p, id=number, variation=v))
        number += 1
        sections.append(
            replace(
                base, id=number, name=name, placements=tuple(placements), parked=(), curves=(), throws=(), treatments=()
            )
        )
    return replace(song, sections=tuple(sections), next_id=number + 1, accepted=())


def fitting() -> dict[str, Song]:
    """Bands for fitting."""
    songs = {f"generated {i}": generated(i) for i in (31, 32, 33)}
    songs |= {s.title: s for s in demo_songs()}
    return songs | {
        f"{name} {i}": import_midi(perform(i, {name: FIT[name]}).data, name).song for name in FIT for i in (1,)
    }


def frozen() -> dict[str, Song]:
    """Bands for judging."""
    return {
        f"{name} {i}": import_midi(perform(i, {name: JUDGE[name]}).data, name).song for name in JUDGE for i in (7, 8)
    }
