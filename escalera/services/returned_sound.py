"""How files sound beside a song's layers: loudness over time in three zones, the delay at which two fit best, where they differ."""

from __future__ import annotations

import tempfile
from collections.abc import Container, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from threading import Lock

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz

from escalera.core.document.song import Song
from escalera.core.handing.file_names import handed_layers, plain_name
from escalera.core.reading.timeline import timeline
from escalera.formats.recording import blocks_of
from escalera.lazy_dataclasses import dataclass
from escalera.services.pack_sound import without_mix_effects
from escalera.services.rendering import Rendering
from escalera.sound.disk import MixFolder
from escalera.sound.layer_stream import streamed
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

HOP = RATE_HZ // 50
ZONES_HZ = (200.0, 2000.0)
ZONE_BINS = (
    0,
    *(int(np.ceil(hz * HOP / RATE_HZ)) for hz in ZONES_HZ),
)  # where a zone begins in the spectrum of a frame
LAG_S = 4.0  # of a file that begins earlier or later than it should
SAME, KNOWN = 0.985, 0.6  # likeness from which a section is the same, and a file is a layer's at all
LEVEL_DB = 1.0
NAME_COUNTS = 0.15
FINE_S = 4.0
AT_ONCE = 2  # layers that are heard, and files that are read, side by side
ALIKE = 0.6  # likeness from which a delay is believed to the sample
NEAREST = 3  # layers that are heard wet too
SHIFTED_S = 0.03
COLUMNS = 320  # of a drawn sound
FINE = 21  # samples: the step in which delays are told
MEAN = np.full(FINE, 1.0 / FINE, np.float32)
Envelope = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class SoundTraces:
    """A sound over time: `levels` in three zones by frames of 20 ms, (frames, 3) amplitudes; for its delay every FINE samples the mean of
    the samples (`low`) and of their amounts (`fast`), both (n,)."""

    levels: Envelope
    low: NDArray[np.float16]
    fast: NDArray[np.float16]


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


@dataclass(frozen=True, slots=True)
class HeardFile:
    """A file's envelope, and its transform at the size at which it is held against layers."""

    levels: Envelope
    size: int
    turned: NDArray[np.complex64]


@dataclass(frozen=True, slots=True)
class Ranked:
    """A layer (0: the whole) that a file might be, dry or wet, and how likely that is."""

    score: float
    name: str
    layer_id: int
    wet: bool


class LayerSounds:
    """How a song's layers and the whole sound over time, each rendered once when it is asked for."""

    def __init__(self, song: Song, rendering: Rendering):
        self.song, self.renderer = without_mix_effects(song), rendering.renderer
        self._kept: dict[tuple[int, bool], SoundTraces] = {}
        self._hearing = Lock()
        self._turned: dict[tuple[int, bool, int], NDArray[np.complex64]] = {}

    def audio(self, layer_id: int, wet: bool, low: int, high: int) -> NDArray[np.float32]:
        """Samples of a layer, or of the whole (0), before the mix's own effects, (2, n)."""
        only = frozenset((layer_id,)) if layer_id else None
        return self.renderer.before_master(self.song, timeline(self.song), low, high, only, wet or not layer_id)

    def of(self, layer_id: int, wet: bool = False) -> SoundTraces:
        """Of a layer, or of the whole (0)."""
        self._hear([layer_id])
        return self._kept[layer_id, wet and layer_id > 0]

    def prepare(self) -> None:
        """Hear the whole and every layer."""
        self._hear([0, *(x.id for x in handed_layers(self.song))])

    def _hear(self, layer_ids: Sequence[int]) -> None:
        """Hear what was not heard yet: layers dry and wet, each once."""
        with self._hearing:
            missing = [i for i in layer_ids if (i, False) not in self._kept]
            if not missing:
                return
            with tempfile.TemporaryDirectory(prefix="escalera-") as folder, ThreadPoolExecutor(AT_ONCE) as pool:
                renderer = self.renderer.sparing(MixFolder(Path(folder)))
                for found in pool.map(partial(self._both, renderer), missing):
                    self._kept |= found

    def _both(self, renderer: Renderer, layer_id: int) -> dict[tuple[int, bool], SoundTraces]:
        """A layer without the shared spaces and with them; or the whole (0)."""
        if not layer_id:
            return {(0, False): traces(renderer.blocks(self.song, limited=False))}
        made = {(layer_id, wet): TracesMaker() for wet in (False, True)}
        gain = np.float32(10.0 ** (self.song.master_gain_db / 20.0))
        some = partial(renderer.some_once, self.song, layers=frozenset((layer_id,)), ways=(False, True))
        for found in streamed(renderer, self.song, lambda span: some(span=span)):
            for maker, audio in zip(made.values(), found):
                maker.add(gain * audio)
        return {key: maker.traces() for key, maker in made.items()}

    def likeness(self, heard: HeardFile, layer_id: int, wet: bool = False) -> float:
        """How alike the levels of a file and a layer are at the delay at which they are most, 0 to 1."""
        from scipy import fft

        own = self.of(layer_id, wet).levels
        if not own.any():
            return 0.0
        key = (layer_id, wet, heard.size)
        if key not in self._turned:
            self._turned[key] = np.conj(fft.rfft(own, heard.size, axis=0))
        total = fft.irfft((heard.turned * self._turned[key]).sum(axis=1), heard.size)
        reach = int(LAG_S * RATE_HZ / HOP)
        both = float(np.sqrt((heard.levels.astype(np.float64) ** 2).sum() * (own.astype(np.float64) ** 2).sum()))
        return float(np.clip(max(total[: reach + 1].max(), total[-reach:].max()) / both, 0.0, 1.0))

    def heard(self, levels: Envelope) -> HeardFile:
        """A file's envelope, ready to be held against layers of this song."""
        from scipy import fft

        reach = int(LAG_S * RATE_HZ / HOP)
        size = int(fft.next_fast_len(max(len(levels), len(self.of(0).levels)) + 2 * reach, real=True))
        return HeardFile(levels, size, fft.rfft(levels, size, axis=0))

    def ranked(self, path: Path, heard: HeardFile) -> list[Ranked]:
        """All layers and the whole, the likeliest first: dry, and those that are near wet too."""
        rows = [(x.name, x.id) for x in handed_layers(self.song)] + [("the mix", 0)]
        dry = sorted((self._rank(path, heard, name, i, False) for name, i in rows), key=lambda row: -row.score)
        wet = [self._rank(path, heard, row.name, row.layer_id, True) for row in dry[:NEAREST] if row.layer_id]
        return sorted((*dry, *wet), key=lambda row: -row.score)

    def _rank(self, path: Path, heard: HeardFile, name: str, layer_id: int, wet: bool) -> Ranked:
        return Ranked(_score(path, name, self.likeness(heard, layer_id, wet)), name, layer_id, wet)


class TracesMaker:
    """Makes a sound's traces of its blocks as they come."""

    def __init__(self) -> None:
        self._rest = np.zeros(0, np.float32)
        self._levels = [np.zeros((0, 3), np.float32)]
        self._low, self._fast = [np.zeros(0, np.float16)], [np.zeros(0, np.float16)]

    def add(self, block: NDArray[np.float32]) -> None:
        """The next samples, (channels, n)."""
        middle = block[0] if len(block) == 1 else np.float32(0.5) * (block[0] + block[1])
        mono = np.concatenate((self._rest, middle))
        whole = len(mono) // HOP * HOP
        self._rest = mono[whole:]
        if whole:
            self._add(mono[:whole])

    def _add(self, mono: NDArray[np.float32]) -> None:
        from scipy import fft

        bins = fft.rfft(mono.reshape(-1, HOP), axis=1)
        power = bins.real**2 + bins.imag**2
        self._levels.append((np.sqrt(2.0 * np.add.reduceat(power, ZONE_BINS, axis=1)) / HOP).astype(np.float32))
        fine = mono.reshape(-1, FINE)
        self._low.append((fine @ MEAN).astype(np.float16))
        self._fast.append((np.abs(fine) @ MEAN).astype(np.float16))

    def traces(self) -> SoundTraces:
        return SoundTraces(np.concatenate(self._levels), np.concatenate(self._low), np.concatenate(self._fast))


def traces(blocks: Iterable[NDArray[np.float32]]) -> SoundTraces:
    """A sound over time; blocks are (channels, n) and follow one another."""
    maker = TracesMaker()
    for block in blocks:
        maker.add(block)
    return maker.traces()


def delay_samples(file: SoundTraces, own: SoundTraces) -> int:
    """How many samples a file comes later than a sound it holds, in steps of FINE, within LAG_S."""
    from scipy import fft

    reach = int(LAG_S * RATE_HZ / FINE)
    size = int(fft.next_fast_len(max(len(file.low), len(own.low)) + reach, real=True))
    lags = np.concatenate((np.arange(reach + 1), np.arange(-reach, 0)))
    score = np.zeros(len(lags))
    for a, b in ((file.low, own.low), (_rises(file.fast), _rises(own.fast))):
        one, other = a.astype(np.float32), b.astype(np.float32)
        both = float(np.sqrt(np.dot(one, one) * np.dot(other, other)))
        if both > 0:
            score += fft.irfft(fft.rfft(one, size) * np.conj(fft.rfft(other, size)), size)[lags] / both
    return int(lags[np.argmax(score)]) * FINE


def _rises(fast: NDArray[np.float16]) -> NDArray[np.float32]:
    return np.maximum(np.diff(fast.astype(np.float32), prepend=np.float32(0.0)), 0.0)


def match_of(song: Song, sound: LayerSounds, path: Path) -> SoundMatch:
    """The layer (or the whole) that a file sounds like. Raises FormatError for what is no recording."""
    file = traces(blocks_of(path))
    if not file.levels.any():
        return SoundMatch(None, "", 0.0, said="silent")
    best = sound.ranked(path, sound.heard(file.levels))[0]
    name, layer_id = best.name, best.layer_id
    if best.score < KNOWN:
        alone = (_drawn(file.levels, len(file.levels)),)
        return SoundMatch(None, "", round(1.0 - best.score, 3), said=f"most like {name}, and not like enough", drawn=alone)  # fmt: skip
    own = sound.of(layer_id, best.wet)
    late = delay_samples(file, own)
    levels, own_levels = (traces(_from_sample(path, late)) if late else file).levels, own.levels
    differ = _sections_differ(song, levels, own_levels)
    late_s = round(late / RATE_HZ, 6) if abs(late) / RATE_HZ > SHIFTED_S else 0.0
    said = f"begins {abs(late_s):.2f} s {'late' if late_s > 0 else 'early'}" if late_s else ""
    loudest = max(float(levels.max()), float(own_levels.max()))
    pictures = (_drawn(levels, len(own_levels), loudest), _drawn(own_levels, len(own_levels), loudest))
    return SoundMatch(
        layer_id, name, round(best.score, 3), tuple(w for _, w in differ), tuple(i for i, _ in differ), said, late_s, pictures
    )  # fmt: skip


def _from_sample(path: Path, first: int) -> Iterator[NDArray[np.float32]]:
    """A file from one of its samples on, or with silence before it."""
    if first < 0:
        yield np.zeros((1, -first), np.float32)
    skip = max(0, first)
    for block in blocks_of(path):
        if skip < block.shape[1]:
            yield block[:, skip:]
        skip = max(0, skip - block.shape[1])


def _drawn(levels: Envelope, count: int, loudest: float = 0.0) -> tuple[int, ...]:
    """Peaks of the first `count` frames, in COLUMNS columns of 0 to 99."""
    row = np.zeros(max(1, count))
    there = levels[:count].max(axis=1, initial=0.0)
    row[: len(there)] = there
    edges = np.linspace(0, len(row), COLUMNS + 1).astype(int)[:-1]
    peaks = np.maximum.reduceat(row, np.minimum(edges, len(row) - 1))
    return tuple((99 * np.clip(peaks / max(loudest or float(peaks.max()), 1e-9), 0, 1)).astype(int).tolist())


def _score(path: Path, name: str, likeness: float) -> float:
    alike = fuzz.token_set_ratio(plain_name(path.stem).replace("-", " "), plain_name(name).replace("-", " ")) / 100.0
    return (1 - NAME_COUNTS) * likeness + NAME_COUNTS * alike


def fine_delay_s(sound: LayerSounds, layer_id: int, path: Path, late_s: float, apart: Container[int] = ()) -> float:
    """The delay of a file to the sample, near one that is known to a frame: where it is loudest outside of sections `apart`, in which it
    differs; as it was known where the two are not alike there."""
    levels = sound.of(layer_id).levels.copy()
    for span in timeline(sound.song).spans:
        if span.section.id in apart:
            levels[round(span.start_seconds * RATE_HZ / HOP) : round(span.end_seconds * RATE_HZ / HOP)] = 0.0
    if not layer_id or not levels.any():
        return late_s
    count = int(FINE_S * RATE_HZ)
    low = max(0, int(np.argmax(np.convolve(levels.sum(axis=1), np.ones(50), "same"))) * HOP - count // 2)
    best = (0.0, late_s)
    for wet in (False, True):
        own = sound.audio(layer_id, wet, low, low + count).mean(axis=0)
        reach = 2 * HOP
        begin = low + round(late_s * RATE_HZ) - reach
        file = _from_file(path, begin, count + 2 * reach)
        if not own.any() or not file.any():
            continue
        total = _correlated(file, own)
        at = int(np.argmax(total))
        part = file[at : at + count]
        likeness = float(total[at]) / float(np.sqrt((part**2).sum() * (own**2).sum()) + 1e-12)
        best = max(best, (likeness, late_s + (at - reach) / RATE_HZ))
    return round(best[1], 6) if best[0] > ALIKE else late_s


def _correlated(file: NDArray[np.float32], own: NDArray[np.float32]) -> NDArray[np.float32]:
    from scipy import signal

    return np.asarray(signal.correlate(file, own, "valid", method="fft"))


def _from_file(path: Path, begin: int, count: int) -> NDArray[np.float32]:
    """Samples of a file in mono from one on that may lie before its start, (count,)."""
    found = np.zeros(count, np.float32)
    at = 0
    for block in blocks_of(path):
        low, high = max(at, begin), min(at + block.shape[1], begin + count)
        if high > low:
            found[low - begin : high - begin] = block[:, low - at : high - at].mean(axis=0)
        at += block.shape[1]
        if at >= begin + count:
            break
    return found


def _sections_differ(song: Song, heard: Envelope, own: Envelope) -> list[tuple[int, str]]:
    """Sections in which a file sounds otherwise than the layer does now, with what of it can be said."""
    found = []
    for span in timeline(song).spans:
        low, high = (round(s * RATE_HZ / HOP) for s in (span.start_seconds, span.end_seconds))
        mine, theirs = own[low:high], heard[low:high]
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
