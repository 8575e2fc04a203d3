"""A whole song laid out: section by section, peaks first, then looked at as a whole and mended where it differs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.seats import HELD_BACK, Seat, seats
from escalera.core.document.schools import switch_value
from escalera.core.document.song import Ids, Section, Song
from escalera.core.energy.explain import Agreement, arranged_agreement
from escalera.core.energy.model import arranged
from escalera.core.layout.contrast import B_PART, with_b_parts
from escalera.core.layout.joining import with_devices
from escalera.core.layout.material import Material, played_in, read_material, ways_of
from escalera.core.layout.plans import FALLING, NEVER, PEAKS, RISING, STANCES, Stance, wish_table
from escalera.core.layout.reasons import reasons_of
from escalera.core.layout.scale import with_fitting_scale
from escalera.core.layout.search import Choice, SectionTask, energies, search
from escalera.core.reading.placements import clip, joined
from escalera.core.reading.timeline import section_bar_ticks
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

ROUNDS = 3  # looks at the whole song, each correcting what the search did not foresee
VERSE_CLIMB = 0.4  # what leads to the chorus begins in the verse
NEAR = 0.8  # points within which a section is where it should be
Progress = Callable[[int, int], None]


@dataclass(frozen=True, eq=False)
class Layout:
    """A song laid out in one way.

    `reasons` is by section id and layer id, why a layer plays there or does not; `kept` the layers held back, by id, and the section
    id they come in.
    """

    song: Song
    stance: Stance
    reasons: dict[int, dict[int, str]]
    kept: dict[int, int]

    @cached_property
    def agreement(self) -> Agreement:
        return arranged_agreement(arranged(self.song))

    @cached_property
    def rows(self) -> list[tuple[Section, float, float]]:
        """Every section with its target and its arranged energy."""
        return [(s.span.section, s.span.section.target.mean, s.value) for s in arranged(self.song).sections]

    @property
    def near(self) -> int:
        """How many sections lie within NEAR of their targets."""
        return sum(abs(value - wanted) <= NEAR for _, wanted, value in self.rows)

    @property
    def out_of_reach(self) -> list[str]:
        """A sentence for every section that no choice of these layers brings near its target."""
        found = []
        for section, wanted, value in self.rows:
            if abs(value - wanted) > NEAR:
                least = "most" if value < wanted else "least"
                found.append(
                    f"{section.name} should be {wanted:.1f}; {value:.1f} is the {least} that these layers come to there."
                )
        return found


def lay_out_song(
    song: Song,
    stance: str = "voice",
    section_ids: Sequence[int] = (),
    pinned: Sequence[int] = (),
    measured_off: dict[int, float] | None = None,
    fit_scale: bool = False,
    loop: Section | None = None,
) -> Layout:
    """Lay out sections (all where none is named) from what the layers have to play.

    Parameters
    ----------
    stance : a key of STANCES.
    pinned : layers that stay where they are.
    measured_off : by section id, how much more energy was measured than arranged; what is laid out makes up for it.
    loop : a section outside the song that has the material, for a song whose sections are empty.
    fit_scale : whether the song's scale may be fitted to what its layers can reach; only where it is not frozen yet.

    Raises
    ------
    EditError
        When there is nothing to lay out: no sections, no layers, or none that may change.
    """
    work = _Work(song, STANCES[stance], section_ids, pinned, measured_off or {}, fit_scale, loop)
    return work.done()


def alternatives(song: Song, count: int = 3, progress: Progress | None = None, **options: object) -> list[Layout]:
    """Up to three layouts that differ in who carries what; see `lay_out_song`."""
    found = []
    keys = list(STANCES)[:count]
    for number, key in enumerate(keys):
        if progress:
            progress(number, len(keys))
        found.append(lay_out_song(song, key, **options))  # type: ignore[arg-type]
    return found


def _led(row: tuple[Seat, ...]) -> tuple[Seat, ...]:
    """Where nobody sings, the first hook leads as a voice would."""
    if any(s.part == "lead voice" for s in row):
        return row
    first = next((s for s in row if s.part == "hook"), None)
    return tuple(replace(s, part="lead voice") if s is first else s for s in row)


class _Work:
    """One layout under way."""

    def __init__(
        self,
        song: Song,
        stance: Stance,
        section_ids: Sequence[int],
        pinned: Sequence[int],
        off: dict[int, float],
        fit: bool,
        loop: Section | None,
    ):
        self.stance = stance
        self.row = _led(tuple(s for s in seats(song) if s.part != "effect"))
        self.pinned = frozenset(pinned)
        self.chosen = [s for s in song.sections if not section_ids or s.id in section_ids]
        self.off = off
        self._check(song)
        self.cache: dict[object, Material] = {}
        self.material = {s.id: read_material(song, s, self.row, self.cache, loop) for s in self.chosen}
        self.song = with_fitting_scale(song, self.row, self.material) if fit else song
        self.choices: dict[int, Choice] = {}
        self.bias: dict[int, NDArray[np.float64]] = {}
        self.kept = self._kept_back()

    def _check(self, song: Song) -> None:
        if not self.chosen:
            raise EditError(
                "There is no section to lay out. Add one, or write a form, for example intro 8, verse 16, chorus 8."
            )
        free = [s for s in self.row if s.layer.id not in self.pinned]
        if not self.row:
            raise EditError(
                "No layer can be laid out: the song has none that sounds. Add one, or take a starting loop."
            )
        if not free:
            raise EditError(
                f"All {len(self.row)} layers are to stay as they are, so nothing can be laid out. Let one of them move."
            )

    def _kept_back(self) -> dict[int, int]:
        """Layers that are heard late, and the place of the section they come in: the last peak's two, and one for the peak before."""
        peaks = [i for i, s in enumerate(self.song.sections) if s.role in PEAKS]
        free = [
            s
            for s in self.row
            if s.layer.id not in self.pinned and s.part not in ("kick", "bass", "chords", "lead voice")
        ]
        ranked = sorted((s for s in free if s.part in HELD_BACK), key=lambda s: (HELD_BACK.index(s.part), s.rank))
        if len(peaks) < 2 or len(self.row) < 4 or not ranked:
            return {}
        turn = self.stance.held % len(ranked)
        ranked = ranked[turn:] + ranked[:turn] if len(ranked) > 2 else ranked
        most = 2 if len(self.row) >= 9 else 1
        kept = {s.layer.id: peaks[-1] for s in ranked[:most]}
        if len(peaks) > 2 and len(ranked) > most and len(self.row) >= 7:
            kept[ranked[most].layer.id] = peaks[len(peaks) // 2]
        return kept

    def done(self) -> Layout:
        """The song as it comes out after the last look."""
        song = self.song
        for turn in range(ROUNDS):
            for section in self._order():
                self.choices[section.id] = search(self._task(section), self._start(section))
            self._place_the_forgotten()
            song = with_devices(self._written(), [s.id for s in self.chosen], self.stance)
            if not self._look(song) or turn == ROUNDS - 1:
                break
        kept = {layer: self.song.sections[at].id for layer, at in self.kept.items()}
        reasons = reasons_of(self.song, self.row, self.choices, kept)
        song, turned = with_b_parts(song, self.chosen, self.row)
        for section_id, layers in turned.items():
            reasons[section_id] |= dict.fromkeys(layers, B_PART)
        return Layout(song, self.stance, reasons, kept)

    def _place_the_forgotten(self) -> None:
        """A layer that plays nowhere enters where the target is highest."""
        highest = max(self.chosen, key=lambda s: s.target.mean)
        playing = np.any([(c > 0).any(axis=0) for c in self.choices.values()], axis=0)
        elsewhere = {p.layer_id for s in self.song.sections if s not in self.chosen for p in s.placements}
        for i, seat in enumerate(self.row):
            able = seat.layer.id not in self.pinned and self.material[highest.id].plays[i]
            if able and not playing[i] and seat.layer.id not in elsewhere:
                self.kept.setdefault(seat.layer.id, self.song.index_of(highest.id))
                self.choices[highest.id][:, i] = 1

    def _order(self) -> list[Section]:
        """Peaks first, the rest in order: what is kept for them is then known."""
        return sorted(self.chosen, key=lambda s: s.role not in PEAKS)

    def _start(self, section: Section) -> Choice:
        if section.id in self.choices:
            return self.choices[section.id]
        task = self._task(section)
        return (task.wishes > 0).astype(np.int8) * task.material.plays.astype(np.int8)

    def _task(self, section: Section) -> SectionTask:
        edges = np.cumsum((0, *section.phrases)) / section.bars
        wanted = np.array([section.target.mean_of(float(a), float(b)) for a, b in zip(edges, edges[1:])])
        if section.role == "verse" and len(wanted) > 1 and wanted[-1] - wanted[0] < VERSE_CLIMB:
            wanted = wanted + np.linspace(-0.5, 0.5, len(wanted)) * (VERSE_CLIMB - (wanted[-1] - wanted[0]))
        before = self._before(section)
        change = switch_value(self.song.school, self.song.switches, "repeats") == "change"
        last = section.role in PEAKS and not any(
            s.role in PEAKS for s in self.song.sections[self.song.index_of(section.id) + 1 :]
        )
        material = self.material[section.id]
        bias = self.bias.get(section.id, np.zeros(len(wanted))) + self.off.get(section.id, 0.0)
        return SectionTask(
            self.song, material, wanted, np.array(section.phrases, float), self._wishes(section), self._free(section),
            tuple(tuple(w + 1 for w in ways_of(seat, section.role in PEAKS)) for seat in self.row),
            1 if section.role in RISING else -1 if section.role in FALLING else 0,
            np.array([s.part == "snare" for s in self.row]) & bool(material.kicks.any()), before, before is not None and (change or last), bias,
        )  # fmt: skip

    def _free(self, section: Section) -> NDArray[np.bool_]:
        return self.material[section.id].plays & np.array([s.layer.id not in self.pinned for s in self.row])

    def _before(self, section: Section) -> NDArray[np.bool_] | None:
        """What the section before it of the same role plays, shape (seats,); None where there is none yet."""
        at = self.song.index_of(section.id)
        for other in reversed(self.song.sections[:at]):
            if other.role == section.role != "none":
                if other.id in self.choices:
                    return np.asarray((self.choices[other.id] > 0).any(axis=0))
                playing = {p.layer_id for p in other.placements}
                return np.array([s.layer.id in playing for s in self.row])
        return None

    def _wishes(self, section: Section) -> NDArray[np.float64]:
        table = wish_table(self.song, section.role, self.stance)
        at, phrases = self.song.index_of(section.id), len(section.phrases)
        share = (np.arange(phrases) + 0.5) / phrases if phrases > 1 else np.full(1, 0.5)
        columns = []
        for seat in self.row:
            first, last = table[seat.part]
            column = first + (last - first) * share - 0.4 * seat.rank * (seat.part in ("sub", "bass", "lead voice"))
            if seat.layer.id in self.kept:
                late = self.kept[seat.layer.id]
                column = np.full(phrases, NEVER) if at < late else np.maximum(column, 3.0) if at == late else column
            columns.append(column)
        return np.stack(columns, axis=1)

    def _written(self) -> Song:
        """The song with the choices as placements; sections that were not chosen stay."""
        song, ids = self.song, Ids(self.song.next_id)
        for section in self.chosen:
            song = song.with_section(self._body(section, ids))
        return replace(song, next_id=ids.next_id)

    def _body(self, section: Section, ids: Ids) -> Section:
        bars, choice = section_bar_ticks(section, self.song.metre), self.choices[section.id]
        edges = [bars[sum(section.phrases[:i])] for i in range(len(section.phrases))] + [bars[-1]]
        laid = {s.layer.id for s in self.row} - set(self.pinned)  # what only carries joins stays where it plays
        placed = [p for p in section.placements if p.layer_id not in laid]
        for i, seat in enumerate(self.row):
            if seat.layer.id in self.pinned:
                continue
            for phrase in np.flatnonzero(choice[:, i]):
                for p in self.material[section.id].parts[i]:
                    inside = clip(p, edges[phrase], edges[phrase + 1])
                    if inside:
                        placed.append(replace(played_in(inside, int(choice[phrase, i]) - 1), id=ids()))
        return replace(section, placements=joined(placed))

    def _look(self, song: Song) -> bool:
        """Take note of how far the whole song's energies are from what the search computed; whether any is worth another look."""
        worth = False
        for section in self.chosen:
            found = arranged(song).of(section.id).phrases
            task = self._task(section)
            off = found - (energies(task, self.choices[section.id][None])[0] - task.bias)
            self.bias[section.id] = off
            worth |= bool(np.abs(found + self.off.get(section.id, 0.0) - task.wanted).max() > 0.4)
        return worth
