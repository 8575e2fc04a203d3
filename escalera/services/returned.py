"""What came back: MIDI, stems, a mix, a project, matched to the song by name, notes and sound. It takes nothing.

Stems are told by how loud they are over time in three zones (below 200 Hz, to 2 kHz, above), 20 ms at a time: those of every layer as it is
rendered now, and of the file, at the delay at which they fit best. A name counts a little, the sound most.
"""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, field
from pathlib import Path
from typing import Any

from rapidfuzz import fuzz

from escalera.core.document.song import Song
from escalera.core.handing.file_names import handed_layers
from escalera.core.handing.merging import KINSHIP as SAME_SONG
from escalera.core.handing.merging import Difference, differences, kinship, nearest
from escalera.core.handing.played_again import Notes, tracks_differ
from escalera.errors import EscaleraError, InputError, RenderStopped
from escalera.formats.bundle import PROJECT
from escalera.formats.midi_read import ChannelNotes, MidiFacts, read_midi
from escalera.formats.midi_write import write_midi
from escalera.formats.project import MAX_BYTES, read_project
from escalera.formats.zip_gate import MOST_ENTRIES, unpacked_files
from escalera.lazy_dataclasses import dataclass
from escalera.services.packing import MANIFEST, checked_manifest
from escalera.services.rendering import Rendering
from escalera.services.returned_sound import AT_ONCE, KNOWN, NAME_COUNTS, LayerSounds, match_of

INSIDE = ".unpacked"  # folders of what was in zips
TEMPO_STEP_BPM = 0.05
States = Iterable[tuple[int, Song]]


@dataclass(frozen=True, slots=True)
class Returned:
    """A file that came back: what it is, the layer it belongs to, how sure that is, its state (same, changed where, new, unread), and the
    ways in which it can be taken."""

    file: str
    kind: str
    layer: str
    confidence: float
    state: str
    where: tuple[str, ...] = ()
    said: str = ""
    ways: tuple[str, ...] = ()
    layer_id: int = 0
    track: int = 0
    sections: tuple[int, ...] = ()
    late_s: float = 0.0
    drawn: tuple[tuple[int, ...], ...] = ()
    base: int = 0  # the state that a project began from
    parts: tuple[Difference, ...] = field(default=())


@dataclass(frozen=True, slots=True)
class ReturnedList:
    """All files, and layers of which none came back where stems or tracks of others did."""

    files: tuple[Returned, ...]
    missing: tuple[str, ...]

    def plain(self) -> dict[str, Any]:
        """As JSON has it."""
        return {"files": [asdict(f) for f in self.files], "missing": list(self.missing)}


def returned_list(
    song: Song, rendering: Rendering, paths: Sequence[Path], states: States = (), tell: Callable[[float], None] = lambda share: None,
    wanted: Callable[[], bool] = lambda: True,
) -> ReturnedList:  # fmt: skip
    """What came back beside what the song has; `states` are earlier ones of it, newest first. Zips are unpacked beside themselves, into
    hidden folders. Raises InputError for more than 500 files or none."""
    files = [f for path in paths for f in (sorted(_files(path)) if path.is_dir() else [path])]
    if not files or len(files) > MOST_ENTRIES:
        raise InputError(f"{len(files)} files were found; 1 to {MOST_ENTRIES} are looked at. Choose the files that came back.")  # fmt: skip
    looking = _Looking(song, LayerSounds(song, rendering), list(states))
    found: list[Returned] = []

    def look(path: Path) -> list[Returned]:
        if not wanted():
            raise RenderStopped("Looking was called off. Nothing was taken.")
        return looking.safely(path)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        for number, rows in enumerate(pool.map(look, files)):
            found += rows
            tell((number + 1) / len(files))
    return ReturnedList(tuple(found), _missing(song, found))


def _files(folder: Path) -> Iterator[Path]:
    return (x for x in folder.rglob("*") if x.is_file() and not any(p.startswith(".") for p in x.relative_to(folder).parts))  # fmt: skip


def file_of(folder: Path, name: str) -> Path:
    """The file of a row, by its name: one that was given, or one that was in a zip. Raises InputError where it is gone."""
    for path in sorted(folder.rglob("*")):
        if path.is_file() and path.name == name:
            return path
    raise InputError(f"{name} is not there any more. Choose the files again.")


def _missing(song: Song, found: list[Returned]) -> tuple[str, ...]:
    told = {f.layer for f in found if f.kind in ("stem", "track") and f.layer}
    if not told:
        return ()
    return tuple(x.name for x in handed_layers(song) if x.name not in told)


@dataclass
class _Looking:
    song: Song
    sound: LayerSounds
    states: list[tuple[int, Song]]

    def safely(self, path: Path) -> list[Returned]:
        try:
            return list(self._read(path))
        except EscaleraError as error:
            return [Returned(path.name, "unknown", "", 0.0, "unread", (), str(error))]
        except OSError as error:
            return [Returned(path.name, "unknown", "", 0.0, "unread", (), f"It cannot be read: {error.strerror or error}.")]  # fmt: skip

    def _read(self, path: Path) -> Iterable[Returned]:
        with path.open("rb") as file:
            start = file.read(4)
        if start == b"MThd":
            return _tracks(self.song, path.name, path.read_bytes())
        if start[:2] == b"PK":
            return self._archive(path)
        if start.lstrip()[:1] == b"{":
            return self._project(path.name, path.read_bytes()[: MAX_BYTES + 1])
        return [self._stem(path)]

    def _archive(self, path: Path) -> Iterable[Returned]:
        """A bundle is its project; of a pack what is not as it was written is looked at, of any other zip all that could be music."""
        names = _names(path)
        if PROJECT in names:
            with zipfile.ZipFile(path) as archive:
                return self._project(path.name, archive.open(PROJECT).read(MAX_BYTES + 1))
        only: tuple[str, ...] = ()
        found: list[Returned] = []
        if MANIFEST in names:
            off = checked_manifest(path)
            said = f"{len(names) - 1} files in it" + ("; those that are not as they were written follow" if off else "")
            found.append(Returned(path.name, "pack", "", 1.0, "changed" if off else "same", tuple(off[:20]), said))
            only = tuple(n for n in names if any(n in line for line in off))
            if not only:
                return found
        inside = unpacked_files(path, path.with_name(f"{INSIDE}-{path.name}"), only)
        return [*found, *(row for file in inside for row in self.safely(file))]

    def _project(self, name: str, data: bytes) -> list[Returned]:
        """A project against the state it began from, among those that the song has been in."""
        other = read_project(data)
        if kinship(self.song, other) < SAME_SONG:
            said = "a project of another song; Import opens it as one of its own"
            return [Returned(name, "project", "", 1.0, "new", (), said)]
        base_id, base = nearest(self.states, other) or (0, self.song)
        parts = tuple(differences(base, self.song, other))
        where = tuple(f"{d.name}: {', '.join(d.what) or d.state}" for d in parts)[:40]
        ways = ("merge", "version") if parts else ()
        said = "" if self.song is base or base == self.song else "it began from an earlier state"
        return [Returned(name, "project", "", 1.0, "changed" if parts else "same", where, said, ways, base=base_id, parts=parts)]  # fmt: skip

    def _stem(self, path: Path) -> Returned:
        self.sound.prepare()
        match = match_of(self.song, self.sound, path)
        if match.layer_id is None:
            new = ("layer",) if match.drawn else ()
            return Returned(path.name, "stem", "", match.confidence, "new", (), match.said, new, drawn=match.drawn)
        state = "changed" if match.where or match.said else "same"
        of_layer = ("layer", "sections") if match.where else ("layer",)
        ways = of_layer if match.layer_id else ("bounce",)
        kind, name = ("stem", match.name) if match.layer_id else ("mix", "")
        return Returned(
            path.name, kind, name, match.confidence, state, match.where, match.said, ways if state == "changed" else ways[:1],
            match.layer_id, 0, match.sections, match.late_s, match.drawn,
        )  # fmt: skip


def _names(path: Path) -> list[str]:
    try:
        with zipfile.ZipFile(path) as archive:
            return archive.namelist()
    except (zipfile.BadZipFile, OSError, ValueError) as error:
        raise InputError(f"The zip {path.name} is not whole. Ask for it again.") from error


# notes --------------------------------------------------------------------------------------------------------------------------


def notes_of(part: ChannelNotes) -> Notes:
    """(start tick, length, pitch, velocity) of a track, from the song's start."""
    return tuple((start, length, pitch, velocity) for start, length, pitch, velocity in part.notes)


def own_tracks(song: Song) -> dict[str, ChannelNotes]:
    """The song's own tracks as its MIDI file has them, by their names; none where it plays no note."""
    try:
        return {p.name: p for p in read_midi(write_midi(song)).parts} if song.sections else {}
    except EscaleraError:
        return {}


def _tracks(song: Song, name: str, data: bytes) -> Iterator[Returned]:
    """Every track beside the layer whose notes or name it has, and the tempo where it is another one."""
    facts, mine = read_midi(data), own_tracks(song)
    yield from _tempo(song, name, facts)
    layers = {x.name: x.id for x in song.layers}
    for number, part in enumerate(facts.parts):
        ranked = sorted(((_likeness(part, own), own) for own in mine.values()), key=lambda r: -r[0])
        share, own = ranked[0] if ranked else (0.0, None)
        if own is None or share < KNOWN:
            said = f"“{part.name}”, {len(part.notes)} notes"
            yield Returned(name, "track", "", 1.0 - share, "new", (), said, ("notes",), track=number)
            continue
        where = tracks_differ(song, notes_of(part), notes_of(own))
        lines = tuple(f"{s.name}: {more} notes more, {fewer} fewer" for s, more, fewer in where)
        ways = ("notes",) if where and own.name in layers else ()
        yield Returned(
            name, "track", own.name, round(share, 3), "changed" if where else "same", lines, "", ways, layers.get(own.name, 0), number,
            tuple(s.id for s, _, _ in where),
        )  # fmt: skip


def _tempo(song: Song, name: str, facts: MidiFacts) -> Iterator[Returned]:
    if facts.tempos and len({bpm for _, bpm in facts.tempos}) == 1:
        bpm = round(facts.tempos[0][1], 2)
        if abs(bpm - song.tempo_bpm) > TEMPO_STEP_BPM and not any(s.tempo_changes for s in song.sections):
            yield Returned(name, "tempo", "", 1.0, "changed", (f"{song.tempo_bpm:g} → {bpm:g} bpm",), "", ("tempo",))


def _likeness(one: ChannelNotes, other: ChannelNotes) -> float:
    """Share of notes that both have (pitch and sixteenth), and how alike the names are."""
    a, b = _places(one), _places(other)
    same = len(a & b) / max(1, len(a | b))
    name = fuzz.token_set_ratio(one.name.casefold(), other.name.casefold()) / 100.0
    return max((1 - NAME_COUNTS) * same + NAME_COUNTS * name, 0.85 if name == 1.0 and one.name else 0.0)


def _places(part: ChannelNotes) -> set[tuple[int, int]]:
    return {(round(start / 240), pitch) for start, _, pitch, _ in part.notes}
