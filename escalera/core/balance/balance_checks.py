"""Rules about the balance of a song, from its rendered sound. Each names what it rests on, and changes that would mend it.

They are rows beside the checks that read the document; what is accepted is kept in the same way, and comes back when its figures change.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property
from itertools import combinations, pairwise

import numpy as np

from escalera.core.balance.remedies import Candidate, pair_of, remedies
from escalera.core.balance.section_heard import HeardSection, LayerHeard
from escalera.core.balance.thirds import FLOORS, THIRDS_HZ, TINY, Floats, by_floor, level_db
from escalera.core.bench.mix_balance import OCTAVES_HZ, SPECTRA, target_bands
from escalera.core.bench.seats import seats
from escalera.core.checks.check import PEAKS, Finding, Judged, apart_from_accepted
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.sound_edits import AddEffect, SetValue
from escalera.core.energy.model import arranged
from escalera.core.energy.terms import decibels
from escalera.core.palette.effects import RETURN_BY_KEY
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

LEADING = ("lead voice", "hook")
LEAST_OF_LEAD, HIDDEN = 0.2, 0.25
SECTION_LOSS_DB, LAYER_LOSS_DB = -1.5, -4.5
LOW_SIDES_DB = -14.0
HARSH_HZ, HARSH_DB = (2000.0, 5000.0), 5.0
LIMITED_DB, JUMP_EATEN_LU = -1.5, 0.7
HOLE_DB = -7.0
WET_DB, NEAR_WET_DB = -3.0, 3.0
DEPTH_LEAST = 4  # layers with a place in depth, so that all being alike says something
JUMP_LU, SAME_WISH = 3.0, 0.8


@dataclass(frozen=True, slots=True)
class HeardCheck:
    """A rule about what is heard: its name, why it matters, what it finds, and changes that mend a finding."""

    id: str
    title: str
    reason: str
    find: Callable[[HeardFacts], Iterator[Finding]]
    mend: Callable[[HeardFacts, Finding], Iterator[Candidate]]


HEARD_CHECKS: dict[str, HeardCheck] = {}
Find = Callable[["HeardFacts"], Iterator[Finding]]
Mend = Callable[["HeardFacts", Finding], Iterator[Candidate]]


def _nothing(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    return iter(())


def heard_check(id: str, title: str, reason: str, mend: Mend = _nothing) -> Callable[[Find], Find]:
    """Register a function as the rule `id`; `mend` gives changes for one of its findings."""

    def register(find: Find) -> Find:
        HEARD_CHECKS[id] = HeardCheck(id, title, reason, find, mend)
        return find

    return register


class HeardFacts:
    """What the rules ask of a song: sections that were heard, in the song's order, and a reference's mean power by third-octave, (28,)."""

    def __init__(self, song: Song, sections: list[HeardSection], reference: Floats | None = None):
        self.song, self.reference = song, reference
        self.sections = [s for s in sections if not s.silent and s.section_id in song.section_by_id]

    def section(self, heard: HeardSection) -> Section:
        return self.song.section_by_id[heard.section_id]

    def of(self, section_id: int) -> HeardSection:
        return next(s for s in self.sections if s.section_id == section_id)

    @cached_property
    def leading(self) -> set[int]:
        return {s.layer.id for s in seats(self.song) if s.part in LEADING and s.rank == 0}

    def is_peak(self, heard: HeardSection) -> bool:
        return self.section(heard).role in PEAKS

    def treated(self, heard: HeardSection, layer: LayerHeard) -> Layer:
        return layer_in(self.song, self.section(heard), self.song.layer_by_id[layer.id])

    def wanted(self, low_hz: float, high_hz: float) -> float:
        """Share of the whole's power that a range of thirds should have: the reference's, else the style's."""
        inside = (low_hz <= THIRDS_HZ) & (high_hz >= THIRDS_HZ)
        if self.reference is not None:
            return float(self.reference[inside].sum() / max(self.reference.sum(), TINY))
        powers = 10.0 ** (np.array(SPECTRA.get(self.song.school, SPECTRA["balanced"])) / 10.0)
        thirds = np.interp(np.log2(THIRDS_HZ), np.log2(np.array(OCTAVES_HZ)), powers) / 3.0
        return float(thirds[inside].sum() / thirds.sum())


def heard_findings(facts: HeardFacts) -> list[Finding]:
    """All findings, the weightiest first."""
    found = [f for rule in HEARD_CHECKS.values() for f in rule.find(facts)]
    return sorted(found, key=lambda f: -f.weight)


def heard_judged(facts: HeardFacts) -> Judged:
    """Findings apart: open, and accepted."""
    return apart_from_accepted(facts.song, heard_findings(facts))


def heard_mends(facts: HeardFacts, finding: Finding) -> list[Candidate]:
    """Changes that would mend a finding, the smallest first."""
    return list(HEARD_CHECKS[finding.check].mend(facts, finding))


def _mend_masked(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    heard = facts.of(finding.place[0])
    worst = next((h for h in heard.hidings if h.masked == finding.layer_id), None)
    if worst is not None:
        yield from (r.candidate for r in remedies(pair_of(facts.song, heard, worst.masked, worst.by)) if r.enough)


@heard_check("masked hook", "The tune is covered", "What leads has to be heard without listening for it.", _mend_masked)
def _masked_hook(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        for layer in heard.sounding:
            share = heard.hearing.shares[layer.id]
            if layer.id not in facts.leading:
                continue
            worst = next((h for h in heard.hidings if h.masked == layer.id), None)
            if share < LEAST_OF_LEAD or worst is not None and worst.share > HIDDEN:
                by = heard.layer(worst.by) if worst else None
                cover = f"; {by.name} hides {100 * worst.share:.0f} % of it" if by and worst else ""
                said = f"{layer.name} is heard for {100 * share:.0f} % in {heard.name}{cover}"
                yield Finding(
                    "masked hook", said, (heard.section_id,), layer.id, 1.5 + 2 * (0.4 - share), (round(share, 1),)
                )


def _mend_mono(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    """Width of the layer that loses most is brought down to where its channels agree."""
    heard = facts.of(finding.place[0])
    layer = heard.layer(finding.layer_id) or min(heard.sounding, key=lambda x: x.mono_loss_db * float(x.mean.sum()))
    yield from narrowed(facts.song, facts.section(heard), facts.song.layer_by_id[layer.id])


def narrowed(song: Song, section: Section, layer: Layer) -> Iterator[Candidate]:
    """A layer's sides taken back in one section."""
    path = f"layer.{layer.id}.fx.{song.next_id}"
    for amount in (0.7, 0.4, 0.0):
        edits = (AddEffect(f"layer.{layer.id}", "widen", section.id), SetValue(f"{path}.amount", amount))
        yield Candidate(f"narrow:{amount:g}", f"{layer.name}: width {100 * amount:.0f} %", edits, {})


@heard_check("mono loss", "Lost in mono", "Telephones, clubs and kitchen radios add both sides together.", _mend_mono)
def _mono_loss(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        total, mono = heard.total.total.sum(), heard.total.mono.sum()
        loss = level_db(float(mono)) - level_db(float(total))
        if loss < SECTION_LOSS_DB:
            said = f"{heard.name} loses {-loss:.1f} dB in mono"
            yield Finding("mono loss", said, (heard.section_id,), 0, 0.6 - 0.3 * loss, (round(loss),))
        whole = sum(float(x.mean.sum()) for x in heard.sounding)
        for x in heard.sounding:
            if x.mono_loss_db < LAYER_LOSS_DB and float(x.mean.sum()) > 0.01 * whole:
                said = f"{x.name} loses {-x.mono_loss_db:.1f} dB in mono in {heard.name}: its sides cancel"
                yield Finding(
                    "mono loss", said, (heard.section_id,), x.id, 0.5 - 0.1 * x.mono_loss_db, (round(x.mono_loss_db),)
                )


def _widest_low(heard: HeardSection) -> LayerHeard:
    return max(heard.sounding, key=lambda x: float(x.levels.side[:, : heard.low_bands].sum()))


def _mend_low_sides(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    """What stands aside goes to the middle; what is wide by itself keeps its width above its lows."""
    section, layer = facts.song.section_by_id[finding.place[0]], facts.song.layer_by_id[finding.layer_id]
    if layer_in(facts.song, section, layer).pan:
        yield Candidate("middle", f"{layer.name} to the middle", (Treat(section.id, layer.id, "pan", 0.0),), {})
        return
    path = f"layer.{layer.id}.fx.{facts.song.next_id}"
    edits = (
        AddEffect(f"layer.{layer.id}", "widen", section.id),
        SetValue(f"{path}.amount", 1.0),
        SetValue(f"{path}.mono_below_hz", 150.0),
    )
    yield Candidate("lows to the middle", f"{layer.name}: what lies below 150 Hz to the middle", edits, {})
    yield from narrowed(facts.song, section, layer)


@heard_check(
    "low sides",
    "Sides below 120 Hz",
    "Lows on one side cost headroom, and large systems have one low end.",
    _mend_low_sides,
)
def _low_sides(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        sides = heard.low_sides_db()
        if sides is not None and sides > LOW_SIDES_DB and heard.sounding:
            layer = _widest_low(heard)
            said = f"The sides below 120 Hz lie {-sides:.0f} dB under the whole in {heard.name}, most of it from {layer.name}"
            yield Finding(
                "low sides",
                said,
                (heard.section_id,),
                layer.id,
                1.0 + 0.1 * (sides - LOW_SIDES_DB),
                (round(sides / 2),),
            )


def _mend_harsh(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    section, layer = facts.song.section_by_id[finding.place[0]], facts.song.layer_by_id[finding.layer_id]
    path = f"layer.{layer.id}.fx.{facts.song.next_id}"
    for db in (2.0, 4.0):
        edits = (
            AddEffect(f"layer.{layer.id}", "equaliser", section.id),
            SetValue(f"{path}.high_bell_hz", 3150.0),
            SetValue(f"{path}.high_bell_db", -db),
        )
        yield Candidate(f"softer:{db:g}", f"{layer.name}: {db:g} dB less at 3150 Hz", edits, {})


@heard_check(
    "harsh", "Harsh between 2 and 5 kHz", "Ears are keenest there; too much of it tires within minutes.", _mend_harsh
)
def _harsh(facts: HeardFacts) -> Iterator[Finding]:
    inside = (HARSH_HZ[0] <= THIRDS_HZ) & (HARSH_HZ[1] >= THIRDS_HZ)
    for heard in facts.sections:
        mean = heard.total.total.mean(axis=0)
        over = level_db(float(mean[inside].sum() / mean.sum())) - level_db(facts.wanted(*HARSH_HZ))
        if over > HARSH_DB and heard.sounding:
            layer = max(heard.sounding, key=lambda x: float(x.mean[inside].sum()))
            than = "the reference has" if facts.reference is not None else "is usual in this style"
            said = f"{heard.name} has {over:.0f} dB more between 2 and 5 kHz than {than}, most of it from {layer.name}"
            yield Finding(
                "harsh", said, (heard.section_id,), layer.id, 0.6 + 0.15 * (over - HARSH_DB), (round(over / 2),)
            )


def _mend_limiter(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    heard = facts.of(finding.place[0])
    down = -round(max(1.0, min(6.0, -heard.loud.limiter_most_db)), 1)
    value = round(facts.song.master_gain_db + down, 1)
    yield Candidate("mix lower", f"The whole mix {-down:g} dB lower", (SetValue("master.level_db", value),), {})


@heard_check(
    "limiter", "The limiter eats the peak", "A drop that is turned down where it begins is no drop.", _mend_limiter
)
def _limiter(facts: HeardFacts) -> Iterator[Finding]:
    for before, heard in pairwise([None, *facts.sections]):
        if heard is None or heard.loud.integrated_lufs is None:
            continue
        eaten = heard.loud.limiter_db
        lost = _jump_eaten(before, heard)
        if eaten < LIMITED_DB or (facts.is_peak(heard) and lost > JUMP_EATEN_LU):
            jump = f"; its step up is {lost:.1f} LU smaller for it" if lost > JUMP_EATEN_LU else ""
            said = (
                f"The limiter takes {-eaten:.1f} dB off {heard.name}, {-heard.loud.limiter_most_db:.1f} at most{jump}"
            )
            yield Finding("limiter", said, (heard.section_id,), 0, 0.8 - 0.4 * eaten, (round(eaten),))


def _jump_eaten(before: HeardSection | None, heard: HeardSection) -> float:
    if before is None or before.loud.integrated_lufs is None or before.loud.before_lufs is None:
        return 0.0
    raw = (heard.loud.before_lufs or 0.0) - before.loud.before_lufs
    kept = (heard.loud.integrated_lufs or 0.0) - before.loud.integrated_lufs
    return raw - kept if raw > 0 else 0.0


def _mend_hole(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    """Layers that live in the low middle and are soft there are raised."""
    heard = facts.of(finding.place[0])
    ranked = sorted(heard.sounding, key=lambda x: -float(by_floor(x.mean)[2]))
    for x in ranked[:2]:
        layer = facts.treated(heard, x)
        yield Candidate(
            f"fuller:{x.id}",
            f"{x.name} 3 dB louder",
            (Treat(heard.section_id, x.id, "level_db", round(layer.level_db + 3.0, 1)),),
            {},
        )


@heard_check(
    "low middle",
    "A hole in the low middle",
    "250 to 800 Hz is the body of a mix: without it, it is all floor and ceiling.",
    _mend_hole,
)
def _low_middle(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        if not facts.is_peak(heard):
            continue
        shares = by_floor(heard.total.total.mean(axis=0))
        wanted = by_floor(facts.reference) if facts.reference is not None else target_bands(facts.song.school)
        under = decibels(shares / shares.sum()) - decibels(wanted / wanted.sum())
        if under[2] < HOLE_DB:
            said = f"{FLOORS[2].capitalize()} of {heard.name} lies {-under[2]:.0f} dB under what is usual"
            yield Finding(
                "low middle", said, (heard.section_id,), 0, 0.6 - 0.1 * under[2], (round(float(under[2]) / 2),)
            )


def _mend_wet(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    heard = facts.of(finding.place[0])
    sent = sorted(
        (x for x in heard.sounding if x.wet_db is not None and facts.treated(heard, x).sends),
        key=lambda x: -(x.wet_db or 0.0) - level_db(float(x.mean.sum())),
    )
    for x in sent[:3]:
        layer = facts.treated(heard, x)
        key, level = max(layer.sends, key=lambda row: row[1])
        edit = Treat(heard.section_id, x.id, RETURN_BY_KEY[key].send, round(max(-60.0, level - 6.0), 1))
        yield Candidate(f"drier:{x.id}", f"{x.name}: 6 dB less into the {key}", (edit,), {})


@heard_check("all wet", "Everything wet", "Where all stands in the room, nothing stands in front.", _mend_wet)
def _all_wet(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        wet = heard.wet_db()
        if wet is not None and wet > WET_DB and len(heard.sounding) > 1:
            said = f"Rooms and echoes lie {-wet:.0f} dB under all that is dry in {heard.name}"
            yield Finding("all wet", said, (heard.section_id,), 0, 0.7 + 0.2 * (wet - WET_DB), (round(wet),))


@heard_check(
    "no depth",
    "No depth",
    "Near and far are told apart by how much room comes along; here all comes from one distance.",
    _mend_wet,
)
def _no_depth(facts: HeardFacts) -> Iterator[Finding]:
    for heard in facts.sections:
        depths = [x.wet_db for x in heard.sounding if x.family not in ("low end", "effects") and x.wet_db is not None]
        if len(depths) >= DEPTH_LEAST and max(depths) - min(depths) < NEAR_WET_DB:
            said = f"{len(depths)} layers of {heard.name} send alike into the room, within {max(depths) - min(depths):.0f} dB"
            yield Finding("no depth", said, (heard.section_id,), 0, 0.4, (len(depths),))


def _mend_jump(facts: HeardFacts, finding: Finding) -> Iterator[Candidate]:
    """The layer whose level differs most without anything in the document saying so is brought back."""
    left, right = (facts.of(i) for i in finding.place[:2])
    rows = [
        (x, level_db(float(y.mean.sum())) - level_db(float(x.mean.sum())))
        for x in left.sounding
        if (y := right.layer(x.id)) and not y.silent
    ]
    for x, change in sorted(rows, key=lambda row: -abs(row[1]))[:2]:
        level = layer_in(facts.song, facts.section(right), facts.song.layer_by_id[x.id]).level_db
        edit = Treat(right.section_id, x.id, "level_db", round(float(np.clip(level - change, -60.0, 6.0)), 1))
        if abs(change) > 1.0:
            yield Candidate(
                f"even:{x.id}", f"{x.name} in {right.name} by {-change:+.1f} dB".replace("-", "−"), (edit,), {}
            )


@heard_check(
    "level jump",
    "A jump that nobody wrote",
    "Sections that are to be alike are not: the ear takes it for a mistake.",
    _mend_jump,
)
def _level_jump(facts: HeardFacts) -> Iterator[Finding]:
    values = {s.span.section.id: s.value for s in arranged(facts.song).sections}
    for one, other in combinations(facts.sections, 2):
        a, b = facts.section(one), facts.section(other)
        if (
            a.role != b.role
            or a.role == "none"
            or one.loud.integrated_lufs is None
            or other.loud.integrated_lufs is None
        ):
            continue
        same = {x.id for x in one.sounding} == {x.id for x in other.sounding}
        jump = other.loud.integrated_lufs - one.loud.integrated_lufs
        wish = abs(b.target.mean - a.target.mean)
        if same and abs(jump) > JUMP_LU and wish < SAME_WISH and abs(values[b.id] - values[a.id]) < 2 * SAME_WISH:
            said = f"{other.name} is {abs(jump):.0f} LU {'louder' if jump > 0 else 'softer'} than {one.name}, with the same layers and the same wish"
            yield Finding("level jump", said, (a.id, b.id), 0, 0.5 + 0.1 * abs(jump), (round(jump),))


def finding_of(facts: HeardFacts, key: str) -> Finding:
    """The finding with a key. Raises EditError where it has gone."""
    for each in heard_findings(facts):
        if each.key == key:
            return each
    raise EditError("This finding has gone: the song does not sound like that any more. The list shows what there is.")


__all__ = ["HEARD_CHECKS", "HeardFacts", "finding_of", "heard_findings", "heard_judged", "heard_mends", "narrowed"]
