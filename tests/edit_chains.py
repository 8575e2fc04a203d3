"""Chains of all kinds of edits: each as its example has it, on songs that the others have changed, its ids those of the song."""

from __future__ import annotations

import random
import re
from collections import Counter, defaultdict
from collections.abc import Iterator
from hashlib import blake2b
from typing import Any

from escalera.core.checks import run_checks
from escalera.core.commands import COMMANDS
from escalera.core.document.codec import to_plain
from escalera.core.document.song import Song
from escalera.core.energy.model import arranged
from escalera.core.validation.whole import validate
from escalera.errors import EscaleraError
from escalera.formats.midi_write import write_midi
from escalera.formats.project import read_project, write_project
from escalera.sound.mix import Renderer
from tests.core.test_edits import ROWS, base_of

NAMES_IDS = re.compile(r"(_id|_ids|^cells|^layers)$")
LONGEST, MOST_SECTIONS, MOST_LAYERS = 60, 20, 30


def ids_of(song: Song) -> dict[int, str]:
    """Every id of a song, and the name of the list that it stands in."""

    def walk(plain: object, name: str) -> Iterator[tuple[int, str]]:
        if isinstance(plain, dict):
            if isinstance(plain.get("id"), int):
                yield plain["id"], name
            for key, part in plain.items():
                yield from walk(part, key)
        elif isinstance(plain, list | tuple):
            for part in plain:
                yield from walk(part, name)

    return dict(walk(to_plain(song), ""))


def own_content(value: Any) -> Any:
    """Samples with a content of their own: those of the examples share one although they differ in length."""
    if isinstance(value, list):
        return [own_content(each) for each in value]
    if not isinstance(value, dict) or "content" not in value:
        return value
    said = f"{value['name']} {value['seconds']}".encode()
    return {**value, "content": blake2b(said, digest_size=16).hexdigest()}


def _examples() -> dict[str, list[tuple[dict[str, Any], Song]]]:
    """Fields of every kind: what its example takes, and what it refuses, each with the song that they are about."""
    return {
        kind: [(fields, base_of(kind)) for fields in (taken[0], *((refused[0],) if refused else ()))]
        for kind, (taken, refused) in ROWS.items()
    }


class Chains:
    """Some songs, changed by dice."""

    def __init__(self, seed: int):
        self.dice = random.Random(seed)
        self.examples = _examples()
        self.first = list({id(song): song for rows in self.examples.values() for _, song in rows}.values())
        self.songs = [(song, 0) for song in self.first]
        self.by_name: dict[tuple[str, type], list[Any]] = defaultdict(list)
        for rows in self.examples.values():
            for fields, _ in rows:
                for name, value in fields.items():
                    self.by_name[name, type(value)].append(value)
        self.counts: Counter[str] = Counter()
        self.faults: list[str] = []

    def fitted(self, name: str, value: Any, known: dict[int, str], there: dict[str, list[int]]) -> Any:
        """A value of an example with the ids that it names exchanged for some of the song."""

        def one(old: int) -> int:
            return self.dice.choice(there.get(known.get(old, ""), [old]))

        if isinstance(value, str):
            return re.sub(r"(?<=layer\.)\d+", lambda found: str(one(int(found[0]))), value)
        if not NAMES_IDS.search(name):
            return value
        if isinstance(value, list):
            return [self.fitted(name, each, known, there) for each in value]
        return one(value) if isinstance(value, int) and not isinstance(value, bool) else value

    def step(self) -> None:
        """One edit on one of the songs."""
        at, kind = self.dice.randrange(len(self.songs)), self.dice.choice(list(self.examples))
        song, age = self.songs[at]
        fields, base = self.dice.choice(self.examples[kind][:1] * 3 + self.examples[kind])
        fields, there = dict(fields), defaultdict(list)
        for id_, name in ids_of(song).items():
            there[name].append(id_)
        if fields and self.dice.random() < 0.3:
            name = self.dice.choice(list(fields))
            fields[name] = self.dice.choice(self.by_name[name, type(fields[name])])
        known = ids_of(base)
        fields = {name: own_content(self.fitted(name, value, known, there)) for name, value in fields.items()}
        try:
            after = COMMANDS[kind](**fields).apply(song)
        except EscaleraError:
            self.counts[f"{kind} refused"] += 1
            return
        except Exception as error:
            self.faults.append(f"{kind} {fields}: {error!r}")
            return
        self.counts[f"{kind} taken"] += 1
        self.survives(after, f"{kind} {fields}")
        old = age > LONGEST or len(after.sections) > MOST_SECTIONS or len(after.layers) > MOST_LAYERS
        self.songs[at] = (self.dice.choice(self.first), 0) if old or not after.layers else (after, age + 1)

    def heard(self, renderer: Renderer) -> None:
        """One of the songs is judged, written as MIDI and rendered, whatever was done to it."""
        song = self.dice.choice([s for s, _ in self.songs if s.bars < 40] or self.first)
        try:
            arranged(song), run_checks(song), write_midi(song), renderer.render(song)
        except Exception as error:
            self.faults.append(f"a song that edits lead to cannot be heard: {error!r}")

    def survives(self, song: Song, what: str) -> None:
        """A state that an edit reached is whole, and is written and read as itself."""
        try:
            validate(song)
            back = read_project(write_project(song))
        except EscaleraError as error:
            self.faults.append(f"{what}: {error}")
            return
        if write_project(back) != write_project(song):
            self.faults.append(f"{what}: it comes back as another one")
