"""Checks of voices: the chorus over the verse, breath, what is missing of a stack, words that the melody cannot carry, unequal lines."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.checks.check import Facts, Finding, check
from escalera.core.reading.timeline import timeline
from escalera.core.voices.melody import guide_of, melody_of
from escalera.core.voices.voice_stack import BREATH_EVERY_S, breathless_s, chorus_over_verse, missing_of
from escalera.core.voices.word_places import lines_of, words_laid
from escalera.core.words.lyric_lines import compared_lines

HEAVY = 2  # syllables more than notes in a section
MOST_NAMED = 3


@check(
    "chorus height",
    "The chorus is sung no higher than the verse",
    "A verse that lies lower makes the chorus feel larger; some songs turn that round on purpose.",
)
def chorus_height(facts: Facts) -> Iterator[Finding]:
    found = chorus_over_verse(facts.song)
    if found is None or found[0] > 0:
        return
    by, verse, chorus = found
    guides = [guide_of(facts.song, s) for s in (verse, chorus)]
    if all(g is not None and g.family == "voices" and not g.stand_in for g in guides):
        yield Finding(
            "chorus height",
            f"{chorus.name} reaches {'as high as' if by == 0 else f'{-by:.0f} semitones lower than'} {verse.name}.",
            (verse.id, chorus.id),
            weight=1.2,
            facts=(by,),
        )


@check(
    "breath", "No room to breathe", "Whoever sings needs a rest of 250 ms at least every eight seconds.", "sung gaps"
)
def breath(facts: Facts) -> Iterator[Finding]:
    for span in timeline(facts.song).spans:
        guide = guide_of(facts.song, span.section)
        if guide is None or guide.family != "voices" or guide.stand_in:
            continue  # a stand-in is no melody that somebody is to sing
        longest = breathless_s(facts.song, span)
        if longest > BREATH_EVERY_S * facts.loose:
            yield Finding(
                "breath",
                f"In {span.section.name} the lead sings for {longest:.0f} s without a rest of 250 ms.",
                (span.section.id,),
                weight=1.0,
                facts=(round(longest),),
            )


@check(
    "stack",
    "A stack that is not complete",
    "Voices that are wanted and neither sung nor simulated are forgotten easily.",
    "simulate voices",
)
def stack(facts: Facts) -> Iterator[Finding]:
    for section in facts.song.sections:
        missing = missing_of(facts.song, section)
        if missing:
            named = ", ".join(missing[:MOST_NAMED]) + (
                f" and {len(missing) - MOST_NAMED} more" if len(missing) > MOST_NAMED else ""
            )
            yield Finding(
                "stack",
                f"{section.name} wants {named}, which nobody sings yet.",
                (section.id,),
                weight=0.8 + 0.1 * len(missing),
                facts=tuple(missing),
            )


@check(
    "heavy words",
    "Words heavier than the melody can carry",
    "A syllable without a note is hurried; notes can be split, or words left out.",
)
def heavy_words(facts: Facts) -> Iterator[Finding]:
    for span in timeline(facts.song).spans:
        laid = words_laid(facts.song, span)
        if not melody_of(facts.song, span):
            continue
        over = sum(max(0, p.over) for p in laid.lines) + sum(line.syllables for line in laid.unplaced)
        if over >= HEAVY:
            yield Finding(
                "heavy words",
                f"In {span.section.name} {over} syllables have no note of their own.",
                (span.section.id,),
                weight=0.8 + min(1.0, over / 10.0),
                facts=(over,),
            )


@check(
    "unequal lines",
    "Lines of verses that differ in length",
    "Where a melody comes back, lines with other numbers of syllables do not fit it.",
)
def unequal_lines(facts: Facts) -> Iterator[Finding]:
    song = facts.song
    known = [(s, lines_of(song, s)) for s in song.sections if s.role in ("verse", "chorus", "pre-chorus") and s.lyrics]
    spans = timeline(song)
    for i, (section, lines) in enumerate(known):
        for other, theirs in known[i + 1 :]:
            same = other.role == section.role and len(melody_of(song, spans.span_of(section.id))) == len(
                melody_of(song, spans.span_of(other.id))
            )
            apart = compared_lines(lines, theirs) if same else []
            if apart:
                told = "; ".join(f"line {c.line + 1}: {c.ours} and {c.theirs}" for c in apart[:MOST_NAMED])
                yield Finding(
                    "unequal lines",
                    f"{section.name} and {other.name} have the same melody and other syllables ({told}).",
                    (section.id, other.id),
                    weight=0.7 + 0.1 * len(apart),
                    facts=tuple((c.line, c.ours, c.theirs) for c in apart),
                )
