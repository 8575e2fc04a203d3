"""Rules that constrain a song so far that it must be made otherwise than usual; each is read from what the song plays."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import pairwise

import numpy as np

from escalera.core.document.song import Layer, Song
from escalera.core.energy.model import arranged
from escalera.core.reading.brief import seconds_of
from escalera.core.reading.events import CLIP_OF, DURATION, NO_CLIP, PITCH, START, Events, section_events
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.theory.keys import MODES
from escalera.core.time.metre import parse_metre
from escalera.core.time.ticks import clock
from escalera.errors import EditError, InputError, shown
from escalera.lazy_dataclasses import dataclass

HELD_SHARE = 0.8  # of the song through which a note must be held to count
CURVE_POINTS = 1.2  # by which the energy may lie off a borrowed curve, on average
LOW_PITCH = 45  # below it lies what is felt as low end
PEAKS = ("chorus", "drop", "post-chorus")


@dataclass(frozen=True, slots=True)
class RuleKept:
    """Whether a song keeps a rule, with the figures in words; `met` is None while there is nothing to judge."""

    met: bool | None
    said: str


@dataclass(frozen=True, slots=True)
class PromptRule:
    """A rule. `values` are those that prompts of the week choose from ("" where it takes none), `begins` what a new song of it
    begins with, `against` rules that it cannot stand beside."""

    key: str
    said: str  # with {} for its value
    values: tuple[str, ...]
    judge: Callable[[Song, str], RuleKept]
    read: Callable[[str], str]
    begins: Callable[[str], dict[str, str]]
    against: tuple[str, ...] = ()

    def told(self, value: str) -> str:
        """The rule with its value in it."""
        return self.said.format(value)


PROMPT_RULES: dict[str, PromptRule] = {}
Judge = Callable[[Song, str], RuleKept]


def _no_value(text: str) -> str:
    if text.strip():
        raise EditError(f"This rule takes no value, and “{shown(text)}” was written. Leave it empty.")
    return ""


def _count(low: int, high: int) -> Callable[[str], str]:
    def read(text: str) -> str:
        if not text.strip().isdecimal() or len(text.strip()) > 3 or not low <= int(text) <= high:
            raise EditError(f"“{shown(text)}” is no number from {low} to {high}. Write one.")
        return str(int(text))

    return read


def _one_of(allowed: tuple[str, ...], what: str) -> Callable[[str], str]:
    def read(text: str) -> str:
        if text.strip() not in allowed:
            raise EditError(f"“{shown(text)}” is no {what}. Choose one of: {', '.join(allowed)}.")
        return text.strip()

    return read


def prompt_rule(
    key: str,
    said: str,
    values: tuple[str, ...] = ("",),
    read: Callable[[str], str] = _no_value,
    begins: Callable[[str], dict[str, str]] = lambda value: {},
    against: tuple[str, ...] = (),
) -> Callable[[Judge], Judge]:
    """Register a function as the judge of a rule."""

    def register(judge: Judge) -> Judge:
        PROMPT_RULES[key] = PromptRule(key, said, values, judge, read, begins, against)
        return judge

    return register


def read_rule(key: str, value: str) -> tuple[str, str]:
    """A rule and its value as they are kept. Raises EditError for what is no rule, or no value of it."""
    if key not in PROMPT_RULES:
        raise EditError(f"“{shown(key)}” is no rule. There are: {', '.join(PROMPT_RULES)}.")
    return key, PROMPT_RULES[key].read(value)


def judged_rules(song: Song) -> list[tuple[PromptRule, str, RuleKept]]:
    """Every rule of the song's prompt with its value and whether it is kept."""
    known = [(PROMPT_RULES[key], value) for key, value in song.prompt if key in PROMPT_RULES]
    return [(rule, value, rule.judge(song, value)) for rule, value in known]


# what is read of a song -------------------------------------------------------------------------------------------


def _playing(song: Song) -> Iterator[tuple[Span, Layer, Events]]:
    """Every layer that sounds, section by section, with what it plays there."""
    for span in timeline(song).spans:
        events = section_events(song, span)
        for layer in song.layers:
            if not layer.muted and len(events.get(layer.id, ())):
                yield span, layer, events[layer.id]


def _sounding(song: Song) -> list[Layer]:
    there = {layer.id for _, layer, _ in _playing(song)}
    return [x for x in song.layers if x.id in there]


def _pitches(song: Song) -> set[int]:
    """Sounding pitches of what is played by notes, drums left out."""
    found: set[int] = set()
    for _, layer, events in _playing(song):
        if not layer.sound.is_drum:
            rows = events.table
            found |= set(rows[rows[:, CLIP_OF] == NO_CLIP, PITCH].tolist())
    return found


def _names(layers: list[Layer]) -> str:
    return ", ".join(x.name for x in layers[:3]) + (f" and {len(layers) - 3} more" if len(layers) > 3 else "")


def _without(song: Song, wrong: list[Layer], kept: str) -> RuleKept:
    """Kept where no layer offends; which ones do."""
    if not _sounding(song):
        return RuleKept(None, "nothing plays yet")
    return RuleKept(not wrong, f"{_names(wrong)} {'plays' if len(wrong) == 1 else 'play'}" if wrong else kept)


# the rules --------------------------------------------------------------------------------------------------------


@prompt_rule("held note", "One note is held through the whole song.", against=("no pitches below",))
def _held_note(song: Song, value: str) -> RuleKept:
    total = sum(span.length_ticks for span in timeline(song).spans)
    held: dict[tuple[int, int], int] = {}
    for span, layer, events in _playing(song):
        rows = events.table[events.table[:, CLIP_OF] == NO_CLIP]
        for pitch in set(rows[:, PITCH].tolist()) if not layer.sound.is_drum else ():
            own = rows[rows[:, PITCH] == pitch]
            key = (layer.id, pitch % 12)
            held[key] = held.get(key, 0) + min(span.length_ticks, _covered(own[:, START], own[:, DURATION]))
    if not held:
        return RuleKept(None, "no note plays yet")
    (layer_id, _), most = max(held.items(), key=lambda item: item[1])
    share = most / max(1, total)
    name = song.layer_by_id[layer_id].name
    return RuleKept(
        share >= HELD_SHARE, f"{name} holds one through {100 * share:.0f} % of it; {100 * HELD_SHARE:.0f} % are asked"
    )


def _covered(starts: np.ndarray, lengths: np.ndarray) -> int:
    """Ticks over which at least one of the notes sounds; starts and lengths have shape (n,)."""
    total, reach = 0, 0
    for start, end in sorted(zip(starts.tolist(), (starts + lengths).tolist())):
        total += max(0, end - max(start, reach))
        reach = max(reach, end)
    return total


@prompt_rule("few layers", "At most {} layers play.", ("3", "4", "5"), _count(1, 24), lambda value: {"start": "chords"})
def _few_layers(song: Song, value: str) -> RuleKept:
    count = len(_sounding(song))
    if not count:
        return RuleKept(None, "nothing plays yet")
    return RuleKept(
        count <= int(value), f"{count} {'layer plays' if count == 1 else 'layers play'}, {value} are allowed"
    )


@prompt_rule("no kick", "No kick plays.", against=("no drums",))
def _no_kick(song: Song, value: str) -> RuleKept:
    return _without(song, [x for x in _sounding(song) if x.sound.drum == "kick"], "no kick plays")


@prompt_rule("no drums", "No drums play.", begins=lambda value: {"start": "chords"}, against=("no kick",))
def _no_drums(song: Song, value: str) -> RuleKept:
    return _without(song, [x for x in _sounding(song) if x.family == "drums"], "no drums play")


@prompt_rule(
    "only found sounds",
    "Only found sounds: every layer is a recording.",
    begins=lambda value: {"start": "empty"},
    against=("one sound", "voices only", "few notes", "held note"),
)
def _found_sounds(song: Song, value: str) -> RuleKept:
    return _without(song, [x for x in _sounding(song) if not x.clips], "every layer is a recording")


@prompt_rule(
    "form backwards",
    "The form runs backwards: from its outro through the peak to its intro.",
    begins=lambda value: {"form_text": "Outro 8, Chorus 16, Verse 16, Chorus 8, Verse 16, Intro 8"},
    against=("silence before the peak",),
)
def _backwards(song: Song, value: str) -> RuleKept:
    roles = [s.role for s in song.sections]
    peak = next((i for i, r in enumerate(roles) if r in PEAKS), len(roles))
    verse = next((i for i, r in enumerate(roles) if r == "verse"), len(roles))
    if len(roles) < 3:
        return RuleKept(None, "the form has fewer than three sections yet")
    ends = roles[0] in ("outro", "tag") and roles[-1] in ("intro", "re-intro")
    said = f"it begins with {song.sections[0].name} and ends with {song.sections[-1].name}"
    return RuleKept(ends and peak < verse, said + ("" if peak < verse else "; a verse comes before the peak"))


def _curve(text: str) -> str:
    found = re.findall(r"\d+(?:[.,]\d+)?", text)
    values = [float(v.replace(",", ".")) for v in found]
    if not 3 <= len(values) <= 16 or max(values) > 10:
        raise EditError(
            f"“{shown(text)}” is no curve. Write 3 to 16 energies from 0 to 10, with spaces between, for example 3 5 8 4."
        )
    return " ".join(f"{v:g}" for v in values)


@prompt_rule(
    "borrowed curve",
    "The energy follows the curve {}.",
    ("8 6 5 3 2", "2 8 2 8 2", "3 3 3 3 9", "9 2 9 2 6", "2 4 6 8 1"),
    _curve,
    lambda value: {"form_text": ", ".join(f"Part {i} 8" for i in range(1, len(value.split()) + 1))},
    ("form backwards", "short"),
)
def _borrowed_curve(song: Song, value: str) -> RuleKept:
    bars = [s.value for s in arranged(song).sections for _ in range(s.span.section.bars)]
    if not _sounding(song) or len(song.sections) < 3:
        return RuleKept(None, "there are fewer than three sections that play")
    wanted = [float(v) for v in value.split()]
    places = (np.arange(len(bars)) + 0.5) / len(bars) * len(wanted)
    off = float(np.mean(np.abs(np.array(bars) - np.array(wanted)[places.astype(int)])))
    return RuleKept(off <= CURVE_POINTS, f"it lies {off:.1f} points off on average; {CURVE_POINTS:g} are allowed")


@prompt_rule("one chord", "One chord from beginning to end.", begins=lambda value: {"start": "drums"})
def _one_chord(song: Song, value: str) -> RuleKept:
    chords = {c.name(ascii_only=False) for span in timeline(song).spans for c in section_harmony(song, span).chords}
    if not chords:
        return RuleKept(None, "no chord is set yet")
    return RuleKept(
        len(chords) == 1, f"{len(chords)} {'chord' if len(chords) == 1 else 'chords'}: {', '.join(sorted(chords)[:5])}"
    )


def _range(text: str) -> str:
    match = re.fullmatch(r"\s*(\d{2,3})\s*[-–]\s*(\d{2,3})\s*", text)
    if not match or not 30 <= int(match[1]) < int(match[2]) <= 300:
        raise EditError(f"“{shown(text)}” is no range of tempi. Write two from 30 to 300, for example 60-72.")
    return f"{int(match[1])}-{int(match[2])}"


@prompt_rule(
    "tempo",
    "The tempo lies within {} bpm.",
    ("52-64", "66-76", "144-160", "168-178"),
    _range,
    lambda value: {"tempo_bpm": str((int(value.split("-")[0]) + int(value.split("-")[1])) // 2)},
)
def _tempo(song: Song, value: str) -> RuleKept:
    low, high = (int(v) for v in value.split("-"))
    return RuleKept(low <= song.tempo_bpm <= high, f"the song has {song.tempo_bpm:g} bpm")


def _metre(text: str) -> str:
    try:
        return str(parse_metre(text.strip()))
    except InputError as error:
        raise EditError(str(error)) from error


@prompt_rule(
    "metre",
    "It is counted in {}.",
    ("5/4", "7/8", "3/4", "6/8"),
    _metre,
    lambda value: {"metre": value, "start": "loop"},
)
def _counted(song: Song, value: str) -> RuleKept:
    return RuleKept(str(song.metre) == value, f"the song is in {song.metre}")


@prompt_rule("few notes", "All that is pitched uses {} notes of the scale.", ("3", "4", "5"), _count(1, 11))
def _few_notes(song: Song, value: str) -> RuleKept:
    classes = {p % 12 for p in _pitches(song)}
    if not classes:
        return RuleKept(None, "no note plays yet")
    names = ", ".join(song.key.spell(c) for c in sorted(classes))
    return RuleKept(len(classes) <= int(value), f"{len(classes)} {'note' if len(classes) == 1 else 'notes'}: {names}")


def _length(text: str) -> str:
    seconds_of(text.strip())
    return text.strip()


@prompt_rule("short", "It is over after {}.", ("1:00", "1:30", "2:00"), _length, lambda value: {"form": "short"})
def _short(song: Song, value: str) -> RuleKept:
    there = timeline(song).seconds
    return RuleKept(there <= seconds_of(value), f"it lasts {clock(there)}")


@prompt_rule("nothing twice", "No layer plays the same in two sections.", against=("one chord",))
def _nothing_twice(song: Song, value: str) -> RuleKept:
    seen: dict[tuple[object, ...], str] = {}
    for s in song.sections:
        own = {(p.layer_id, p.pattern_id, p.variation) for p in s.placements}
        for row in own:
            if row in seen:
                name = song.layer_by_id[row[0]].name
                return RuleKept(False, f"{name} plays the same in {seen[row]} and {s.name}")
        seen |= dict.fromkeys(own, s.name)
    if len([s for s in song.sections if s.placements]) < 2:
        return RuleKept(None, "fewer than two sections play yet")
    return RuleKept(True, "every section has lines of its own")


@prompt_rule(
    "mode",
    "The key is {}.",
    ("dorian", "phrygian", "lydian", "mixolydian", "locrian"),
    _one_of(tuple(MODES), "mode"),
    lambda value: {"key": f"D {value}", "start": "loop"},
)
def _mode(song: Song, value: str) -> RuleKept:
    return RuleKept(song.key.mode == value, f"the song is in {song.key}")


@prompt_rule("one sound", "One sound plays everything that is pitched.", against=("voices only",))
def _one_sound(song: Song, value: str) -> RuleKept:
    pitched = [x for x in _sounding(song) if not x.sound.is_drum]
    sounds = {x.sound_key: x.sound.label for x in pitched}
    if not pitched:
        return RuleKept(None, "nothing pitched plays yet")
    return RuleKept(
        len(sounds) == 1, f"{len(sounds)} {'sound' if len(sounds) == 1 else 'sounds'}: {', '.join(sounds.values())}"
    )


@prompt_rule("voices only", "Only voices sound.", begins=lambda value: {"start": "voice"}, against=("one sound",))
def _voices_only(song: Song, value: str) -> RuleKept:
    return _without(song, [x for x in _sounding(song) if x.family != "voices"], "only voices sound")


@prompt_rule("no low end", "Nothing sounds below 110 Hz: no bass, no kick.", against=("no kick", "no drums"))
def _no_low_end(song: Song, value: str) -> RuleKept:
    low: dict[int, Layer] = {}
    for _, layer, events in _playing(song):
        rows = events.table[events.table[:, CLIP_OF] == NO_CLIP]
        pitched = not layer.sound.is_drum and bool(len(rows)) and int(rows[:, PITCH].min()) < LOW_PITCH
        if layer.sound.drum in ("kick", "low tom") or pitched:
            low[layer.id] = layer
    return _without(song, list(low.values()), "nothing sounds there")


@prompt_rule("silence before the peak", "A whole bar of silence stands before the peak.")
def _silence(song: Song, value: str) -> RuleKept:
    found = arranged(song).sections
    if not _sounding(song) or len(found) < 2:
        return RuleKept(None, "fewer than two sections play yet")
    top = max(range(1, len(found)), key=lambda i: found[i].value)
    before, name = found[top - 1].span, found[top].span.section.name
    from_tick = before.length_ticks - before.bar_metres[-1].bar_ticks
    heard = [
        layer
        for span, layer, events in _playing(song)
        if span.section.id == before.section.id
        and bool(np.any((events.table[:, START] + events.table[:, DURATION]) > from_tick))
    ]
    if heard:
        return RuleKept(
            False,
            f"{_names(heard)} {'sounds' if len(heard) == 1 else 'sound'} in the last bar of {before.section.name}, before {name}",
        )
    return RuleKept(True, f"the last bar of {before.section.name} is silent, and {name} follows")


@prompt_rule("unequal lengths", "No two sections next to each other are equally long.")
def _unequal(song: Song, value: str) -> RuleKept:
    if len(song.sections) < 3:
        return RuleKept(None, "the form has fewer than three sections yet")
    alike = next(((a, b) for a, b in pairwise(song.sections) if a.bars == b.bars), None)
    if alike is None:
        return RuleKept(True, "neighbours differ in length")
    return RuleKept(False, f"{alike[0].name} and {alike[1].name} have {alike[0].bars} bars each")
