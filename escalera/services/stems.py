"""Stems brought in together: read lightly one by one, tempo, key and form from their sum, laid as the layers of a song."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from itertools import repeat
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.recordings import Sample, sample_of
from escalera.core.samples.stem_names import family_of_stem
from escalera.core.study.heard_track import Given, GivenSection, StudyReading
from escalera.core.study.kit import Stem, arrivals, song_of_kit
from escalera.errors import EscaleraError, InputError, RenderStopped
from escalera.formats.file_says import began_at_s
from escalera.formats.recording import RecordingWriter, blocks_of, heading
from escalera.lazy_dataclasses import dataclass
from escalera.listen.bar_track import TrackBars
from escalera.listen.track_form import bar_sound, find_sections
from escalera.listen.track_reading import Known, read_track
from escalera.services.reading_worker import LimitedReader
from escalera.services.samples import SUFFIXES
from escalera.services.study_reading import COMMON_LUFS, Read, hear, study
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

MOST_STEMS = 64
READERS = 2
SAME = 0.9995  # likeness of envelopes from which on two stems are one
STEADY = 0.0025  # by which tempi may differ over a kit that was made to a click
BLOCK = 10 * RATE_HZ
BEGINS_S = 0.03
MOST_LATE_S = 1800.0  # that a stem may begin after the first one
WHOLE = 0.15  # of a bar that the last one may lack
ROUND = 0.0006  # by which a tempo may lie off a whole number that was meant
TONAL = ("low end", "chords", "leads", "voices")
Tell = Callable[[float], None]
Wanted = Callable[[], bool]
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class KitRead:
    """What became of a folder of stems: the song's id, and what was left out and why."""

    song_id: int
    said: tuple[str, ...]


def stem_files(folder: Path) -> list[Path]:
    """The recordings of a folder, in the order of their names. Raises InputError where there is none."""
    found = (
        sorted(f for f in folder.iterdir() if f.is_file() and f.suffix.lower() in SUFFIXES)
        if folder.is_dir()
        else [folder]
    )
    if not found:
        raise InputError(
            f"{folder.name} holds no recordings. Choose a folder with stems, or one file of many channels."
        )
    if len(found) > MOST_STEMS:
        raise InputError(
            f"{folder.name} holds {len(found)} recordings, and {MOST_STEMS} stems are taken. Put some together first."
        )
    return found


def bring_in_stems(
    studio: Studio, files: Sequence[tuple[Path, str]], title: str, tempo_bpm: float = 0.0, tell: Tell = lambda share: None,
    wanted: Wanted = lambda: True,
) -> KitRead:  # fmt: skip
    """A song of stems, (file, name) each, or of one file with many channels. Raises InputError where nothing is left to lay, or where no
    bars can be read."""
    with _Apart(studio, files) as parts:
        read, said = _read(studio, parts, tell, wanted)
        begins = _common_start([path for path, _ in parts])
    samples, more = _different(studio, [id for id in read if id is not None])
    said += more
    if not samples:
        raise InputError("Nothing of it can be laid: " + " ".join(said[:4]))
    late = dict(zip(reversed(read), reversed(begins)))  # of the same stem twice, as the first one
    stems = [_stem(studio, id, sample, late[id]) for id, sample in samples]
    with tempfile.TemporaryDirectory(dir=studio.folder) as folder:
        whole = _Sum(stems, Path(folder))
        try:
            reading, stems = _read_together(stems, whole.read, tempo_bpm, tell, wanted)
        finally:
            whole.close()
    loud = reading.loudness_lufs if reading.loudness_lufs is not None else COMMON_LUFS
    song = song_of_kit(reading, stems, title or "Remix", round(COMMON_LUFS - loud, 1))
    tell(1.0)
    return KitRead(studio.add_song(song, f"{len(stems)} stems laid"), tuple(said))


def bounce_of_stems(
    studio: Studio,
    files: Sequence[tuple[Path, str]],
    song_id: int,
    tell: Tell = lambda share: None,
    wanted: Wanted = lambda: True,
) -> int:
    """The stems of a song's mix added up and kept as a bounce of it; the bounce's id. Raises InputError where none can be read."""
    reader, contents = LimitedReader(), list[str]()
    with tempfile.TemporaryDirectory(dir=studio.folder) as folder:
        library.add_folder(Path(folder))
        try:
            for number, (path, _) in enumerate(files):
                if not wanted():
                    raise RenderStopped("Adding the stems up was called off.")
                with suppress(EscaleraError):  # a silent or broken one adds nothing
                    contents.append(reader.read(path, Path(folder), light=True).content)
                tell(0.8 * (number + 1) / len(files))
            audio = _added(contents)
        finally:
            reader.close()
            library.remove_folder(Path(folder))
    if audio is None:
        raise InputError(f"None of the {len(files)} stems can be read, or all are silent. Bring in others.")
    name = f"{len(contents)} stems of {studio.head(song_id).song.title}"
    return studio.add_bounce(
        song_id, studio.samples.add_audio(name, audio, "", "own", "stems added up"), "given as stems"
    )


def _added(contents: list[str]) -> Audio | None:
    """The sum of recordings of the library, (2, n)."""
    total: Audio | None = None
    for content in contents:
        part = library.read(content)
        if part is None or not part.shape[1]:
            continue
        pair = part[[0, -1]]
        if total is None:
            total = pair.copy()
        elif pair.shape[1] <= total.shape[1]:
            total[:, : pair.shape[1]] += pair
        else:
            pair[:, : total.shape[1]] += total
            total = pair
    return total


class _Apart:
    """The files, or the channels of a single one as files of their own for a while."""

    def __init__(self, studio: Studio, files: Sequence[tuple[Path, str]]):
        self._files, self._folder = list(files), studio.folder / "kit-channels"
        self._made: list[Path] = []

    def __enter__(self) -> list[tuple[Path, str]]:
        if len(self._files) != 1 or (channels := heading(self._files[0][0]).channels) <= 2:
            return self._files
        path, name = self._files[0]
        probe = LimitedReader()
        try:
            probe.read(path, None, light=True)  # what it does to a decoder is done to another process first
        finally:
            probe.close()
        self._folder.mkdir(exist_ok=True)
        self._made = [self._folder / f"{path.stem[:40]}, channel {i + 1}.flac" for i in range(channels)]
        writers = [RecordingWriter(file, 1) for file in self._made]
        for block in blocks_of(path, every_channel=True):
            for writer, channel in zip(writers, block):
                writer.write(channel[None, :])
        for writer in writers:
            writer.finish()
        return [(file, f"{Path(name).stem}, channel {i + 1}.flac") for i, file in enumerate(self._made)]

    def __exit__(self, *_: object) -> None:
        for file in self._made:
            file.unlink(missing_ok=True)


def _read(
    studio: Studio, files: Sequence[tuple[Path, str]], tell: Tell, wanted: Wanted
) -> tuple[list[int | None], list[str]]:
    """Every file read lightly, two at a time; ids of the samples in order, None for what was refused, and why it was."""
    readers = [LimitedReader() for _ in range(READERS)]
    found: list[int | None] = [None] * len(files)
    said: list[str] = []

    def one(index: int) -> None:
        if not wanted():
            return
        path, name = files[index]
        try:
            found[index] = studio.samples.add_file(path, name, light=True, reader=readers[index % READERS])[0]
        except EscaleraError as error:
            said.append(f"{name}: {error}")
        tell(0.7 * sum(f is not None for f in found) / len(files))

    try:
        with ThreadPoolExecutor(READERS) as pool:
            list(pool.map(one, range(len(files))))
    finally:
        for reader in readers:
            reader.close()
    if not wanted():
        raise RenderStopped("Bringing in the stems was called off.")
    return found, said


def _different(studio: Studio, ids: list[int]) -> tuple[list[tuple[int, Sample]], list[str]]:
    """The samples of a kit, those that are the same but for their level once each."""
    kept: list[tuple[int, Sample]] = []
    said: list[str] = []
    for id in ids:
        card, reading = studio.samples.card(id), studio.samples.reading(id)
        sample = sample_of(card.content, card.name, reading, card.source, card.licence, card.credit)
        twin = next((k for _, k in kept if k.content == sample.content or _same(k, sample)), None)
        if twin is None:
            kept.append((id, sample))
        else:
            said.append(f"{sample.name} is the same as {twin.name}, and is left out.")
    return kept, said


def _same(one: Sample, other: Sample) -> bool:
    if abs(one.seconds - other.seconds) > 0.02 or one.slot_s != other.slot_s:
        return False
    a, b = (np.sqrt(x.power) for x in (one, other))
    size = min(len(a), len(b))
    a, b = a[:size], b[:size]
    return float((a * b).sum()) >= SAME * float(np.sqrt((a**2).sum() * (b**2).sum()) + 1e-12)


def _common_start(paths: list[Path]) -> list[float]:
    """By how many seconds every file begins after the first one, as broadcast waves say; 0 where they say nothing, or not all do."""
    moments = [began_at_s(path) for path in paths]
    known = [m for m in moments if m is not None]
    if not known or len(known) < len(paths) or max(known) - min(known) > MOST_LATE_S:
        return [0.0] * len(paths)
    return [m - min(known) for m in known]


def _stem(studio: Studio, id: int, sample: Sample, late_s: float) -> Stem:
    family, why = family_of_stem(sample.name, studio.samples.reading(id))
    return Stem(sample, family, why, late_s)


class _Sum:
    """The sum of stems, (2, n), kept in a file of samples while it is read again: thirty stems are not decoded twice."""

    def __init__(self, stems: list[Stem], folder: Path):
        self._length = max(round((s.offset_s + s.sample.seconds) * RATE_HZ) for s in stems)
        self._stems, self._done = stems, 0
        self._kept = np.memmap(folder / "sum.raw", np.float32, "w+", shape=(self._length, 2))
        self._pool = ThreadPoolExecutor(READERS)

    def read(self, low: int, count: int) -> Audio | None:
        high = min(self._length, low + count)
        while self._done < high:
            upto = min(self._length, self._done + BLOCK)
            size = upto - self._done
            for at, part in self._pool.map(_piece, self._stems, repeat(self._done), repeat(size)):
                if part is not None and part.shape[1]:
                    self._kept[at : at + part.shape[1]] += part[[0, -1]].T
            self._done = upto
        return np.array(self._kept[low:high].T) if low < high else None

    def close(self) -> None:
        self._pool.shutdown()
        del self._kept


def _piece(stem: Stem, low: int, count: int) -> tuple[int, Audio | None]:
    """What a stem has between two samples of its kit, and where that begins."""
    late = round(stem.offset_s * RATE_HZ)
    begin = max(low, late)
    return begin, library.read(stem.sample.content, begin - late, low + count - begin) if begin < low + count else None


def _read_together(
    stems: list[Stem], read: Read, tempo_bpm: float, tell: Tell, wanted: Wanted
) -> tuple[StudyReading, list[Stem]]:
    """The reading of the sum, its sections where stems come and go, its tempo even where it nearly is; stems with tempo and key of the kit."""
    heard = hear(read, lambda share: tell(0.7 + 0.2 * share), wanted)
    track = read_track(heard.frames, Known(tempo_bpm=tempo_bpm))
    if track.bars is None:
        raise InputError("No steady beat is kept by these stems together. Say their tempo, and bring them in again.")
    grid = _even(track.bars, heard.frames.seconds, tempo_bpm)
    bars_s = grid.bars_s
    sound = bar_sound(heard.frames, grid, None)
    edges = find_sections(sound, float(np.median(np.diff(bars_s))), more=arrivals(stems, bars_s)).edges
    given = Given(sections=tuple(GivenSection(float(bars_s[e])) for e in edges[:-1]))
    found = study(read, given, heard, lambda share: tell(0.85 + 0.15 * share), wanted, grid)
    known = [replace(s, sample=_of_kit(s.sample, s.family, found)) for s in stems]
    return found, known


def _of_kit(sample: Sample, family: str, reading: StudyReading) -> Sample:
    """A stem's sample in the tempo and key of its kit, so that either can be changed later and each stem says what it must do."""
    return replace(
        sample, tempo_bpm=float(reading.tempo_bpm or 0.0), beats_a_bar=reading.beats_a_bar,
        key=(reading.key or "") if family in TONAL else "",
    )  # fmt: skip


def _even(bars: TrackBars, seconds: float, tempo_bpm: float) -> TrackBars:
    """Bars laid evenly where they nearly are, at a round tempo where one is near, up to the end: made to a click."""
    lengths = np.diff(bars.bars_s[: -1 if len(bars.bars_s) > 3 else None]) / bars.beats_a_bar
    if not tempo_bpm and np.percentile(lengths, 90) - np.percentile(lengths, 10) > 2 * STEADY * float(
        np.median(lengths)
    ):
        return bars
    numbers = np.arange(len(bars.beats_s))
    slope, start = np.polyfit(numbers, bars.beats_s, 1)
    found = 60.0 / float(slope)
    bpm = tempo_bpm or float(round(found) if abs(found - round(found)) < ROUND * found else round(found, 2))
    middle = float(numbers.mean())
    first = float(start + slope * middle) - (middle - bars.before) * 60.0 / bpm  # of the first whole bar
    first = 0.0 if abs(first) < BEGINS_S else first
    if first < 0.0:
        return bars
    beat = 60.0 / bpm
    before = min(bars.before, int(first / beat + WHOLE))
    count = max(1, int((seconds - first) / (beat * bars.beats_a_bar) + WHOLE)) * bars.beats_a_bar
    even = first + beat * np.arange(-before, count + 1)
    return TrackBars(np.maximum(0.0, even), bars.beats_a_bar, bars.confidence, bars.metre_confidence, before)


def title_of_kit(name: str) -> str:
    """A song's title from the name of a folder or file."""
    plain = re.sub(r"[_\-]+", " ", Path(name).stem)
    return re.sub(r"\b(stems?|kit|remix|multitracks?)\b", "", plain, flags=re.I).strip().title()[:80] or "Remix"


def kit_result(studio: Studio) -> tuple[int, list[str]] | str:
    """What became of the last stems: the song and what was left out, or why nothing was laid; empty where none were brought in."""
    last = studio.last_job("stems")
    if last is None or not last.done:
        return ""
    if last.state != "done" or not last.file:
        return last.trouble
    lines = studio.jobs.path(last).read_text().splitlines()
    return int(lines[0].split()[1]), lines[1:]
