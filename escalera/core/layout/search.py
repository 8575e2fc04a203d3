"""The search for what plays in one section: single changes, the best one each time, until none helps."""

from __future__ import annotations

from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.energy.terms import compute_terms, to_energy
from escalera.core.layout.material import WAYS, Material
from escalera.core.layout.plans import NEVER
from escalera.lazy_dataclasses import dataclass

Floats = NDArray[np.float64]
Choice = NDArray[np.int8]  # (phrases, seats): 0 is silent, else 1 + the number of a way
DISTANCE = 2.0  # points of cost for a distance of one from the target, squared
WHOLE_SECTION = 3.0  # and for the mean of the section
TURN = 0.35  # a layer that comes or goes inside a section
AGAINST = 0.7  # … and does so against the way of the section
AGAIN = 1.2  # … twice
SAME = 1.5  # all phrases alike
LOST = 0.9  # a layer that an earlier section of the same kind had
COPY = 3.0  # nothing new against the last section of the same kind
NO_KICK = 2.5  # a snare without a kick
SILENT = 12.0  # a phrase in which nothing plays
OTHER_WAY = 0.35  # the same layer played otherwise in the next phrase
SLOPE = 1.5  # a section that climbs less from its first to its last phrase than it should, and that squared
MOST_STEPS = 60
WAY_COST = np.array([0.0, *(way.cost for way in WAYS)])


@dataclass(frozen=True, eq=False)
class SectionTask:
    """What a section should become.

    wanted, bars : by phrase;  wishes : (phrases, seats), NEVER keeps a seat out;  free : (seats,), whether it may change
    ways : the numbers of the ways of every seat, from 1;  direction : 1 where layers enter, -1 where they leave, 0 where both do
    snares : (seats,), which are snares; none where the song has no kick
    before : what the last section of its kind plays, (seats,);  gains : whether it must differ from that
    bias : what the sound, or the whole song, has more than this search computes, by phrase
    """

    song: Song
    material: Material
    wanted: Floats
    bars: Floats
    wishes: Floats
    free: NDArray[np.bool_]
    ways: tuple[tuple[int, ...], ...]
    direction: int = 0
    snares: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    before: NDArray[np.bool_] | None = None
    gains: bool = False
    bias: Floats | float = 0.0
    _shares: Floats = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_shares", self.bars / self.bars.sum())

    @property
    def shares(self) -> Floats:
        """Every phrase's share of the section, shape (phrases,)."""
        return self._shares


def energies(task: SectionTask, choices: Choice) -> Floats:
    """Energy by phrase of many choices, (n, phrases, seats) to (n, phrases)."""
    tables = np.stack((task.material.without, task.material.with_kick))  # (2, ways, seats, phrases, width)
    kick = ((choices > 0) & task.material.kicks).any(axis=2)
    phrase, seat = np.arange(choices.shape[1])[:, None], np.arange(choices.shape[2])
    total = np.zeros((*choices.shape[:2], tables.shape[-1]))
    for s in seat:
        on = choices[:, :, s] > 0
        if on.any():
            picked = tables[kick.astype(int), np.maximum(choices[:, :, s] - 1, 0), s, phrase[:, 0]]
            total += np.where(on[..., None], picked, 0.0)
    values = to_energy(compute_terms(total), task.song)
    silent = ~(choices > 0).any(axis=2)
    return np.where(silent, 0.0, values) + task.bias


def costs(task: SectionTask, choices: Choice, levels: Floats) -> Floats:
    """What every choice costs, (n, phrases, seats) and its energies (n, phrases) to (n,)."""
    on = choices > 0
    off = levels - task.wanted
    shares = task.shares
    cost = DISTANCE * (off**2 @ shares) + WHOLE_SECTION * (off @ shares) ** 2
    cost -= np.einsum("nps,ps,p->n", on, task.wishes, shares)
    cost += np.einsum("nps,p->n", WAY_COST[choices], shares)
    cost += OTHER_WAY * ((choices[:, 1:] != choices[:, :-1]) & on[:, 1:] & on[:, :-1]).sum(axis=(1, 2))
    if on.shape[1] > 1:
        climb = task.wanted[-1] - task.wanted[0] - (levels[:, -1] - levels[:, 0])
        late = np.maximum(np.sign(task.wanted[-1] - task.wanted[0]) * climb, 0.0)
        cost += SLOPE * (late + late**2)
    cost += SILENT * (~on.any(axis=2) @ shares)
    if task.snares.any():
        alone = on[:, :, task.snares].any(axis=2) & ~on[:, :, task.material.kicks].any(axis=2)
        cost += NO_KICK * (alone @ shares)
    steps = np.diff(on.astype(np.int8), axis=1)
    turns = np.abs(steps).sum(axis=1)
    cost += TURN * turns.sum(axis=1) + AGAIN * np.maximum(turns - 1, 0).sum(axis=1)
    if task.direction:
        cost += AGAINST * (steps == -task.direction).sum(axis=(1, 2))
    if on.shape[1] > 1:
        cost += SAME * (choices == choices[:, :1]).all(axis=(1, 2))
    if task.before is not None:
        ever = on.any(axis=1)
        cost += LOST * (task.before & ~ever).sum(axis=1)
        if task.gains:
            cost += COPY * ~(ever & ~task.before).any(axis=1)
    return cost


def search(task: SectionTask, start: Choice) -> Choice:
    """The choice (phrases, seats) that no single change makes better, from a first one."""
    spans = _spans(len(task.bars))
    here = start.copy()
    best = float(costs(task, here[None], energies(task, here[None]))[0])
    for _ in range(MOST_STEPS):
        changes = _changes(task, here, spans)
        if not len(changes.seat):
            break
        choices = changes.of(here)
        found = costs(task, choices, _levels(task, here, changes, choices))
        at = int(found.argmin())
        if found[at] >= best - 1e-6:
            break
        best, here = float(found[at]), choices[at]
    return here


@dataclass(frozen=True, eq=False)
class _Changes:
    """Single changes: which seat plays in which way, and in which phrases; shapes (n,), (n,), (n, phrases)."""

    seat: NDArray[np.int64]
    way: NDArray[np.int64]
    where: NDArray[np.bool_]

    def of(self, here: Choice) -> Choice:
        """Every choice that one change makes of another, shape (n, phrases, seats)."""
        rows = np.repeat(here[None], len(self.seat), axis=0)
        number = np.arange(len(self.seat))
        rows[number, :, self.seat] = np.where(self.where, self.way[:, None], here.T[self.seat])
        return rows


def _spans(phrases: int) -> NDArray[np.bool_]:
    """The stretches that a change may cover: the whole, from a phrase on, up to a phrase; shape (n, phrases)."""
    rows = {tuple(range(phrases))}
    for i in range(1, phrases):
        rows |= {tuple(range(i, phrases)), tuple(range(i))}
    return np.array([[i in row for i in range(phrases)] for row in sorted(rows)])


def _changes(task: SectionTask, here: Choice, spans: NDArray[np.bool_]) -> _Changes:
    """All that may be changed and would be."""
    pairs = [
        (seat, way)
        for seat in np.flatnonzero(task.free)
        for way in ((0,) if (task.wishes[:, seat] < NEVER / 2).all() else (0, *task.ways[seat]))
    ]
    seat, way = (np.repeat(np.array(pairs, np.int64).reshape(-1, 2)[:, i], len(spans)) for i in (0, 1))
    where = np.tile(spans, (len(pairs), 1))
    real = np.asarray((where & (here.T[seat] != way[:, None])).any(axis=1))
    return _Changes(seat[real], way[real], where[real])


def _levels(task: SectionTask, here: Choice, changes: _Changes, choices: Choice) -> Floats:
    """Energies of choices that differ from `here` in one seat: what the seat had is taken off, what it has is added."""
    material, (phrases, count) = task.material, here.shape
    kick = np.asarray(((here > 0) & material.kicks).any(axis=1))
    table = np.where(kick[None, None, :, None], material.with_kick, material.without)
    table = np.concatenate((np.zeros((1, *table.shape[1:])), table))  # (ways + 1, seats, phrases, width)
    phrase = np.arange(phrases)
    now = table[here.T, np.arange(count)[:, None], phrase[None, :]]  # (seats, phrases, width)
    moved = table[changes.way, changes.seat] - now[changes.seat]
    total = now.sum(axis=0) + np.where(changes.where[..., None], moved, 0.0)
    values = (
        np.where((choices > 0).any(axis=2), to_energy(compute_terms(np.maximum(total, 0.0)), task.song), 0.0)
        + task.bias
    )
    drums = np.asarray(material.kicks[changes.seat])  # a kick that comes or goes changes what others bring
    if drums.any():
        values[drums] = energies(task, choices[drums])
    return values
