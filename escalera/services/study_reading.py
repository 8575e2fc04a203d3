"""A recording of the library read as a finished track: frames, beats, chords, form, then every bar measured as a song's are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.energy.stats import BAND_EDGES_HZ, INDEX
from escalera.core.energy.terms import compute_terms, decibels, to_energy
from escalera.core.study.heard_track import BarHeard, ChordHeard, Given, SectionRead, StudyReading
from escalera.core.study.roles import with_names
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import key_text, parse_key
from escalera.errors import EscaleraError, InputError, RenderStopped
from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars
from escalera.listen.frames import Frames, read_frames
from escalera.listen.track_reading import Known, Track, read_track
from escalera.meters.span_meters import SpanMeters, measure_spans
from escalera.services.bounces import iter_blocks
from escalera.sound.schedule import RATE_HZ

LONGEST_S, SHORTEST_S = 1800.0, 4.0
COMMON_LUFS = -18.0  # what every track is brought to before it is measured
SILENT_LUFS = -70.0
SPAN_S = 2.0  # without beats, what is measured together
TOGETHER = 16  # bars that are read at once
ENVELOPE = 600
Read = Callable[[int, int], NDArray[np.float32] | None]
Tell = Callable[[float], None]
Wanted = Callable[[], bool]
Values = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Heard:
    """A track's frames, from which it is read anew after a correction."""

    frames: Frames


def hear(read: Read, tell: Tell = lambda share: None, wanted: Wanted = lambda: True) -> Heard:
    """One pass over a track's sound. `read(first sample, how many)` gives (channels, n) at 44.1 kHz. Raises InputError for what is too
    long or short to be one, RenderStopped where it is not wanted any more."""
    frames = read_frames(_told(read, tell, wanted))
    if frames.seconds > LONGEST_S:
        raise InputError(
            f"It lasts {frames.seconds / 60:.0f} minutes, and a study takes {LONGEST_S / 60:.0f} at most. Cut it first."
        )
    if frames.seconds < SHORTEST_S:
        raise InputError(
            f"It lasts {frames.seconds:.1f} s; a study needs {SHORTEST_S:.0f} s or more. As a sample it can be used as it is."
        )
    return Heard(frames)


def _told(read: Read, tell: Tell, wanted: Wanted):  # type: ignore[no-untyped-def]
    done = 0.0
    for block in iter_blocks(read):
        if not wanted():
            raise RenderStopped("The study was called off.")
        done += block.shape[1] / RATE_HZ
        if done > LONGEST_S + 30.0:
            break  # the sentence about its length follows
        tell(min(0.5, done / 480.0))
        yield block


def study(
    read: Read,
    given: Given,
    heard: Heard | None = None,
    tell: Tell = lambda share: None,
    wanted: Wanted = lambda: True,
    grid: TrackBars | None = None,
) -> StudyReading:
    """A track read with what a person corrected; `heard` are its frames where they are still there, `grid` its bars where they are known."""
    frames = (heard or hear(read, tell, wanted)).frames
    track = read_track(frames, replace(_known(given), grid=grid))
    tell(0.65)
    edges = track.bars.bars_s if track.bars is not None else np.arange(0.0, frames.seconds + 0.1, SPAN_S)
    edges = np.minimum(edges, frames.seconds)
    bars = _bars(read, frames, track, edges, lambda share: tell(0.65 + 0.35 * share), wanted)
    found = _reading(frames, track, bars)
    return with_names(_named(_with_chords(found, given), given))


def _known(given: Given) -> Known:
    key = None
    if given.key:
        key = parse_key(given.key)
    return Known(given.tempo_bpm, given.beats_a_bar, given.downbeat_s, key, tuple(s.start_s for s in given.sections))


def _bars(
    read: Read, frames: Frames, track: Track, edges_s: Values, tell: Tell, wanted: Wanted
) -> tuple[BarHeard, ...]:
    """Every bar measured, at a common loudness."""
    loud = frames.loudness_lufs()
    gain_db = COMMON_LUFS - loud if loud > SILENT_LUFS else 0.0
    count = len(edges_s) - 1
    found: list[BarHeard] = []
    for low in range(0, count, TOGETHER):
        if not wanted():
            raise RenderStopped("The study was called off.")
        high = min(count, low + TOGETHER)
        places = np.rint(edges_s[low : high + 1] * RATE_HZ).astype(np.int64)
        audio = read(int(places[0]), int(places[-1] - places[0]))
        audio = np.zeros((2, 0), np.float32) if audio is None else audio[:2]
        audio = np.pad(audio, ((0, 0), (0, max(0, int(places[-1] - places[0]) - audio.shape[1]))))
        meters = measure_spans(
            np.stack((audio[0], audio[-1])) * np.float32(10 ** (gain_db / 20)), RATE_HZ, places - places[0]
        )
        balances = [_balance(audio[:, a - places[0] : b - places[0]]) for a, b in zip(places, places[1:])]
        onsets = track.onsets_by_bar[low:high] if len(track.onsets_by_bar) else np.zeros((high - low, 3))
        found += _heard(meters, onsets, balances, gain_db)
        tell(high / count)
    return tuple(found)


def _balance(audio: NDArray[np.float32]) -> tuple[float, ...]:
    """Where the six bands of a piece (2, n) sit, −1 left to 1 right, by the power of both sides."""
    if audio.shape[1] < 64 or audio.shape[0] < 2:
        return (0.0,) * 6
    from scipy import fft

    power = np.abs(fft.rfft(audio, fft.next_fast_len(audio.shape[1]), axis=1)) ** 2
    at = (np.array(BAND_EDGES_HZ) / RATE_HZ * 2 * (power.shape[1] - 1)).astype(int)
    left, right = (np.array([row[a:b].sum() for a, b in zip(at, at[1:])]) for row in power)
    return tuple(round(float(x), 2) for x in (right - left) / np.maximum(right + left, 1e-9))


def _heard(meters: SpanMeters, onsets: Values, balances: list[tuple[float, ...]], gain_db: float) -> list[BarHeard]:
    terms = compute_terms(meters.stats)
    energy = to_energy(terms, Song())
    db = decibels(meters.stats)
    share = meters.stats[:, INDEX["side"]] / np.maximum(meters.stats[:, INDEX["above_150"]], 1e-12)
    rows = []
    for i in range(len(energy)):
        lufs = float(meters.lufs[i]) - gain_db
        rows.append(BarHeard(
            round(float(energy[i]), 3), tuple(round(float(t), 4) for t in terms[i]), round(lufs, 2) if lufs > SILENT_LUFS else None,
            tuple(round(max(-90.0, float(x)), 1) for x in db[i, :6]), round(float(np.clip(share[i], 0, 1)), 3),
            tuple(round(float(x), 2) for x in onsets[i]), round(float(meters.stats[i, INDEX["kicks"]]), 2),
            round(float(meters.stats[i, INDEX["hits"]]), 2), round(float(meters.centroid_hz[i]), 1),
            round(max(-90.0, float(db[i, INDEX["sustained"]])), 1), round(max(-90.0, float(db[i, INDEX["struck"]])), 1),
                balances[i],
        ))  # fmt: skip
    return rows


def _reading(frames: Frames, track: Track, bars: tuple[BarHeard, ...]) -> StudyReading:
    loud = frames.loudness_lufs()
    grid, harmony = track.bars, track.harmony
    said = _missing(frames, track)
    return StudyReading(
        round(frames.seconds, 4), round(loud, 2) if loud > SILENT_LUFS else None,
        round(float(frames.true_peak), 2) if loud > SILENT_LUFS else None,
        round(60.0 / float(np.median(np.diff(grid.beats_s))), 2) if grid else None, track.tempo.confidence if grid else 0.0,
        _others(track) if grid else (), grid.beats_a_bar if grid else 4, round(grid.metre_confidence, 2) if grid else 0.0,
        round(grid.confidence, 2) if grid else 0.0, tuple(round(float(b), 6) for b in grid.beats_s) if grid else (),
        grid.before if grid else 0, key_text(harmony.key) if harmony else None, harmony.confidence if harmony else 0.0,
        harmony.tuning_cents if harmony else None, _key_parts(track), _chords(track), _sections(track), bars, _envelope(frames),
        0.0 if grid else SPAN_S, said,
    )  # fmt: skip


def _others(track: Track) -> tuple[float, ...]:
    """What the tempo could be as well, no two within a hundredth."""
    kept: list[float] = []
    for bpm in track.tempo.others:
        if all(abs(bpm / other - 1.0) > 0.01 for other in (*kept, track.tempo.bpm or 1.0)):
            kept.append(bpm)
    return tuple(kept)


def _missing(frames: Frames, track: Track) -> tuple[str, ...]:
    """What could not be read, why, and what still works."""
    if frames.power.sum() < 1e-9:
        return ("It is silent.",)
    said = []
    if track.bars is None:
        said.append(
            "No steady beat is kept, so that there are no bars, chords or sections. Tap along to set one; loudness, bands and the course of energy stand in seconds."
        )
    elif track.harmony is None:
        said.append(
            "Its tones agree on no tuning, so that there are neither chords nor a key. Type them in where you hear them."
        )
    return tuple(said)


def _key_parts(track: Track) -> tuple[tuple[int, int], ...]:
    if track.bars is None or track.harmony is None or len(track.harmony.parts) < 2:
        return ()
    return tuple(
        (max(0, (p.beat - track.bars.before) // track.bars.beats_a_bar), p.semitones) for p in track.harmony.parts
    )


def _chords(track: Track) -> tuple[ChordHeard, ...]:
    if track.harmony is None:
        return ()
    return tuple(ChordHeard(c.beat, c.end_beat, c.chord.name(), c.confidence) for c in track.harmony.chords)


def _sections(track: Track) -> tuple[SectionRead, ...]:
    if track.form is None or track.bars is None:
        return ()
    form, parts = track.form, _key_parts(track)
    rows = []
    for i, (low, high) in enumerate(zip(form.edges, form.edges[1:])):
        feel, (like, alike) = track.feels[i], form.like[i]
        middle = (low + high) // 2
        rows.append(SectionRead(
            low, high - low, "", "", _join_sure(form.worth[i]) if i else 1.0, like, round(min(0.97, alike), 2) if like >= 0 else 0.0, feel.off_beat,
            feel.late_sixteenth, feel.half_time, next((s for b, s in reversed(parts) if b <= middle), 0),
            tuple((j.device, j.beats_before, j.confidence) for j in track.joins[i]),
        ))  # fmt: skip
    return tuple(rows)


def _join_sure(worth: float) -> float:
    """How often a join with such evidence is one; fitted on tracks made for it."""
    return round(float(np.interp(worth, (0.0, 0.5, 1.5), (0.7, 0.78, 0.86))), 2)


def _envelope(frames: Frames) -> tuple[int, ...]:
    level = np.sqrt(frames.power.sum(axis=1))
    at = np.linspace(0, len(level), ENVELOPE + 1)
    steps = [float(level[int(a) : max(int(a) + 1, int(np.ceil(b)))].max(initial=0.0)) for a, b in zip(at, at[1:])]
    top = max(steps) or 1.0
    return tuple(min(99, round(99 * (x / top) ** 0.8)) for x in steps)


def _with_chords(reading: StudyReading, given: Given) -> StudyReading:
    """Chords that a person wrote in place of those that were read, beat by beat."""
    if not given.chords or not reading.has_bars:
        return reading
    beats = np.array(reading.beats_s)
    row: list[ChordHeard | None] = [None] * (len(beats) - 1)
    for c in reading.chords:
        row[c.beat : c.end_beat] = [c] * (min(c.end_beat, len(row)) - c.beat)
    for g in given.chords:
        low, high = (int(np.argmin(np.abs(beats - s))) for s in (g.start_s, g.end_s))
        row[low:high] = [ChordHeard(low, high, _spelled(g.chord), 1.0, True)] * max(0, min(high, len(row)) - low)
    found: list[ChordHeard] = []
    for beat, chord in enumerate(row):
        if chord is None:
            continue
        if (
            found
            and found[-1].end_beat == beat
            and found[-1].chord == chord.chord
            and found[-1].by_hand == chord.by_hand
        ):
            found[-1] = replace(found[-1], end_beat=beat + 1)
        else:
            found.append(replace(chord, beat=beat, end_beat=beat + 1))
    return replace(reading, chords=tuple(found))


def _spelled(text: str) -> str:
    try:
        return parse_chord(text).name()
    except EscaleraError:
        return text


def _named(reading: StudyReading, given: Given) -> StudyReading:
    """Names and roles that a person gave to the sections that begin there; such joins are sure."""
    if not given.sections or not reading.sections:
        return reading
    rows = []
    for s in reading.sections:
        near = min(given.sections, key=lambda g: abs(g.start_s - reading.bar_s(s.first_bar)))
        rows.append(replace(s, name=near.name, role=near.role, confidence=1.0))
    return replace(reading, sections=tuple(rows))
