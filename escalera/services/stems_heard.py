"""Hears a song's stems before they are handed over: what would clip, what is silent, what breaks off."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable
from dataclasses import asdict
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Song
from escalera.core.handing.file_names import handed_layers
from escalera.core.handing.heard_stems import StemHeard
from escalera.core.reading.timeline import Timeline, timeline
from escalera.services.pack_sound import without_mix_effects
from escalera.services.rendering import Rendering
from escalera.sound.disk import MixFolder
from escalera.sound.layer_stream import streamed
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

FRAME = RATE_HZ // 100
LOUD_DB, SILENT_DBFS = -26.0, -75.0  # below the stem's own peak; below full scale
FALL, QUIET = 3, 25  # frames in which sound breaks off, and for which it is silent then
END, END_DBFS = 5, -60.0  # frames in which the files end
Peaks = NDArray[np.float32]


def heard_stems(
    song: Song, rendering: Rendering, tell: Callable[[float], None] = lambda share: None,
    wanted: Callable[[], bool] = lambda: True,
) -> list[StemHeard]:  # fmt: skip
    """Every layer that gets a file, heard from end to end. Raises RenderStopped when it is no longer wanted."""
    bare, layers, found = without_mix_effects(song), handed_layers(song), list[StemHeard]()
    with tempfile.TemporaryDirectory(prefix="escalera-") as folder:
        renderer = rendering.renderer.sparing(MixFolder(Path(folder)))
        for layer in layers:
            found.append(_heard(bare, renderer, layer, wanted))
            tell(len(found) / len(layers))
    return found


def _heard(song: Song, renderer: Renderer, layer: Layer, wanted: Callable[[], bool]) -> StemHeard:
    make = partial(renderer.some_once, song, layers=frozenset((layer.id,)), ways=(False, True))
    dry, wet = _Peaks(), _Peaks()
    for found in streamed(renderer, song, lambda span: make(span=span), wanted):
        for peaks, audio in zip((dry, wet), found):
            peaks.add(audio)
    gain = np.float32(10.0 ** (song.master_gain_db / 20.0))
    whole = gain * wet.all()
    breaks = breaks_off(gain * dry.all()) if layer.clips or layer.prints else []
    return StemHeard(
        layer.id,
        round(_dbfs(float(whole.max(initial=0.0))), 1),
        _bars_of(timeline(song), breaks),
        bool(_dbfs(float(whole[-END:].max(initial=0.0))) > END_DBFS),
    )


class _Peaks:
    """The highest sample of every hundredth of a second, of sound that comes in blocks of (2, n)."""

    def __init__(self) -> None:
        self._rest, self._rows = np.zeros(0, np.float32), [np.zeros(0, np.float32)]

    def add(self, audio: NDArray[np.float32]) -> None:
        high = np.concatenate((self._rest, np.abs(audio).max(axis=0)))
        whole = len(high) // FRAME * FRAME
        self._rows.append(high[:whole].reshape(-1, FRAME).max(axis=1))
        self._rest = high[whole:]

    def all(self) -> Peaks:
        return np.concatenate((*self._rows, self._rest.max(initial=0.0, keepdims=True)))


def breaks_off(peaks: Peaks) -> list[int]:
    """Hundredths of a second in which sound, given by its peaks (n,), goes from loud to silent and stays silent; not where it ends."""
    if not peaks.any():
        return []
    loud = peaks > max(float(peaks.max()) * 10.0 ** (LOUD_DB / 20.0), 10.0 ** (SILENT_DBFS / 20.0))
    silent = peaks < 10.0 ** (SILENT_DBFS / 20.0)
    runs = np.convolve(silent, np.ones(QUIET), "valid") > QUIET - 0.5  # from here on it is silent for so long
    begins = np.flatnonzero(runs[1:] & ~runs[:-1]) + 1
    return [int(at) for at in begins if loud[max(0, at - FALL) : at].any()]


def _bars_of(line: Timeline, frames: list[int]) -> tuple[int, ...]:
    """Bars, from 1, in which moments in hundredths of a second lie."""
    edges = line.bar_seconds()
    return tuple(sorted({max(1, int(np.searchsorted(edges, at / 100.0, side="right"))) for at in frames}))


def _dbfs(peak: float) -> float:
    return float(20 * np.log10(max(peak, 1e-6)))


def stems_text(stems: list[StemHeard]) -> str:
    """As a job leaves it."""
    return json.dumps([asdict(s) for s in stems])


def stems_from(text: str) -> list[StemHeard]:
    return [StemHeard(**{**row, "breaks_off_bars": tuple(row["breaks_off_bars"])}) for row in json.loads(text)]
