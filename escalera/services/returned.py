"""What came back: MIDI, stems, a mix, a project, matched to the song by name, notes and sound. It takes nothing.

Stems are told by how loud they are over time in three zones (below 200 Hz, to 2 kHz, above), 20 ms at a time: those of every layer as it is
rendered now, and of the file, at the delay at which they fit best. A name counts a little, the sound most.
"""

from __future__ import annotations

import zipfile
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from rapidfuzz import fuzz

from escalera.core.document.song import Layer, Song
from escalera.core.handing.file_names import plain_name
from escalera.core.joins import played
from escalera.core.moves.differences import section_changes, song_changes
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError, InputError
from escalera.formats.bundle import PROJECT
from escalera.formats.midi_read import ChannelNotes, read_midi
from escalera.formats.midi_write import write_midi
from escalera.formats.project import read_project
from escalera.formats.recording import blocks_of
from escalera.services.packing import MANIFEST, checked_manifest, without_mix_effects
from escalera.services.rendering import Rendering
from escalera.sound.schedule import RATE_HZ

HOP = RATE_HZ // 50
ZONES_HZ = (200.0, 2000.0)
MOST_FILES, MOST_JSON = 500, 40_000_000
LAG_S = 4.0  # of a file that begins earlier or later than it should
SAME, KNOWN = 0.985, 0.6  # likeness from which a section is the same, and a file is a layer's at all
LEVEL_DB = 1.0
NAME_COUNTS = 0.15
SHIFTED_S = 0.03
Envelope = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Returned:
    """A file that came back: what it is, the layer it belongs to, how sure that is, and its state: same, changed (where), new, unread."""

    file: str
    kind: str
    layer: str
    confidence: float
    state: str
    where: tuple[str, ...] = ()
    said: str = ""


@dataclass(frozen=True, slots=True)
class ReturnedList:
    """All files, and layers of which none came back where stems or tracks of others did."""

    files: tuple[Returned, ...]
    missing: tuple[str, ...]

    def plain(self) -> dict[str, Any]:
        """As JSON has it."""
        return {"files": [asdict(f) for f in self.files], "missing": list(self.missing)}


def returned_list(song: Song, rendering: Rendering, paths: Sequence[Path]) -> ReturnedList:
    """What came back beside what the song has. Raises InputError for more than 500 files or none."""
    files = [
        f for path in paths for f in (sorted(x for x in path.rglob("*") if x.is_file()) if path.is_dir() else [path])
    ]
    if not files or len(files) > MOST_FILES:
        raise InputError(
            f"{len(files)} files were found; 1 to {MOST_FILES} are looked at. Choose the files that came back."
        )
    found: list[Returned] = []
    sound = _Sound(song, rendering)
    for path in files:
        try:
            found += _read(song, sound, path)
        except EscaleraError as error:
            found.append(Returned(path.name, "unknown", "", 0.0, "unread", (), str(error)))
        except OSError as error:
            found.append(
                Returned(path.name, "unknown", "", 0.0, "unread", (), f"It cannot be read: {error.strerror or error}.")
            )
    return ReturnedList(tuple(found), _missing(song, found))


def _missing(song: Song, found: list[Returned]) -> tuple[str, ...]:
    told = {f.layer for f in found if f.kind in ("stem", "track") and f.layer}
    if not told:
        return ()
    placed = {p.layer_id for s in played(song).sections for p in s.placements}
    return tuple(x.name for x in song.layers if x.id in placed and not x.muted and x.name not in told)


def _read(song: Song, sound: _Sound, path: Path) -> Iterable[Returned]:
    with path.open("rb") as file:
        start = file.read(4)
    if start == b"MThd":
        return _tracks(song, path.name, path.read_bytes())
    if start[:2] == b"PK":
        return _archive(song, path)
    if start.lstrip()[:1] == b"{":
        return _project(song, path.name, path.read_bytes()[:MOST_JSON])
    return [_stem(song, sound, path)]


def _archive(song: Song, path: Path) -> Iterable[Returned]:
    """A bundle is its project; a pack says which of its files are not as they were written."""
    with zipfile.ZipFile(path) as archive:
        names = archive.namelist()
        if PROJECT in names and archive.getinfo(PROJECT).file_size <= MOST_JSON:
            return _project(song, path.name, archive.read(PROJECT))
    if MANIFEST in names:
        off = checked_manifest(path)
        return [
            Returned(
                path.name,
                "pack",
                "",
                1.0,
                "changed" if off else "same",
                tuple(off[:20]),
                f"{len(names) - 1} files in it",
            )
        ]
    raise InputError("This zip is neither a pack nor a project. Unpack it, and choose its files.")


def _project(song: Song, name: str, data: bytes) -> Iterable[Returned]:
    other = read_project(data)
    sections = section_changes(song, other)
    where = [f"{c.name}: {', '.join(c.what) or 'plays otherwise'}" for c in sections]
    whole = song_changes(song, other)
    state = "changed" if where or whole else "same"
    return [Returned(name, "project", "", 1.0, state, (*where, *whole)[:40])]


# notes --------------------------------------------------------------------------------------------------------------------------


def _tracks(song: Song, name: str, data: bytes) -> Iterable[Returned]:
    """Every track beside the layer whose notes or name it has."""
    theirs, mine = (
        read_midi(data).parts,
        {p.name: p for p in read_midi(write_midi(song)).parts} if song.sections else {},
    )
    found = []
    for part in theirs:
        ranked = sorted(((_likeness(part, own), own) for own in mine.values()), key=lambda r: -r[0])
        if not ranked or ranked[0][0] < KNOWN:
            found.append(
                Returned(
                    name,
                    "track",
                    "",
                    1.0 - (ranked[0][0] if ranked else 0.0),
                    "new",
                    (),
                    f"“{part.name}”, {len(part.notes)} notes",
                )
            )
            continue
        share, own = ranked[0]
        where = _notes_differ(song, part, own)
        found.append(Returned(name, "track", own.name, round(share, 3), "changed" if where else "same", tuple(where)))
    return found


def _likeness(one: ChannelNotes, other: ChannelNotes) -> float:
    """Share of notes that both have (pitch and sixteenth), and how alike the names are."""
    a, b = _places(one), _places(other)
    same = len(a & b) / max(1, len(a | b))
    name = fuzz.token_set_ratio(one.name.casefold(), other.name.casefold()) / 100.0
    return max((1 - NAME_COUNTS) * same + NAME_COUNTS * name, 0.85 if name == 1.0 and one.name else 0.0)


def _places(part: ChannelNotes) -> set[tuple[int, int]]:
    return {(round(start / 240), pitch) for start, _, pitch, _ in part.notes}


def _notes_differ(song: Song, one: ChannelNotes, other: ChannelNotes) -> list[str]:
    at, found = 0, []
    for span in timeline(song).spans:
        rows = [{(s, p) for s, _, p, _ in part.notes if at <= s < at + span.length_ticks} for part in (one, other)]
        if rows[0] != rows[1]:
            found.append(f"{span.section.name}: {len(rows[0] - rows[1])} notes more, {len(rows[1] - rows[0])} fewer")
        at += span.length_ticks
    return found


# sound --------------------------------------------------------------------------------------------------------------------------


class _Sound:
    """Envelopes of a song's layers and of the whole, each rendered once when it is asked for."""

    def __init__(self, song: Song, rendering: Rendering):
        self.song, self.renderer = without_mix_effects(song), rendering.renderer
        self._kept: dict[tuple[int, bool], Envelope] = {}

    def of(self, layer_id: int, wet: bool = False) -> Envelope:
        """Of a layer, or of the whole (0), (frames, 3) in amplitudes."""
        key = (layer_id, wet)
        if key not in self._kept:
            line = timeline(self.song)
            only = frozenset((layer_id,)) if layer_id else None
            end = line.samples(RATE_HZ)[-1] if line.spans else 0
            blocks = (
                self.renderer.before_master(
                    self.song, line, low, min(end, low + 20 * RATE_HZ), only, wet or not layer_id
                )
                for low in range(0, end, 20 * RATE_HZ)
            )
            self._kept[key] = envelope(blocks)
        return self._kept[key]

    def layers(self) -> list[Layer]:
        placed = {p.layer_id for s in played(self.song).sections for p in s.placements}
        return [x for x in self.song.layers if x.id in placed and not x.muted]


def envelope(blocks: Iterable[NDArray[np.float32]]) -> Envelope:
    """Loudness of a sound over time in three zones, (frames, 3) in amplitudes; blocks are (channels, n) and follow one another."""
    from scipy import signal

    filters = [
        signal.butter(2, ZONES_HZ[0], "low", fs=RATE_HZ, output="sos"),
        signal.butter(2, ZONES_HZ, "band", fs=RATE_HZ, output="sos"),
        signal.butter(2, ZONES_HZ[1], "high", fs=RATE_HZ, output="sos"),
    ]
    states = [signal.sosfilt_zi(f) * 0.0 for f in filters]
    rows: list[NDArray[np.float64]] = []
    rest = np.zeros(0, np.float32)
    for block in blocks:
        mono = np.concatenate((rest, block.mean(axis=0)))
        whole = len(mono) // HOP * HOP
        rest = mono[whole:]
        if not whole:
            continue
        zones = []
        for i, each in enumerate(filters):
            heard, states[i] = signal.sosfilt(each, mono[:whole], zi=states[i])
            zones.append(np.sqrt((heard.reshape(-1, HOP) ** 2).mean(axis=1)))
        rows.append(np.stack(zones, axis=1))
    return np.concatenate(rows).astype(np.float32) if rows else np.zeros((0, 3), np.float32)


def _stem(song: Song, sound: _Sound, path: Path) -> Returned:
    """The layer (or the whole) that a file sounds like."""
    heard = envelope(blocks_of(path))
    if not heard.any():
        return Returned(path.name, "stem", "", 0.0, "new", (), "silent")
    rows = [(x.name, max(_fit(heard, sound.of(x.id, wet)) for wet in (False, True)), x.id) for x in sound.layers()]
    rows.append(("the mix", _fit(heard, sound.of(0)), 0))
    scored = sorted(((_score(path, name, fit[0]), name, fit, i) for name, fit, i in rows), key=lambda r: -r[0])
    score, name, (likeness, lag), layer_id = scored[0]
    if score < KNOWN:
        return Returned(
            path.name, "stem", "", round(1.0 - score, 3), "new", (), f"most like {name}, and not like enough"
        )
    wet = layer_id != 0 and _fit(heard, sound.of(layer_id, True)) > _fit(heard, sound.of(layer_id, False))
    where = _sections_differ(song, heard, sound.of(layer_id, wet), lag)
    late_s = lag * HOP / RATE_HZ
    said = f"begins {abs(late_s):.2f} s {'late' if late_s > 0 else 'early'}" if abs(late_s) > SHIFTED_S else ""
    kind = "stem" if layer_id else "mix"
    return Returned(
        path.name,
        kind,
        name if layer_id else "",
        round(score, 3),
        "changed" if where or said else "same",
        tuple(where),
        said,
    )


def _score(path: Path, name: str, likeness: float) -> float:
    alike = fuzz.token_set_ratio(plain_name(path.stem).replace("-", " "), plain_name(name).replace("-", " ")) / 100.0
    return (1 - NAME_COUNTS) * likeness + NAME_COUNTS * alike


def _fit(one: Envelope, other: Envelope) -> tuple[float, int]:
    """How alike two envelopes are at the delay at which they are most, 0 to 1, and that delay in frames (above 0: the first comes late)."""
    from scipy import signal

    if not one.any() or not other.any():
        return 0.0, 0
    total = sum(signal.correlate(one[:, z], other[:, z], mode="full", method="fft") for z in range(3))
    lags = np.arange(1 - len(other), len(one))
    inside = np.abs(lags) <= LAG_S * RATE_HZ / HOP
    both = float(np.sqrt((one.astype(np.float64) ** 2).sum() * (other.astype(np.float64) ** 2).sum()))
    best = int(np.argmax(np.where(inside, total, -1.0)))
    return float(np.clip(total[best] / both, 0.0, 1.0)), int(lags[best])


def _sections_differ(song: Song, heard: Envelope, own: Envelope, lag: int) -> list[str]:
    """Sections in which a file sounds otherwise than the layer does now, with what of it can be said."""
    found = []
    for span in timeline(song).spans:
        low, high = (round(s * RATE_HZ / HOP) for s in (span.start_seconds, span.end_seconds))
        mine, theirs = own[low:high], heard[max(0, low + lag) : max(0, high + lag)]
        count = min(len(mine), len(theirs))
        a, b = mine[:count].astype(np.float64).ravel(), theirs[:count].astype(np.float64).ravel()
        loud, there = float((a**2).sum()), float((b**2).sum())
        least = 1e-7 * max(1, count)
        if max(loud, there) < least:
            continue
        if min(loud, there) < least:
            found.append(f"{span.section.name}: {'silent now' if there < loud else 'plays where it was silent'}")
            continue
        change_db = 10 * np.log10(there / loud)
        if float(a @ b) / np.sqrt(loud * there) < SAME:
            found.append(f"{span.section.name}: plays otherwise")
        elif abs(change_db) > LEVEL_DB:
            found.append(f"{span.section.name}: {change_db:+.1f} dB".replace("-", "−"))
    return found
