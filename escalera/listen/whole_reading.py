"""A recording read as a whole: blocks of sound in, a `SampleReading` out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from escalera.core.samples.reading import Onset, SampleReading, bars_of
from escalera.listen.frames import RATE_HZ, Audio, Floats, Frames, read_frames
from escalera.listen.kinds import LONG_S, kind_of
from escalera.listen.tempo_found import Tempo, find_tempo, onsets_of, strength
from escalera.listen.tones import Pitch, Tones, changes_of, read_tones, settled_pitch

MOST_SLOTS = 1024
ENVELOPE = 96
HEAD_S = 4.0  # what is kept for the pitch of a single sound
QUIET_DB = -100


def read_recording(blocks: Iterable[Audio], rate_hz: int, channels: int) -> SampleReading:
    """Facts about a recording.

    `blocks` are (channels, n) at 44.1 kHz with one or two channels; `rate_hz` and `channels` are those of the file, for
    the record.
    """
    head: list[Audio] = []
    frames = read_frames(_kept(blocks, head))
    if not frames.samples or frames.power.sum() < 1e-12:
        return _nothing(frames, rate_hz, channels)
    env = strength(frames)
    onsets = onsets_of(frames, env)
    starts_s = _starts(frames)
    tempo = find_tempo(frames, env, onsets, changes_of(frames))
    pitch = settled_pitch(np.concatenate(head, axis=1)[:, : int(HEAD_S * RATE_HZ)])
    tones = read_tones(frames, 60.0 / tempo.bpm if tempo.bpm else 0.5, tempo.beats_a_bar, tempo.downbeat_s)
    return _reading(frames, rate_hz, channels, onsets, starts_s, tempo, pitch, tones)


def read_lightly(blocks: Iterable[Audio], rate_hz: int, channels: int) -> SampleReading:
    """As `read_recording`, without tempo, key and pitch: for stems, which have them in common."""
    frames = read_frames(blocks, light=True)
    if not frames.samples or frames.power.sum() < 1e-12:
        return _nothing(frames, rate_hz, channels)
    env = strength(frames)
    found = _reading(frames, rate_hz, channels, onsets_of(frames, env), _starts(frames), Tempo(), Pitch(), Tones())
    return replace(found, kind="long piece" if found.seconds > LONG_S else "loop", kind_confidence=0.5)


def _kept(blocks: Iterable[Audio], head: list[Audio]) -> Iterator[Audio]:
    for block in blocks:
        if sum(b.shape[1] for b in head) < HEAD_S * RATE_HZ:
            head.append(block)
        yield block


def _nothing(frames: Frames, rate_hz: int, channels: int) -> SampleReading:
    said = ("It is silent.",) if frames.samples else ("It holds no sound.",)
    return SampleReading(
        frames.seconds, rate_hz, channels, "texture", 0.0, None, 0.0, (), 4, None, None, 0.0, None, 0.0, None, None, 0.0,
        None, None, (-100.0,) * 6, 0.0, max(frames.seconds, 0.01), ((QUIET_DB,) * 6,), (), said=said,
    )  # fmt: skip


def _starts(frames: Frames) -> float:
    level = frames.power.sum(axis=1)
    heard = np.flatnonzero(level > level.max() * 1e-5)
    return round(max(0.0, heard[0] / 100.0 - 0.01), 3) if len(heard) else 0.0


def _reading(
    frames: Frames,
    rate_hz: int,
    channels: int,
    onsets: tuple[Onset, ...],
    starts_s: float,
    tempo: Tempo,
    pitch: Pitch,
    tones: Tones,
) -> SampleReading:
    seconds = frames.seconds
    kind, sure = kind_of(frames, onsets, tempo, pitch, tones)
    single = kind == "hit"
    if single:
        tempo, tones = Tempo(), Tones(None, 0.0, None)
    elif pitch.confidence < 0.85 or len(onsets) > 3:
        pitch = Pitch()
    bars, rest = bars_of(seconds * tempo.bpm / 60.0, tempo.beats_a_bar) if tempo.bpm else (None, None)
    loud = frames.loudness_lufs()
    slot_s, slots = _slots(frames, tempo)
    mean = frames.power.mean(axis=0)
    beat_s = 60.0 / tempo.bpm if tempo.bpm else 0.0
    kick, backbeat = _drums(onsets, frames, beat_s, tempo.downbeat_s)
    whole = max(frames.whole, 1e-12)
    middle = mean[2:4].sum() / max(mean.sum(), 1e-12)
    return SampleReading(
        round(seconds, 6), rate_hz, channels, kind, sure, tempo.bpm, tempo.confidence, tempo.others, tempo.beats_a_bar, bars, rest,
        tempo.downbeat_s, tones.key, tones.confidence, tones.tuning_cents, pitch.hz, pitch.confidence,
        round(loud, 2) if np.isfinite(loud) else None,
        round(frames.true_peak, 2) if np.isfinite(frames.true_peak) else None,
        tuple(round(float(x), 1) for x in _db(mean)), round(frames.side / whole, 3), slot_s, slots, onsets,
        kick, backbeat, bool(middle < 0.18), starts_s, envelope=_envelope(frames),
    )  # fmt: skip


def _db(power: Floats) -> Floats:
    found: Floats = np.maximum(10.0 * np.log10(power + 1e-10), -100.0)
    return found


def _envelope(frames: Frames) -> str:
    """The loudest moment of every step, as a share of the whole's, bent so that quiet parts still show."""
    level = np.sqrt(frames.power.sum(axis=1))
    at = np.linspace(0, len(level), ENVELOPE + 1)
    steps = [float(level[int(a) : max(int(a) + 1, int(np.ceil(b)))].max()) for a, b in zip(at, at[1:])]
    top = max(steps) or 1.0
    return "".join(f"{min(99, round(99 * (x / top) ** 0.7)):02d}" for x in steps)


def _slots(frames: Frames, tempo: Tempo) -> tuple[float, tuple[tuple[int, ...], ...]]:
    """Levels by band over sixteenths, or over spans of 50 ms where there is no tempo; longer ones in long recordings."""
    step = 15.0 / tempo.bpm if tempo.bpm else 0.05
    while frames.seconds / step > MOST_SLOTS:
        step *= 2
    count = max(1, int(np.ceil(frames.seconds / step - 1e-6)))
    total = np.concatenate((np.zeros((1, 6)), np.cumsum(frames.power, axis=0)))
    edges = np.clip(np.arange(count + 1) * step * 100.0, 0, len(frames.power))
    whole = np.floor(edges).astype(int)
    part = (edges - whole)[:, None]
    at = total[whole] + part * (total[np.minimum(whole + 1, len(total) - 1)] - total[whole])
    power = np.diff(at, axis=0) / np.maximum(np.diff(edges), 1e-9)[:, None]
    return step, tuple(tuple(int(v) for v in row) for row in np.rint(_db(power)))


def _drums(onsets: tuple[Onset, ...], frames: Frames, beat_s: float, downbeat_s: float) -> tuple[bool, bool]:
    """Whether there is a kick, and a backbeat: strong middle or high onsets on the second and fourth beat."""
    lows = [o for o in onsets if o.zone == "low" and o.strength > 0.25]
    share = frames.zones[:, 0]
    falls = share.max(initial=0.0) > 12.0 * max(float(np.median(share)), 1e-12)
    kick = bool(lows) and bool(falls)
    if not beat_s:
        return kick, False
    on = [o for o in onsets if o.zone != "low" and o.strength > 0.45]
    hits = [((o.at_s - downbeat_s) / beat_s) for o in on]
    back = sum(abs(h - round(h)) < 0.12 and round(h) % 2 == 1 for h in hits)
    bars = max(1.0, frames.seconds / beat_s / 4)
    return kick, bool(back / bars >= 1.2)
