"""Finished tracks with what is true of them: FIT ones were looked at while the study was written, JUDGE ones were not.

Of the program's own sounds, by other sounds than it would choose, mastered; and, where fluidsynth and a sound bank are installed, of
performances that another generator wrote. Made once into a folder of the machine's temporary files.
"""

from __future__ import annotations

import hashlib
import inspect
import json
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from escalera.services import finished_tracks
from escalera.services.finished_tracks import Recipe, TrueSection, Truth, finished_track
from escalera.services.starting_loops import starting_loops
from escalera.sound.bank_player import find_file
from tests import performances
from tests.performances import FIT, JUDGE, Performance, perform

FORMS = (
    "Intro 4, Verse 16, Chorus 8, Verse 16, Chorus 8, Bridge 8, Chorus 8, Outro 4",
    "Intro 8, Verse 8, Pre-chorus 4, Chorus 8, Verse 8, Pre-chorus 4, Chorus 16, Outro 8",
    "Intro 8, Build 8, Drop 16, Break 8, Build 8, Drop 16, Outro 8",
    "Chorus 8, Verse 16, Chorus 8, Verse 8, Bridge 8, Chorus 16",
    "Intro 4, Verse 12, Chorus 8, Verse 12, Chorus 12, Outro 6",
)
KEYS = ("", "E♭ major", "F# minor", "", "B minor", "A♭ major", "", "D minor", "G major", "C# minor")
PERFORMED_FIT, PERFORMED_JUDGE = (3, 4, 5), tuple(range(40, 52))
RATE = 44_100
LOOKED_AT = ("slow-waltz", "machines-asleep")  # so that metres but four are among those that were


@dataclass(frozen=True)
class Track:
    name: str
    judge: bool
    path: Path
    truth: Truth

    def blocks(self) -> Iterator[NDArray[np.float32]]:
        for block in soundfile.blocks(str(self.path), 10 * RATE, dtype="float32", always_2d=True):
            yield np.ascontiguousarray(block.T)


def recipe_of(index: int, start: str) -> Recipe:
    entry = starting_loops()[start]
    key = KEYS[index % len(KEYS)]
    if key and ("minor" in key) != ("minor" in entry.key):
        key = ""
    return Recipe(start, start, FORMS[index % len(FORMS)], round(entry.tempo_bpm * (0.96 + 0.02 * (index % 5)), 1), key, index % 4 if index % 3 == 0 else 0, (0, 2, 0, 1)[index % 4])  # fmt: skip


def _folder() -> Path:
    made = "".join(inspect.getsource(m) for m in (finished_tracks, performances)) + Path(__file__).read_text()
    folder = Path(tempfile.gettempdir()) / f"escalera-finished-{hashlib.sha256(made.encode()).hexdigest()[:10]}"
    folder.mkdir(exist_ok=True)
    return folder


def tracks(judge: bool | None = None) -> list[Track]:
    """All tracks, or those of one set; made where they are not there yet."""
    folder, found = _folder(), []
    for index, start in enumerate(starting_loops()):
        judged = bool(index % 2) and start not in LOOKED_AT
        if judge is None or judge == judged:
            found.append(_kept(folder, start, judged, lambda i=index, s=start: finished_track(recipe_of(i, s))[:2]))  # type: ignore[misc]
    for name, styles, seeds in (("fit", FIT, PERFORMED_FIT), ("judge", JUDGE, PERFORMED_JUDGE)):
        if (
            judge is not None
            and judge != (name == "judge")
            or find_file() is None
            or shutil.which("fluidsynth") is None
        ):
            continue
        for seed in seeds:
            found.append(
                _kept(folder, f"performed {seed}", name == "judge", lambda s=seed, y=styles: _performed(perform(s, y)))
            )  # type: ignore[misc]
    return found


def _kept(folder: Path, name: str, judge: bool, make) -> Track:  # type: ignore[no-untyped-def]
    audio_path, truth_path = folder / f"{name}.flac", folder / f"{name}.json"
    if not truth_path.exists():
        audio, truth = make()
        soundfile.write(str(audio_path), audio.T, RATE, subtype="PCM_16")
        truth_path.write_text(json.dumps(asdict(truth)))
    row = json.loads(truth_path.read_text())
    row["chords"] = tuple(tuple(c) for c in row["chords"])
    row["sections"] = tuple(TrueSection(**s) for s in row["sections"])
    row["bars_s"] = tuple(row["bars_s"])
    return Track(name, judge, audio_path, Truth(**row))


def _performed(made: Performance) -> tuple[NDArray[np.float32], Truth]:
    """A performance played by the sound bank."""
    import io

    import mido

    with tempfile.TemporaryDirectory() as folder:
        source, out = Path(folder) / "a.mid", Path(folder) / "a.wav"
        source.write_bytes(made.data)
        subprocess.run(
            ["fluidsynth", "-ni", "-q", "-g", "0.6", "-r", str(RATE), "-F", str(out), str(find_file()), str(source)], check=True
        )  # fmt: skip
        audio, _ = soundfile.read(str(out), dtype="float32", always_2d=True)
    tempo = next(m.tempo for t in mido.MidiFile(file=io.BytesIO(made.data)).tracks for m in t if m.type == "set_tempo")
    beat = tempo / 1e6
    bars = sum(p.bars for p in made.parts)
    chords = []
    for part in made.parts:
        for i, (root, classes, _) in enumerate(part.chords):
            low = (part.first_bar + i / made.slots) * made.beats * beat
            chords.append((low, low + made.beats * beat / made.slots, root, (root + 3) % 12 in classes))
    sections = tuple(TrueSection(p.first_bar, p.bars, p.kind, p.shift) for p in made.parts)
    minor = made.mode in ("minor", "dorian", "phrygian")
    return audio.T, Truth(60 / beat, made.beats, tuple(i * made.beats * beat for i in range(bars + 1)), made.tonic, minor, tuple(chords), sections)  # fmt: skip
