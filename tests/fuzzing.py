"""Odd requests, commands and files at random: whatever comes, the answer is a page or a sentence, and never an error of the program.

Runs shortly with a fixed seed in the tests, and for as long as one likes by `make fuzz`:
    python -m tests.fuzzing --seconds 300 --seed 7
"""

from __future__ import annotations

import argparse
import io
import json
import random
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import soundfile

from escalera.core.commands.form_reading import _fields
from escalera.core.edits import EDITS
from escalera.errors import EscaleraError
from escalera.formats.audio import decode_audio
from escalera.formats.midi_write import write_midi
from escalera.formats.project import read_project, write_project
from escalera.services.demo import demo_songs
from escalera.services.importing import import_file
from escalera.services.studio import Studio
from escalera.web import create_app
from tests.songs import small_song

ODD = (
    "", "0", "1", "-1", "2", "7", "0.5", "1e9", "1e308", "-0", "nan", "inf", "9" * 30, "9" * 5_000, "true", "null", "[]", "{}", "[[]]", "[1]",
    "[[1, 2, 3]]", "[[0, 240, 0, 0, 0, 100]]", '[[0, "kick", 100]]', '[[null, null, 0, 60, 240, 90]]', '[["a"]]', '[[1e999, 1]]', "[" * 2_000,
    "verse", "C | Am | F", "Cmaj7#11/B", "kick and snare", "a\u202eb", "x\x00y", "\ud800", "<script>", "'\"", "%s%n", "../../etc", "ñ" * 300, "4+4", "7/8", "300/0",
    "layer.1.level_db", "layer.999.pan", "bus.drums.level_db", "return.hall.decay_s", "section:1:0:0:0", "tile:1:2:0:0", "song", "mix:0", "hall", "soft-pad", "round-kick",
)  # fmt: skip
PLACES = (
    "/", "/new", "/bin", "/ideas", "/logbook", "/logbook/line", "/import", "/count", "/count/ask", "/count/taps", "/count/times", "/components", "/door", "/project.schema.json", "/songs/1", "/songs/1/inspector",
    "/songs/1/measured", "/songs/1/moves", "/songs/1/moves/preview", "/songs/1/helps", "/songs/1/helps/song", "/songs/1/form", "/songs/1/form/preview",
    "/songs/1/form/compare", "/songs/1/checks", "/songs/1/checks/finding", "/songs/1/checks/brief", "/songs/1/checks/count", "/songs/1/options", "/songs/1/options/read", "/songs/1/ideas",
    "/songs/1/ideas/offer", "/songs/1/harmony", "/songs/1/harmony/show", "/songs/1/harmony/read", "/songs/1/harmony/held", "/songs/1/harmony/key", "/songs/1/harmony/plan",
    "/songs/1/harmony/named", "/songs/1/harmony/energy", "/songs/1/groove", "/songs/1/groove/show", "/songs/1/groove/listen", "/songs/1/groove/tapped", "/songs/1/bench", "/songs/1/bench/show",
    "/songs/1/bench/make", "/songs/1/bench/tune", "/songs/1/bench/copies", "/songs/1/history", "/songs/1/compare", "/songs/1/blind", "/songs/1/sounds", "/songs/1/handover", "/songs/1/feedback", "/songs/1/feedback/9", "/songs/1/stems-heard",
)  # fmt: skip
ASKED = (
    "select", "section", "move", "key", "q", "song", "bpm", "taps", "from", "to", "text", "rungs", "hear", "held", "line", "word", "pitches", "spoken", "base", "layer", "stack",
    "section_id", "state", "what", "low", "one", "bars", "beats", "say", "to_key", "how",
)  # fmt: skip
POSTED = (
    "/songs/1/edits", "/songs/1/harmony/edits", "/songs/1/groove/edits", "/songs/1/bench/edits", "/songs/1/undo", "/songs/1/redo", "/songs/1/versions", "/songs/1/ideas", "/ideas", "/ideas/words",
    "/new", "/capture", "/songs/1/export/midi", "/songs/1/record.md", "/songs/1/states/1",
)  # fmt: skip


FITTING = {
    "phrase": ("0", "1"), "rows": ("[[0, 240, 0, 0, 0, 100]]", "[[0, 960, 2, 60, 0, 90]]"), "hits": ('[[0, "kick", 100]]', '[[0, "kick", 100], [960, "snare", 90]]'),
    "length_ticks": ("3840", "7680", "960"), "sound": ("soft-pad", "round-kick", "plucked-bass"), "name": ("Verse", "x", "Chorus 2"), "chords": ("C | Am | F | G", "vi IV I V"),
    "lane": ("layer.3.level_db", "bus.drums.level_db", "return.hall.decay_s"), "by": ("1", "-1"), "bars": ("4", "8", "3"), "notes": ("[[0, 60]]",), "points": ("[[0, 0.5, \"line\"]]",),
    "spoken": ("kick and snare", "boom chack"), "tempo_bpm": ("90", "128.5"), "metre": ("3/4", "4/4", "7/8"), "key": ("D minor", "Eb major", "chorus"), "start_ticks": ("0", "3840"), "end_ticks": ("7680", "3840"),
}  # fmt: skip


@dataclass
class Fuzz:
    """A studio with a small song, asked for odd things by dice."""

    folder: Path
    seed: int = 1
    counts: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.dice = random.Random(self.seed)
        self.studio = Studio(self.folder, cache_mb=100)
        self.song = small_song()
        self.studio.add_song(self.song, "New")
        app = create_app(self.studio, testing=True)
        app.config.update(WTF_CSRF_ENABLED=False, PROPAGATE_EXCEPTIONS=False)
        self.client = app.test_client()
        self.studio.rendering.measured_later = lambda *_: None  # type: ignore[method-assign]
        out = io.BytesIO()
        soundfile.write(out, np.sin(np.arange(8_000) / 9).astype(np.float32), 8_000, format="WAV")
        self.files = [write_midi(self.song), write_project(self.song), write_project(demo_songs()[0]), out.getvalue()]

    def value(self) -> str:
        ids = [str(x.id) for x in (*self.song.sections, *self.song.layers, *self.song.patterns)]
        return self.dice.choice(ids) if self.dice.random() < 0.4 else self.dice.choice(ODD)

    def fitting(self, name: str) -> str:
        """Mostly a value that a field of this name could have."""
        if self.dice.random() < 0.25:
            return self.value()
        song = self.song
        ids = {
            "section_id": song.sections,
            "layer_id": song.layers,
            "pattern_id": song.patterns,
            "after_id": song.sections,
        }
        if name in ids:
            return str(self.dice.choice(ids[name]).id)
        if name in FITTING:
            return self.dice.choice(FITTING[name])
        return self.value() if self.dice.random() < 0.5 else str(self.dice.choice((0, 1, 2, 4, -3, 0.5)))

    def note(self, what: str, answer) -> None:
        self.counts[f"{what} {answer.status_code}"] += 1
        if answer.status_code >= 500:
            self.faults.append(f"{what}: {answer.get_data(as_text=True)[:300]}")

    def get(self) -> None:
        place = self.dice.choice(PLACES)
        values = {self.dice.choice(ASKED): self.value() for _ in range(self.dice.randrange(5))}
        values = {k: v.encode("utf-8", "replace").decode() for k, v in values.items()}
        self.note("GET", self.client.get(place, query_string=values))

    def post(self) -> None:
        """A command of some kind, its fields odd; what is taken is mostly left, so that songs grow strange."""
        kind = self.dice.choice(list(EDITS))
        head = self.studio.head(1)
        fields = {name: self.fitting(name) for name, *_ in _fields(kind) if self.dice.random() < 0.9}
        fields |= {"kind": kind, "base": str(head.revision_id), "select": self.value()}
        if self.dice.random() < 0.1:
            fields[self.dice.choice(list(fields))] = self.value()
        place = self.dice.choice(POSTED[:4]) if self.dice.random() < 0.85 else self.dice.choice(POSTED)
        fields = {k: v.encode("utf-8", "replace").decode() for k, v in fields.items()}
        answer = self.client.post(place, data=fields, headers={"HX-Request": "true"})
        self.note(f"POST {kind if place in POSTED[:4] else place}", answer)
        if answer.status_code >= 500:
            self.faults[-1] += f" {place} {json.dumps(fields)[:600]}"
        after = self.studio.head(1)
        if after.revision_id != head.revision_id:
            if self.dice.random() < 0.5:
                self.leaves_and_comes_back(after.song, kind)
            if self.dice.random() < 0.3 or len(after.song.sections) > 24 or len(after.song.layers) > 30:
                self.client.post("/songs/1/undo", data={"base": str(after.revision_id)})
            self.song = self.studio.head(1).song  # otherwise the song goes on from there

    def leaves_and_comes_back(self, song, kind: str) -> None:
        """Every state that a command reaches survives export and import (prints stay in the store)."""
        try:
            back = read_project(write_project(song))
        except EscaleraError as error:
            self.faults.append(f"{kind} leads to a state that cannot be read back: {error}")
            return
        if write_project(back) != write_project(song):
            self.faults.append(f"{kind} leads to a state that comes back as another one")

    def read(self) -> None:
        """A file with some bytes changed, cut out or doubled."""
        data = bytearray(self.dice.choice(self.files))
        for _ in range(self.dice.randrange(1, 12)):
            at, much = self.dice.randrange(len(data)), self.dice.randrange(1, 40)
            how = self.dice.randrange(4)
            if how == 0:
                data[at] = self.dice.randrange(256)
            elif how == 1:
                del data[at : at + much]
            elif how == 2:
                data[at:at] = data[at : at + much]
            else:
                data[at : at + much] = bytes(self.dice.choice((0, 0x7F, 0x80, 0xFF)) for _ in range(much))
            data = data or bytearray(b"x")
        begun = time.process_time()
        for reader in (lambda d: import_file("x.mid", d), decode_audio):
            try:
                reader(bytes(data))
                self.counts["file read"] += 1
            except EscaleraError:
                self.counts["file refused"] += 1
            except Exception as error:
                self.faults.append(f"reading a file: {error!r} {bytes(data)[:80]!r}")
        if time.process_time() - begun > 5:
            self.faults.append(f"a file of {len(data)} bytes took {time.process_time() - begun:.1f} s")

    def step(self) -> None:
        self.dice.choices((self.get, self.post, self.read), (4, 5, 1))[0]()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seconds", type=float, default=120)
    parser.add_argument("--seed", type=int, default=None)
    asked = parser.parse_args()
    seed = asked.seed if asked.seed is not None else random.randrange(10**6)
    with tempfile.TemporaryDirectory() as folder:
        fuzz, end, steps = Fuzz(Path(folder), seed), time.monotonic() + asked.seconds, 0
        while time.monotonic() < end:
            fuzz.step()
            steps += 1
        fuzz.studio.close()
    states: Counter[str] = Counter()
    for what, times in fuzz.counts.items():
        states[what.split()[0] + " " + what.split()[-1]] += times
    print(f"seed {seed}: {steps:,} steps, " + ", ".join(f"{k} {v:,}" for k, v in sorted(states.items())))
    for fault in dict.fromkeys(fuzz.faults):
        print("FAULT", fault[:1_000])
    raise SystemExit(bool(fuzz.faults))


if __name__ == "__main__":
    main()
