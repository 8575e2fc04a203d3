"""A whole track read: beats, bars, chords, key, sections, how it moves. Frames and what a person corrected in, a `Track` out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.samples.reading import Onset
from escalera.core.theory.keys import Key
from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars, track_bars
from escalera.listen.beat_track import TrackBeats, track_beats
from escalera.listen.frames import Frames
from escalera.listen.tempo_found import Tempo, find_tempo, onsets_of, strength
from escalera.listen.tones import changes_of
from escalera.listen.track_feel import TrackFeel, feel_of, onsets_by_bar
from escalera.listen.track_form import TrackForm, bar_sound, find_sections
from escalera.listen.track_harmony import TrackHarmony, read_harmony
from escalera.listen.track_joins import JoinFound, joins_at

LEAST_BEATS = 12
SURE_ENOUGH = 0.4  # of the tempo, to lay bars over a whole track
STEADY = 0.14  # share of onsets on a common grid, from which there are beats at all
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Known:
    """What a person said of a track: it is taken as true. Seconds are of its audio; 0 and empty where nothing was said.
    `grid` are its bars where they are known to the sample."""

    tempo_bpm: float = 0.0
    beats_a_bar: int = 0
    downbeat_s: float | None = None
    key: Key | None = None
    sections_s: tuple[float, ...] = ()
    grid: TrackBars | None = None


@dataclass(frozen=True, eq=False)
class Track:
    """What was read. `bars` is None where no beat is kept, then there is no form either; `harmony` None where there are no tones.

    joins : what carries the join into every section
    onsets_by_bar : (bars, 3) how strongly and often something begins, in the low, middle and high zone
    """

    tempo: Tempo
    steady: float
    bars: TrackBars | None
    harmony: TrackHarmony | None
    form: TrackForm | None
    feels: tuple[TrackFeel, ...]
    joins: tuple[tuple[JoinFound, ...], ...]
    onsets_by_bar: Floats


def read_track(frames: Frames, known: Known | None = None) -> Track:
    """The reading of a track from its frames."""
    known = known or Known()
    env = strength(frames)
    onsets = onsets_of(frames, env)
    tempo, bars, steady = _bars(frames, env, onsets, known)
    if bars is None:
        return Track(tempo, steady, None, None, None, (), (), np.zeros((0, 3)))
    harmony = read_harmony(frames, bars, known.key)
    starts = bars.bars_s
    given = _bars_at(known.sections_s, starts)
    sound = bar_sound(frames, bars, harmony.weights if harmony else None)
    form = find_sections(sound, float(np.median(np.diff(starts))), given)
    feels = tuple(feel_of(onsets, bars, a, b) for a, b in zip(form.edges, form.edges[1:]))
    places = [bars.before + bar * bars.beats_a_bar for bar in form.edges[:-1]]
    joins = tuple(joins_at(frames, onsets, bars.beats_s, beat) for beat in places)
    return Track(tempo, steady, bars, harmony, form, feels, joins, onsets_by_bar(onsets, bars))


def _bars(
    frames: Frames, env: Floats, onsets: tuple[Onset, ...], known: Known
) -> tuple[Tempo, TrackBars | None, float]:
    if known.grid is not None:
        return Tempo(60.0 / float(np.median(np.diff(known.grid.beats_s))), 1.0), known.grid, 1.0
    tempo = Tempo(known.tempo_bpm, 1.0) if known.tempo_bpm else find_tempo(frames, env, onsets, changes_of(frames))
    if not tempo.bpm or tempo.confidence < SURE_ENOUGH:
        return tempo, None, 0.0
    beats = track_beats(frames, env, tempo.bpm)
    sure = bool(known.tempo_bpm)
    if len(beats.at_s) < LEAST_BEATS or (beats.steady < STEADY and not sure):
        return tempo, None, beats.steady
    at_s = beats.at_s if known.downbeat_s is None else _through(beats, known.downbeat_s)
    bars = track_bars(frames, env, at_s, known.beats_a_bar, known.downbeat_s)
    return (tempo, bars, beats.steady) if len(bars.bars_s) > 2 else (tempo, None, beats.steady)


def _through(beats: TrackBeats, moment_s: float) -> Floats:
    """The beats moved by less than one, so that one of them is at a moment."""
    index = np.arange(len(beats.at_s))
    place = float(np.interp(moment_s, beats.at_s, index))
    by = place - round(place)
    moved: Floats = np.interp(index + by, index, beats.at_s, left=np.nan, right=np.nan)
    return moved[~np.isnan(moved)]


def _bars_at(moments_s: tuple[float, ...], starts: Floats) -> tuple[int, ...]:
    """The bars that begin nearest to some moments, the first bar among them; empty for none."""
    if not moments_s:
        return ()
    found = {0, *(int(np.argmin(np.abs(starts[:-1] - s))) for s in moments_s)}
    return tuple(sorted(found))
