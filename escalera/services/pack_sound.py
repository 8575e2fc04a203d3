"""The audio of a pack: mixes, stems and buses, each rendered once and written as it is made; and proof that buses and rooms are the sum."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Song
from escalera.core.handing.file_names import ToName, file_names, handed_layers, names_of_stems, plain_name
from escalera.core.handing.receivers import PARTS
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.keys import key_text
from escalera.errors import InputError
from escalera.formats.audio import AudioWriter
from escalera.formats.wav_cues import info_chunk
from escalera.formats.wav_stream import FLOAT_BITS, WavStream, Write, interleaved, raw
from escalera.lazy_dataclasses import dataclass
from escalera.services.exporting import wav_cues
from escalera.sound.disk import MixFolder
from escalera.sound.layer_stream import PIECE, streamed
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ
from escalera.sound.section import SectionMix

AUDIO = (
    "mix",
    "no-voices",
    "no-drums",
    "premaster",
    "dry",
    "wet",
    "buses",
)  # in this order: the sum is held against what came before it
LAYERED = {"dry", "wet", "buses"}
LEFT_OUT = {"no-voices": "voices", "no-drums": "drums"}
MIX_BITS = 24
MIXED = 2  # stereo sounds of a song's length that its sections take on disk while it is mixed
FLAC_LOWER_DB = (12, 36)  # tried in this order, so that no stem is clipped where samples are whole numbers
KEPT = ".{}.unfinished"
Frames = NDArray[np.float32]  # of shape (n, 2)
Blocks = Iterator[Frames]
Add = Callable[[Frames], object]


class ClippedError(InputError):
    """A stem goes over full scale, in a format that would clip it."""


class Files(Protocol):
    """Where files of a pack go."""

    folder: Path

    @contextmanager
    def grown(self, name: str, what: str) -> Iterator[Write]: ...

    @contextmanager
    def waiting(self, name: str, what: str) -> Iterator[Write]: ...

    def take_in(self) -> None: ...

    def add_file(self, name: str, path: Path, what: str) -> None: ...


@dataclass(frozen=True, slots=True)
class SoundOptions:
    """Parts, how files are named, wav or flac and by how many dB stems are lowered; progress and calling off as for exports."""

    parts: tuple[str, ...]
    scheme: str
    kind: str
    lower_db: int
    tell: Callable[[float], None]
    wanted: Callable[[], bool]


class PackSound:
    """Writes the audio of a pack; `off_db` is what is left over of the sum when buses and rooms are taken from it, None until both were there."""

    def __init__(self, song: Song, renderer: Renderer, options: SoundOptions, files: Files):
        self.song, self.options, self.files = song, options, files
        self.renderer = renderer.sparing(MixFolder(files.folder / "mixes"))
        self.bare = without_mix_effects(song)
        self.line = timeline(self.bare)
        self.length = (
            self.line.samples(RATE_HZ)[-1] + self.renderer.tail_samples(song, timeline(song)) if self.line.spans else 0
        )
        self.layers = handed_layers(song)
        self.families = list(dict.fromkeys(x.family for x in self.layers))
        self.parts = [p for p in AUDIO if p in options.parts]
        self.gain = 10.0 ** (song.master_gain_db / 20.0)
        self.off_db: float | None = None
        self._steps, self._done = max(1, self._count()), 0

    def _count(self) -> int:
        """Files, as steps of the progress."""
        per = {"dry": len(self.layers), "wet": len(self.layers), "buses": len(self.families) + 1}
        return sum(per.get(part, 1) for part in self.parts)

    def bytes_wanted(self) -> int:
        """What the files take, and what is kept beside them while they are made."""
        kept = (4 if LAYERED & set(self.parts) else 0) + MIXED * (
            len(set(self.parts) - LAYERED) + ("buses" in self.parts)
        )
        return (self._count() + kept) * self.length * 8 if self.parts else 0

    def write(self) -> None:
        title, sums = plain_name(self.song.title), None
        with ExitStack() as stack:
            if "buses" in self.parts:
                sums = stack.enter_context(Kept(self._beside("sum")))
            for part in self.parts:
                if part == "premaster":
                    blocks = self._premaster()
                    self._write(f"{title}-premaster", sums.through(blocks, -1.0) if sums else blocks, PARTS[part])
                elif part not in LAYERED:
                    song = _silenced(self.song, LEFT_OUT[part]) if part in LEFT_OUT else self.song
                    blocks = _pieces(self.renderer.blocks(song, None, self.options.wanted))
                    self._write(f"{title}-{part}", blocks, PARTS[part], MIX_BITS)
            if sums and "premaster" not in self.parts:
                deque(sums.through(self._premaster(), -1.0), 0)
            if LAYERED & set(self.parts):
                self._layers(sums)

    # the layers ----------------------------------------------------------------------------------------------

    def _layers(self, sums: Kept | None) -> None:
        """Every layer, family after family, and the family through its bus; at the end what the rooms bring."""
        stems, buses = self._names()
        with Kept(self._beside("bus")) as bus:
            for family, bus_name in zip(self.families, buses):
                bus.clear()
                for layer, name in zip(self.layers, stems):
                    if layer.family == family:
                        self._layer(layer, name, bus if sums else None)
                if sums:
                    what = f"All {family} through their bus, without rooms"
                    self._write(f"buses/{bus_name}", sums.through(self._bus(family, bus)), what)
        if sums:
            rooms = (interleaved(block, self.gain) for (block,) in self._stream(self._spaces))
            self._write("buses/rooms-and-echoes", sums.through(rooms), "What the shared rooms and echoes bring")
            self.off_db = sums.left_over_db()

    def _stream(self, make: Callable[[Span], Sequence[SectionMix]]) -> Iterator[tuple[NDArray[np.float32], ...]]:
        return streamed(self.renderer, self.bare, make, self.options.wanted)

    def _some(self, layers: frozenset[int], ways: Sequence[bool], span: Span) -> Sequence[SectionMix]:
        return self.renderer.some_once(self.bare, span, layers, ways)

    def _spaces(self, span: Span) -> Sequence[SectionMix]:
        return (self.renderer.spaces_once(self.bare, span),)

    def _names(self) -> tuple[list[str], list[str]]:
        buses = [ToName(i, f, f) for i, f in enumerate(self.families, 1)]
        scheme = self.options.scheme
        return names_of_stems(self.song, scheme), file_names(self.song.title, buses, scheme)

    def _layer(self, layer: Layer, name: str, bus: Kept | None) -> None:
        """A layer dry and wet, rendered once and written side by side."""
        parts = {part: sent for part, sent in (("dry", False), ("wet", True)) if part in self.parts}
        ways = [sent for sent in (False, True) if sent in parts.values() or (bus and not sent)]
        with ExitStack() as stack:
            files = {
                sent: stack.enter_context(self._file(f"{part}/{name}", f"{layer.name}, {part}", waits=sent))
                for part, sent in parts.items()
            }
            at = 0
            for found in self._stream(partial(self._some, frozenset((layer.id,)), ways)):
                frames = {sent: interleaved(audio, self.gain) for sent, audio in zip(ways, found)}
                if bus:
                    bus.add(at, frames[False])
                for sent, add in files.items():
                    add(frames[sent])
                at += found[0].shape[1]
        if "wet" in parts and self.options.kind == "wav":
            self.files.take_in()

    def _bus(self, family: str, layers: Kept) -> Blocks:
        """A family through its bus: its layers added up, or made together where an effect of the bus works on all of them."""
        if not self.renderer.bus_is_sum(self.bare, self.line, family):
            layers.clear()
            together, at = frozenset(x.id for x in self.layers if x.family == family), 0
            for (block,) in self._stream(partial(self._some, together, (False,))):
                layers.add(at, interleaved(block, self.gain))
                at += block.shape[1]
        if not self.renderer.works_together(self.bare, family):
            yield from layers.blocks(self.length)
            return

        def before(low: int, high: int) -> NDArray[np.float32]:
            return np.ascontiguousarray(layers.at(low, high).T / np.float32(self.gain))  # as loud as the bus hears it

        for low in range(0, self.length, PIECE):
            high = min(self.length, low + PIECE)
            yield interleaved(self.renderer.through_bus(self.bare, family, before, low, high), self.gain)

    def _premaster(self) -> Blocks:
        return _pieces(self.renderer.blocks(self.bare, None, self.options.wanted, limited=False))

    # files ---------------------------------------------------------------------------------------------------

    def _beside(self, what: str) -> Path:
        return self.files.folder / KEPT.format(what)

    def _write(self, name: str, blocks: Blocks, what: str, bits: int = FLOAT_BITS) -> None:
        with self._file(name, what, bits) as add:
            for block in blocks:
                add(block)

    @contextmanager
    def _file(self, name: str, what: str, bits: int = FLOAT_BITS, waits: bool = False) -> Iterator[Add]:
        """A file of sound that is given frames; one that waits is written beside another one."""
        with (self._flac if self.options.kind == "flac" else self._wav)(name, what, bits, waits) as add:
            yield add
        self._done += 1
        self.options.tell(0.97 * self._done / self._steps)

    @contextmanager
    def _wav(self, name: str, what: str, bits: int, waits: bool) -> Iterator[Add]:
        told = f"{self.song.tempo_bpm:g} bpm, {self.song.metre}, {key_text(self.song.key)}"
        with (self.files.waiting if waits else self.files.grown)(f"{name}.wav", what) as write:
            cues = wav_cues(self.song, 0, self.length)
            out = WavStream(write, RATE_HZ, self.length, bits, cues, info_chunk(f"{name}.wav", told))
            yield out.add
            out.end()

    @contextmanager
    def _flac(self, name: str, what: str, bits: int, waits: bool) -> Iterator[Add]:
        """Whole numbers of 24 bits: stems and sums are all lowered by the same amount, so that they still add up."""
        lower_db = self.options.lower_db if bits == FLOAT_BITS else 0
        gain, path, written = 10.0 ** (-lower_db / 20.0), self._beside(f"flac-{waits}"), 0

        def add(frames: Frames) -> None:
            nonlocal written
            peak = float(np.abs(frames).max(initial=0.0)) * gain
            if bits == FLOAT_BITS and peak > 1.0:
                over_db = 20 * np.log10(peak) + lower_db
                raise ClippedError(
                    f"{name} lies {over_db:.0f} dB over full scale, which FLAC cannot hold. Hand over WAV, or lower that layer."
                )
            out.write(frames.T, gain)
            written += len(frames)

        with AudioWriter(path, RATE_HZ, 2, "flac", MIX_BITS) as out:
            yield add
            out.write(np.zeros((2, max(0, self.length - written)), np.float32))
        self.files.add_file(f"{name}.flac", path, what)


class Kept:
    """Frames of a song on disk while they are needed; silence where nothing was added."""

    def __init__(self, path: Path):
        self._path, self._file, self._end = path, path.open("w+b", buffering=0), 0
        self._reference = 0.0

    def __enter__(self) -> Kept:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()
        self._path.unlink(missing_ok=True)

    def clear(self) -> None:
        """Forget what was added. The file stays as long as it is, and is written over."""
        self._end = 0

    def add(self, at: int, frames: Frames) -> None:
        """Add to what lies from frame `at` on; nothing may be left out before it."""
        there = self.at(at, min(self._end, at + len(frames))) if at < self._end else frames[:0]
        if len(there):
            frames = frames.copy()
            frames[: len(there)] += there
        self._file.seek(at * 8)
        self._file.write(raw(frames))
        self._end = max(self._end, at + len(frames))

    def at(self, low: int, high: int) -> Frames:
        """Frames low..high: a copy, silence before the song and after what was added."""
        found = np.zeros((high - low, 2), np.float32)
        begin, end = max(0, low), min(high, self._end)
        if begin < end:
            self._file.seek(begin * 8)
            self._file.readinto(raw(found[begin - low : end - low]))
        return found

    def blocks(self, length: int) -> Blocks:
        for low in range(0, length, PIECE):
            yield self.at(low, min(length, low + PIECE))

    def through(self, blocks: Blocks, sign: float = 1.0) -> Blocks:
        """The blocks of a file as they come, each added; with a sign of -1 they are what the others are held against."""
        at = 0
        for block in blocks:
            if sign < 0:
                self._reference += _power(block)
            self.add(at, block if sign > 0 else -block)
            yield block
            at += len(block)

    def left_over_db(self) -> float | None:
        """Power of what is left, beside that of what the others were held against; None for silence."""
        off = sum(_power(block) for block in self.blocks(self._end))
        return round(float(10 * np.log10(max(off, 1e-30) / self._reference)), 1) if self._reference > 0 else None


def _pieces(blocks: Iterator[NDArray[np.float32]]) -> Blocks:
    """Sound of shape (2, n) as short pieces of frames."""
    for block in blocks:
        for low in range(0, block.shape[1], PIECE):
            yield interleaved(block[:, low : low + PIECE])


def _power(frames: Frames) -> float:
    return float(np.vdot(frames, frames.astype(np.float64)))


def without_mix_effects(song: Song) -> Song:
    """The song as it is before the mix's own effects: its level stays."""
    sections = tuple(
        replace(s, curves=tuple(c for c in s.curves if not c.lane.startswith("master.fx"))) for s in song.sections
    )
    return replace(song, master=(), sections=sections) if song.master else song


def _silenced(song: Song, family: str) -> Song:
    return replace(song, layers=tuple(replace(x, muted=True) if x.family == family else x for x in song.layers))
