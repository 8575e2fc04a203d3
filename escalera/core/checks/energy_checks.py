"""Checks of the stair: where it peaks, what lies between, what repeats, what stays level."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from escalera.core.checks.check import PEAKS, Facts, Finding, check, points
from escalera.core.moves.suggestions import sameness

LEVEL = 0.5
STILL = 0.8  # share of sections without change inside, from which on a loop is only laid out
RAISE = ("bring in", "fill", "full kit", "sub in", "sixteenths", "widen", "octave up", "second half")
LOWER = ("strip", "bass and drums", "no kick", "thin drums", "stripped first", "lift", "dull all", "leave one by one")


@check(
    "peak",
    "The chorus or drop is not the highest",
    "The part that everything leads to has to be the highest step, or the listener waits for it.",
    *RAISE,
)
def peak(facts: Facts) -> Iterator[Finding]:
    peaks = facts.of_role(*PEAKS)
    if not peaks:
        return
    best = max(peaks, key=lambda s: s.value)
    over = max(facts.sections, key=lambda s: s.value)
    if over.value > best.value + 0.1:
        a, b = best.span.section, over.span.section
        yield Finding(
            "peak",
            f"{b.name} reaches {over.value:.1f}, {a.name} {best.value:.1f}.",
            (a.id, b.id),
            weight=3 + over.value - best.value,
            facts=(round(over.value - best.value, 1),),
        )


@check(
    "break",
    "A break that does not lie below its neighbours",
    "A break is the valley that makes the next peak tall.",
    *LOWER,
)
def break_below(facts: Facts) -> Iterator[Finding]:
    for i, s in enumerate(facts.sections):
        if s.span.section.role not in ("break", "breakdown") or not 0 < i < len(facts.sections) - 1:
            continue
        before, after = facts.sections[i - 1], facts.sections[i + 1]
        over = s.value - min(before.value, after.value)
        if over > -0.3:
            lower = before if before.value < after.value else after
            yield Finding(
                "break",
                f"{s.span.section.name} has {s.value:.1f}; {lower.span.section.name} beside it {lower.value:.1f}.",
                (s.span.section.id,),
                weight=2.5 + over,
                facts=(round(over, 1),),
            )


@check(
    "verse",
    "A verse that is not between break and chorus",
    "A verse leaves room below the chorus and stands above the break.",
    *LOWER,
)
def verse_between(facts: Facts) -> Iterator[Finding]:
    high = [s.value for s in facts.of_role("chorus", "drop")]
    low = [s.value for s in facts.of_role("break", "breakdown")]
    for s in facts.of_role("verse"):
        if high and s.value > max(high) - 0.3:
            yield Finding(
                "verse",
                f"{s.span.section.name} has {s.value:.1f}, as much as the chorus ({max(high):.1f}).",
                (s.span.section.id,),
                weight=2 + s.value - max(high),
                facts=(round(s.value - max(high), 1),),
            )
        elif low and s.value < min(low) - 0.3:
            yield Finding(
                "verse",
                f"{s.span.section.name} has {s.value:.1f}, less than the break ({min(low):.1f}).",
                (s.span.section.id,),
                weight=1.5,
                facts=(round(s.value - min(low), 1),),
            )


@check(
    "verse rises",
    "A verse that does not rise toward its end",
    "What leads to the chorus begins in the verse: the second half brings something.",
    "second half",
    "enter one by one",
    "bring in",
)
def verse_rises(facts: Facts) -> Iterator[Finding]:
    for s in facts.of_role("verse"):
        phrases = s.phrases
        if len(phrases) > 1 and phrases[-1] - phrases[0] < 0.1:
            yield Finding(
                "verse rises",
                f"{s.span.section.name} goes from {phrases[0]:.1f} to {phrases[-1]:.1f}.",
                (s.span.section.id,),
                weight=1.0,
                facts=(round(float(phrases[-1] - phrases[0]), 1),),
            )


@check(
    "alike",
    "Two neighbours that hardly differ",
    "A join that is not felt is no join: something should come, go or change.",
    "bring in",
    "lift",
    "full kit",
    "no kick",
    "raise",
)
def alike(facts: Facts) -> Iterator[Finding]:
    for a, b, _ in facts.joins:
        left, right = a.span.section, b.span.section
        if left.role == right.role and left.role != "none":
            continue
        apart, same = abs(b.value - a.value), sameness(facts.song, left, right)
        if apart < 0.4 / facts.loose and same > 0.7:
            yield Finding(
                "alike",
                f"{left.name} and {right.name} differ by {apart:.1f} and share {100 * same:.0f} % of their tiles.",
                (left.id, right.id),
                weight=1.6,
                facts=(round(apart, 1), round(same, 1)),
            )


@check(
    "unarranged",
    "One loop throughout, not arranged yet",
    "While every layer plays one pattern and no section changes inside, what is said of peaks, verses and joins has this one cause: "
    "take layers out, then bring them back.",
    "strip",
    "lift",
    "no kick",
    "enter one by one",
    "bring in",
)
def unarranged(facts: Facts) -> Iterator[Finding]:
    played = {row for phrases in facts.phrases.values() for phrase in phrases for row in phrase}
    layers = {row[0] for row in played}
    still = [s for s in facts.sections if len(set(map(frozenset, facts.phrases[s.span.section.id]))) == 1]
    if len(facts.sections) < 3 or len(played) > len(layers) or len(still) < STILL * len(facts.sections):
        return
    yield Finding(
        "unarranged",
        f"Each of the {len(layers)} layers plays one pattern throughout, and {len(still)} of {len(facts.sections)} sections do not change inside.",
        (still[0].span.section.id,),
        weight=4.0,
        facts=(len(layers), len(still), len(facts.sections)),
    )


@check(
    "level",
    "One level for too long",
    "An ear that hears no change stops listening; a step up or down wakes it.",
    "strip",
    "no kick",
    "bring in",
    "half time",
    "stripped first",
)
def level(facts: Facts) -> Iterator[Finding]:
    most = 32 * facts.loose
    run: list[tuple[int, float]] = []
    best: list[tuple[int, float]] = []
    for s in facts.sections:
        for value in s.bars:
            if run and (
                max(v for _, v in run) - min(v for _, v in run) > 2 * LEVEL or abs(float(value) - run[0][1]) > LEVEL
            ):
                run = []
            run.append((s.span.section.id, float(value)))
            best = run[:] if len(run) > len(best) else best
    if len(best) > most:
        ids = tuple(dict.fromkeys(i for i, _ in best))
        first = facts.song.section_by_id[ids[0]].name
        yield Finding(
            "level",
            f"{len(best)} bars from {first} on stay within {LEVEL:g} of {best[0][1]:.1f}.",
            ids[:2],
            weight=1.8,
            facts=(len(best),),
        )


@check(
    "early peak",
    "The peak comes too early",
    "What is highest in the first third leaves nothing to climb to.",
    "keep for last",
    "strip",
    "stripped first",
    when=("opening", "grow"),
)
def early_peak(facts: Facts) -> Iterator[Finding]:
    if len(facts.sections) < 4:
        return
    top = max(facts.sections, key=lambda s: s.value)
    share = top.span.start_seconds / max(1.0, facts.energy.line.seconds)
    if share < 0.35 / facts.loose and top.value > 5:
        yield Finding(
            "early peak",
            f"{top.span.section.name} ({top.value:.1f}) begins at {100 * share:.0f} % of the song.",
            (top.span.section.id,),
            weight=1.7,
            facts=(round(share, 1),),
        )


@check(
    "late chorus",
    "A later chorus that gains nothing",
    "Every return should gain or change something, the last most of all.",
    *RAISE,
)
def late_chorus(facts: Facts) -> Iterator[Finding]:
    for role in ("chorus", "drop"):
        same = facts.of_role(role)
        if len(same) > 1 and same[-1].value < same[0].value + 0.1:
            a, b = same[0], same[-1]
            yield Finding(
                "late chorus",
                f"{b.span.section.name} has {b.value:.1f}, {a.span.section.name} had {a.value:.1f}.",
                (b.span.section.id, a.span.section.id),
                weight=2.4 + a.value - b.value,
                facts=(round(b.value - a.value, 1),),
            )


@check(
    "distance",
    "Far from its target",
    "The target says how high the section should be; its layers lead elsewhere.",
    *RAISE,
    *LOWER,
)
def distance(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        far = s.value - s.span.section.target.mean
        if abs(far) > 1.5 * facts.loose:
            word = "above" if far > 0 else "below"
            yield Finding(
                "distance",
                f"{s.span.section.name} has {s.value:.1f}, {abs(far):.1f} {word} its target.",
                (s.span.section.id,),
                weight=abs(far),
                facts=(round(far, 0),),
            )


@check(
    "join",
    "A join that moves against what is meant",
    "The stair should climb and fall where you drew it.",
    *RAISE,
    *LOWER,
)
def join(facts: Facts) -> Iterator[Finding]:
    for (a, b, _), meant in zip(facts.joins, facts.agreement.as_meant):
        if not meant:
            left, right = a.span.section, b.span.section
            wanted = right.target.mean - left.target.mean
            yield Finding(
                "join",
                f"Into {right.name} it moves by {points(b.value - a.value)}, the target is {points(wanted)}.",
                (right.id, left.id),
                weight=2.2,
                facts=(round(b.value - a.value, 1), round(wanted, 1)),
            )


@check(
    "shape",
    "A section that does not follow its target",
    "The target changes within the section; what plays does not change with it.",
    *RAISE,
    *LOWER,
)
def shape(facts: Facts) -> Iterator[Finding]:
    for found in facts.agreement.shapes:
        if not found.as_meant:
            section = facts.song.section_by_id[found.section_id]
            first, last = sorted((found.low_phrase, found.high_phrase))
            sign = 1 if found.high_phrase > found.low_phrase else -1
            yield Finding(
                "shape",
                f"In {section.name} phrase {last + 1} moves by {points(sign * found.got)} against phrase {first + 1}, "
                f"the target is {points(sign * found.wanted)}.",
                (section.id,),
                weight=1.6,
                facts=(round(found.got, 1), round(found.wanted, 1)),
            )


@check(
    "repeats",
    "The same section again, unchanged",
    "A repeat that changes one thing is heard as growth; one that changes nothing as a copy.",
    "adorn",
    "bring in",
    "widen",
    "ride",
    "octave up",
    when=("repeats", "change"),
)
def repeats(facts: Facts) -> Iterator[Finding]:
    for a, b in combinations(facts.sections, 2):
        left, right = a.span.section, b.span.section
        if (
            left.role == right.role != "none"
            and left.placements
            and left.shift_semitones == right.shift_semitones
            and sameness(facts.song, left, right) == 1.0
        ):
            yield Finding(
                "repeats", f"{right.name} plays exactly what {left.name} plays.", (right.id, left.id), weight=1.4
            )


@check(
    "second half",
    "Later phrases that bring nothing",
    "Sixteen bars of four are four chances; by the second phrase something should come.",
    "second half",
    "enter one by one",
    "crash",
    "answers",
)
def second_half(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        phrases = facts.phrases[s.span.section.id]
        if (
            len(phrases) > 1
            and s.span.section.bars >= 8 / facts.loose
            and phrases[0]
            and all(p == phrases[0] for p in phrases)
        ):
            yield Finding(
                "second half",
                f"{'Both' if len(phrases) == 2 else f'All {len(phrases)}'} phrases of {s.span.section.name} play the same.",
                (s.span.section.id,),
                weight=1.1,
                facts=(len(phrases),),
            )


@check(
    "foreign",
    "A section from another song",
    "A part that shares no sound with the rest is heard as a mistake, unless it is meant.",
    "bring in",
    "tease",
)
def foreign(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        mine = facts.layers_of(s.span.section)
        others = (
            set().union(*(facts.layers_of(o.span.section) for o in facts.sections if o is not s))
            if len(facts.sections) > 1
            else set()
        )
        if mine and others and len(mine & others) < 0.34 * len(mine):
            yield Finding(
                "foreign",
                f"{len(mine - others)} of {len(mine)} layers of {s.span.section.name} play nowhere else.",
                (s.span.section.id,),
                weight=1.5,
                facts=(len(mine - others), len(mine)),
            )
