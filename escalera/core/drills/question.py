"""A question of a drill: what is heard, what is asked, the exact answer, and why."""

from __future__ import annotations

import math
import random
from collections.abc import Callable, Sequence
from dataclasses import replace

from escalera.core.document.song import Section, Song
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Place
from escalera.core.theory.keys import Key
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

BAR = 3840
Rows = list[list[int]]


@dataclass(frozen=True, slots=True)
class HeardPassage:
    """A passage: what it is called, and the song whose first section is played, up to `most_s` seconds of it."""

    label: str
    song: Song
    most_s: float = 16.0


@dataclass(frozen=True, slots=True)
class Question:
    """`choices` are what can be answered, the right one at `right`; with none the answer is a number, `number`, and right within
    `within` of it. `matched` passages are brought to one loudness. `why` explains, with the figure."""

    kind: str
    asks: str
    heard: tuple[HeardPassage, ...]
    choices: tuple[str, ...]
    right: int
    why: str
    size_said: str
    number: float = 0.0
    within: float = 0.0
    matched: bool = True
    taps: bool = False
    from_where: str = ""

    def is_right(self, answer: str) -> bool:
        """Whether an answer is right: the number of a choice from 0, or a number. Raises EditError for what is neither."""
        try:
            given = float(answer.replace(",", "."))
        except ValueError:
            raise EditError("That is no answer. Press a digit, or write a number.") from None
        if not math.isfinite(given):
            raise EditError("That is no answer. Press a digit, or write a number.")
        if self.choices:
            if given != int(given) or not 0 <= given < len(self.choices):
                raise EditError(f"There are {len(self.choices)} answers. Choose one of them.")
            return int(given) == self.right
        return abs(given - self.number) <= self.within + 1e-9

    @property
    def answer(self) -> str:
        """The right answer in words."""
        return self.choices[self.right] if self.choices else f"{self.number:g}"


@dataclass(frozen=True, slots=True)
class DrillMaterial:
    """What questions are made from: a song and, where a moment was chosen, its section (0 for any)."""

    song: Song
    section_id: int = 0

    def sections(self) -> list[Section]:
        """Sections that play, the chosen one alone where one was."""
        rows = [s for s in self.song.sections if s.placements]
        return [s for s in rows if s.id == self.section_id] or rows


Make = Callable[[random.Random, float, DrillMaterial], Question]


@dataclass(frozen=True, slots=True)
class DrillKind:
    """A kind of drill. `size` is how large the difference is: from `easy` down to `hard` in `unit`, its logarithm moved by the staircase;
    kinds without one have size 1. `own` needs a song."""

    key: str
    label: str
    group: str
    make: Make
    easy: float = 1.0
    hard: float = 1.0
    unit: str = ""
    choices: int = 2
    own: bool = False

    @property
    def graded(self) -> bool:
        return self.easy != self.hard


DRILLS: dict[str, DrillKind] = {}


def drill(
    key: str,
    label: str,
    group: str,
    easy: float = 1.0,
    hard: float = 1.0,
    unit: str = "",
    choices: int = 2,
    own: bool = False,
) -> Callable[[Make], Make]:
    """Register a function as the maker of a kind."""

    def register(make: Make) -> Make:
        DRILLS[key] = DrillKind(key, label, group, make, easy, hard, unit, choices, own)
        return make

    return register


def make_question(kind: str, seed: int, size: float, material: DrillMaterial) -> Question:
    """The question of a kind, always the same for the same seed, size and material. Raises EditError where the material has none."""
    return DRILLS[kind].make(random.Random(seed), size, material)


# small songs ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class PlayedLayer:
    """A layer of a small song."""

    sound: str
    rows: Rows
    bars: int = 1
    level_db: float = -10.0
    pan: float = 0.0
    tune_cents: float = 0.0
    delay_ms: float = 0.0
    lowpass_hz: float = 20_000.0
    highpass_hz: float = 20.0


def small(bars: int, tempo_bpm: float, *layers: PlayedLayer, key: Key | None = None) -> Song:
    """A song of one section in 4/4 that plays these layers, without rooms and without chance."""
    song = Song(
        tempo_bpm=round(tempo_bpm, 3), metre=Metre(4, 4), key=key or Key(), next_id=2,
        sections=(Section(1, "Heard", bars=bars, phrases=(bars,)),),
    )  # fmt: skip
    for number, played in enumerate(layers):
        song = AddLayer(played.sound, f"Layer {number + 1}", "", "", "Line", played.bars * BAR, played.rows).apply(song)
        layer = max(song.layers, key=lambda x: x.id)
        shaped = replace(
            layer, level_db=played.level_db, pan=played.pan, tune_cents=played.tune_cents, delay_ms=played.delay_ms, sends=(), duck_db=0.0,
            lowpass_hz=played.lowpass_hz, highpass_hz=played.highpass_hz,
        )  # fmt: skip
        song = Place(1, layer.id, layer.pattern_id, start_ticks=0, end_ticks=bars * BAR).apply(song.with_layer(shaped))
    return song


def placed_right(chance: random.Random, right: str, others: Sequence[str]) -> tuple[tuple[str, ...], int]:
    """Choices in an order by chance, and where the right one stands."""
    rows = [right, *dict.fromkeys(o for o in others if o != right)]
    chance.shuffle(rows)
    return tuple(rows), rows.index(right)


KICKS: Rows = [[960 * i, 240, 0, 36, 0, 100] for i in range(4)]
SNARES: Rows = [[960 * i, 240, 0, 38, 0, 95] for i in (1, 3)]
HATS: Rows = [[480 * i, 120, 0, 42, 0, 80] for i in range(8)]
