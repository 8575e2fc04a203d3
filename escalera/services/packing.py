"""A pack: a song with all that a receiver needs, as one stored zip that is written as it is made."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import field
from pathlib import Path
from typing import IO
from zlib import crc32

from escalera.core.document.song import Song
from escalera.core.handing.file_names import ToName, file_names, plain_name
from escalera.core.handing.form_sheet import form_text
from escalera.core.handing.handed_tables import automation_rows, credits_text, marker_rows, words_text
from escalera.core.handing.receivers import PARTS, RECEIVERS
from escalera.core.handing.recipes import recipes
from escalera.core.handing.sheets import lead_sheet, part_sheets
from escalera.core.reading.rights import used_samples
from escalera.core.reading.timeline import timeline
from escalera.core.theory.keys import key_text
from escalera.errors import InputError, shown
from escalera.formats.audio import KINDS
from escalera.formats.bundle import write_bundle
from escalera.formats.calendar import STAMPED, DatedSong, calendar_bytes
from escalera.formats.midi_write import write_midi
from escalera.formats.musicxml_write import write_musicxml
from escalera.formats.print_pages import chord_chart, lead_page
from escalera.formats.project import write_project
from escalera.formats.tables import csv_text
from escalera.formats.wav_stream import Write
from escalera.lazy_dataclasses import dataclass
from escalera.services.join_service import cues_csv
from escalera.services.pack_sound import FLAC_LOWER_DB, ClippedError, PackSound, SoundOptions
from escalera.services.rendering import Rendering
from escalera.services.sample_report import rights_csv
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

SPARE_BYTES = 200_000_000
WRITTEN_BEHIND = 2  # pieces that may wait to be written
README, MANIFEST, WAITING = "README.txt", "manifest.json", "waiting"


@dataclass(frozen=True, slots=True)
class PackOptions:
    """What goes into a pack, how its files are named, whom it is for, wav or flac; progress and calling off as for exports."""

    parts: tuple[str, ...]
    scheme: str = "number"
    receiver: str = ""
    kind: str = "wav"
    tell: Callable[[float], None] = lambda share: None
    wanted: Callable[[], bool] = lambda: True


def _hash(data: bytes = b"") -> hashlib.blake2b:
    """As `b2sum -l 256` has it: half the work of older hashes, for gigabytes of stems."""
    return hashlib.blake2b(data, digest_size=32)


class _Behind:
    """Bytes that are hashed and written in their order while the next ones are made."""

    def __init__(self, out: IO[bytes]):
        self._out, self._pending = out, deque[Future[None]]()
        self._thread = ThreadPoolExecutor(1)
        self.digest, self.size = _hash(), 0

    def write(self, data: bytes | memoryview) -> None:
        """Hand on bytes, which may not be changed any more."""
        self.size += len(data)
        self._pending.append(self._thread.submit(self._down, data))
        if len(self._pending) > WRITTEN_BEHIND:
            self._pending.popleft().result()

    def _down(self, data: bytes | memoryview) -> None:
        self.digest.update(data)
        self._out.write(data)

    def __enter__(self) -> _Behind:
        return self

    def __exit__(self, *_: object) -> None:
        self._thread.shutdown()
        for each in self._pending:
            each.result()


@dataclass
class _Pack:
    """A zip that grows; every file with its size, hash and what it is."""

    zip: zipfile.ZipFile
    folder: Path
    files: list[dict[str, object]] = field(default_factory=list)
    _waits: tuple[str, str, _Behind] = field(init=False)

    def add(self, name: str, data: bytes | str, what: str) -> None:
        data = data.encode() if isinstance(data, str) else data
        self.zip.writestr(name, data)
        self._note(name, len(data), _hash(data).hexdigest(), crc32(data), what)

    def add_file(self, name: str, path: Path, what: str) -> None:
        """A file on disk, streamed."""
        with path.open("rb") as source, self.grown(name, what) as write:
            while block := source.read(1 << 20):
                write(block)

    @contextmanager
    def grown(self, name: str, what: str) -> Iterator[Write]:
        """A file that is written piece by piece."""
        with self.zip.open(name, "w", force_zip64=True) as out, _Behind(out) as behind:
            yield behind.write
        self._note(name, behind.size, behind.digest.hexdigest(), self.zip.getinfo(name).CRC, what)

    @contextmanager
    def waiting(self, name: str, what: str) -> Iterator[Write]:
        """As `grown`, beside a file that is grown at the same time; `take_in` puts it into the zip afterwards."""
        path = self.folder / WAITING
        path.touch()
        with path.open("r+b") as out, _Behind(out) as behind:  # written over: new space on disk takes time
            yield behind.write
        self._waits = (name, what, behind)

    def take_in(self) -> None:
        name, what, behind = self._waits
        left = behind.size
        with (self.folder / WAITING).open("rb") as source, self.zip.open(name, "w", force_zip64=True) as out:
            while block := source.read(min(left, 1 << 20)):
                out.write(block)
                left -= len(block)
        self._note(name, behind.size, behind.digest.hexdigest(), self.zip.getinfo(name).CRC, what)

    def _note(self, name: str, size: int, digest: str, crc: int, what: str) -> None:
        self.files.append({"path": name, "bytes": size, "blake2b": digest, "crc32": crc, "what": what})


def write_pack(song: Song, rendering: Rendering, options: PackOptions, target: Path) -> dict[str, object]:
    """Write a pack; its manifest. It is written beside its place and renamed when it is whole. Raises InputError where there is no room, or
    nothing to hand over."""
    if not song.sections:
        raise InputError("This song has no sections yet, so that there is nothing to hand over. Lay out a form first.")
    if options.kind not in KINDS:
        raise InputError(
            f"“{shown(options.kind)}” is no kind of sound file for a pack. Choose one of: {', '.join(KINDS)}."
        )
    *careful, last = FLAC_LOWER_DB if options.kind == "flac" else (0,)
    for lower_db in careful:
        with suppress(ClippedError):
            return _written(song, rendering, options, lower_db, target)
    return _written(song, rendering, options, last, target)


def _written(song: Song, rendering: Rendering, options: PackOptions, lower_db: int, target: Path) -> dict[str, object]:
    fresh = target.with_name(f".{target.name}.unfinished")
    asked = SoundOptions(options.parts, options.scheme, options.kind, lower_db, options.tell, options.wanted)
    try:
        with (
            tempfile.TemporaryDirectory(dir=target.parent, prefix=".pack-") as aside,
            zipfile.ZipFile(fresh, "w", zipfile.ZIP_STORED, allowZip64=True) as out,
        ):
            pack = _Pack(out, Path(aside))
            sound = PackSound(song, rendering.renderer, asked, pack)
            _room(target.parent, sound.bytes_wanted())
            for part in options.parts:
                if part in WRITERS:
                    WRITERS[part](song, pack, options)
            sound.write()
            pack.add(README, _readme(song, options, pack, sound), "What is what")
            manifest: dict[str, object] = {
                "title": song.title, "parts": list(options.parts), "for": options.receiver, "sum_of_buses_off_db": sound.off_db,
                "stems_lowered_by_db": lower_db, "files": pack.files,
            }  # fmt: skip
            out.writestr(MANIFEST, json.dumps(manifest, indent=1, ensure_ascii=False))
        fresh.replace(target)
    finally:
        fresh.unlink(missing_ok=True)
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


@_part("dates")
def _dates(song: Song, pack: _Pack, options: PackOptions) -> None:
    if song.work.due or song.work.release_on:
        dated = DatedSong(plain_name(song.title), song.title, song.work)
        pack.add("dates.ics", calendar_bytes([dated], STAMPED), PARTS["dates"])


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


def _readme(song: Song, options: PackOptions, pack: _Pack, sound: PackSound) -> str:
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
    if options.kind == "flac" and sound.options.lower_db:
        lines.append(
            f"Stems, buses and the sum are {sound.options.lower_db} dB lower than in the mix, all alike, so that none is clipped: raise all of them together."
        )
    if song.master:
        lines.append(
            "The mix has effects of its own, and a limiter; stems and the sum are taken before them. They are written down among the recipes."
        )
    lines += ["", "Form:"] + [f"  {s.section.name}: bars {s.first_bar}-{s.last_bar}" for s in line.spans]
    files = sorted(pack.files, key=lambda f: str(f["path"]).partition("/")[0])  # as they lie in their folders
    lines += ["", "Files:"] + [f"  {f['path']}: {f['what']}" for f in files]
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
        digest = _hash()
        with pack.open(name) as source:
            while block := source.read(1 << 20):
                digest.update(block)
        same = digest.hexdigest() == row["blake2b"]
    return "" if same else f"{name} is not as it was written."
