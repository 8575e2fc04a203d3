"""Odd requests, commands and files at random: whatever comes, the answer is a page or a sentence, and never an error of the program.

Runs shortly with a fixed seed in the tests, and for as long as one likes by `make fuzz`:
    python -m tests.fuzzing --seconds 300 --seed 7
"""

from __future__ import annotations

import argparse
import io
import random
import re
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import quote

import numpy as np
import soundfile
from werkzeug.test import TestResponse

import escalera.web
from escalera.core.commands.form_reading import _fields
from escalera.core.edits import EDITS
from escalera.errors import EscaleraError
from escalera.formats.audio import decode_audio
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.services.demo import demo_songs
from escalera.services.importing import import_file
from escalera.services.studio import Studio
from escalera.store.repository import Head
from escalera.web import create_app
from tests.core.test_edits import ROWS
from tests.edit_chains import Chains
from tests.songs import small_song
from tests.walking import Offer, offers, texts

ODD = (
    "", "0", "1", "-1", "2", "7", "0.5", "1e9", "1e308", "-0", "nan", "inf", "9" * 30, "9" * 5_000, "true", "null", "[]", "{}", "[[]]", "[1]",
    "[[1, 2, 3]]", "[[0, 240, 0, 0, 0, 100]]", '[[0, "kick", 100]]', '[[null, null, 0, 60, 240, 90]]', '[["a"]]', '[[1e999, 1]]', "[" * 2_000,
    "verse", "C | Am | F", "Cmaj7#11/B", "kick and snare", "a\u202eb", "x\x00y", "\ud800", "<script>", "'\"", "%s%n", "../../etc", "ñ" * 300, "4+4", "7/8", "300/0",
    "layer.1.level_db", "layer.999.pan", "bus.drums.level_db", "return.hall.decay_s", "section:1:0:0:0", "tile:1:2:0:0", "song", "mix:0", "hall", "soft-pad", "round-kick",
)  # fmt: skip
# Everything that pages, forms and scripts ask by name, read off the sources, so that nothing that is added is left out.
WEB = Path(escalera.web.__file__).parent
ASKED = sorted(
    {n for f in WEB.glob("*.py") for n in re.findall(r"""(?:get\(|getlist\(|\[)"(\w+)\"""", f.read_text())}
    | {n for f in WEB.rglob("*.html") for n in re.findall(r"""\bname="(\w+)\"""", f.read_text())}
)
EDITED = ("/songs/1/edits", "/songs/1/harmony/edits", "/songs/1/groove/edits", "/songs/1/bench/edits")
# what would take the song away that all is asked about, or the program's end
LEFT_OUT = (
    "/songs/<int:song_id>/erase",
    "/songs/<int:song_id>/bin",
    "/static/<path:filename>",
    "/code/<version>/<name>",
)


FITTING = {
    "phrase": ("0", "1"), "rows": ("[[0, 240, 0, 0, 0, 100]]", "[[0, 960, 2, 60, 0, 90]]"), "hits": ('[[0, "kick", 100]]', '[[0, "kick", 100], [960, "snare", 90]]'),
    "length_ticks": ("3840", "7680", "960"), "sound": ("soft-pad", "round-kick", "plucked-bass"), "name": ("Verse", "x", "Chorus 2"), "chords": ("C | Am | F | G", "vi IV I V"),
    "lane": ("layer.3.level_db", "bus.drums.level_db", "return.hall.decay_s"), "by": ("1", "-1"), "bars": ("4", "8", "3"), "notes": ("[[0, 60]]",), "points": ("[[0, 0.5, \"line\"]]",),
    "spoken": ("kick and snare", "boom chack"), "tempo_bpm": ("90", "128.5"), "metre": ("3/4", "4/4", "7/8"), "key": ("D minor", "Eb major", "chorus"), "start_ticks": ("0", "3840"), "end_ticks": ("7680", "3840"),
}  # fmt: skip


def plain(text: str) -> str:
    """As a browser would send it."""
    return text.encode("utf-8", "replace").decode()


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
        self.places = [
            (method, str(rule))
            for rule in app.url_map.iter_rules()
            for method in sorted(rule.methods - {"HEAD", "OPTIONS"})
            if str(rule) not in LEFT_OUT
        ]
        self.chains = Chains(self.seed)
        self.faults = self.chains.faults
        self.studio.jobs.wait = lambda *_: None  # type: ignore[method-assign]  # nobody works here
        self.studio.rendering.measured_later = lambda *_: None  # type: ignore[method-assign]
        firsts = {place.replace("<int:song_id>", "1") for method, place in self.places if method == "GET"}
        self.offered = {f"GET {a}": [Offer(f"GET {a}", "GET", a)] for a in sorted(firsts) if "<" not in a}
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
        if ids.get(name):
            return str(self.dice.choice(ids[name]).id)
        if name in FITTING:
            return self.dice.choice(FITTING[name])
        return self.value() if self.dice.random() < 0.5 else str(self.dice.choice((0, 1, 2, 4, -3, 0.5)))

    def note(self, what: str, answer: TestResponse, sent: object = "") -> None:
        self.counts[f"{what} {answer.status_code}"] += 1
        if answer.status_code >= 500:
            self.faults.append(
                f"{what}: {answer.request.path} {str(sent)[:600]} {answer.get_data(as_text=True)[-300:]}"
            )

    def filled(self, place: str) -> str:
        """A rule of addresses with something odd or fitting where it has a gap."""

        def gap(found: re.Match[str]) -> str:
            kind, choices, name = found.groups()
            if kind == "int":
                return str(self.dice.choice((1, 1, 1, 2, 3, 4, 10**30)))
            if choices:
                return self.dice.choice(re.findall(r"\w+", choices))
            fitting = FITTING.get(name) or ("midi", "wav", "mixer", "room", "tune", "own", "set", "chords", "drop")
            return quote(self.dice.choice(fitting) if self.dice.random() < 0.7 else plain(self.value()), safe="") or "x"

        return re.sub(r"<(?:(\w+)(?:\(([^)]*)\))?:)?(\w+)>", gap, place)

    def walk(self) -> None:
        """Something that pages offered, as it stands or with one field changed; what the answer offers is remembered."""
        offer = self.dice.choice(self.offered[self.dice.choice(list(self.offered))])
        if re.fullmatch(r"/songs/1/(erase|bin)", offer.address):
            return
        fields = dict(offer.fields)
        if fields and self.dice.random() < 0.4:
            name = self.dice.choice(list(fields))
            fields[name] = self.fitting(name) if self.dice.random() < 0.6 else self.value()
        head = self.studio.head(1)
        fields = {k: plain(v) for k, v in fields.items()}
        if offer.method == "GET":
            answer = self.client.get(offer.address, query_string=fields)
        else:
            fields["base"] = str(head.revision_id)
            answer = self.client.open(offer.address, method=offer.method, data=fields, headers={"HX-Request": "true"})
        self.note(f"walk {offer.name}", answer, fields)
        if answer.status_code == 200 and answer.mimetype == "text/html":
            for found in offers(answer.get_data(as_text=True), self.page_of(offer.address)):
                kept = self.offered.setdefault(found.name, [])
                if len(kept) < 8:
                    kept.append(found)
                else:
                    kept[self.dice.randrange(8)] = found
        self.went_on(head, offer.name)

    def page_of(self, address: str) -> str:
        """The page that an answer is shown in: where its edits go to."""
        found = re.match(r"(/songs/\d+)(/\w+)?", address)
        if found is None:
            return address
        own = f"/songs/<int:song_id>{found[2]}/edits"
        return found[0] if ("POST", own) in self.places else found[1]

    def went_on(self, head: Head, kind: str) -> None:
        """After a request: a new state survives export and import; some are taken back, so that songs stay of a size."""
        after = self.studio.head(1)
        if after.revision_id == head.revision_id:
            return
        if self.dice.random() < 0.5:
            self.chains.survives(after.song, kind)
        song = after.song
        if self.dice.random() < 0.3 or not 0 < len(song.sections) < 24 or not 0 < len(song.layers) < 30:
            self.client.post("/songs/1/undo", data={"base": str(after.revision_id)})
        self.song = self.studio.head(1).song  # otherwise the song goes on from there

    def ask(self) -> None:
        """Any address in any way that it answers to, with odd fields, sometimes with a file or with bytes."""
        method, place = self.dice.choice(self.places)
        values = {n: plain(self.fitting(n)) for n in self.dice.sample(ASKED, self.dice.randrange(6))}
        if method == "GET":
            answer = self.client.get(self.filled(place), query_string=values)
        elif self.dice.random() < 0.1:
            answer = self.client.open(self.filled(place), method=method, data=self.dice.choice(self.files)[:4000])
        else:
            if self.dice.random() < 0.2:
                values[self.dice.choice(("file", "files", "take"))] = (
                    io.BytesIO(self.dice.choice(self.files)),
                    "x.wav",
                )
            answer = self.client.open(self.filled(place), method=method, data=values)
        self.note(f"{method} {place}", answer, values)

    def post(self) -> None:
        """A command of some kind, its fields odd; what is taken is mostly left, so that songs grow strange."""
        kind = self.dice.choice(list(EDITS))
        head = self.studio.head(1)
        fields = {name: self.fitting(name) for name, *_ in _fields(kind) if self.dice.random() < 0.9}
        if self.dice.random() < 0.6:  # as the example of the kind has it, about what there is
            shown = texts({n: v for n, v in ROWS[kind][0][0].items() if not isinstance(v, dict)})
            fields |= {n: fields[n] if n in fields and n.endswith("_id") else v for n, v in shown.items()}
        fields |= {"kind": kind, "base": str(head.revision_id), "select": self.value()}
        if self.dice.random() < 0.1:
            fields[self.dice.choice(list(fields))] = self.value()
        place = self.dice.choice(EDITED)
        fields = {k: plain(v) for k, v in fields.items()}
        answer = self.client.post(place, data=fields, headers={"HX-Request": "true"})
        self.note(f"POST {kind}", answer, fields)
        self.went_on(head, kind)

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

    def hear(self) -> None:
        self.chains.heard(self.studio.rendering.renderer)

    def step(self) -> None:
        kinds = {self.walk: 10, self.ask: 6, self.post: 4, self.chains.step: 12, self.read: 2, self.hear: 0.5}
        self.dice.choices(list(kinds), list(kinds.values()))[0]()


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
