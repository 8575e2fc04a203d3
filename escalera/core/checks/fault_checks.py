"""Checks of what went wrong: a layer lost where a section comes back, a silent bar, wrong notes, a level or tempo that is off.

They compare a song with itself, so that they need no roles and no targets.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from statistics import median

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.held_clashes import PITCHED, clashes_in
from escalera.core.caching import Results
from escalera.core.checks.check import Facts, Finding, check, some
from escalera.core.document.song import Layer
from escalera.core.energy.model import SectionEnergy
from escalera.core.reading.events import DURATION, PITCH, START, heard_in, layer_events
from escalera.core.reading.section_harmony import section_key

SPARE = (
    "break",
    "breakdown",
    "bridge",
    "intro",
    "outro",
    "interlude",
    "build",
    "pre-drop",
    "tag",
    "solo",
)  # may lack what others have
BACKBEAT = frozenset(("snare", "clap", "rim"))
OFF_DB, QUIET_DB, JUMP = 8.5, 15.0, 0.06
BRIEF_TICKS = 240
LEAST_CLASH_BEATS = 4.5  # that two layers hold against each other in a section, all of them together
HELD = 0.45  # of a bar
HIGH_BASS = 57  # A3: a bass whose notes lie above it carries no low end


def _core_job(layer: Layer) -> str:
    """What a section loses when this layer is gone; empty for what may come and go."""
    if layer.sound.is_kick:
        return "kick"
    if layer.sound.is_drum:
        return "backbeat" if layer.sound.drum in BACKBEAT else ""
    return {"low end": "bass", "voices": "voice", "leads": "tune"}.get(layer.family, "")


def covered(facts: Facts, section: SectionEnergy, layer_id: int) -> float:
    """Share of a section's phrases in which a layer plays."""
    phrases = facts.phrases[section.span.section.id]
    return sum(any(r[0] == layer_id for r in p) for p in phrases) / max(1, len(phrases))


def _stem(name: str) -> str:
    return re.sub(r"\s+\d+$", "", name.casefold())


def recurrences(facts: Facts) -> list[list[SectionEnergy]]:
    """Sections that are the same part over again, by name or by what they play; groups of at least two, in order."""
    groups: list[list[SectionEnergy]] = []
    for s in facts.sections:
        home = next((g for g in groups if _again(facts, g[0], s)), None)
        if home is None:
            groups.append([s])
        else:
            home.append(s)
    return [g for g in groups if len(g) > 1]


def _again(facts: Facts, a: SectionEnergy, b: SectionEnergy) -> bool:
    left, right = a.span.section, b.span.section
    if left.name and _stem(left.name) == _stem(right.name):
        return True
    if left.bars != right.bars or left.role != right.role:
        return False
    mine, other = ({r[1] for p in facts.phrases[x.id] for r in p} for x in (left, right))
    return bool(mine & other) and len(mine & other) >= 0.6 * max(len(mine), len(other))


@check(
    "lost",
    "A part that lost what carries it",
    "When a section comes back without its kick, bass, backbeat or tune, it is heard as a mistake unless something takes their place.",
    "bring in",
    "fill",
    "full kit",
    "sub in",
)
def lost(facts: Facts) -> Iterator[Finding]:
    for group in recurrences(facts):
        for index, s in enumerate(group):
            section = s.span.section
            if index == 0 or section.role in SPARE:
                continue
            others = [o for o in group if o is not s and (o in group[:index] or covered_all(facts, o))]
            gone = [x for x in facts.song.layers if _core_job(x) and _is_gone(facts, x, s, others, group[index - 1])]
            jobs = {_core_job(x) for x in gone}
            if not gone or len(jobs) > 2:
                continue  # most of it is gone: that is a break, and meant
            names = some([x.name for x in gone])
            yield Finding(
                "lost",
                f"{names} {'plays' if len(gone) == 1 else 'play'} in {others[0].span.section.name} and not in {section.name}.",
                (section.id, others[0].span.section.id),
                gone[0].id,
                2.6 + 0.4 * (s is group[-1]),
                tuple(x.id for x in gone),
            )


def covered_all(facts: Facts, section: SectionEnergy) -> bool:
    """Whether anything plays in every phrase of a section."""
    return all(facts.phrases[section.span.section.id])


def _is_gone(
    facts: Facts, layer: Layer, here: SectionEnergy, others: list[SectionEnergy], before: SectionEnergy
) -> bool:
    if layer.muted or covered(facts, here, layer.id) > 0.0 or not others:
        return False
    heard = [covered(facts, o, layer.id) for o in others]
    if _core_job(layer) == "backbeat" and any(
        covered(facts, here, x.id) > 0.5 for x in facts.song.layers if _core_job(x) == "backbeat"
    ):
        return False  # another one keeps it
    return covered(facts, before, layer.id) > 0.4 or sum(h > 0.4 for h in heard) > 0.6 * len(heard)


@check(
    "backbeat",
    "A phrase that lost its backbeat",
    "A snare or clap that stays away for one phrase, while kick or hats go on, sounds forgotten.",
    "fill",
    "full kit",
)
def backbeat(facts: Facts) -> Iterator[Finding]:
    beats = {x.id for x in facts.song.layers if x.sound.drum in BACKBEAT and not x.muted}
    drums = {x.id for x in facts.song.layers if x.sound.is_drum and not x.muted} - beats

    def beaten(section: SectionEnergy) -> list[bool]:
        return [any(r[0] in beats for r in p) for p in facts.phrases[section.span.section.id]]

    for s in facts.sections:
        section, has = s.span.section, beaten(s)
        goes_on = [any(r[0] in drums for r in p) for p in facts.phrases[section.id]]
        if section.role in SPARE or not any(has):
            continue
        group = next((g for g in recurrences(facts) if s in g), [])
        earlier = [beaten(o) for o in group[: group.index(s)]] if group else []
        bare = [
            i
            for i, on in enumerate(goes_on)
            if on
            and not has[i]
            and ((any(has[:i]) and any(has[i:])) or (earlier and all(i < len(h) and h[i] for h in earlier)))
        ]
        if bare:
            where = f"phrase {bare[0] + 1}" if len(bare) == 1 else f"{len(bare)} phrases"
            yield Finding(
                "backbeat",
                f"{section.name} has no snare or clap in {where}, and the other drums go on.",
                (section.id,),
                min(beats),
                2.3,
                tuple(bare),
            )


@check(
    "silent bar",
    "A silent bar",
    "A whole bar of silence inside a section is a stop if it is meant, and a hole if it is not.",
    "fill",
    "bring in",
)
def silent_bar(facts: Facts) -> Iterator[Finding]:
    sounding = [(s, _bars_kept.get_or_make(heard_in(facts.song, s.span), partial(_sounding_bars, facts, s))) for s in facts.sections]  # fmt: skip
    heard = [any(bars) for _, bars in sounding]
    for i, (s, bars) in enumerate(sounding):
        section = s.span.section
        holes = [b for b, on in enumerate(bars) if not on]
        if not heard[i] or not holes or len(holes) > 2:
            continue
        if i == len(sounding) - 1 or i == 0:
            edge = range(bars.index(True), len(bars) - bars[::-1].index(True))
            holes = [b for b in holes if b in edge]
        holes = [b for b in holes if b < len(bars) - 1]  # the last bar before a join is a stop
        if holes:
            yield Finding(
                "silent bar",
                f"In bar {s.span.first_bar + holes[0]} of {section.name} nothing sounds.",
                (section.id,),
                weight=2.8,
                facts=tuple(holes),
            )


_bars_kept: Results[list[bool]] = Results(512)


def _sounding_bars(facts: Facts, s: SectionEnergy) -> list[bool]:
    """For every bar whether anything begins in it, or is held for a good part of it."""
    edges = np.array(s.span.bar_ticks, np.int64)
    found = np.zeros(s.span.section.bars, bool)
    for layer in s.layers:
        table = layer_events(facts.song, s.span, layer).table.astype(np.int64)
        first = np.clip(np.searchsorted(edges, table[:, START], side="right") - 1, 0, len(found) - 1)
        found[first] = True
        if not layer.sound.is_drum and len(table):
            begins, ends = table[:, START][:, None], (table[:, START] + table[:, DURATION])[:, None]
            held = np.minimum(ends, edges[1:]) - np.maximum(begins, edges[:-1])
            found |= (held > HELD * np.diff(edges)).any(axis=0)
    return [bool(on) for on in found]


@check(
    "muted",
    "A part that carries the song is muted",
    "A voice, tune, bass or beat that is laid out but muted is easily forgotten.",
)
def muted(facts: Facts) -> Iterator[Finding]:
    for layer in facts.song.layers:
        placed = [s.name for s in facts.song.sections if any(p.layer_id == layer.id for p in s.placements)]
        if layer.muted and not layer.aside and _core_job(layer) and placed:
            yield Finding(
                "muted",
                f"{layer.name} is muted and laid out in {some(placed)}.",
                (),
                layer.id,
                2.4,
                (len(placed),),
            )


@check(
    "wrong notes",
    "Notes that are outside the key and rub against the others",
    "A part that was moved by a semitone, or written in another key, clashes with everything beside it.",
    "lift",
)
def wrong_notes(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        for layer_id, share, rubs in facts.kept(s, "wrong notes", partial(_wrong, facts, s)):
            yield Finding(
                "wrong notes",
                f"{100 * share:.0f} % of the notes of {facts.layer(layer_id).name} in {s.span.section.name} lie outside the key, "
                f"and {100 * rubs:.0f} % lie a semitone from another part.",
                (s.span.section.id,),
                layer_id,
                3.0,
                (round(share, 1), round(rubs, 1)),
            )


@check(
    "held clash",
    "Held notes of two layers that rub",
    "A semitone or a minor ninth that stays between two parts is heard as a wrong note, unless the chord asks for it.",
    "clear chords",
    "shorter notes",
    "other octave",
    "lift",
)
def held_clash(facts: Facts) -> Iterator[Finding]:
    if facts.song.chords_read:  # which semitones a chord names is a guess
        return
    for s in facts.sections:
        beat = s.span.bar_metres[0].beat_ticks
        for one, other, clashes in clashes_in(facts.song, s.span):
            beats = sum(c.ticks for c in clashes) / beat
            if beats < LEAST_CLASH_BEATS:
                continue
            key, first = section_key(facts.song, s.span.section), clashes[0]
            bar = s.span.first_bar + s.span.bar_of(first.tick)
            yield Finding(
                "held clash",
                f"{facts.layer(one).name} and {facts.layer(other).name} hold {key.pitch_name(first.low)} against "
                f"{key.pitch_name(first.high)} (bar {bar}) for {beats:.3g} beats in {s.span.section.name}"
                + (f", and {len(clashes) - 1} more." if len(clashes) > 1 else "."),
                (s.span.section.id,),
                other,
                min(2.0, 0.4 + 0.1 * beats),
                (round(beats), len(clashes)),
            )


def _wrong(facts: Facts, s: SectionEnergy) -> list[tuple[int, float, float]]:
    """Layers that keep to another key than the rest: id, share of their notes outside the key, share that rubs."""
    key = section_key(facts.song, s.span.section).classes
    outside_key = np.array([c not in key for c in range(12)])
    rows = {
        x.id: layer_events(facts.song, s.span, x).table.astype(np.int64)
        for x in s.layers
        if not x.sound.is_drum and x.family in PITCHED
    }
    rows = {i: t for i, t in rows.items() if len(t) >= 3}
    outside = {i: float(outside_key[t[:, PITCH] % 12].mean()) for i, t in rows.items()}
    found = []
    for layer_id, share in outside.items():
        rest = [v for i, v in outside.items() if i != layer_id]
        if share >= 0.35 and rest and median(rest) <= 0.15 and (rubs := _rubs(rows, layer_id)) > 0.25:
            found.append((layer_id, share, rubs))
    return found


def _rubs(rows: dict[int, NDArray[np.int64]], layer_id: int) -> float:
    """Share of a layer's notes that sound for a good part of them, or of the other, a semitone from a note of another layer, in any octave."""
    mine = rows[layer_id]
    others = np.concatenate([t for i, t in rows.items() if i != layer_id])
    hits = 0
    for start, length, pitch in mine[:, (START, DURATION, PITCH)].tolist():
        overlap = np.minimum(others[:, START] + others[:, DURATION], start + length) - np.maximum(
            others[:, START], start
        )
        apart = np.abs(others[:, PITCH] - pitch) % 12
        hits += bool(
            (
                (overlap > 0.4 * np.minimum(length, np.maximum(others[:, DURATION], BRIEF_TICKS)))
                & ((apart == 1) | (apart == 11))
            ).any()
        )
    return hits / len(mine)


@check(
    "balance",
    "A layer far out of balance",
    "A part that stands far above or below where its sound usually stands hides the others, or is not heard.",
    "usual level",
)
def balance(facts: Facts) -> Iterator[Finding]:
    playing = set().union(*(facts.layers_of(s.span.section) for s in facts.sections))
    for layer in facts.song.layers:
        off = layer.level_db - layer.sound.level_db
        core = _core_job(layer) != ""
        if layer.id in playing and (off > OFF_DB or (core and off < -QUIET_DB)):
            yield Finding(
                "balance",
                f"{layer.name} stands {abs(off):.0f} dB {'above' if off > 0 else 'below'} where its sound usually stands.",
                (),
                layer.id,
                2.0 + min(1.0, abs(off) / 20),
                (round(off),),
            )


@check(
    "tempo jump",
    "A section in another tempo",
    "A tempo that jumps for one section and back is felt as a stumble, unless the song is made of it.",
)
def tempo_jump(facts: Facts) -> Iterator[Finding]:
    tempos = [(s, float(s.span.tempo_points[0][1])) for s in facts.sections]
    usual = median(t for _, t in tempos) if tempos else 0.0
    off = [(s, t) for s, t in tempos if abs(t / usual - 1.0) > JUMP]
    if len(facts.sections) < 3 or len(off) > max(1, len(facts.sections) // 4):
        return
    for s, tempo in off:
        yield Finding(
            "tempo jump",
            f"{s.span.section.name} is at {tempo:g} bpm, the song at {usual:g}.",
            (s.span.section.id,),
            weight=2.5,
            facts=(round(tempo), round(usual)),
        )


@check(
    "kick alone",
    "The lowest octave of the peak belongs to the kick alone",
    "Between the strokes of a kick there is nothing down there; a bass or sub carries it through.",
    "sub in",
    "bring in",
    "fill",
)
def kick_alone(facts: Facts) -> Iterator[Finding]:
    basses = [x for x in facts.song.layers if x.family == "low end" and not x.muted]
    heard: set[int] = set()
    for s in facts.sections:
        here = facts.layers_of(s.span.section)
        before, heard = heard, heard | here
        if s.span.section.role in SPARE or not any(x.id in before for x in basses):
            continue  # meant, or they are still to come
        kicks = any(x.sound.is_kick and x.id in here for x in facts.song.layers)
        if not basses or not kicks or s.value < 0.75 * facts.highest or any(x.id in here for x in basses):
            continue
        yield Finding(
            "kick alone",
            f"In {s.span.section.name} ({s.value:.1f}) no bass plays: {some([x.name for x in basses])} rest.",
            (s.span.section.id,),
            basses[0].id,
            2.5,
            (len(basses),),
        )


@check(
    "high bass",
    "A bass that lies too high",
    "A bass above the middle of the keyboard leaves the low end empty; it was probably moved by octaves.",
    "other octave",
)
def high_bass(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        for layer in s.layers:
            table = layer_events(facts.song, s.span, layer).table
            if layer.family != "low end" or layer.sound.is_drum or len(table) < 2:
                continue
            middle = float(np.median(table[:, PITCH]))
            if middle >= HIGH_BASS:
                name = section_key(facts.song, s.span.section).pitch_name(round(middle))
                yield Finding(
                    "high bass",
                    f"{layer.name} lies around {name} in {s.span.section.name}.",
                    (s.span.section.id,),
                    layer.id,
                    2.3,
                    (round(middle),),
                )
