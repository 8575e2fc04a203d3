"""Packs and what comes back: how long a full pack takes and how much memory, how long thirty returned stems take to be matched, and how often rightly.

Each measured part runs in a process of its own, so that its memory is its own. Thresholds of matching were set on *Harbour Stairs*; the benchmark
song is judged.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

import numpy as np
import soundfile

from benchmarks.songs import large
from benchmarks.table import SOUND, row
from escalera.core.document.song import Song
from escalera.core.handing.receivers import PARTS
from escalera.formats.project import read_project, write_project
from escalera.services.demo import demo_songs
from escalera.services.memory import hold_little
from escalera.services.packing import PackOptions, checked_manifest, write_pack
from escalera.services.rendering import Rendering
from escalera.services.returned import returned_list

RATE = 44_100
STEMS = 30


def song_in(folder: Path) -> Song:
    """The song at hand, read like the command does."""
    hold_little()
    return read_project((folder / "song.json").read_bytes())


def most_mb() -> float:
    """The most memory that this process held since it began; what its parent held before does not count."""
    return int(re.findall(r"VmHWM:\s+(\d+)", Path("/proc/self/status").read_text())[0]) / 1000.0


def full_pack(folder: Path) -> None:
    """All parts of a song, into a folder; seconds and the most memory, printed."""
    song, rendering, begun = song_in(folder), Rendering(300), time.perf_counter()
    write_pack(song, rendering, PackOptions(tuple(PARTS), "name"), folder / "pack.zip")
    took = time.perf_counter() - begun
    begun = time.perf_counter()
    assert not checked_manifest(folder / "pack.zip")
    checked = time.perf_counter() - begun
    print(took, checked, most_mb())


def returned_stems(folder: Path) -> list[str]:
    """Thirty stems as others send them back, named by number: louder, late, compressed, resampled, or as they were; the layers they are."""
    came, told = folder / "came", []
    came.mkdir()
    rng = np.random.default_rng(5)
    with zipfile.ZipFile(folder / "pack.zip") as archive:
        names = sorted(n for n in archive.namelist() if n.startswith(("dry/", "wet/")))
        for number in range(STEMS):
            entry = names[number * len(names) // STEMS]
            archive.extract(entry, folder)
            audio, _ = soundfile.read(folder / entry, dtype="float32")
            (folder / entry).unlink()
            way = number % 5
            if way == 1:
                audio = 0.6 * audio
            elif way == 2:
                audio = np.vstack((np.zeros((int(rng.integers(2000, 90_000)), 2), np.float32), audio))
            elif way == 3:
                audio = np.tanh(6.0 * audio) / 4.0
            elif way == 4:
                audio = audio + 0.02 * np.abs(audio).max() * rng.standard_normal(audio.shape).astype(np.float32)
            soundfile.write(came / f"take {number:02d}.wav", audio, RATE, subtype="PCM_24")
            told.append(Path(entry).stem)
    return told


def matched(folder: Path) -> None:
    """Seconds for thirty stems, how many were found, and the most memory, printed."""
    song, rendering = song_in(folder), Rendering(300)
    told = (folder / "told.txt").read_text().splitlines()
    begun = time.perf_counter()
    found = returned_list(song, rendering, [folder / "came"])
    took = time.perf_counter() - begun
    plain = {x.name: x.name.lower().replace(" ", "-") for x in song.layers}
    right = sum(plain.get(f.layer) == truth for f, truth in zip(found.files, told))
    print(took, right, most_mb())
    for f, truth in zip(found.files, told):
        if plain.get(f.layer) != truth:
            print(f"  {f.file} is {truth}, read as {f.layer or f.kind} ({f.confidence})", file=sys.stderr)


def apart(task: str, folder: Path) -> list[float]:
    """A task in a process of its own; the figures it printed."""
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.handing", task, str(folder)],
        capture_output=True,
        text=True,
        check=True,
    )
    print(done.stderr, end="")
    return [float(x) for x in done.stdout.split()]


def main() -> None:
    demo = next(s for s in demo_songs() if s.title == "Harbour Stairs")
    for name, song in (("Harbour Stairs", demo), ("Benchmark", large())):
        with tempfile.TemporaryDirectory() as temporary:
            folder = Path(temporary)
            (folder / "song.json").write_bytes(write_project(song))
            took, checked, memory = apart("pack", folder)
            size = (folder / "pack.zip").stat().st_size / 1e9
            row(f"{name}: full pack, {size:.1f} GB", took, 40, "s", load=SOUND)
            row(f"{name}: memory of it", memory, 400, "MB")
            row(f"{name}: manifest checked", checked, 2, "s")
            (folder / "told.txt").write_text("\n".join(returned_stems(folder)))
            took, right, memory = apart("match", folder)
            row(f"{name}: {STEMS} returned stems matched", took, 20, "s", load=SOUND)
            row(f"{name}: memory of it", memory, 800, "MB")
            print(f"{name}: {right:.0f} of {STEMS} told rightly")


if __name__ == "__main__":
    if len(sys.argv) == 3:
        {"pack": full_pack, "match": matched}[sys.argv[1]](Path(sys.argv[2]))
    else:
        main()
