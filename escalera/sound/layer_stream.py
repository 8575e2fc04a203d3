"""Layers of a song, or its shared spaces, from end to end, section after section, so that none of it is held longer than its tails reach."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import RenderStopped
from escalera.sound.mix import PICKUP_SAMPLES, Renderer
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import SectionMix

PIECE = 5 * RATE_HZ
AHEAD = 2  # sections that are mixed, or being mixed, before they are handed on
Samples = NDArray[np.float32]


class Joined:
    """Sound laid down in order, tails over what follows, and handed on piece by piece. All in samples from the song's start."""

    def __init__(self, length: int):
        self.at, self._length = 0, length
        self._open: list[tuple[int, Samples]] = []

    def add(self, at: int, audio: Samples) -> None:
        """Lay sound of shape (2, n) from sample `at` on; what lies before what was handed on, or after the song's end, is left out."""
        self._open.append((at, audio))

    def upto(self, end: int) -> Samples:
        """What was not handed on yet before sample `end`, shape (2, n)."""
        low, high = self.at, max(self.at, min(end, self._length))
        found = np.zeros((2, high - low), np.float32)
        for at, audio in self._open:
            a, b = max(at, low), min(at + audio.shape[1], high)
            if a < b:
                found[:, a - low : b - low] += audio[:, a - at : b - at]
        self._open = [(at, audio) for at, audio in self._open if at + audio.shape[1] > high]
        self.at = high
        return found


def streamed(
    renderer: Renderer,
    song: Song,
    make: Callable[[Span], Sequence[SectionMix]],
    wanted: Callable[[], bool] = lambda: True,
) -> Iterator[tuple[Samples, ...]]:
    """A song in blocks of any length, as many sounds as `make` gives mixes for a section, (2, n) each; without the effects that answer to
    the level of a bus, before the mix's level. Raises RenderStopped when it is no longer wanted.
    """
    line = timeline(song)
    starts = line.samples(RATE_HZ)
    length = starts[-1] + renderer.tail_samples(song, line) if line.spans else 0
    joined: list[Joined] = []

    def mixed(index: int) -> Sequence[SectionMix]:
        if not wanted():
            raise RenderStopped("It is no longer wanted. What was written is taken away.")
        return make(line.spans[index])

    with ThreadPoolExecutor(AHEAD) as pool:
        begun: deque[Future[Sequence[SectionMix]]] = deque()
        for index, start in enumerate(starts[:-1]):
            while len(begun) < AHEAD and index + len(begun) < len(line.spans):
                begun.append(pool.submit(mixed, index + len(begun)))
            mixes = begun.popleft().result()
            joined = joined or [Joined(length) for _ in mixes]
            for whole, mix in zip(joined, mixes):
                for audio in (mix.audio, *mix.buses.values()):
                    whole.add(start + mix.offset, audio)
            end = length if index + 1 == len(line.spans) else starts[index + 1] - PICKUP_SAMPLES
            for edge in [*range(joined[0].at + PIECE, end, PIECE), end]:
                yield tuple(whole.upto(edge) for whole in joined)
