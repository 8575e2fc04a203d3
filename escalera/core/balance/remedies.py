"""What would help a layer that another one hides: the smallest change of each kind, with what both gain and lose by it.

A kind of remedy is a row in REMEDIES: a function from a pair to candidates, from the smallest change to the largest. What a candidate
does is foretold from the layers' third-octaves, through the filters' own responses; the page measures it when it is tried.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from escalera.core.balance.masking import Hiding
from escalera.core.balance.section_heard import HeardSection, floor_name
from escalera.core.balance.thirds import OCTAVE, THIRDS_HZ, Floats, Levels, hertz
from escalera.core.bench.low_end import ducked_power
from escalera.core.document.lanes import layer_parameter
from escalera.core.document.limits import MAX_CHAIN
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import Edit, layer_of, section_of
from escalera.core.edits.sound_edits import AddEffect, SetDuckBy, SetValue
from escalera.core.energy.chain import equaliser_power
from escalera.core.energy.terms import decibels
from escalera.core.moves.move import KINDS, Move, apply_move
from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.parameters import setting, with_setting
from escalera.core.reading.events import START, layer_events
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

DIPS_DB = (2.0, 3.0, 4.0, 6.0)
LOWER_DB = (1.5, 3.0, 4.5, 6.0)
DUCKS_DB = (4.0, 6.0, 9.0)
ASIDE = (0.35, 0.6)
NARROW = 1.4  # of the bell that a dip is made with
MOST_LOST_DB = 3.0  # of its own level that a high-pass may cost a layer
ENOUGH = 0.5  # of what is hidden: a remedy that brings back so much is large enough
LEAST_GAIN = 0.02
MIDDLE_ONLY = 2  # floors below this one stay in the middle


@dataclass(frozen=True, eq=False)
class Pair:
    """A hidden layer and the one that hides it, in a section, as it treats them."""

    song: Song
    section: Section
    span: Span
    heard: HeardSection
    hiding: Hiding
    masked: Layer
    by: Layer

    @property
    def hz(self) -> float:
        return float(THIRDS_HZ[self.hiding.band])

    def levels(self, layer: Layer) -> Levels:
        return next(x.levels for x in self.heard.sounding if x.id == layer.id)


class Candidate(NamedTuple):
    """`key` names it again; `changed` are the levels that layers would have; `edits` make it."""

    key: str
    label: str
    edits: tuple[Edit, ...]
    changed: dict[int, Levels]


@dataclass(frozen=True, eq=False)
class Unmasking:
    """A candidate with what it does: shares of both that are heard, in percent points; `enough` where half of what was hidden is back."""

    candidate: Candidate
    masked_points: float
    by_points: float
    enough: bool

    @property
    def label(self) -> str:
        return self.candidate.label

    @property
    def key(self) -> str:
        return self.candidate.key


Find = Callable[[Pair], Iterator[Candidate]]
REMEDIES: dict[str, Find] = {}


def remedy(key: str) -> Callable[[Find], Find]:
    """Register a kind of remedy: candidates from the smallest to the largest."""

    def register(find: Find) -> Find:
        REMEDIES[key] = find
        return find

    return register


def pair_of(song: Song, heard: HeardSection, masked: int, by: int) -> Pair:
    """The pair by its layers. Raises EditError where one of them is silent there, or nothing is hidden."""
    section = section_of(song, heard.section_id)
    a, b = layer_of(song, masked), layer_of(song, by)
    found = next((h for h in heard.hidings if (h.masked, h.by) == (masked, by)), None)
    if found is None:
        raise EditError(
            f"{b.name} hides nothing of {a.name} in {section.name} any more. The list shows what is hidden."
        )
    span = timeline(song).span_of(section.id)
    return Pair(song, section, span, heard, found, layer_in(song, section, a), layer_in(song, section, b))


def remedies(pair: Pair, most: int = 6) -> list[Unmasking]:
    """The smallest remedy of every kind that helps and can be made, those that suffice and cost least first."""
    found = [best for find in REMEDIES.values() if (best := _smallest(pair, find(pair))) is not None]
    return sorted(found, key=lambda r: (not r.enough, -r.masked_points - 2.0 * min(0.0, r.by_points)))[:most]


def find_remedy(song: Song, heard: HeardSection, masked: int, by: int, key: str) -> Candidate:
    """The candidate with a key. Raises EditError where it does not apply any more."""
    pair = pair_of(song, heard, masked, by)
    kind = REMEDIES.get(key.partition(":")[0])
    for candidate in kind(pair) if kind else ():
        if candidate.key == key:
            return candidate
    raise EditError("This remedy does not apply any more. The list shows what would help now.")


def _smallest(pair: Pair, candidates: Iterator[Candidate]) -> Unmasking | None:
    best = None
    for candidate in candidates:
        if not _can_be_made(pair.song, candidate):
            continue
        tried = judged_remedy(pair, candidate)
        if tried.masked_points >= 100 * LEAST_GAIN and (best is None or tried.masked_points > best.masked_points + 1):
            best = tried
        if best is not None and best.enough:
            break
    return best


def judged_remedy(pair: Pair, candidate: Candidate) -> Unmasking:
    """What a candidate would do to both."""
    after, now = pair.heard.with_layers(candidate.changed), pair.heard.hearing.shares
    gain = after.share(pair.masked.id) - now[pair.masked.id]
    cost = after.share(pair.by.id) - now[pair.by.id]
    return Unmasking(candidate, 100 * gain, 100 * cost, gain >= ENOUGH * pair.hiding.share)


def _can_be_made(song: Song, candidate: Candidate) -> bool:
    try:
        apply_move(song, Move(candidate.key, candidate.label, candidate.edits))
    except EditError:
        return False
    return True


def highpass_power(cutoff_hz: float) -> Floats:
    """Power response of a layer's high-pass, 12 dB an octave and flat at its edge, (28,)."""
    ratio = (THIRDS_HZ / cutoff_hz) ** 4
    return ratio / (1.0 + ratio)


def bell_power(hz: float, db: float) -> Floats:
    """Power response of one bell of the equaliser, (28,)."""
    kind = EFFECT_BY_KEY["equaliser"]
    settings = with_setting((), kind.parameter_by_key["low_bell_hz"], hz)
    for key, value in (("low_bell_db", db), ("narrowness", NARROW)):
        settings = with_setting(settings, kind.parameter_by_key[key], value)
    return equaliser_power(lambda key: setting(settings, kind.parameter_by_key[key]), THIRDS_HZ)


@remedy("high-pass")
def _high_pass(pair: Pair) -> Iterator[Candidate]:
    """The one that hides starts higher, where what it hides lies below most of itself."""
    levels = pair.levels(pair.by)
    mean = levels.total.mean(axis=0)
    for step in (1, 2, 3):
        hz = min(2000.0, round(pair.hz * 10.0 ** (0.1 * step) / 5.0) * 5.0)
        power = highpass_power(hz)
        lost = decibels(mean.sum()) - decibels((mean * power).sum())
        if hz <= pair.by.highpass_hz or lost > MOST_LOST_DB or hz >= pair.by.lowpass_hz:
            continue
        yield Candidate(
            f"high-pass:{step}", f"{pair.by.name}: high-pass at {hz:.0f} Hz",
            (Treat(pair.section.id, pair.by.id, "highpass_hz", hz),), {pair.by.id: levels.through(power)},
        )  # fmt: skip


@remedy("dip")
def _dip(pair: Pair) -> Iterator[Candidate]:
    if len(layer_of(pair.song, pair.by.id).devices) >= MAX_CHAIN or not 40.0 <= pair.hz <= 12_000.0:
        return
    for db in DIPS_DB:
        path = f"layer.{pair.by.id}.fx.{pair.song.next_id}"
        edits = (
            AddEffect(f"layer.{pair.by.id}", "equaliser", pair.section.id),
            SetValue(f"{path}.low_bell_hz", pair.hz), SetValue(f"{path}.low_bell_db", -db), SetValue(f"{path}.narrowness", NARROW),
        )  # fmt: skip
        changed = {pair.by.id: pair.levels(pair.by).through(bell_power(pair.hz, -db))}
        yield Candidate(f"dip:{db:g}", f"{pair.by.name}: {db:g} dB less at {hertz(pair.hiding.band)}", edits, changed)


@remedy("lower")
def _lower(pair: Pair) -> Iterator[Candidate]:
    low = layer_parameter(pair.by, "level_db").low
    for db in LOWER_DB:
        if pair.by.level_db - db > low:
            edit = Treat(pair.section.id, pair.by.id, "level_db", round(pair.by.level_db - db, 1))
            gain = 10.0 ** (-db / 20.0)
            yield Candidate(
                f"lower:{db:g}",
                f"{pair.by.name} {db:g} dB lower",
                (edit,),
                {pair.by.id: pair.levels(pair.by).times(gain, gain)},
            )


@remedy("raise")
def _raise(pair: Pair) -> Iterator[Candidate]:
    high = layer_parameter(pair.masked, "level_db").high
    for db in LOWER_DB[:3]:
        if pair.masked.level_db + db < high:
            edit, gain = (
                Treat(pair.section.id, pair.masked.id, "level_db", round(pair.masked.level_db + db, 1)),
                10.0 ** (db / 20.0),
            )
            changed = {pair.masked.id: pair.levels(pair.masked).times(gain, gain)}
            yield Candidate(f"raise:{db:g}", f"{pair.masked.name} {db:g} dB louder", (edit,), changed)


@remedy("octave")
def _octave(pair: Pair) -> Iterator[Candidate]:
    """The hidden one an octave up, else the one that hides it; basses stay down."""
    for layer in (pair.masked, pair.by):
        if layer.family == "low end":
            continue
        for move in KINDS["other octave"](pair.song, pair.section):
            if move.key == f"other octave:{layer.id}:up":
                changed = {layer.id: pair.levels(layer).moved(OCTAVE)}
                yield Candidate(f"octave:{layer.id}", f"{layer.name} an octave up", move.edits, changed)


@remedy("duck")
def _duck(pair: Pair) -> Iterator[Candidate]:
    """The one that hides gives way for a moment wherever the other begins."""
    by_kick = pair.by.duck_by == 0 and pair.masked.sound.is_kick
    if pair.by.sound.is_drum or pair.by.duck_db > 0 and pair.by.duck_by != pair.masked.id and not by_kick:
        return
    onsets = np.unique(pair.span.grid.seconds_of(layer_events(pair.song, pair.span, pair.masked).table[:, START]))
    levels = pair.levels(pair.by)
    edges = np.arange(len(levels.left) + 1, dtype=np.float64) * levels.slot_s
    release_s = pair.by.duck_release_beats * pair.span.seconds_at(pair.span.bar_metres[0].beat_ticks)
    now = ducked_power(edges, onsets, pair.by.duck_db, release_s)
    for db in DUCKS_DB:
        if db <= pair.by.duck_db + 1.0:
            continue
        power = ducked_power(edges, onsets, db, release_s) / now
        treat = Treat(pair.section.id, pair.by.id, "duck_db", db)
        edits = (treat,) if by_kick else (SetDuckBy(pair.by.id, pair.masked.id), treat)
        label = f"{pair.by.name} ducks {db:g} dB under {pair.masked.name}"
        yield Candidate(f"duck:{db:g}", label, edits, {pair.by.id: levels.through(power[:, None])})


@remedy("aside")
def _aside(pair: Pair) -> Iterator[Candidate]:
    """Both to opposite sides; what leads and what carries the low end stays where it is."""
    if floor_name(pair.hiding.band) < MIDDLE_ONLY:
        return
    side = 1.0 if pair.masked.pan >= pair.by.pan else -1.0
    for far in ASIDE:
        edits, changed = [], {}
        for layer, pan in ((pair.masked, side * far), (pair.by, -side * far)):
            if _stays(layer) or abs(layer.pan) >= far and layer.pan * pan > 0:
                continue
            edits.append(Treat(pair.section.id, layer.id, "pan", round(pan, 2)))
            changed[layer.id] = panned(pair.levels(layer), layer.pan, pan)
        if edits:
            where = "left" if side < 0 else "right"
            names = pair.masked.name if pair.masked.id in changed else pair.by.name
            where = where if pair.masked.id in changed else ("right" if side < 0 else "left")
            label = f"{names} to the {where}" + (", the other one opposite" if len(edits) == 2 else "")
            yield Candidate(f"aside:{far:g}", label, tuple(edits), changed)


def _stays(layer: Layer) -> bool:
    return layer.family in ("low end", "voices") or layer.sound.drum in ("kick", "snare") or layer.job == "weight"


def panned(levels: Levels, pan: float, to: float) -> Levels:
    """Levels at another place, by the mix's own law: constant power, 1 and 1 in the middle."""
    (a, b), (c, d) = (_pan_gains(p) for p in (pan, to))
    return levels.times(c / max(a, 1e-3), d / max(b, 1e-3))


def _pan_gains(pan: float) -> tuple[float, float]:
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.sqrt(2.0) * np.cos(angle)), float(np.sqrt(2.0) * np.sin(angle))


@remedy("leave out")
def _leave_out(pair: Pair) -> Iterator[Candidate]:
    """The one that hides rests in this section, where it is no pillar of it."""
    if _stays(pair.by) or len(pair.heard.sounding) < 3:
        return
    for move in KINDS["lift"](pair.song, pair.section):
        if move.key == f"lift:{pair.by.id}":
            gone = pair.levels(pair.by).times(0.0, 0.0)
            yield Candidate(
                f"leave out:{pair.by.id}",
                f"{pair.by.name} rests in {pair.section.name}",
                move.edits,
                {pair.by.id: gone},
            )


def with_candidate(song: Song, candidate: Candidate) -> Song:
    """The song with a remedy made. Raises EditError where what it touches is held still."""
    return apply_move(song, Move(candidate.key, candidate.label, candidate.edits))


__all__ = ["REMEDIES", "Candidate", "Pair", "Unmasking", "find_remedy", "pair_of", "remedies", "with_candidate"]
