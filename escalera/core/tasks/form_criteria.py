"""Criteria about form, tempo, key, layers and what is written down."""

from __future__ import annotations

from escalera.core.checks.check import some
from escalera.core.document.names import guess_role
from escalera.core.document.song import Section
from escalera.core.energy.join_reading import read_joins
from escalera.core.reading.brief import seconds_of
from escalera.core.reading.events import DURATION, START, section_events
from escalera.core.tasks.criteria import (
    Evidence,
    JudgedWork,
    Verdict,
    amount,
    bars,
    count,
    criterion,
    key_named,
    name_of,
    near,
    one_word_of,
    ordered,
    tempo,
    words,
)
from escalera.core.theory.keys import parse_key
from escalera.core.time.ticks import clock

HELD_BEATS, LOWER_POINTS = 2.0, 2.0
BUILDS = ("build", "pre-drop")
PEAKS = ("drop",)
Values = dict[str, str]
NUM = r"(?P<{0}>\d+|one|two|three|four|five|six|seven|eight|nine|ten|eleven|twelve)"


def _length(text: str) -> str:
    seconds_of(text.strip())
    return text.strip()


def _names(text: str) -> str:
    return ", ".join(part for part in (" ".join(p.split()) for p in words(text).replace(" then ", ", ").replace(" and ", ", ").split(",")) if part)  # fmt: skip


@criterion(
    "length", "Length of a section", "{section} has {bars} bars", {"section": name_of, "bars": bars},
    rf"(?P<section>.+?) (?:is|are|lasts?|have) {NUM.format('bars')} bars?(?: long)?",
)  # fmt: skip
def _section_length(work: JudgedWork, given: Values) -> Verdict:
    found, wanted = work.sections(given["section"]), int(given["bars"])
    share = sum(near(abs(s.bars - wanted), wanted) for s in found) / len(found)
    value = some([f"{s.name} {s.bars}" for s in found], 5)
    wrong = [s for s in found if s.bars != wanted]
    shown_at = tuple(work.whole(s, f"{s.bars} bars") for s in wrong or found)
    mend = f"Make {some([s.name for s in wrong])} {wanted} bars long." if wrong else ""
    return Verdict(share if wrong else 1.0, f"{value} bars", f"{wanted} bars", shown_at, mend)


@criterion(
    "edge", "Where a section ends", "{section} ends with bar {bar}", {"section": name_of, "bar": bars},
    r"(?P<section>.+?) ends (?:at|after|in) bar (?P<bar>\d+)", r"after bar (?P<bar>\d+) (?P<section>.+?) is over",
)  # fmt: skip
def _edge(work: JudgedWork, given: Values) -> Verdict:
    section, wanted = work.sections(given["section"])[-1], int(given["bar"])
    span = work.line.span_of(section.id)
    off = abs(span.last_bar - wanted)
    after = next((s.section.name for s in work.line.spans if s.first_bar == span.last_bar + 1), "nothing")
    value = f"it ends with bar {span.last_bar}, and bar {span.last_bar + 1} is {after}"
    mend = f"Move its end by {wanted - span.last_bar:+d} bars.".replace("-", "−") if off else ""
    return Verdict(near(off, 8) if off else 1.0, value, f"bar {wanted}, and the next begins with {wanted + 1}", (work.whole(section, value),), mend)  # fmt: skip


@criterion(
    "order", "Sections in order", "the form is {names}", {"names": _names},
    r"(?:sections?|form|labels?)(?: in(?: this)? order)?\s*(?::|are|is)\s*(?P<names>.+)", r"in this order: (?P<names>.+)",
)  # fmt: skip
def _order(work: JudgedWork, given: Values) -> Verdict:
    wanted = [_label(n) for n in given["names"].split(", ")]
    there = [_label(s.name) if _label(s.name) in wanted else s.role for s in work.song.sections]
    kept = _common(wanted, there)
    share = kept / max(len(wanted), len(there))
    first = next((i for i, (a, b) in enumerate(zip(wanted, there)) if a != b), min(len(wanted), len(there)))
    wrong = work.song.sections[first] if first < len(there) else None
    shown_at = (
        (work.whole(wrong, f"here {wanted[first]} is asked"),) if wrong and first < len(wanted) and share < 1 else ()
    )
    asked = wanted[first] if first < len(wanted) else "the end"
    mend = "" if share == 1 else f"Place {first + 1} should be {asked}{f', and is {wrong.name}' if wrong else ''}."
    return Verdict(share, ", ".join(s.name for s in work.song.sections), given["names"], shown_at, mend)


def _label(name: str) -> str:
    role = guess_role(name)
    return role if role != "none" else " ".join(name.casefold().split())


def _common(one: list[str], other: list[str]) -> int:
    """Length of the longest row that both hold in order."""
    row = [0] * (len(other) + 1)
    for a in one:
        row = _next_row(row, a, other)
    return row[-1]


def _next_row(row: list[int], a: str, other: list[str]) -> list[int]:
    made = [0]
    for i, b in enumerate(other):
        made.append(row[i] + 1 if a == b else max(row[i + 1], made[-1]))
    return made


@criterion(
    "layers", "How many layers", "{low} to {high} layers play", {"low": count(0, 64, "number of layers"), "high": count(1, 64, "number of layers")},
    rf"at most {NUM.format('high')} layers?(?: plays?)?", rf"at least {NUM.format('low')} layers?(?: plays?)?",
    rf"between {NUM.format('low')} and {NUM.format('high')} layers?", rf"no more than {NUM.format('high')} layers?",
    usual={"low": "0", "high": "64"},
)  # fmt: skip
def _layers(work: JudgedWork, given: Values) -> Verdict:
    low, high = ordered("low", "high", given)
    placed = {p.layer_id for s in work.song.sections for p in s.placements}
    there = [x for x in work.song.layers if x.id in placed and not x.muted]
    off = max(0.0, low - len(there), len(there) - high)
    mend = f"Take {off:g} out." if len(there) > high else f"Add {off:g}." if off else ""
    shown_at = tuple(Evidence(x.name, layer_id=x.id) for x in there[:12])
    return Verdict(
        near(off, max(2.0, high / 2)) if off else 1.0, f"{len(there)} layers", f"{low:g} to {high:g}", shown_at, mend
    )


@criterion(
    "tempo", "Tempo", "the tempo is {low} to {high} bpm", {"low": tempo, "high": tempo},
    r"(?:the )?tempo (?:is |lies )?(?:between )?(?P<low>\d+(?:[.,]\d+)?) (?:and|to|-|–) (?P<high>\d+(?:[.,]\d+)?)(?: bpm)?",
    r"(?:(?:the )?tempo(?: is)? |at )(?P<low>\d+(?:[.,]\d+)?)(?: bpm)?",
)  # fmt: skip
def _tempo(work: JudgedWork, given: Values) -> Verdict:
    low, high = ordered("low", "high", {"high": given["low"], **given})
    there = work.song.tempo_bpm
    off = max(0.0, low - there, there - high)
    limit = f"{low:g} bpm" if low == high else f"{low:g} to {high:g} bpm"
    return Verdict(
        near(off, 20) if off > 0.05 else 1.0,
        f"{there:g} bpm",
        limit,
        (),
        f"Set {low if there < low else high:g} bpm." if off else "",
    )


@criterion(
    "key",
    "Key",
    "the key is {key}",
    {"key": key_named},
    r"(?:it is |the song is )?in (?P<key>[A-G](?:[#b♯♭])? ?\w+(?: \w+)?)",
)
def _key(work: JudgedWork, given: Values) -> Verdict:
    wanted, there = parse_key(given["key"]), work.song.key
    same = (wanted.tonic_class, wanted.mode) == (there.tonic_class, there.mode)
    shared = len(wanted.classes & there.classes) / 7
    return Verdict(
        1.0 if same else 0.5 * (shared == 1), str(there), str(wanted), (), "" if same else f"Set the key to {wanted}."
    )


@criterion(
    "lasts", "Length of the song", "it lasts {low} to {high}", {"low": _length, "high": _length},
    r"(?:it|the song) (?:lasts|is) (?:between )?(?P<low>\d{1,2}:\d\d) (?:and|to|-|–) (?P<high>\d{1,2}:\d\d)(?: long)?",
    r"(?:it|the song) (?:lasts|is) at most (?P<high>\d{1,2}:\d\d)", r"(?:it|the song) is over after (?P<high>\d{1,2}:\d\d)",
    usual={"low": "0:01"},
)  # fmt: skip
def _lasts(work: JudgedWork, given: Values) -> Verdict:
    low, high = sorted((seconds_of(given["low"]), seconds_of(given["high"])))
    there = work.line.seconds
    off = max(0.0, low - there, there - high)
    mend = f"{'Shorten' if there > high else 'Lengthen'} it by {clock(off)}." if off else ""
    return Verdict(near(off, 60) if off > 0.5 else 1.0, clock(there), f"{clock(low)} to {clock(high)}", (), mend)


@criterion(
    "builds", "A build before every drop", "a build stands before each drop", {}, r"(?:there is )?a build(?:[- ]up)? before (?:each|every|the) drop"
)  # fmt: skip
def _builds(work: JudgedWork, given: Values) -> Verdict:
    drops = [i for i, s in enumerate(work.song.sections) if s.role in PEAKS]
    if not drops:
        return Verdict(0.0, "there is no drop", "a build before each drop", (), "Add a drop, and a build before it.")
    before = [i for i in drops if i and _builds_up(work, i)]
    bare = [work.song.sections[i] for i in drops if i not in before]
    value = f"{len(before)} of {len(drops)} drops have one"
    shown_at = tuple(work.whole(s, "no build leads into it") for s in bare)
    return Verdict(
        len(before) / len(drops),
        value,
        "every drop",
        shown_at,
        f"Put a build before {some([s.name for s in bare])}." if bare else "",
    )


def _builds_up(work: JudgedWork, index: int) -> bool:
    left, right = work.song.sections[index - 1], work.song.sections[index]
    return left.role in BUILDS or right.build is not None


@criterion(
    "key change",
    "A key change",
    "the key changes",
    {},
    r"(?:there is |with )?(?:an?|at least one) (?:key change|change of key|modulation)",
)
def _key_change(work: JudgedWork, given: Values) -> Verdict:
    shifts = [s.shift_semitones for s in work.song.sections]
    places = [s for a, s in zip(work.song.sections, work.song.sections[1:]) if a.shift_semitones != s.shift_semitones]
    value = f"{len(places)} {'change' if len(places) == 1 else 'changes'}" if places else "none"
    shown_at = tuple(work.whole(s, f"{s.shift_semitones:+d} semitones") for s in places)
    return Verdict(
        float(len(set(shifts)) > 1),
        value,
        "at least one",
        shown_at,
        "" if places else "Shift a section, for example the last chorus.",
    )


@criterion(
    "ending", "How it ends", "it ends {way}", {"way": one_word_of(("lower", "held", "cold"), "way to end")},
    r"(?:the song )?ends (?P<way>lower|held|cold)(?: .*)?", r"a (?P<way>held|cold) ending",
)  # fmt: skip
def _ending(work: JudgedWork, given: Values) -> Verdict:
    last, way = work.song.sections[-1], given["way"]
    found, said = _ENDINGS[way](work, last)
    asked = {
        "lower": f"{LOWER_POINTS:g} points under the peak",
        "held": f"a last note of {HELD_BEATS:g} beats",
        "cold": "a last attack that nothing follows",
    }
    return Verdict(
        float(found), said, asked[way], (work.whole(last, said),), "" if found else f"Change {last.name}: {asked[way]}."
    )


def _lower(work: JudgedWork, last: Section) -> tuple[bool, str]:
    drop = work.facts.highest - work.energy(last)
    return drop >= LOWER_POINTS, f"{last.name} lies {drop:.1f} points under the peak"


def _last_notes(work: JudgedWork, last: Section) -> tuple[float, float]:
    """Beats that the notes of the last attack last, and beats from it to the section's end."""
    span = work.line.span_of(last.id)
    tables = [
        e.table for i, e in section_events(work.song, span).items() if len(e) and not work.song.layer_by_id[i].muted
    ]
    if not tables:
        return 0.0, 0.0
    start = max(int(t[:, START].max()) for t in tables)
    longest = max(int(t[t[:, START] >= start - 60, DURATION].max(initial=0)) for t in tables)
    return longest / 960, (span.length_ticks - start) / 960


def _held(work: JudgedWork, last: Section) -> tuple[bool, str]:
    beats, _ = _last_notes(work, last)
    return beats >= HELD_BEATS, f"the last note lasts {beats:.1f} beats"


def _cold(work: JudgedWork, last: Section) -> tuple[bool, str]:
    beats, left = _last_notes(work, last)
    return (
        0 < beats < HELD_BEATS and left <= beats + 1.0,
        f"the last attack lasts {beats:.1f} beats, {left:.1f} before the end",
    )


_ENDINGS = {"lower": _lower, "held": _held, "cold": _cold}


@criterion(
    "reasons", "Reasons are written", "{percent} % of the layers have a reason", {"percent": amount(1, 100, "share")},
    r"(?:write )?(?:a )?reasons? (?:is|are )?(?:written )?for (?:every|each|all) layers?", r"every layer has a reason", usual={"percent": "100"},
)  # fmt: skip
def _reasons(work: JudgedWork, given: Values) -> Verdict:
    heard = [x for x in work.song.layers if not x.muted]
    without = [x for x in heard if not x.reason]
    if not heard:
        return Verdict(0.0, "there are no layers", f"{given['percent']} %", (), "Add layers first.")
    share, wanted = 100 * (len(heard) - len(without)) / len(heard), float(given["percent"])
    shown_at = tuple(Evidence(f"{x.name} has none", layer_id=x.id) for x in without[:8])
    mend = f"Write one for {some([x.name for x in without])}." if share < wanted else ""
    return Verdict(min(1.0, share / wanted), f"{share:.0f} %", f"{wanted:g} %", shown_at, mend)


@criterion(
    "carried", "Joins are carried", "something carries every join", {}, r"(?:every|each) join is carried(?: by something)?", r"no join is bare"
)  # fmt: skip
def _carried(work: JudgedWork, given: Values) -> Verdict:
    joins = read_joins(work.song)
    if not joins:
        return Verdict(0.0, "there are no joins", "every join", (), "Add a second section.")
    bare = [j for j in joins if not j.carriers]
    value = f"{len(joins) - len(bare)} of {len(joins)}"
    shown_at = tuple(work.whole(j.right.section, "nothing leads into it") for j in bare)
    return Verdict(
        1 - len(bare) / len(joins),
        value,
        "every join",
        shown_at,
        f"Lead into {some([j.right.section.name for j in bare])}." if bare else "",
    )
