"""Beats as they are said: one word is one beat, a hyphen divides it evenly, + sounds together, . rests, | ends a bar.

`boom ka boom-boom ka` is a bar of 4/4; `kick snare kick-kick snare, x2` is it twice. Bars that are too short are filled with rests.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from escalera.core.rhythm.beat import MAX_BARS, RANK, Beat, Hit, beat
from escalera.core.time.metre import Metre
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

# word: drum. The first word of a drum is the one that is written.
WORDS: dict[str, str] = {
    "boom": "kick", "bm": "kick", "doom": "kick", "ka": "snare", "kah": "snare", "ts": "closed hat", "tss": "open hat", "tsh": "open hat", "ding": "ride",
    "pish": "crash", "clap": "clap", "tok": "rim", "snap": "snap", "dum": "low tom", "dom": "mid tom", "dim": "high tom", "sha": "shaker", "tik": "click",
    "kling": "cowbell", "goon": "low hand drum", "gin": "high hand drum",
}  # fmt: skip
# names of drums as people say them, beside the sounds; never written back
NAMES: dict[str, str] = {
    "kick": "kick", "bass": "kick", "snare": "snare", "hat": "closed hat", "hihat": "closed hat", "openhat": "open hat", "open": "open hat", "ride": "ride",
    "crash": "crash", "cymbal": "crash", "claps": "clap", "rim": "rim", "rimshot": "rim", "tom": "mid tom", "lowtom": "low tom", "midtom": "mid tom", "hightom": "high tom",
    "shaker": "shaker", "cowbell": "cowbell", "click": "click", "snaps": "snap",
}  # fmt: skip
# what is said in several words, or with signs that are none of the notation
SAID: tuple[tuple[str, str], ...] = (
    (r"[,;:!/]+", " "), (r"\bhi-hats?\b", "hat"), (r"\b(?:closed|shut) hats?\b", "hat"), (r"\bopen (?:hi-?)?hats?\b", "openhat"),
    (r"\b(low|mid|high)(?:dle)? toms?\b", r"\1tom"), (r"\b(kick|snare|hat|hihat|ride|crash|rim|tom|shaker|cowbell)s\b", r"\1"),
    (r"\b(?:rest|pause|silence|nothing)\b", "."), (r"\bbass drum\b", "kick"), (r"\bsnare drum\b", "snare"), (r"(?<=\w) ?(?:\band\b|&|\bwith\b) ?(?=\w)", "+"), (r" *\+ *", "+"),
)  # fmt: skip
REPEATED = re.compile(r"(?:x|×|\*)(\d{1,2})|(\d{1,2})(?:x|×)|(twice)", re.I)
REST = "."
WORD = r"[^\s|+.\-]{1,20}"
DIVISIONS = (1, 2, 3, 4, 6, 8, 12, 16, 24)
USUAL_VELOCITY = {"closed hat": 75, "open hat": 85, "ride": 80, "shaker": 70, "click": 75}
MAX_TEXT = 4000
Wrong = tuple[str, str, tuple[str, ...]]  # the word, the reason, near words


@dataclass(frozen=True, slots=True)
class Problem:
    """What cannot be read: the word, its bar and beat (from 1), the reason, and what could be meant."""

    text: str
    bar: int
    beat: int
    said: str
    offers: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SpokenBeat:
    """A spoken beat as it was understood; what could not be read rests."""

    beat: Beat
    problems: tuple[Problem, ...]


def vocabulary(own: Mapping[str, str] | None = None) -> dict[str, str]:
    """The words that are known, the user's own first."""
    return {**WORDS, **NAMES, **(own or {})}


def hear(text: str, metre: Metre, own: Mapping[str, str] | None = None) -> SpokenBeat:
    """A beat from spoken text, with what is wrong; nothing is raised but for a text that is far too long. That one raises EditError."""
    if len(text) > MAX_TEXT:
        raise EditError(f"The spoken beat has {len(text):,} characters; at most {MAX_TEXT:,} are read. Say fewer bars.")
    bars = _said_bars(text, metre)
    hits: list[Hit] = []
    problems: list[Problem] = []
    for number, words in enumerate(bars[:MAX_BARS]):
        found, wrong = _bar(words, number, metre, vocabulary(own))
        hits += found
        problems += wrong
    if len(bars) > MAX_BARS:
        said = f"{len(bars)} bars are more than the {MAX_BARS} of one beat. Say the rest as another one."
        problems.append(Problem("|", MAX_BARS + 1, 1, said))
    return SpokenBeat(beat(min(len(bars), MAX_BARS) * metre.bar_ticks, metre, hits), tuple(problems))


def _said_bars(text: str, metre: Metre) -> list[list[str]]:
    """Words by bars: as the bar lines say, or as many as a bar holds where there are none."""
    for pattern, better in SAID:
        text = re.sub(pattern, better, text, flags=re.I)
    if "|" in text:
        return [bar for part in text.strip().strip("|").split("|") for bar in _repeated(part.split(), True)]
    words = [word for bar in _repeated(text.split(), False) for word in bar]
    eighths = metre.numerator > metre.beats and len(words) % metre.numerator == 0
    size = metre.numerator if eighths else metre.beats
    return [words[i : i + size] for i in range(0, len(words), size)] or [[]]


def _repeated(words: list[str], apart: bool) -> list[list[str]]:
    """Words with repeats written out: 'x2' says once more what stands before it; bars of their own where `apart`."""
    found: list[list[str]] = [[]]
    for word in words:
        times = REPEATED.fullmatch(word)
        if times is None:
            found[-1].append(word)
            continue
        count = min(MAX_BARS, int(times[1] or times[2] or 2))
        found[-1:] = [found[-1][:] for _ in range(max(1, count))] if apart else [found[-1] * max(1, count), []]
    return [bar for bar in found if bar] or [[]]


def _bar(words: list[str], number: int, metre: Metre, known: Mapping[str, str]) -> tuple[list[Hit], list[Problem]]:
    hits: list[Hit] = []
    problems: list[Problem] = []
    eighths = len(words) == metre.numerator > metre.beats  # a bar of 6/8 in six words
    steps = metre.numerator if eighths else metre.beats
    size = metre.bar_ticks // steps
    for index, word in enumerate(words):
        if index >= steps:
            said = (
                f"bar {number + 1} has {len(words)} beats; a bar of {metre} holds {metre.beats}."
                f" End the bar with | before “{shown(word)}”."
            )
            problems.append(Problem(word, number + 1, index + 1, said))
            continue
        start = number * metre.bar_ticks + index * size
        found, wrong = _word(word, start, size, known)
        hits += found
        problems += [Problem(w, number + 1, index + 1, said, offers) for w, said, offers in wrong]
    return hits, problems


def parse_spoken(text: str, metre: Metre, own: Mapping[str, str] | None = None) -> Beat:
    """A beat from spoken text. Raises EditError that points at the first place that cannot be read."""
    heard = hear(text, metre, own)
    if heard.problems:
        first = heard.problems[0]
        raise EditError(f"Bar {first.bar}, beat {first.beat}: {first.said}")
    if not heard.beat.hits:
        raise EditError("Nothing is said yet. Write for example: boom ka boom-boom ka.")
    return heard.beat


def _word(word: str, start: int, beat_ticks: int, known: Mapping[str, str]) -> tuple[list[Hit], list[Wrong]]:
    """The hits of one word, and what of it is not known with the reason and near words."""
    hits: list[Hit] = []
    wrong: list[Wrong] = []
    parts = word.split("-")
    for index, part in enumerate(parts):
        if part in ("", REST):
            if part == "":
                wrong.append((word, f"“{shown(word)}” has a hyphen with nothing beside it. Write . for a rest.", ()))
            continue
        for name in part.split("+"):
            drum = known.get(name.lower())
            if drum is None:
                wrong.append(
                    (
                        name,
                        f"“{shown(name)}” is not a word for a drum yet. Say one of "
                        f"{', '.join(_near(name, known)) or 'the list'}, or teach it.",
                        _near(name, known),
                    )
                )
            else:
                hits.append(Hit(start + beat_ticks * index // len(parts), drum, USUAL_VELOCITY.get(drum, 100)))
    return hits, wrong


def _near(name: str, known: Mapping[str, str]) -> tuple[str, ...]:
    """Known words that begin alike or sound alike."""
    near = [w for w in known if w[0] == name[:1].lower()] or [w for w in known if set(w) & set(name.lower())]
    return tuple(near[:3])


def write_spoken(played: Beat, own: Mapping[str, str] | None = None) -> str:
    """The canonical text: every beat with its coarsest even division that holds its hits.

    Text that this wrote reads back to the same drums and ticks. Hits between the finest division's steps are written at
    the nearest one; hits before the beat's start are left out.
    """
    names = _names(own)
    size = played.metre.beat_ticks
    bars = []
    for bar in range(played.bars):
        words = []
        for index in range(played.metre.beats):
            low = bar * played.metre.bar_ticks + index * size
            words.append(_say([h for h in played.hits if low <= _home(h.tick, size) < low + size], low, size, names))
        bars.append(" ".join(words))
    return " | ".join(bars)


def _home(tick: int, size: int) -> int:
    """A tick as the finest division has it."""
    finest = DIVISIONS[-1]
    return tick if any(tick % size * n % size == 0 for n in DIVISIONS) else round(tick / size * finest) * size // finest


def _names(own: Mapping[str, str] | None) -> dict[str, str]:
    names: dict[str, str] = {}
    for word, drum in {**WORDS, **(own or {})}.items():
        names.setdefault(drum, word)
    return names


def _say(hits: list[Hit], low: int, size: int, names: Mapping[str, str]) -> str:
    if not hits:
        return REST
    places = [(_home(h.tick, size) - low, h) for h in hits]
    division = next((n for n in DIVISIONS if all(_step(p, n, size) is not None for p, _ in places)), DIVISIONS[-1])
    steps: list[list[str]] = [[] for _ in range(division)]
    for place, hit in sorted(places, key=lambda row: RANK[row[1].drum]):
        step = _step(place, division, size)
        index = step if step is not None else min(division - 1, round(place * division / size))
        if names[hit.drum] not in steps[index]:
            steps[index].append(names[hit.drum])
    return "-".join("+".join(step) or REST for step in steps)


def _step(place: int, division: int, size: int) -> int | None:
    """Which step of a division lies at a tick of the beat; None between steps."""
    step = round(place * division / size)
    return step if step < division and size * step // division == place else None


def check_word(word: str) -> str:
    """A word that may be taught: letters without the signs of the notation. Raises EditError."""
    plain = word.strip().lower()
    if not re.fullmatch(WORD, plain):
        raise EditError(
            f"“{shown(word)}” cannot be a word: it may have up to 20 letters, without spaces and the signs | + . -."
        )
    return plain
