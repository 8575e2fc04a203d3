"""Taking what came back: recordings as pinned layers, mixes as bounces, notes, tempo, a project's parts, or all of it as a version."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from escalera.cleaning import clean_line
from escalera.core.document.limits import MAX_LEVEL_DB, MAX_NAME, MIN_LEVEL_DB
from escalera.core.document.song import Song
from escalera.core.edits import Edit
from escalera.core.edits.song_edits import SetTempo
from escalera.core.handing.merging import TakeMerged
from escalera.core.handing.played_again import TakeStem, TakeTrack
from escalera.core.ideas.placement import with_copied_layer
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, InputError, StaleRevision
from escalera.formats.bundle import is_bundle, read_bundle
from escalera.formats.midi_read import read_midi
from escalera.formats.project import read_project
from escalera.lazy_dataclasses import dataclass
from escalera.services.import_parts import make_layers
from escalera.services.pack_sound import without_mix_effects
from escalera.services.returned import file_of, notes_of, own_tracks
from escalera.services.returned_sound import LayerSounds, fine_delay_s
from escalera.sound.schedule import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

WAYS = {
    "layer": "as a recording, everywhere",
    "sections": "as a recording, only where it differs",
    "bounce": "as a bounce, to be held against the song",
    "notes": "its notes, where they differ",
    "tempo": "the tempo",
    "merge": "part by part, as chosen",
    "version": "as a version, to compare",
}
TRIES = 4
HEARD_S = 20


@dataclass(frozen=True, slots=True)
class Chosen:
    """What is taken of one row: the row as it was found, the way, and of a project the parts (key: mine, theirs, option)."""

    row: Mapping[str, Any]
    way: str
    parts: Mapping[str, str] = field(default_factory=dict)


@dataclass
class _Taking:
    studio: Studio
    song_id: int
    folder: Path
    who: str
    said: list[str] = field(default_factory=list)

    def _came_back(self) -> str:
        return f"came back from {self.who}" if self.who else "came back"

    def stem(self, chosen: Chosen) -> Callable[[Song], list[Edit]]:
        row = chosen.row
        path = file_of(self.folder, row["file"])
        sample_id, _ = self.studio.samples.add_file(
            path, path.name, f"sent by {self.who or 'a collaborator'}", light=True
        )
        sample = self.studio.samples.sample(sample_id)
        sections = tuple(row["sections"]) if chosen.way == "sections" else None
        sound = LayerSounds(self.studio.head(self.song_id).song, self.studio.rendering)
        late_s = row["late_s"]
        if row["layer_id"] in sound.song.layer_by_id:
            late_s = fine_delay_s(sound, row["layer_id"], path, late_s, row["sections"])
        edit = TakeStem(sample, row["layer_id"], late_s, sections, self.who)

        def edits(song: Song) -> list[Edit]:
            if any(c.sample == sample.content for x in song.layers for c in x.clips):
                self.said.append(f"{path.name} is laid already.")
                return []
            return [replace(edit, level_db=_level(self.studio, song, edit))]

        place = f" in place of {row['layer']}" if row["layer_id"] else ""
        self.said.append(f"{path.name} is laid as a recording{place}.")
        return edits

    def bounce(self, chosen: Chosen) -> Callable[[Song], list[Edit]]:
        path = file_of(self.folder, chosen.row["file"])
        sample_id, _ = self.studio.samples.add_file(path, path.name, f"sent by {self.who or 'a collaborator'}")
        self.studio.add_bounce(self.song_id, sample_id, self._came_back())
        self.said.append(f"{path.name} is among the bounces, and is being laid over the bars.")
        return lambda song: []

    def notes(self, chosen: Chosen) -> Callable[[Song], list[Edit]]:
        row = chosen.row
        facts = read_midi(file_of(self.folder, row["file"]).read_bytes())
        part = facts.parts[row["track"]]

        def edits(song: Song) -> list[Edit]:
            if not row["layer_id"]:
                facts.parts = [part]
                layers, _ = make_layers(Song(tempo_bpm=song.tempo_bpm, metre=song.metre, key=song.key), facts, [])
                return [_NewTrack(layers, TakeTrack(0, notes_of(part), ()))]
            own = own_tracks(song).get(row["layer"])
            return [TakeTrack(row["layer_id"], notes_of(part), notes_of(own) if own else ())]

        self.said.append(f"The notes of {row['layer'] or part.name or 'a new track'} were taken.")
        return edits

    def tempo(self, chosen: Chosen) -> Callable[[Song], list[Edit]]:
        bpm = round(read_midi(file_of(self.folder, chosen.row["file"]).read_bytes()).tempos[0][1], 2)
        self.said.append(f"The song runs at {bpm:g} bpm.")
        return lambda song: [SetTempo(bpm)]

    def project(self, chosen: Chosen) -> Callable[[Song], list[Edit]]:
        theirs, base_id = self._theirs(chosen.row["file"]), chosen.row["base"]
        if chosen.way == "version":
            head = self.studio.head(self.song_id).revision_id
            name = self.studio.versions.keep_beside(self.song_id, base_id or head, theirs, self._came_back())  # fmt: skip
            self.said.append(f"Kept as the version “{name}”; compare it in the history.")
            return lambda song: []
        base = self.studio.state(self.song_id, base_id) if base_id else self.studio.head(self.song_id).song
        edit = TakeMerged(base, theirs, chosen.parts, self.who)
        self.said.append("The project was merged as chosen.")
        return lambda song: [edit]

    def _theirs(self, name: str) -> Song:
        path = file_of(self.folder, name)
        with path.open("rb") as file:
            start = file.read(4)
        if not is_bundle(start):
            return read_project(path.read_bytes())
        aside = self.folder / ".recordings"
        project, files = read_bundle(path, aside)
        self.studio.samples.keep_files(files)
        shutil.rmtree(aside, ignore_errors=True)
        return read_project(project)


@dataclass(frozen=True)
class _NewTrack:
    """A track that no layer plays yet, as a layer (drums: one a drum) of its own."""

    layers: Song
    track: TakeTrack

    def apply(self, song: Song) -> Song:
        for layer in self.layers.layers:
            song, layer_id = with_copied_layer(song, layer)
            drum = layer.sound.drum_note if layer.sound.is_drum else None
            notes = tuple(n for n in self.track.theirs if drum is None or n[2] == drum or len(self.layers.layers) == 1)
            song = TakeTrack(layer_id, notes, ()).apply(song)
        return song

    def summary(self, song: Song) -> str:
        return f"Taken of what came back: {', '.join(x.name for x in self.layers.layers)}"[:300]


HOW = {
    "layer": _Taking.stem, "sections": _Taking.stem, "bounce": _Taking.bounce, "notes": _Taking.notes, "tempo": _Taking.tempo,
    "merge": _Taking.project, "version": _Taking.project,
}  # fmt: skip


def take_back(studio: Studio, song_id: int, folder: Path, rows: list[Chosen], who: str) -> str:
    """Take rows of what came back into a song, on whatever state it has by then, as one step of its history; what was done, in words.

    Raises InputError or EditError, and then the song is as it was.
    """
    taking = _Taking(studio, song_id, folder, clean_line(who, MAX_NAME))
    makers = [
        HOW[chosen.way](taking, chosen) for chosen in rows if chosen.way in HOW and chosen.way in chosen.row["ways"]
    ]
    if not makers:
        raise InputError("Nothing was chosen, so nothing was taken. Say in what way a file is to be taken.")
    for _ in range(TRIES):
        head = studio.head(song_id)
        edits, song = [], head.song
        for make in makers:
            for edit in make(song):
                edits.append(edit)
                song = edit.apply(song)
        if not edits:
            break
        try:
            studio.edit(song_id, head.revision_id, edits)
            studio.adopt_samples(song_id)
            break
        except StaleRevision:
            continue
    else:
        raise EditError("The song was changed again and again while this was to be taken. Take it once more.")
    return " ".join(dict.fromkeys(taking.said))


def chosen_rows(found: Mapping[str, Any], ways: Mapping[str, str]) -> list[Chosen]:
    """Rows with what a form chose: `way:<row>` and, of projects, `part:<row>:<key>`."""
    rows = []
    for number, row in enumerate(found["files"]):
        way = ways.get(f"way:{number}", "")
        if way:
            mark = f"part:{number}:"
            rows.append(Chosen(row, way, {k[len(mark) :]: v for k, v in ways.items() if k.startswith(mark)}))
    return rows


def read_found(path: Path) -> dict[str, Any]:
    """What was found, as looking left it."""
    found: dict[str, Any] = json.loads(path.read_text())
    return found


def _level(studio: Studio, song: Song, edit: TakeStem) -> float:
    """The level at which the new layer is as loud as its file: where it is loudest, rendered once."""
    laid = without_mix_effects(edit.apply(song))
    layer = next(x for x in laid.layers if x.id not in song.layer_by_id)
    line, power = timeline(laid), edit.sample.power.sum(axis=1)
    spans = [s for s in line.spans if any(p.layer_id == layer.id for p in s.section.placements)]
    loudest = max(spans, key=lambda s: _power(power, edit, s.start_seconds, s.end_seconds), default=None)
    if loudest is None:
        return 0.0
    low, high = (round(s * RATE_HZ) for s in (loudest.start_seconds, loudest.end_seconds))
    high = min(high, low + HEARD_S * RATE_HZ)
    heard = studio.rendering.renderer.before_master(laid, line, low, high, frozenset((layer.id,)), False)
    own = _file(edit, low, high)
    count = min(heard.shape[1], own.shape[1])
    both = [float((x[:, :count].astype(np.float64) ** 2).mean()) for x in (heard, own)]
    if min(both) <= 0:
        return 0.0
    return float(np.clip(round(10 * np.log10(both[1] / both[0]), 2), MIN_LEVEL_DB, MAX_LEVEL_DB))


def _power(power: np.ndarray[Any, Any], edit: TakeStem, low_s: float, high_s: float) -> float:
    low, high = (int(max(0.0, s + edit.late_s) / edit.sample.slot_s) for s in (low_s, high_s))
    return float(power[low:high].mean()) if high > low and low < len(power) else 0.0


def _file(edit: TakeStem, low: int, high: int) -> np.ndarray[Any, Any]:
    """The recording where the song has these samples, (2, n)."""
    from escalera.sound.recording_files import library

    late = round(edit.late_s * RATE_HZ)
    audio = library.read(edit.sample.content, max(0, low + late), high - low)
    if audio is None:
        raise InputError(f"{edit.sample.name} cannot be read again. Choose the files once more.")
    return audio if audio.shape[0] == 2 else np.vstack((audio, audio))


__all__ = ["WAYS", "Chosen", "chosen_rows", "read_found", "take_back"]
