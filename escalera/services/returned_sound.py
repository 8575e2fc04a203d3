"""How files sound beside a song's layers: loudness over time in three zones, the delay at which two fit best, where they differ."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz

from escalera.core.document.song import Layer, Song
from escalera.core.handing.file_names import plain_name
from escalera.core.joins import played
from escalera.core.reading.timeline import timeline
from escalera.formats.recording import blocks_of
from escalera.services.packing import without_mix_effects
from escalera.services.rendering import Rendering
from escalera.sound.schedule import RATE_HZ

HOP = RATE_HZ // 50
ZONES_HZ = (200.0, 2000.0)
LAG_S = 4.0  # of a file that begins earlier or later than it should
SAME, KNOWN = 0.985, 0.6  # likeness from which a section is the same, and a file is a layer's at all
LEVEL_DB = 1.0
NAME_COUNTS = 0.15
SHIFTED_S = 0.03
COLUMNS = 320  # of a drawn sound
Envelope = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class SoundMatch:
    """What a file sounds like: the layer (0: the whole mix; None: nothing there), how sure, what differs where, how late, and both drawn."""

    layer_id: int | None
    name: str
    confidence: float
    where: tuple[str, ...] = ()
    sections: tuple[int, ...] = ()  # in which it differs
    said: str = ""
    late_s: float = 0.0
    drawn: tuple[tuple[int, ...], ...] = ()


class LayerSounds:
    """Envelopes of a song's layers and of the whole, each rendered once when it is asked for."""

    def __init__(self, song: Song, rendering: Rendering):
        self.song, self.renderer = without_mix_effects(song), rendering.renderer
        self._kept: dict[tuple[int, bool], Envelope] = {}

    def of(self, layer_id: int, wet: bool = False) -> Envelope:
        """Of a layer, or of the whole (0), (frames, 3) in amplitudes."""
        key = (layer_id, wet)
        if key not in self._kept:
            line = timeline(self.song)
            only = frozenset((layer_id,)) if layer_id else None
            end = line.samples(RATE_HZ)[-1] if line.spans else 0
            blocks = (
                self.renderer.before_master(
                    self.song, line, low, min(end, low + 20 * RATE_HZ), only, wet or not layer_id
                )
                for low in range(0, end, 20 * RATE_HZ)
            )
            self._kept[key] = envelope(blocks)
        return self._kept[key]

    def layers(self) -> list[Layer]:
        placed = {p.layer_id for s in played(self.song).sections for p in s.placements}
        return [x for x in self.song.layers if x.id in placed and not x.muted]


def envelope(blocks: Iterable[NDArray[np.float32]]) -> Envelope:
    """Loudness of a sound over time in three zones, (frames, 3) in amplitudes; blocks are (channels, n) and follow one another."""
    from scipy import signal

    filters = [
        signal.butter(2, ZONES_HZ[0], "low", fs=RATE_HZ, output="sos"),
        signal.butter(2, ZONES_HZ, "band", fs=RATE_HZ, output="sos"),
        signal.butter(2, ZONES_HZ[1], "high", fs=RATE_HZ, output="sos"),
    ]
    states = [signal.sosfilt_zi(f) * 0.0 for f in filters]
    rows: list[NDArray[np.float64]] = []
    rest = np.zeros(0, np.float32)
    for block in blocks:
        mono = np.concatenate((rest, block.mean(axis=0)))
        whole = len(mono) // HOP * HOP
        rest = mono[whole:]
        if not whole:
            continue
        zones = []
        for i, each in enumerate(filters):
            heard, states[i] = signal.sosfilt(each, mono[:whole], zi=states[i])
            zones.append(np.sqrt((heard.reshape(-1, HOP) ** 2).mean(axis=1)))
        rows.append(np.stack(zones, axis=1))
    return np.concatenate(rows).astype(np.float32) if rows else np.zeros((0, 3), np.float32)


def match_of(song: Song, sound: LayerSounds, path: Path) -> SoundMatch:
    """The layer (or the whole) that a file sounds like. Raises FormatError for what is no recording."""
    heard = envelope(blocks_of(path))
    if not heard.any():
        return SoundMatch(None, "", 0.0, said="silent")
    rows = [(x.name, max(_fit(heard, sound.of(x.id, wet)) for wet in (False, True)), x.id) for x in sound.layers()]
    rows.append(("the mix", _fit(heard, sound.of(0)), 0))
    scored = sorted(((_score(path, name, fit[0]), name, fit, i) for name, fit, i in rows), key=lambda r: -r[0])
    score, name, (_, lag), layer_id = scored[0]
    if score < KNOWN:
        return SoundMatch(None, "", round(1.0 - score, 3), said=f"most like {name}, and not like enough", drawn=(_drawn(heard, 0, len(heard)),))  # fmt: skip
    wet = layer_id != 0 and _fit(heard, sound.of(layer_id, True)) > _fit(heard, sound.of(layer_id, False))
    own = sound.of(layer_id, wet)
    differ = _sections_differ(song, heard, own, lag)
    late_s = lag * HOP / RATE_HZ if abs(lag) * HOP / RATE_HZ > SHIFTED_S else 0.0
    said = f"begins {abs(late_s):.2f} s {'late' if late_s > 0 else 'early'}" if late_s else ""
    loudest = max(float(heard.max()), float(own.max()))
    pictures = (_drawn(heard, lag, len(own), loudest), _drawn(own, 0, len(own), loudest))
    return SoundMatch(
        layer_id, name, round(score, 3), tuple(w for _, w in differ), tuple(i for i, _ in differ), said, late_s, pictures
    )  # fmt: skip


def _drawn(heard: Envelope, first: int, count: int, loudest: float = 0.0) -> tuple[int, ...]:
    """Peaks of `count` frames from `first` on, in COLUMNS columns of 0 to 99."""
    level = np.zeros(max(1, count))
    row = heard[max(0, first) : max(0, first + count)].max(axis=1, initial=0.0)
    at = max(0, -first)
    level[at : at + len(row)] = row[: max(0, len(level) - at)]
    edges = np.linspace(0, len(level), COLUMNS + 1).astype(int)[:-1]
    peaks = np.maximum.reduceat(level, np.minimum(edges, len(level) - 1))
    return tuple((99 * np.clip(peaks / max(loudest or float(peaks.max()), 1e-9), 0, 1)).astype(int).tolist())


def _score(path: Path, name: str, likeness: float) -> float:
    alike = fuzz.token_set_ratio(plain_name(path.stem).replace("-", " "), plain_name(name).replace("-", " ")) / 100.0
    return (1 - NAME_COUNTS) * likeness + NAME_COUNTS * alike


def _fit(one: Envelope, other: Envelope) -> tuple[float, int]:
    """How alike two envelopes are at the delay at which they are most, 0 to 1, and that delay in frames (above 0: the first comes late)."""
    from scipy import signal

    if not one.any() or not other.any():
        return 0.0, 0
    total = sum(signal.correlate(one[:, z], other[:, z], mode="full", method="fft") for z in range(3))
    lags = np.arange(1 - len(other), len(one))
    inside = np.abs(lags) <= LAG_S * RATE_HZ / HOP
    both = float(np.sqrt((one.astype(np.float64) ** 2).sum() * (other.astype(np.float64) ** 2).sum()))
    best = int(np.argmax(np.where(inside, total, -1.0)))
    return float(np.clip(total[best] / both, 0.0, 1.0)), int(lags[best])


def _sections_differ(song: Song, heard: Envelope, own: Envelope, lag: int) -> list[tuple[int, str]]:
    """Sections in which a file sounds otherwise than the layer does now, with what of it can be said."""
    found = []
    for span in timeline(song).spans:
        low, high = (round(s * RATE_HZ / HOP) for s in (span.start_seconds, span.end_seconds))
        mine, theirs = own[low:high], heard[max(0, low + lag) : max(0, high + lag)]
        count = min(len(mine), len(theirs))
        a, b = mine[:count].astype(np.float64).ravel(), theirs[:count].astype(np.float64).ravel()
        loud, there = float((a**2).sum()), float((b**2).sum())
        least = 1e-7 * max(1, count)
        if max(loud, there) < least:
            continue
        if min(loud, there) < least:
            found.append(
                (
                    span.section.id,
                    f"{span.section.name}: {'silent now' if there < loud else 'plays where it was silent'}",
                )
            )
            continue
        change_db = 10 * np.log10(there / loud)
        if float(a @ b) / np.sqrt(loud * there) < SAME:
            found.append((span.section.id, f"{span.section.name}: plays otherwise"))
        elif abs(change_db) > LEVEL_DB:
            found.append((span.section.id, f"{span.section.name}: {change_db:+.1f} dB".replace("-", "−")))
    return found
