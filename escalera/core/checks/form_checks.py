"""Checks of form and joins: lengths, when things arrive, what carries a join, how it ends."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.bench.tune_map import HANDED, tune_map
from escalera.core.checks.check import Facts, Finding, check, points, some
from escalera.core.lines.kinship import WHOLE
from escalera.core.reading.section_harmony import section_harmony, section_key
from escalera.core.reading.slips import find_slips
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import bars_counted

INTRO_S, HOOK_S, STILL_S = 22.0, 60.0, 34.0
NEW_AT_ONCE = 7


@check(
    "length",
    "A length outside fours, without a reason",
    "Odd lengths are strong when they are meant; then the reason is worth keeping.",
    "hold on",
    when=("lengths", "regular"),
)
def length(facts: Facts) -> Iterator[Finding]:
    for s in facts.sections:
        section = s.span.section
        if section.bars % 4 and not section.length_reason and not section.guessed:
            yield Finding(
                "length",
                f"{section.name} has {bars_counted(section.bars)}.",
                (section.id,),
                weight=0.9,
                facts=(section.bars,),
            )


@check("intro", "A long intro", "A listener decides early; what comes first should not keep the rest waiting.", "halve")
def intro(facts: Facts) -> Iterator[Finding]:
    first = facts.sections[0]
    seconds = first.span.length_seconds
    most = INTRO_S * facts.loose * (2.0 if facts.song.school in ("dance", "weather") else 1.0)
    if first.span.section.role == "intro" and seconds > most:
        yield Finding(
            "intro",
            f"{first.span.section.name} lasts {seconds:.0f} s; {most:.0f} are usual in this style.",
            (first.span.section.id,),
            weight=1.0,
            facts=(round(seconds),),
        )


@check(
    "hook late",
    "The tune arrives late",
    "What is to be remembered should be heard early, or at least teased.",
    "tease",
    "halve",
)
def hook_late(facts: Facts) -> Iterator[Finding]:
    places = timeline(facts.song)
    starts = [
        places.span_of(c.section_id).start_seconds
        for _, row in tune_map(facts.song).rows
        for c in row
        if c.what in (WHOLE, HANDED)
    ]
    most = HOOK_S * facts.loose * (1.6 if facts.song.school in ("dance", "weather") else 1.0)
    if starts and min(starts) > most:
        yield Finding(
            "hook late",
            f"The tune is first whole after {min(starts):.0f} s; {most:.0f} are usual in this style.",
            (),
            weight=1.2,
            facts=(round(min(starts)),),
        )


@check(
    "many new",
    "Too much that is new at once",
    "An ear takes in a few new things at a time; the rest is wasted.",
    "enter one by one",
    "second half",
)
def many_new(facts: Facts) -> Iterator[Finding]:
    heard: set[int] = set()
    for i, s in enumerate(facts.sections):
        mine = facts.layers_of(s.span.section)
        new = mine - heard
        if i > 1 and len(new) >= NEW_AT_ONCE * facts.loose:
            names = some([facts.layer(x).name for x in sorted(new)])
            yield Finding(
                "many new",
                f"{len(new)} layers are heard for the first time in {s.span.section.name}: {names}.",
                (s.span.section.id,),
                weight=1.0,
                facts=(len(new),),
            )
        heard |= mine


@check(
    "nothing new",
    "Nothing new for too long",
    "Every half minute something should come, go or change.",
    "bring in",
    "answers",
    "ride",
    "lift",
)
def nothing_new(facts: Facts) -> Iterator[Finding]:
    since, start_s, where = None, 0.0, ""
    for s in facts.sections:
        for i, (low, high) in enumerate(s.span.phrase_ticks()):
            now = frozenset(facts.phrases[s.span.section.id][i])
            at = s.span.start_seconds + s.span.seconds_at(low)
            if now != since:
                since, start_s, where = now, at, s.span.section.name
            until = s.span.start_seconds + s.span.seconds_at(high)
            if (
                now
                and until - start_s > STILL_S * facts.loose
                and until - start_s - s.span.seconds_at(high) + s.span.seconds_at(low) <= STILL_S * facts.loose
            ):
                yield Finding(
                    "nothing new",
                    f"From {where} on nothing comes or goes for {until - start_s:.0f} s.",
                    (s.span.section.id,),
                    weight=1.1,
                    facts=(round(until - start_s),),
                )


@check(
    "carried",
    "A join with nothing leading into it",
    "A large step needs a riser, a fill, a crash, a stop or a breath, or it sounds cut.",
    "lead in",
    "mark the one",
    "gap before",
    "crash",
    "pickup",
    "borrow the build",
)
def carried(facts: Facts) -> Iterator[Finding]:
    for (a, b, devices), reading in zip(facts.joins, facts.readings):
        step = b.value - a.value
        if devices == ("nothing",) and not reading.carriers and abs(step) > 1.0 * facts.loose:
            left, right = a.span.section, b.span.section
            yield Finding(
                "carried",
                f"{left.name} goes into {right.name} ({points(step)}) with nothing that carries it.",
                (right.id, left.id),
                weight=1.4,
                facts=(round(step, 0),),
            )


@check(
    "same device",
    "The same device at every build",
    "A roll and a filter serve once; the third time they are a habit.",
    "vary the join",
    "pickup",
    "crash",
    "hold on",
    when=("builds", "varied"),
)
def same_device(facts: Facts) -> Iterator[Finding]:
    climbs = [(b.span.section, d) for a, b, d in facts.joins if b.value - a.value > 1.0 and d != ("nothing",)]
    if len(climbs) >= 3 and len({d for _, d in climbs}) == 1:
        yield Finding(
            "same device",
            f"All {len(climbs)} climbs are carried by the same: {', '.join(climbs[0][1])}.",
            tuple(s.id for s, _ in climbs[:2]),
            weight=1.1,
            facts=(climbs[0][1],),
        )


@check(
    "no space",
    "No space before the drop",
    "A beat of silence makes the one after it twice as loud.",
    "gap before",
    "no kick",
    "stripped first",
    when=("verses", "groove"),
)
def no_space(facts: Facts) -> Iterator[Finding]:
    for (a, b, devices), reading in zip(facts.joins, facts.readings):
        if b.span.section.role == "drop" and "gap" not in devices and reading.gap_ticks < reading.beat_ticks // 2:
            yield Finding(
                "no space",
                f"{a.span.section.name} runs into {b.span.section.name} without a gap.",
                (b.span.section.id, a.span.section.id),
                weight=1.0,
                facts=devices,
            )


@check(
    "key change",
    "A key change without preparation",
    "A new key lands when its dominant, or a chord both keys share, leads there.",
    "raise",
)
def key_change(facts: Facts) -> Iterator[Finding]:
    for a, b, _ in facts.joins:
        left, right = a.span.section, b.span.section
        if left.shift_semitones == right.shift_semitones or facts.song.chords_read:
            continue
        last = section_harmony(facts.song, a.span).chords[-1]
        new = section_key(facts.song, right)
        leads = (last.root_class - new.tonic_class) % 12 == 7 or last.classes <= new.classes
        if not leads:
            yield Finding(
                "key change",
                f"{right.name} is in {new}, and {last} before it does not lead there.",
                (right.id, left.id),
                weight=1.0,
                facts=(str(last), str(new)),
            )


@check(
    "ending",
    "It ends without an ending",
    "A song that stops at full height sounds switched off, unless it is meant.",
    "leave one by one",
    "last chord",
    "fade out",
    "slow the end",
    "strip",
)
def ending(facts: Facts) -> Iterator[Finding]:
    last = facts.sections[-1]
    if (
        len(facts.sections) > 2
        and last.span.section.role not in ("outro", "tag")
        and last.value > 6
        and not last.span.section.tempo_changes
    ):
        yield Finding(
            "ending",
            f"The song ends with {last.span.section.name} at {last.value:.1f}.",
            (last.span.section.id,),
            weight=1.3,
            facts=(round(last.value),),
        )


@check(
    "slip",
    "A beat beside the bar line",
    "A part that ends a beat early or an effect a beat long is usually a slip of the hand.",
)
def slip(facts: Facts) -> Iterator[Finding]:
    for span in timeline(facts.given).spans:  # as it is written: what a device leaves out is meant
        for found in find_slips(facts.given, span)[:3]:
            section = span.section
            yield Finding("slip", f"{found.said} ({section.name}).", (section.id,), weight=1.2, facts=(found.said,))


@check(
    "drop",
    "Which drop is meant",
    "To some a drop is the peak, to others where everything drops out; the wanted energy depends on it.",
)
def drop(facts: Facts) -> Iterator[Finding]:
    named = [s.span.section for s in facts.sections if "drop" in s.span.section.name.lower()]
    if named and not facts.song.drop_means:
        yield Finding(
            "drop", f"“{named[0].name}”: the peak, or where everything drops out?", (named[0].id,), weight=0.6
        )
