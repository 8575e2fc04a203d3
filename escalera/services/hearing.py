"""Chords heard before they are taken: a small song of one layer that holds them, with a layer's own sound or a neutral one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from escalera.core.document.song import Layer, Progression, Section, Song
from escalera.core.edits.groove_edits import NOTES
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Place
from escalera.core.palette.sounds import DRUM_SOUND
from escalera.core.reading.groove_reading import drum_layers
from escalera.core.reading.timeline import tempo_points
from escalera.core.reading.voicing_reading import voices_of
from escalera.core.rhythm.beat import Beat, patterns_of, tiled
from escalera.core.rhythm.pattern import FIXED, TONE, VOICE
from escalera.errors import InputError

NEUTRAL, NEUTRAL_BASS = "tine-keys", "sub-sine"
LEVEL_DB = -9.0
LONGEST_BARS = 64
NOTE_QUARTERS = 2
Rows = list[list[int]]


def chords_song(song: Song, section: Section | None, progression: Progression, layer: Layer | None) -> Song:
    """The progression once through, in the song's tempo and tuning, played by a layer's sound (None: neutral)."""
    length = progression.length_ticks
    bars = -(-length // song.metre.bar_ticks)
    if bars > LONGEST_BARS:
        raise InputError(f"{bars} bars are more than the {LONGEST_BARS} that are played at once. Hear a part of them.")
    bare = _bare(song, section, bars)
    bare = replace(bare, progression=replace(progression, passes=()), key=song.key)
    if section is not None:
        bare = replace(bare, sections=(replace(bare.sections[0], shift_semitones=section.shift_semitones),))
    if layer is None or layer.sound.is_drum or not layer.sound.register[0] < layer.sound.register[1]:
        count = max(3, *(min(5, len(c.tones)) for _, c in progression.changes))
        bare = _add(bare, NEUTRAL, _held(progression, VOICE, count), length)
        return _add(bare, NEUTRAL_BASS, _held(progression, TONE, 1), length, -15.0)
    if layer.sound.mono or layer.family == "low end":
        return _add(bare, layer.sound_key, _held(progression, TONE, 1), length, like=layer)
    return _add(bare, layer.sound_key, _held(progression, VOICE, voices_of(song, layer)), length, like=layer)


def note_song(song: Song, pitch: int, layer: Layer | None) -> Song:
    """One note in the song's tempo and tuning, by a layer's sound or the neutral one."""
    if not 0 <= pitch <= 127:
        raise InputError(f"{pitch} is not a pitch; 0 to 127 are.")
    plays = layer is not None and not layer.sound.is_drum
    ticks = NOTE_QUARTERS * 960
    return _add(
        _bare(song, None, 1),
        layer.sound_key if layer and plays else NEUTRAL,
        [[0, ticks, FIXED, pitch, 0, 96]],
        song.metre.bar_ticks,
        like=layer if plays else None,
    )


def _bare(song: Song, section: Section | None, bars: int) -> Song:
    tempo = tempo_points(section, song.tempo_bpm)[0].bpm if section else song.tempo_bpm
    return Song(
        tempo_bpm=tempo,
        metre=song.metre,
        key=song.key,
        tuning_hz=song.tuning_hz,
        next_id=2,
        sections=(Section(1, "Heard", bars=bars, phrases=(bars,)),),
    )


def _held(progression: Progression, kind: int, voices: int) -> Rows:
    """Every change held until the next, each voice a row."""
    starts: Sequence[int] = [max(0, t) for t, _ in progression.changes]
    ends = [*starts[1:], progression.length_ticks]
    return [[a, max(60, b - a - 20), kind, v, 0, 92] for a, b in zip(starts, ends) if b > a for v in range(voices)]


def _add(
    song: Song, sound: str, rows: Rows, length: int, level_db: float = LEVEL_DB, like: Layer | None = None
) -> Song:
    made = AddLayer(sound, "", "", "", "Held", length, rows).apply(song)
    layer = (
        made.layers[-1] if made.layers[-1].sound_key == sound else next(x for x in made.layers if x.sound_key == sound)
    )
    shaped = replace(layer, level_db=level_db, sends=(("near", -20.0),))
    if like is not None:
        shaped = replace(
            shaped,
            settings=like.settings,
            devices=like.devices,
            voicing=like.voicing,
            octave=like.octave,
            family=like.family,
            lowpass_hz=like.lowpass_hz,
            highpass_hz=like.highpass_hz,
        )
    return Place(1, layer.id, layer.pattern_id, start_ticks=0, end_ticks=length).apply(made.with_layer(shaped))


def beat_song(song: Song, played: Beat, section: Section | None = None, times: int = 2) -> Song:
    """A beat by itself, some times round, with the song's own drums where it has them."""
    length = played.length_ticks * (times if played.bars * times <= 16 else 1)
    bars = -(-length // song.metre.bar_ticks)
    made, own = _bare(song, section, bars), drum_layers(song)
    for drum, pattern in patterns_of(tiled(played, length), NOTES).items():
        known = own.get(drum)
        made = AddLayer(
            known.sound_key if known else DRUM_SOUND[drum], "", "", "", "Beat", length, pattern.to_list()
        ).apply(made)
        layer = next(x for x in made.layers if x.sound.drum == drum)
        if known:
            made = made.with_layer(
                replace(known, id=layer.id, pattern_id=layer.pattern_id, muted=False, duck_by=0, prints=())
            )
        made = Place(1, layer.id, made.layer_by_id[layer.id].pattern_id, start_ticks=0, end_ticks=length).apply(made)
    swings = tuple(s for s in section.swings if s.layer_id == 0) if section else ()
    return made.with_section(replace(made.sections[0], swings=swings))
