"""A pack: a song with all that a receiver needs, as one stored zip that is written as it is made."""

from __future__ import annotations

import hashlib
import json
import shutil
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Layer, Song
from escalera.core.handing.file_names import ToName, file_names, plain_name
from escalera.core.handing.form_sheet import form_text
from escalera.core.handing.handed_tables import automation_rows, credits_text, marker_rows, words_text
from escalera.core.handing.receivers import PARTS, RECEIVERS
from escalera.core.handing.recipes import recipes
from escalera.core.handing.sheets import lead_sheet, part_sheets
from escalera.core.joins import played
from escalera.core.reading.rights import used_samples
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import InputError, RenderStopped
from escalera.formats.bundle import write_bundle
from escalera.formats.midi_write import write_midi
from escalera.formats.musicxml_write import write_musicxml
from escalera.formats.print_pages import chord_chart, lead_page
from escalera.formats.project import write_project
from escalera.formats.tables import csv_text
from escalera.formats.wav_cues import info_chunk
from escalera.formats.wav_stream import FLOAT_BITS, WavStream
from escalera.services.exporting import wav_cues
from escalera.services.join_service import cues_csv
from escalera.services.rendering import Rendering
from escalera.services.sample_report import rights_csv
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

WINDOW_S = 20
AUDIO = ("mix", "premaster", "dry", "wet", "buses", "no-voices", "no-drums")
LEFT_OUT = {"no-voices": "voices", "no-drums": "drums"}
SPARE_BYTES = 200_000_000
README, MANIFEST, SUMS = "README.txt", "manifest.json", ".sum.unfinished"
Audio = NDArray[np.float32]
Blocks = Iterator[Audio]


@dataclass(frozen=True, slots=True)
class PackOptions:
    """What goes into a pack, how its files are named, whom it is for; progress and calling off as for exports."""

    parts: tuple[str, ...]
    scheme: str = "number"
    receiver: str = ""
    tell: Callable[[float], None] = lambda share: None
    wanted: Callable[[], bool] = lambda: True


@dataclass
class _Pack:
    """A zip that grows; every file with its size, hash and what it is."""

    zip: zipfile.ZipFile
    folder: Path
    files: list[dict[str, object]] = field(default_factory=list)

    def add(self, name: str, data: bytes | str, what: str) -> None:
        data = data.encode() if isinstance(data, str) else data
        self.zip.writestr(name, data)
        self._note(name, len(data), hashlib.sha256(data).hexdigest(), crc32(data), what)

    def add_file(self, name: str, path: Path, what: str) -> None:
        """A file on disk, streamed."""
        with path.open("rb") as source, self.grown(name, what) as write:
            while block := source.read(1 << 20):
                write(block)

    @contextmanager
    def grown(self, name: str, what: str) -> Iterator[Callable[[bytes], object]]:
        """A file that is written piece by piece."""
        digest, size, crc = hashlib.sha256(), 0, 0
        with self.zip.open(name, "w", force_zip64=True) as out:

            def write(data: bytes) -> None:
                nonlocal size, crc
                digest.update(data)
                out.write(data)
                size += len(data)
                crc = crc32(data, crc)

            yield write
        self._note(name, size, digest.hexdigest(), crc, what)

    def _note(self, name: str, size: int, digest: str, crc: int, what: str) -> None:
        self.files.append({"path": name, "bytes": size, "sha256": digest, "crc32": crc, "what": what})


class _Sound:
    """The audio of a pack, written window by window."""

    def __init__(self, song: Song, rendering: Rendering, options: PackOptions, pack: _Pack):
        self.song, self.renderer, self.options, self.pack = song, rendering.renderer, options, pack
        self.bare = without_mix_effects(song)
        self.line, self.bare_line = timeline(song), timeline(self.bare)
        total = self.line.samples(RATE_HZ)[-1] + self.renderer.tail_samples(song, self.line) if self.line.spans else 0
        edges = sorted({*self.line.samples(RATE_HZ), *range(0, total, WINDOW_S * RATE_HZ), total})
        self.windows = list(zip(edges, edges[1:]))
        placed = {p.layer_id for s in played(song).sections for p in s.placements}
        self.layers = [x for x in song.layers if not x.muted and x.id in placed]
        self.families = list(dict.fromkeys(x.family for x in self.layers))
        self.steps, self.done = max(1, self._count()), 0
        self.off_db: float | None = None

    def _count(self) -> int:
        per = {"dry": len(self.layers), "wet": len(self.layers), "buses": len(self.families) + 1}
        return sum(per.get(part, 1) for part in self.options.parts if part in AUDIO)

    def bytes_wanted(self) -> int:
        samples = self.windows[-1][1] if self.windows else 0
        return self.steps * samples * 8

    def _blocks(self, make: Callable[[int, int], Audio]) -> Blocks:
        def window(edges: tuple[int, int]) -> Audio:
            if not self.options.wanted():
                raise RenderStopped("The pack was called off. Nothing was written.")
            return make(*edges)

        with ThreadPoolExecutor(2) as pool:
            yield from pool.map(window, self.windows)
        self.done += 1
        self.options.tell(0.97 * self.done / self.steps)

    def _write(self, name: str, blocks: Blocks, what: str, bits: int = FLOAT_BITS) -> None:
        samples = self.windows[-1][1] if self.windows else 0
        told = f"{self.song.tempo_bpm:g} bpm, {self.song.metre}, {key_text(self.song.key)}"
        with self.pack.grown(name, what) as write:
            out = WavStream(write, RATE_HZ, samples, bits, wav_cues(self.song, 0, samples), info_chunk(name, told))
            for block in blocks:
                out.add(block)
            out.end()

    def write(self) -> None:
        title = plain_name(self.song.title)
        for part in (p for p in AUDIO if p in self.options.parts):
            if part == "mix":
                self._write(f"{title}-mix.wav", self._mix(self.song), PARTS[part], 24)
            elif part in LEFT_OUT:
                self._write(f"{title}-{part}.wav", self._mix(_silenced(self.song, LEFT_OUT[part])), PARTS[part], 24)
            elif part == "premaster":
                self._write(f"{title}-premaster.wav", self._premaster(), PARTS[part])
            elif part == "buses":
                self._buses(title)
            else:
                self._layers(part)

    def _mix(self, song: Song) -> Blocks:
        yield from self.renderer.blocks(song, None, self.options.wanted)
        self.done += 1
        self.options.tell(0.97 * self.done / self.steps)

    def _premaster(self) -> Blocks:
        return self._blocks(lambda low, high: self.renderer.before_master(self.bare, self.bare_line, low, high))

    def _layers(self, part: str) -> None:
        names = file_names(
            self.song.title, [ToName(i, x.name, x.family) for i, x in enumerate(self.layers, 1)], self.options.scheme
        )
        for layer, name in zip(self.layers, names):
            self._write(f"{part}/{name}.wav", self._layer(layer, part == "wet"), f"{layer.name}, {part}")

    def _layer(self, layer: Layer, wet: bool) -> Blocks:
        only = frozenset((layer.id,))
        return self._blocks(
            lambda low, high: self.renderer.before_master(self.bare, self.bare_line, low, high, only, wet)
        )

    def _buses(self, title: str) -> None:
        """Families through their buses, and the rooms; their sum is held against the song's own, window by window."""
        names = file_names(
            self.song.title, [ToName(i, f, f) for i, f in enumerate(self.families, 1)], self.options.scheme
        )
        sums = _Sums(self.pack.folder / SUMS)
        for family, name in zip(self.families, names):
            blocks = self._blocks(partial(self._bus, family))
            self._write(f"buses/{name}.wav", sums.through(blocks), f"All {family} through their bus, without rooms")
        rooms = self._blocks(lambda low, high: self.renderer.rooms_before_mix(self.bare, self.bare_line, low, high))
        self._write("buses/rooms-and-echoes.wav", sums.through(rooms), "What the shared rooms and echoes bring")
        off = power = 0.0
        for low, high in self.windows:
            whole = self.renderer.before_master(self.bare, self.bare_line, low, high)
            off += float(((whole - sums.at(low, high)).astype(np.float64) ** 2).sum())
            power += float((whole.astype(np.float64) ** 2).sum())
        sums.close()
        self.off_db = round(float(10 * np.log10(max(off, 1e-30) / power)), 1) if power > 0 else None

    def _bus(self, family: str, low: int, high: int) -> Audio:
        return self.renderer.bus_before_mix(self.bare, self.bare_line, low, high, family)


class _Sums:
    """A running sum of files of one length, kept on disk, (2, n) float32 interleaved."""

    def __init__(self, path: Path):
        self.path, self._file = path, path.open("w+b")

    def through(self, blocks: Blocks) -> Blocks:
        """The blocks as they come, each added to what lies there."""
        at = 0
        for block in blocks:
            self._file.seek(at * 8)
            kept = np.frombuffer(self._file.read(block.shape[1] * 8), np.float32)
            total = block.T.astype(np.float32).copy()
            total[: len(kept) // 2] += kept.reshape(-1, 2)
            self._file.seek(at * 8)
            self._file.write(np.ascontiguousarray(total).tobytes())
            at += block.shape[1]
            yield block

    def at(self, low: int, high: int) -> Audio:
        self._file.seek(low * 8)
        return np.frombuffer(self._file.read((high - low) * 8), np.float32).reshape(-1, 2).T

    def close(self) -> None:
        self._file.close()
        self.path.unlink(missing_ok=True)


def without_mix_effects(song: Song) -> Song:
    """The song as it is before the mix's own effects: its level stays."""
    sections = tuple(
        replace(s, curves=tuple(c for c in s.curves if not c.lane.startswith("master.fx"))) for s in song.sections
    )
    return replace(song, master=(), sections=sections) if song.master else song


def _silenced(song: Song, family: str) -> Song:
    return replace(song, layers=tuple(replace(x, muted=True) if x.family == family else x for x in song.layers))


def write_pack(song: Song, rendering: Rendering, options: PackOptions, target: Path) -> dict[str, object]:
    """Write a pack; its manifest. It is written beside its place and renamed when it is whole. Raises InputError where there is no room, or
    nothing to hand over."""
    if not song.sections:
        raise InputError("This song has no sections yet, so that there is nothing to hand over. Lay out a form first.")
    fresh = target.with_name(f".{target.name}.unfinished")
    folder = target.parent
    try:
        with zipfile.ZipFile(fresh, "w", zipfile.ZIP_STORED, allowZip64=True) as out:
            pack = _Pack(out, folder)
            sound = _Sound(song, rendering, options, pack)
            _room(folder, sound.bytes_wanted() if any(p in AUDIO for p in options.parts) else 0)
            for part in options.parts:
                if part in WRITERS:
                    WRITERS[part](song, pack, options)
            sound.write()
            pack.add(README, _readme(song, options, pack, sound), "What is what")
            manifest: dict[str, object] = {
                "title": song.title, "parts": list(options.parts), "for": options.receiver, "sum_of_buses_off_db": sound.off_db,
                "files": pack.files,
            }  # fmt: skip
            out.writestr(MANIFEST, json.dumps(manifest, indent=1, ensure_ascii=False))
        fresh.replace(target)
    finally:
        fresh.unlink(missing_ok=True)
        (folder / SUMS).unlink(missing_ok=True)
    options.tell(1.0)
    return manifest


def _room(folder: Path, wanted: int) -> None:
    free = shutil.disk_usage(folder).free
    if free < wanted + SPARE_BYTES:
        raise InputError(
            f"The pack takes about {wanted / 1e6:,.0f} MB, and {free / 1e6:,.0f} MB are free. Make room, or leave out stems (--only, or other parts)."
        )


Writer = Callable[[Song, _Pack, PackOptions], None]
WRITERS: dict[str, Writer] = {}


def _part(key: str) -> Callable[[Writer], Writer]:
    def register(write: Writer) -> Writer:
        WRITERS[key] = write
        return write

    return register


@_part("midi")
def _midi(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add(f"{plain_name(song.title)}.mid", write_midi(song), PARTS["midi"])


@_part("lead-sheet")
def _lead(song: Song, pack: _Pack, options: PackOptions) -> None:
    sheet = lead_sheet(song)
    pack.add("sheets/lead-sheet.musicxml", write_musicxml(sheet), "Melody, words, chords, sections: MusicXML 4.0")
    pack.add("sheets/lead-sheet.html", lead_page(sheet), "The lead sheet as a page to print")


@_part("scores")
def _scores(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("sheets/parts.musicxml", write_musicxml(part_sheets(song)), PARTS["scores"])


@_part("chords")
def _chords(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("sheets/chords.html", chord_chart(lead_sheet(song)), PARTS["chords"])


@_part("lyrics")
def _lyrics(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("lyrics.txt", words_text(song), PARTS["lyrics"])


@_part("cues")
def _cues(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("tables/sections.csv", csv_text(marker_rows(song)), "Sections: bars, clock time, tempo, key")
    pack.add("form.txt", form_text(song), "The form as text, to be read by people and by Import")
    pack.add("tables/joins.csv", cues_csv(song), "What carries every join")


@_part("recipes")
def _recipes(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("recipes.txt", recipes(song), PARTS["recipes"])


@_part("automation")
def _automation(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("tables/automation.csv", csv_text(automation_rows(song)), PARTS["automation"])


@_part("samples")
def _samples(song: Song, pack: _Pack, options: PackOptions) -> None:
    used = used_samples(song)
    names = file_names(song.title, [ToName(i, u.sample.name, "samples") for i, u in enumerate(used, 1)], options.scheme)
    for each, name in zip(used, names):
        path = library.path(each.sample.content)
        if path is not None:
            pack.add_file(f"samples/{name}{path.suffix}", path, f"{each.sample.name}: {each.licence.label}")
    pack.add("tables/samples.csv", rights_csv(song), "Every recording: source, licence, credit")


@_part("credits")
def _credits(song: Song, pack: _Pack, options: PackOptions) -> None:
    pack.add("credits.txt", credits_text(song), PARTS["credits"])


@_part("project")
def _project(song: Song, pack: _Pack, options: PackOptions) -> None:
    path = pack.folder / "project.zip.part"
    found = {s.content: library.path(s.content) for s in song.samples}
    write_bundle(write_project(song), {content: file for content, file in found.items() if file}, path)
    pack.add_file("project.zip", path, PARTS["project"])
    path.unlink()


def _readme(song: Song, options: PackOptions, pack: _Pack, sound: _Sound) -> str:
    """What is what, for somebody who has nothing but the pack."""
    whom = f" for {RECEIVERS[options.receiver].label.lower()}" if options.receiver in RECEIVERS else ""
    line = timeline(song)
    lines = [
        f"{song.title}{whom}", "", f"{song.tempo_bpm:g} bpm, {song.metre}, {key_text(song.key)}, tuned to A = {song.tuning_hz:g} Hz, {song.bars} bars, {line.seconds:.1f} s",
        f"Sound: {RATE_HZ} samples a second; every file begins at bar 1 and lasts as long as the others, tails included.",
    ]  # fmt: skip
    if sound.off_db is not None:
        lines.append(
            f"Buses, rooms and echoes add up to the sum before the mix's effects: what is left over lies {-sound.off_db:.0f} dB under it."
        )
    if song.master:
        lines.append(
            "The mix has effects of its own, and a limiter; stems and the sum are taken before them. They are written down among the recipes."
        )
    lines += ["", "Form:"] + [f"  {s.section.name}: bars {s.first_bar}-{s.last_bar}" for s in line.spans]
    lines += ["", "Files:"] + [f"  {f['path']}: {f['what']}" for f in pack.files]
    return "\n".join([*lines, "", "Start your loudspeakers low: stems are as loud as they are in the mix.", ""])


def checked_manifest(path: Path, thorough: bool = False) -> list[str]:
    """What of a pack is not as it was written, a sentence each; empty where all of it is. By sizes and checksums of the zip's own list, or
    with `thorough` by reading all of it again. Raises InputError where it is no pack."""
    try:
        with zipfile.ZipFile(path) as pack:
            told = json.loads(pack.read(MANIFEST))
            return [said for row in told["files"] if (said := _off(pack, row, thorough))]
    except (OSError, KeyError, ValueError, TypeError, zipfile.BadZipFile) as error:
        raise InputError(
            f"{path.name} is no pack, or a broken one. Choose a zip that was made by this program."
        ) from error


def _off(pack: zipfile.ZipFile, row: dict[str, object], thorough: bool) -> str:
    name = str(row["path"])
    if name not in pack.namelist():
        return f"{name} is missing."
    info = pack.getinfo(name)
    same = (info.file_size, info.CRC) == (row["bytes"], row["crc32"])
    if same and thorough:
        digest = hashlib.sha256()
        with pack.open(name) as source:
            while block := source.read(1 << 20):
                digest.update(block)
        same = digest.hexdigest() == row["sha256"]
    return "" if same else f"{name} is not as it was written."
