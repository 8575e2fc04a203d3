"""Pairs of layers that stand left and right, and whether they are pairs: two takes of one line, as loud, and not the same sound twice."""

from __future__ import annotations

from itertools import combinations

from escalera.core.balance.section_heard import HeardSection, LayerHeard
from escalera.core.balance.thirds import TINY, level_db
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Song
from escalera.lazy_dataclasses import dataclass

ASIDE = 0.25
UNEVEN_DB, SAME_DB = 3.0, 0.2


@dataclass(frozen=True, slots=True)
class SidePair:
    """A left and a right layer with what is wrong with them as a pair; empty where nothing is."""

    left: str
    right: str
    said: str


def side_pairs(song: Song, heard: HeardSection) -> list[SidePair]:
    """Layers on opposite sides that play the same kind of sound, or the left and the right of one voice."""
    section = song.section_by_id[heard.section_id]
    rows = [(layer_in(song, section, song.layer_by_id[x.id]), x) for x in heard.sounding]
    found = []
    for (a, x), (b, y) in combinations(rows, 2):
        if _belong(a, b) and a.pan * b.pan < 0 and min(abs(a.pan), abs(b.pan)) >= ASIDE:
            left, right = ((x, y), (y, x))[a.pan > 0]
            found.append(SidePair(left.name, right.name, _said(song, left, right)))
    return found


def _belong(a: Layer, b: Layer) -> bool:
    if a.voice and b.voice:
        return a.voice.replace("left", "").replace("right", "") == b.voice.replace("left", "").replace("right", "")
    return a.sound_key == b.sound_key and not a.sound.is_drum


def _said(song: Song, left: LayerHeard, right: LayerHeard) -> str:
    a, b = float(left.mean.sum()), float(right.mean.sum())
    apart = level_db(a) - level_db(b)
    if abs(apart) > UNEVEN_DB:
        return f"{'left' if apart > 0 else 'right'} is {abs(apart):.1f} dB louder: it leans"
    shape = sum(
        abs(level_db(float(p) / max(a, TINY)) - level_db(float(q) / max(b, TINY)))
        for p, q in zip(left.mean, right.mean)
        if p > a * 1e-4
    )
    one, other = song.layer_by_id[left.id], song.layer_by_id[right.id]
    if (
        shape < SAME_DB
        and not (one.clips or other.clips)
        and one.pattern_id == other.pattern_id
        and one.seed == other.seed
    ):
        return "the same sound twice: it stands in the middle, only louder"
    return ""
