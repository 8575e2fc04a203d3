"""The join between two songs of a set, as it will be heard: the end of one, the gap, the beginning of the next."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.reading.timeline import timeline
from escalera.services.passages import smoothed
from escalera.services.rendering import Rendering, wav_bytes
from escalera.sound.schedule import RATE_HZ

END_S, BEGINNING_S, MOST_GAP_S = 10.0, 12.0, 20.0


def heard_join(rendering: Rendering, before: Song, after: Song, gap_s: float) -> bytes:
    """A WAV: the last ten seconds of a song, the gap (20 s of it at most) into which it may ring, the first twelve seconds of the
    next. No level is evened out: what is louder is heard to be louder."""
    end, tail = _end(rendering, before)
    gap = round(min(gap_s, MOST_GAP_S) * RATE_HZ)
    beginning = _edge(rendering, after, range(len(after.sections)), round(BEGINNING_S * RATE_HZ))
    audio = np.concatenate([end, np.zeros((2, gap), np.float32), beginning], axis=1)
    rings = min(tail.shape[1], audio.shape[1] - end.shape[1])
    audio[:, end.shape[1] : end.shape[1] + rings] += tail[:, :rings]
    return wav_bytes(smoothed(audio))


def _end(rendering: Rendering, song: Song) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The last seconds up to the song's last bar line, and what rings on after it."""
    starts = timeline(song).samples(RATE_HZ)
    last = _section(rendering, song, len(song.sections) - 1)
    length = starts[-1] - starts[-2]
    wanted = round(END_S * RATE_HZ)
    if length >= wanted or len(song.sections) == 1:
        return last[:, max(0, length - wanted) : length], last[:, length:]
    lead = _edge(rendering, song, range(len(song.sections) - 2, -1, -1), wanted - length)
    return np.concatenate([lead, last[:, :length]], axis=1), last[:, length:]


def _edge(rendering: Rendering, song: Song, places: Sequence[int], wanted: int) -> NDArray[np.float32]:
    """Sections one after the other, from the first of `places` on or back from it, until there are enough samples; shape (2, n)."""
    rows, have, back = list[NDArray[np.float32]](), 0, len(places) > 1 and places[0] > places[-1]
    for index in places:
        rows.insert(0, _section(rendering, song, index)) if back else rows.append(_section(rendering, song, index))
        have += rows[0 if back else -1].shape[1]
        if have >= wanted:
            break
    audio = np.concatenate(rows, axis=1)
    return audio[:, -wanted:] if back else audio[:, :wanted]


def _section(rendering: Rendering, song: Song, index: int) -> NDArray[np.float32]:
    """A section as the mix plays it; the last one with its tail."""
    line = timeline(song)
    return rendering.renderer.chunk(song, line, index, rendering.renderer.chunk_keys(song, line)[index])
