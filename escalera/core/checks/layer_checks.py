"""Checks of layers and the low end: jobs, registers, names, reasons, who owns what."""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np

from escalera.core.checks.check import PEAKS, Facts, Finding, check, some
from escalera.core.document.schools import TERMS
from escalera.core.energy.model import SectionEnergy
from escalera.core.reading.section_harmony import section_key

DEFAULT_NAMES = re.compile(r"(layer|track|part|section|untitled|new)( \d+)?", re.I)
TOO_MANY = 10
VOICE_BANDS = slice(2, 4)  # 250 Hz to 3 kHz among the bands of core.energy.stats
COVERS_DB = 6.0  # others that lie further below the voice leave it room


@check(
    "no sub",
    "Nobody owns the lowest octave",
    "In a loud part something has to carry 30–90 Hz; people notice late that nothing does.",
    "sub in",
    "bring in",
    "fill",
)
def no_sub(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        if not facts.is_loud(s) or not s.layers:
            continue
        nobody = facts.lows(s).owned().get(0, 0.0)
        if nobody > 0.5 * facts.loose:
            yield Finding(
                "no sub",
                f"In {s.span.section.name} nobody owns 30–90 Hz in {100 * nobody:.0f} % of the sixteenths.",
                (s.span.section.id,),
                weight=1.5 + nobody,
                facts=(round(nobody, 1),),
            )


@check(
    "two subs",
    "Two share the lowest octave",
    "Exactly one thing owns the sub at a time; two of one strength blur each other.",
    "lows off",
    "duck",
    "other octave",
    "quieter",
    "lift",
    "bass waits",
    "hold the sub",
)
def two_subs(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        lows = facts.lows(s)
        share = lows.shared / max(1, len(lows.steps))
        if share > 0.25 * facts.loose:
            yield Finding(
                "two subs",
                f"In {s.span.section.name} two layers share 30–90 Hz in {100 * share:.0f} % of the sixteenths.",
                (s.span.section.id,),
                weight=1.3 + share,
                facts=(round(share, 1),),
            )


@check(
    "kick and bass",
    "Kick and bass mask each other",
    "Starting together is a lock only when one of the two stays ahead.",
    "duck",
    "lows off",
    "quieter",
    "bass waits",
    "thin",
)
def kick_and_bass(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        lows = facts.lows(s)
        met = len(lows.masked) + len(lows.locked)
        if len(lows.masked) >= max(3, 0.25 * facts.loose * met):
            yield Finding(
                "kick and bass",
                f"In {s.span.section.name} {len(lows.masked)} of {met} meetings of kick and bass leave neither ahead.",
                (s.span.section.id,),
                weight=1.6,
                facts=(len(lows.masked), met),
            )


@check(
    "bass note",
    "A bass that is wrong under its chord",
    "A long low note a semitone off is felt as weakness before it is heard.",
)
def bass_note(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        for fault in facts.faults(s)[:2]:
            said = fault.said(section_key(facts.song, s.span.section))
            yield Finding(
                "bass note",
                f"{facts.layer(fault.layer_id).name} in {s.span.section.name}: {said}.",
                (s.span.section.id,),
                fault.layer_id,
                2.0 if facts.is_loud(s) else 1.2,
                (said, len(fault.ticks)),
            )


@check(
    "low middle",
    "A crowded low middle",
    "Several pleasant sounds between 90 and 800 Hz add up to mud.",
    "lows off",
    "other octave",
    "quieter",
    "lift",
    "octave up",
    "thin",
)
def low_middle(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        if len(s.layers) < 5:
            continue
        power = facts.powers(s)
        middle = power[:, 1:3].sum(axis=1)
        placed = {
            p.layer_id for p in facts.given.section_by_id[s.span.section.id].placements
        }  # not what only fades into it
        near = [
            x.name
            for x, p in zip(s.layers, middle)
            if p > 0.16 * middle.max() and not x.sound.is_drum and x.id in placed
        ]
        share = float(middle.sum() / max(1e-12, power.sum()))
        if len(near) >= 5 and share > 0.55 * facts.loose:
            yield Finding(
                "low middle",
                f"{len(near)} layers of {s.span.section.name} lie close between 90 and 800 Hz "
                f"({100 * share:.0f} % of its power): {some(near)}.",
                (s.span.section.id,),
                weight=1.2,
                facts=(len(near),),
            )


@check(
    "verse room",
    "A verse too busy for its voice",
    "A verse leaves room where the voice sings.",
    "quieter",
    "other octave",
    "thin",
    "lift",
    "answers",
)
def verse_room(facts: Facts) -> Iterator[Finding]:
    for s in facts.of_role("verse"):
        found = facts.jobs(s)
        inside, of = sum(c.notes for c in found.clashes), sum(c.of for c in found.clashes)
        if not found.voice or inside <= max(24, 0.5 * facts.loose * of):
            continue
        voice, over_db = (
            found.voice.layer,
            _over_voice_db(facts, s, found.voice.layer.id, {c.layer.id for c in found.clashes}),
        )
        if over_db > -COVERS_DB:
            names, way = some([c.layer.name for c in found.clashes]), "above" if over_db > 0 else "below"
            yield Finding(
                "verse room",
                f"{inside} notes of {names} lie in {voice.name}’s range while it sings in "
                f"{s.span.section.name}; in its bands they are {abs(over_db):.0f} dB {way} it.",
                (s.span.section.id,),
                weight=1.3,
                facts=(inside, round(over_db / 3)),
            )


def _over_voice_db(facts: Facts, section: SectionEnergy, voice: int, others: set[int]) -> float:
    """By how much others are louder than the voice where it lies, 250 Hz to 3 kHz, on average over the section."""
    power = facts.powers(section)[:, VOICE_BANDS].sum(axis=1)
    sung = sum(p for p, x in zip(power, section.core.layers) if x.id == voice)
    played = sum(p for p, x in zip(power, section.core.layers) if x.id in others)
    return float(10.0 * np.log10(max(played, 1e-12) / max(sung, 1e-12)))


@check(
    "same job",
    "Two layers with the same job, register and rhythm",
    "Each layer has a job; two with one job in one place are a question.",
    "other octave",
    "lift",
    "octave up",
    "other sound",
    when=("layers", "few"),
)
def same_job(facts: Facts) -> Iterator[Finding]:
    told: set[frozenset[int]] = set()
    for s in sorted(facts.sections, key=lambda s: -s.value):
        for a, b in facts.jobs(s).same:
            if a.layer.group and a.layer.group == b.layer.group:
                continue  # one part by intention
            pair = frozenset((a.layer.id, b.layer.id))
            if pair not in told:
                told.add(pair)
                yield Finding(
                    "same job",
                    f"{a.layer.name} and {b.layer.name} both are {a.layer.job} in one register and one "
                    f"rhythm, as in {s.span.section.name}.",
                    (s.span.section.id,),
                    a.layer.id,
                    0.9,
                    (b.layer.id,),
                )


@check(
    "many layers",
    "More layers than can be heard",
    "Few parts, each heard, are fuller than many that hide each other.",
    "lift",
    "strip",
    when=("layers", "few"),
)
def many_layers(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        pitched = [x for x in s.layers if not x.sound.is_drum and x.family not in ("effects", "atmosphere")]
        if len(pitched) > TOO_MANY * facts.loose:
            hidden = [x.name for x in pitched if s.without[x.id] < 0.05]
            yield Finding(
                "many layers",
                f"{len(pitched)} pitched layers play in {s.span.section.name}; {len(hidden)} would not be missed.",
                (s.span.section.id,),
                weight=1.0,
                facts=(len(pitched),),
            )


@check(
    "used once",
    "A layer used in one phrase only",
    "A sound heard once is a surprise or an oversight.",
    "fill",
    "bring in",
)
def used_once(facts: Facts) -> Iterator[Finding]:
    for layer in facts.song.layers:
        places = [
            (s.span.section, i)
            for s in facts.sections
            for i, p in enumerate(facts.phrases[s.span.section.id])
            if any(r[0] == layer.id for r in p)
        ]
        if (
            len(places) == 1
            and len(facts.sections) > 2
            and layer.family not in ("effects", "atmosphere")
            and layer.sound.drum != "crash"
        ):
            yield Finding(
                "used once",
                f"{layer.name} plays in one phrase only, in {places[0][0].name}.",
                (places[0][0].id,),
                layer.id,
                0.7,
            )


@check("never", "A layer that never plays", "It costs attention and gives nothing; place it, or let it go.", "bring in")
def never(facts: Facts) -> Iterator[Finding]:
    playing = {p.layer_id for body in facts.song.bodies for p in body.placements}
    for layer in facts.song.layers:
        if layer.id not in playing and not layer.muted:
            yield Finding("never", f"{layer.name} plays nowhere.", (), layer.id, 0.8)


@check(
    "reason",
    "A layer without a stated reason",
    "Every part must have a reason; when nothing else says “done”, the list of reasons does.",
    when=("care", "placed"),
)
def reason(facts: Facts) -> Iterator[Finding]:
    layers = (x for x in facts.song.layers if not x.muted and not x.sound.is_drum)
    bare = [x for x in layers if not (x.reason or x.recipe).strip()]
    if bare:
        yield Finding(
            "reason",
            f"{len(bare)} pitched layers have no note that says why they are there: {some([x.name for x in bare])}.",
            (),
            bare[0].id,
            0.4,
            (len(bare),),
        )


@check("names", "Names that say nothing", "Numbered and stray names cost time every day.")
def names(facts: Facts) -> Iterator[Finding]:
    named = [
        *((s.span.section.name, s.span.section.id, 0) for s in facts.sections),
        *((x.name, 0, x.id) for x in facts.song.layers),
    ]
    for name, section_id, layer_id in named:
        if DEFAULT_NAMES.fullmatch(name.strip()):
            yield Finding(
                "names", f"“{name}” says nothing about what it is.", (section_id,) if section_id else (), layer_id, 0.5
            )


@check(
    "nothing kept",
    "Nothing is kept for the end",
    "Something should be heard for the first time in the last chorus.",
    "keep for last",
    "bring in",
    "octave up",
    "ride",
)
def nothing_kept(facts: Facts) -> Iterator[Finding]:
    peaks = facts.of_role(*PEAKS)
    if len(peaks) < 2:
        return
    last = peaks[-1].span.section
    before = set().union(
        *(facts.layers_of(s.span.section) for s in facts.sections if s.span.first_bar < peaks[-1].span.first_bar)
    )
    patterns = {
        r[1]
        for s in facts.sections
        if s.span.first_bar < peaks[-1].span.first_bar
        for p in facts.phrases[s.span.section.id]
        for r in p
    }
    mine = {r[1] for p in facts.phrases[last.id] for r in p}
    if facts.layers_of(last) <= before and mine <= patterns and last.shift_semitones == 0:
        yield Finding(
            "nothing kept",
            f"{last.name} brings no layer, no pattern and no key that was not heard before.",
            (last.id,),
            weight=1.5,
        )


@check(
    "central",
    "Everything in the middle",
    "A loud part that is not wide feels smaller than it is.",
    "widen",
    "octave up",
)
def central(facts: Facts) -> Iterator[Finding]:
    index = TERMS.index("width")
    for s in facts.sections:
        width = float(s.mean_terms[index])
        if facts.is_loud(s) and len(s.layers) > 3 and width < 0.12 / facts.loose:
            yield Finding(
                "central",
                f"The width of {s.span.section.name} is {100 * width:.0f} % of what it could be.",
                (s.span.section.id,),
                weight=1.0,
                facts=(round(width, 1),),
            )
