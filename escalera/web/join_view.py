"""All that templates ask of the page of joins."""

from __future__ import annotations

from functools import cached_property
from itertools import combinations

import numpy as np

from escalera.core.document.carriers import Build, JoinDevice
from escalera.core.document.song import Layer, Section
from escalera.core.edits.edit import id_in
from escalera.core.edits.join_edits import join_metre, leading_layers, loop_text
from escalera.core.energy.explain import Agreement, arranged_agreement
from escalera.core.energy.join_cues import JoinCue, join_cues
from escalera.core.energy.join_reading import (
    JoinReading,
    likeness,
    lows_out_ticks,
    read_join,
    read_joins,
    wanted_tension,
)
from escalera.core.energy.model import SongEnergy, arranged
from escalera.core.moves.join_moves import JoinVariation, join_variations, nearest_join
from escalera.core.moves.move import Move, moves_for
from escalera.core.palette.join_kinds import PURPOSES, ROWS, JoinKind
from escalera.core.reading.timeline import Span, timeline
from escalera.core.time.ruler import RATE_HZ
from escalera.lazy_dataclasses import dataclass
from escalera.store.repository import Head
from escalera.web.join_drawing import JoinDrawing, draw_join
from escalera.web.page_view import PageView
from escalera.web.song_view import Selection, studio

SHOWN = (2, 4, 8, 16)  # bars before the one
AFTER = 2
ENDINGS = ("leave one by one", "slow the end", "last chord", "fade out", "left over")
ALIKE = 0.8
SIGNS = {"slash": "◢", "backslash": "◣", "bars": "⋮", "wedge": "/", "wedge-down": "\\", "diamond": "◆", "hook": "↷", "ring": "○", "down": "▼",
         "hold": "▬", "cross": "✕"}  # fmt: skip
BUILD_SIGN, MOST_SIGNS = "≋", 5


@dataclass(frozen=True, slots=True)
class JoinCard:
    """A join of the variety map: the step it makes and the signs of what carries it."""

    section_id: int
    from_name: str
    to_name: str
    step: float
    heights: tuple[float, float]
    signs: str
    kinds: str
    build: bool
    as_meant: bool


class JoinView(PageView):
    """The join into one section. `select` is section:ID; a first section gives way to the second."""

    def __init__(self, head: Head, select: str, device: str = "", shown: str = ""):
        super().__init__(head)
        ids = [s.id for s in self.song.sections]
        wanted = id_in((select or "").split(":")[1]) if ":" in (select or "") else 0
        self.index = max(1, ids.index(wanted)) if wanted in ids else 1
        self.there = len(ids) > 1
        self.section: Section = self.song.sections[min(self.index, len(ids) - 1)] if ids else Section(0, "–")
        self.selection = Selection("section", self.section.id, 0, 0)
        self.chosen_id = id_in(device)
        self.shown = int(shown) if shown.isdecimal() and int(shown) in SHOWN else 4

    @cached_property
    def reading(self) -> JoinReading:
        return read_join(self.song, self.index)

    @cached_property
    def energy(self) -> SongEnergy:
        return arranged(self.song)

    @cached_property
    def agreement(self) -> Agreement:
        return arranged_agreement(self.energy)

    @property
    def span(self) -> Span:
        return self.spans[self.index]

    @property
    def left(self) -> Span:
        return self.spans[self.index - 1]

    @property
    def energies(self) -> tuple[float, float]:
        """Energy of the last phrase before the one and of the first after it."""
        a, b = self.energy.sections[self.index - 1 : self.index + 1]
        return float(a.phrases[-1]), float(b.phrases[0])

    @property
    def step(self) -> tuple[float, float]:
        """The step of the sections' energies, and the target's."""
        a, b = self.energy.sections[self.index - 1 : self.index + 1]
        return b.value - a.value, self.section.target.mean - self.left.section.target.mean

    @property
    def as_meant(self) -> bool:
        return self.agreement.as_meant[self.index - 1]

    @cached_property
    def drawing(self) -> JoinDrawing:
        return draw_join(self.song, self.reading, (self.shown, AFTER), self.energies)

    # devices -----------------------------------------------------------------------------------------------------------

    @property
    def chosen(self) -> JoinDevice | None:
        return next((d for d in self.section.devices if d.id == self.chosen_id), None)

    @property
    def parked(self) -> list[JoinDevice]:
        return [d for d in self.section.devices if d.parked]

    def kinds(self) -> list[tuple[str, list[JoinKind]]]:
        """Kinds of devices by what they are for."""
        return [(purpose, [row for row in ROWS if row.purpose == purpose]) for purpose in PURPOSES]

    def players(self, device: JoinDevice) -> list[Layer]:
        """Layers that could play a device."""
        kind = device.of
        fits = [
            x
            for x in self.song.layers
            if x.sound_key in kind.sounds or (x.family in kind.plays and not x.sound.is_drum)
        ]
        return fits or [x for x in self.song.layers if x.id == device.layer_id]

    def layer_name(self, layer_id: int) -> str:
        layer = self.song.layer_by_id.get(layer_id)
        return layer.name if layer else ""

    def distance(self, ticks: int) -> str:
        """Ticks as the forms read them: beats, with bars where they are whole."""
        metre = join_metre(self.song, self.section.id)
        if ticks and ticks % metre.bar_ticks == 0 and abs(ticks) > metre.bar_ticks:
            return f"{ticks // metre.bar_ticks} bars"
        return f"{ticks / metre.beat_ticks:.4g}"

    def beats(self, ticks: int) -> str:
        return f"{ticks / self.reading.beat_ticks:.4g}".replace("-", "−")

    # build -------------------------------------------------------------------------------------------------------------

    @property
    def build(self) -> Build | None:
        return self.section.build

    def build_form(self) -> Build:
        """What the form of a build starts from."""
        length = min(4, self.left.section.bars)
        return self.build or Build(bars=length)

    def loops(self) -> str:
        return loop_text(self.build, join_metre(self.song, self.section.id)) if self.build else "4, 2, 1, 1/2, 1/4"

    def keepable(self) -> list[Layer]:
        """Layers that play before it and could go on through a build."""
        index = self.index - 1
        found = [x for s in self.song.sections[max(0, index - 1) : index + 1] for x in leading_layers(self.song, s)]
        return list({x.id: x for x in found}.values())

    def showable(self) -> list[Layer]:
        return leading_layers(self.song, self.section)

    def tension_said(self) -> str:
        """Where tension is highest, against where it should be: in the last beat before the one, or before a gap."""
        r = self.reading
        if float(r.tension.max()) < 0.1:
            return "Nothing pulls toward it."
        beats = -r.peak_ticks / r.beat_ticks
        said = f"Tension is highest ({float(r.tension.max()):.2f} of 1) {_beats(beats)} before the one"
        said += "." if beats <= max(1.0, r.gap_beats + 1.0) else ": it falls off before it is let go."
        wanted = wanted_tension(self.song, self.index)
        if wanted is not None:
            far = float(np.nanmean(np.abs(wanted - r.tension)))
            said += f" It lies {far:.2f} from what the build asks for."
        lows = lows_out_ticks(r)
        return f"{said} Low end gone for {_beats(lows / r.beat_ticks)}." if lows else said

    def silence_said(self) -> str:
        return f"Silence of {_beats(self.reading.gap_beats)} before the one."

    # the map -----------------------------------------------------------------------------------------------------------

    def cards(self) -> list[JoinCard]:
        values = [s.value for s in self.energy.sections]
        rows = []
        for r, meant in zip(read_joins(self.song), self.agreement.as_meant):
            a, b = values[r.index - 1 : r.index + 1]
            rows.append(
                JoinCard(
                    r.right.section.id,
                    r.left.section.name,
                    r.right.section.name,
                    b - a,
                    (round(40 - 3 * a, 1), round(40 - 3 * b, 1)),
                    _signs(r, bool(self.song.sections[r.index].build)),
                    ", ".join(dict.fromkeys(c.of.label.lower() for c in r.carriers)) or "nothing carries it",
                    bool(self.song.sections[r.index].build),
                    meant,
                )
            )
        return rows

    def alike(self) -> list[tuple[str, str, int]]:
        """Pairs of joins that are carried nearly the same way, in per cent, the most alike first."""
        readings = [r for r in read_joins(self.song) if len(r.carriers) > 1]
        pairs = [(a, b, likeness(a.carriers, b.carriers, a.beat_ticks)) for a, b in combinations(readings, 2)]
        found = [
            (a.right.section.name, b.right.section.name, round(100 * share)) for a, b, share in pairs if share >= ALIKE
        ]
        return sorted(found, key=lambda row: -row[2])[:3]

    def gaps(self) -> str:
        """The silences of the song beside each other, where there are several."""
        found = [(r.right.section.name, r.gap_beats) for r in read_joins(self.song) if r.gap_ticks]
        return ", ".join(f"{name} {_beats(beats)}" for name, beats in found) if len(found) > 1 else ""

    def shorter_gap(self) -> Move | None:
        """Half of this join's gap, where an earlier one is no longer than it."""
        mine = next((d for d in self.section.devices if d.kind in ("gap", "breath") and not d.parked), None)
        earlier = [r.gap_ticks for r in read_joins(self.song)[: self.index - 1] if r.gap_ticks]
        if mine is None or not earlier or max(earlier) > self.reading.gap_ticks:
            return None
        return next(
            (
                m
                for m in moves_for(self.song, self.section, ("vary the join",))
                if m.key == f"vary the join:{mine.id}:half"
            ),
            None,
        )

    def nearest(self) -> tuple[str, int] | None:
        found = nearest_join(self.song, self.index)
        return (self.song.sections[found[0]].name, round(100 * found[1])) if found else None

    def variations(self) -> list[JoinVariation]:
        return join_variations(self.song, self.index)

    # the end ----------------------------------------------------------------------------------------------------------

    @property
    def is_last(self) -> bool:
        return self.index == len(self.song.sections) - 1

    def endings(self) -> list[Move]:
        """Ways in which the song could end, from its last section."""
        return list(moves_for(self.song, self.section, ENDINGS)) if self.is_last else []

    def tail_seconds(self) -> float:
        """How long the song rings after its last bar."""
        return studio().rendering.renderer.tail_samples(self.song, timeline(self.song)) / RATE_HZ

    def others(self) -> list[Section]:
        """Sections whose join was given devices or a build that could be copied."""
        return [s for s in self.song.sections[1:] if s.id != self.section.id and (s.devices or s.build)]

    def cues(self) -> list[JoinCue]:
        return join_cues(self.song)


def _signs(reading: JoinReading, build: bool) -> str:
    """The signs of what carries a join, each once; the build's first."""
    found = list(dict.fromkeys(SIGNS.get(c.of.sign, "·") for c in reading.carriers))
    signs = [BUILD_SIGN, *found] if build else found
    return " ".join(signs if len(signs) <= MOST_SIGNS else [*signs[: MOST_SIGNS - 1], "…"])


def _beats(count: float) -> str:
    return f"{count:.4g} {'beat' if count == 1 else 'beats'}"
