"""Drills from songs: which layer came or left, which section is higher and by what, what carried a join, where bars lie."""

from __future__ import annotations

import random
from collections.abc import Sized
from dataclasses import replace
from itertools import combinations

from escalera.core.document.song import Song
from escalera.core.drills.question import DrillMaterial, HeardPassage, Question, drill, placed_right
from escalera.core.energy.join_reading import read_joins
from escalera.core.energy.model import arranged
from escalera.core.ideas.extraction import cut_section
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import clock
from escalera.errors import EditError

MOST_S = 8.0
NONE = "nothing but the bar line"


def _alone(song: Song, section_id: int) -> Song:
    return replace(cut_section(song, section_id), master_gain_db=song.master_gain_db)


def _need(rows: Sized, least: int, what: str) -> None:
    if len(rows) < least:
        raise EditError(f"This song has too little for that: {what}. Choose another song, or another drill.")


@drill("layer", "Which layer came or left", "arranging", choices=4, own=True)
def _layer(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    song = material.song
    rows = [s for s in material.sections() if len(sounding_layers(song, s)) >= 3]
    _need(rows, 1, "a section with three layers is needed")
    section = chance.choice(rows)
    there = sounding_layers(song, section)
    layer, came = chance.choice(list(there)), chance.random() < 0.5
    whole = _alone(song, section.id)
    less = whole.with_section(
        replace(whole.sections[0], placements=tuple(p for p in whole.sections[0].placements if p.layer_id != layer.id))
    )
    pair = (less, whole) if came else (whole, less)
    others = [x.name for x in there if x.id != layer.id]
    choices, right = placed_right(chance, layer.name, chance.sample(others, min(3, len(others))))
    why = f"{layer.name} {'came' if came else 'left'} in {section.name}."
    heard = tuple(HeardPassage(label, each, MOST_S) for label, each in zip(("before", "after"), pair))
    return Question(
        "layer",
        f"Which layer {'came' if came else 'left'}?",
        heard,
        choices,
        right,
        why,
        "",
        matched=False,
        from_where=song.title,
    )


@drill("higher section", "Which section is higher", "arranging", 5.0, 0.3, "points", own=True)
def _higher(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    song, found = material.song, arranged(material.song).sections
    pairs = [(a, b) for a, b in combinations(found, 2) if abs(a.value - b.value) > 0.2 and a.layers and b.layers]
    if material.section_id:
        own = [p for p in pairs if material.section_id in (p[0].span.section.id, p[1].span.section.id)]
        pairs = own or pairs
    _need(pairs, 1, "two sections of different energy are needed")
    near = sorted(pairs, key=lambda p: abs(abs(p[0].value - p[1].value) - size))[:4]
    a, b = chance.choice(near)
    if chance.random() < 0.5:
        a, b = b, a
    high, low = (a, b) if a.value > b.value else (b, a)
    terms = {t: high.contributions()[t] - low.contributions()[t] for t in high.contributions() if t != "ground"}
    most = max(terms, key=lambda t: terms[t])
    heard = tuple(
        HeardPassage(label, _alone(song, s.span.section.id), MOST_S)
        for label, s in zip(("the first", "the second"), (a, b))
    )
    apart = high.value - low.value
    why = f"{high.span.section.name} has {high.value:.1f}, {low.span.section.name} {low.value:.1f}; most of it is {most} ({terms[most]:+.1f})."
    ab = ("the first", "the second")
    return Question("higher section", "Which has more energy?", heard, ab, int(b is high), why, f"{apart:.1f} points", matched=False, from_where=song.title)  # fmt: skip


@drill("by which term", "What makes it higher", "arranging", choices=3, own=True)
def _term(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    song, found = material.song, arranged(material.song).sections
    pairs = [(a, b) for a, b in combinations(found, 2) if abs(a.value - b.value) > 1.0 and a.layers and b.layers]
    _need(pairs, 1, "two sections of clearly different energy are needed")
    a, b = chance.choice(pairs)
    low, high = (a, b) if a.value < b.value else (b, a)
    terms = {t: high.contributions()[t] - low.contributions()[t] for t in high.contributions() if t != "ground"}
    ranked = sorted(terms, key=lambda t: -terms[t])
    choices, right = placed_right(chance, ranked[0], ranked[-2:])
    heard = (
        HeardPassage("the lower", _alone(song, low.span.section.id), MOST_S),
        HeardPassage("the higher", _alone(song, high.span.section.id), MOST_S),
    )
    told = ", ".join(f"{t} {terms[t]:+.1f}" for t in ranked[:3])
    why = f"From {low.span.section.name} to {high.span.section.name}: {told}."
    return Question(
        "by which term",
        "What brings most of the energy that is added?",
        heard,
        choices,
        right,
        why,
        "",
        from_where=song.title,
    )


@drill("what carried the join", "What carried the join", "joins", choices=4, own=True)
def _join(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    song = material.song
    joins = read_joins(song)
    if material.section_id:
        joins = [j for j in joins if j.right.section.id == material.section_id] or joins
    _need(joins, 1, "a join is needed")
    join = chance.choice(joins)
    kinds = list(dict.fromkeys(c.kind for c in join.carriers if c.kind in JOIN_KINDS))
    answer = JOIN_KINDS[chance.choice(kinds)].label if kinds else NONE
    others = [k.label for key, k in JOIN_KINDS.items() if key not in kinds] + ([NONE] if kinds else [])
    choices, right = placed_right(chance, answer, chance.sample(others, 3))
    both = replace(song, sections=song.sections[join.index - 1 : join.index + 1], lead_bars=0, tune=(0, 0, 0))
    there = ", ".join(JOIN_KINDS[k].label for k in kinds) or NONE
    why = f"Into {join.right.section.name}: {there}."
    heard = (HeardPassage("the join", both, 0.0),)
    asks = "What leads into the second section?"
    return Question("what carried the join", asks, heard, choices, right, why, "", matched=False, from_where=song.title)


@drill("where a bar is", "Bars against beats", "counting", choices=4, own=True)
def _where(chance: random.Random, size: float, material: DrillMaterial) -> Question:
    line = timeline(material.song)
    _need(list(range(line.bars)), 8, "eight bars are needed")
    bar = chance.randint(3, line.bars)
    span, _ = line.locate_bar(bar)
    at = span.start_seconds + span.grid.bar_seconds[bar - span.first_bar]
    length = line.seconds / line.bars
    wrong = [clock(max(0.0, at + k * length)) for k in (-2, -1, 1, 2)]
    choices, right = placed_right(chance, clock(at), chance.sample(wrong, 3))
    song = material.song
    own = bar - span.first_bar + 1
    why = f"Bar {bar} begins at {clock(at)}: {bar - 1} bars have gone, and it is bar {own} of {span.section.name}."
    return Question(
        "where a bar is",
        f"At {song.tempo_bpm:g} bpm in {song.metre}, when does bar {bar} begin?",
        (),
        choices,
        right,
        why,
        "",
        from_where=song.title,
    )
