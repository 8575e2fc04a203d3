"""Questions about counting in the words that people use, and their answers.

Each row of QUESTIONS is a shape of question with an example; the first that fits answers. Numbers may be words.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import field

from rapidfuzz import fuzz, process

from escalera.core.time.note_values import VALUES, stretch
from escalera.core.time.question_words import reworded
from escalera.core.time.ruler import (
    EIGHTH,
    RATE_HZ,
    SIXTEENTH,
    UNIT_TICKS,
    UNITS,
    Ruler,
    bars_held,
    length_in,
    place_at,
    tick_of,
    ticks_of_length,
)
from escalera.core.time.ticks import clock
from escalera.errors import InputError, shown
from escalera.lazy_dataclasses import dataclass

MAX_BARS, MAX_TEXT = 5000, 200
UP_TO_TWENTY = (
    "zero one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen "
    "seventeen eighteen nineteen twenty"
)
NUMBER_WORDS = {word: i for i, word in enumerate(UP_TO_TWENTY.split())}
NUMBER_WORDS |= {"twenty-four": 24, "thirty-two": 32, "sixty-four": 64}
UNIT_WORDS = {"bar": "bars", "beat": "beats", "quarter": "quarters", "eighth": "eighths", "8th": "eighths", "sixteenth": "sixteenths",
              "16th": "sixteenths", "tick": "ticks", "second": "seconds", "sec": "seconds", "s": "seconds", "sample": "samples"}  # fmt: skip
NUMBER = r"\d+(?:\.\d+)?"
UNIT = r"(bars?|beats?|quarters?|eighths?|8ths?|sixteenths?|16ths?|ticks?|seconds?|secs?|s|samples?)"
FROM_BAR = r"(?:\s+(?:from|at|in)\s+bar\s+(-?\d+))?"


@dataclass(frozen=True, slots=True)
class Answer:
    """What was understood, and rows of (what, how much)."""

    heard: str
    rows: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Asked:
    """What a question is answered with: the ruler, lengths by name (sections, 'these', 'those') in bars."""

    ruler: Ruler
    lengths: Mapping[str, float] = field(default_factory=dict)


def ask(text: str, asked: Asked) -> Answer:
    """The answer to a question. Raises InputError with examples where it is not understood."""
    if len(text) > MAX_TEXT:
        raise InputError(f"The question has {len(text)} characters; at most {MAX_TEXT} are read. Ask in fewer words.")
    plain = _plain(text)
    for said in dict.fromkeys((plain, _with_sections(reworded(plain), asked))):
        for shape, answer, _ in QUESTIONS:
            match = re.fullmatch(shape, said)
            if match:
                return answer(match, asked)
    raise InputError(
        f"“{shown(text)}” is not a question that can be counted. Ask for example: {'; '.join(nearest(plain))}."
    )


def nearest(plain: str, most: int = 3) -> list[str]:
    """Examples of questions that would be understood, those with the most words in common first."""
    examples = [example for _, _, example in QUESTIONS] + list(WAYS)
    return [row[0] for row in process.extract(plain, examples, scorer=fuzz.token_set_ratio, limit=most)]


def _with_sections(plain: str, asked: Asked) -> str:
    """'2 verses and a chorus' as '2 of verse and 1 of chorus', for the names of sections that there are."""
    names = sorted((n.lower() for n in asked.lengths), key=len, reverse=True)
    if not names:
        return plain
    known = "|".join(re.escape(n) for n in names)
    parts = re.split(r" and |, | \+ | plus ", plain)
    found = [re.fullmatch(rf"(?:(\d+|an?|the) )?({known})(?:e?s)?", part) for part in parts]
    if not all(found):
        return plain
    rows = [(m[1] if m and m[1] and m[1].isdecimal() else "1", m[2]) for m in found if m]
    return " and ".join(f"{count} of {name}" for count, name in rows)


def _plain(text: str) -> str:
    """Lower case, one space between words, number words as figures, dashes alike."""
    words = re.sub(r"[–—]", "-", text.lower()).replace("?", " ").replace(",", " , ").split()
    return " ".join(str(NUMBER_WORDS[w]) if w in NUMBER_WORDS else w for w in words).replace(" , ", ", ")


def _bars(count: float) -> str:
    return f"{count:g} bar{'' if count == 1 else 's'}"


def _bar(text: str) -> int:
    bar = int(text)
    if abs(bar) > MAX_BARS:
        raise InputError(f"Bar {bar} is beyond {MAX_BARS}, where counting ends. Choose a smaller one.")
    return bar


def _unit(word: str) -> str:
    return word if word in UNITS else UNIT_WORDS[word.removesuffix("s") or word]


def _span_rows(asked: Asked, first: int, count: int) -> tuple[tuple[str, str], ...]:
    ruler, last = asked.ruler, first + count - 1
    low, high = ruler.bar_start(first), ruler.bar_start(last + 1)
    seconds = ruler.seconds_at(high) - ruler.seconds_at(low)
    return (
        ("starts with", f"bar {first}"),
        ("ends with", f"bar {last}"),
        ("the next is", f"bar {last + 1}"),
        ("length", _bars(count)),
        ("beats", f"{length_in(ruler, high - low, 'beats', low):g}"),
        ("time", f"{seconds:.3f} s"),
        ("clock", f"{clock(ruler.seconds_at(low), True)} to {clock(ruler.seconds_at(high), True)}"),
    )


def _from_bar(match: re.Match[str], asked: Asked) -> Answer:
    count, first = _counted(match[1]), _bar(match[2])
    return Answer(f"{_bars(count)} from bar {first}", _span_rows(asked, first, count))


def _ending(match: re.Match[str], asked: Asked) -> Answer:
    count, last = _counted(match[1]), _bar(match[2])
    return Answer(f"{_bars(count)} that end with bar {last}", _span_rows(asked, last - count + 1, count))


def _between(match: re.Match[str], asked: Asked) -> Answer:
    first, last = _bar(match[1]), _bar(match[2])
    if last < first:
        raise InputError(f"Bar {last} comes before bar {first}. Write the earlier bar first.")
    return Answer(f"bars {first} to {last}", _span_rows(asked, first, last - first + 1))


def _counted(text: str) -> int:
    count = sum(int(part) for part in re.split(r"\s*\+\s*", text))
    if not 0 < count <= MAX_BARS:
        raise InputError(f"{count} bars cannot be counted; 1 to {MAX_BARS} can.")
    return count


def _of(match: re.Match[str], asked: Asked) -> Answer:
    """'2 of 4 bars and 4 of 2 bars', '2 of these and 4 of those', '2 of verse and 1 of chorus'."""
    total, said = 0.0, []
    for part in re.split(r"\s+and\s+|\s*\+\s*|,\s*", match[0]):
        times, _, what = part.partition(" of ") if " of " in part else part.partition(" x ")
        if not times.isdecimal() or not what:
            raise InputError(f"“{shown(part)}” is not a count of something. Write for example 2 of 4 bars.")
        bars = _length_bars(what, asked)
        total += int(times) * bars
        said.append(f"{times} × {_bars(bars)}")
    ticks = round(ticks_of_length(asked.ruler, total, "bars"))
    seconds = asked.ruler.seconds_at(ticks) - asked.ruler.seconds_at(0)
    return Answer(
        " + ".join(said),
        (
            ("together", _bars(total)),
            ("time from the start", f"{seconds:.3f} s ({clock(seconds)})"),
            ("the next is", f"bar {total + 1:g}"),
        ),
    )


def _length_bars(what: str, asked: Asked) -> float:
    match = re.fullmatch(rf"({NUMBER})\s*(bars?|beats?)?", what)
    if match:
        amount = float(match[1])
        return amount / asked.ruler.bar_at(0)[2].beats if (match[2] or "").startswith("beat") else amount
    known = {name.lower(): bars for name, bars in asked.lengths.items()}
    if what in known:
        return known[what]
    names = ", ".join(list(asked.lengths)[:8]) or "none here"
    raise InputError(f"“{shown(what)}” has no length here. Write bars, or one of: {names}.")


def _counts(match: re.Match[str], asked: Asked) -> Answer:
    """'1 and 5 in eighths': where counted steps fall."""
    unit = _unit(match["unit"]) if match["unit"] else "beats"
    bar = _bar(match["bar"]) if match["bar"] else 1
    start, ruler = asked.ruler.bar_start(bar), asked.ruler
    step = {"eighths": EIGHTH, "sixteenths": SIXTEENTH}.get(unit) or ruler.bar_at(start)[2].beat_ticks
    rows = []
    for number in re.findall(r"\d+", match["steps"]):
        if not 1 <= int(number) <= 1024:
            raise InputError(f"{number} is not a step that is counted; steps go from 1 to 1024.")
        place = place_at(ruler, start + (int(number) - 1) * step)
        rows.append(
            (
                f"{unit[:-1]} {number}",
                f"{place.position} ({place.spoken}), tick {place.tick - start}, "
                f"{place.seconds - ruler.seconds_at(start):.3f} s",
            )
        )
    return Answer(f"counted in {unit} from bar {bar}", tuple(rows))


def _place(match: re.Match[str], asked: Asked) -> Answer:
    bar, beat = _bar(match["bar"]), float(match["beat"] or 1)
    tick = tick_of(asked.ruler, bar, beat)
    if match["step"]:
        size = asked.ruler.bar_at(tick)[2].beat_ticks
        into = (int(match["step"]) - 1) * SIXTEENTH
        if not 0 <= into < size:
            raise InputError(
                f"A beat here has {size // SIXTEENTH} sixteenths, no {match['step']}. Choose 1 to {size // SIXTEENTH}."
            )
        tick += into
    return _moment(tick, asked)


def _at_unit(match: re.Match[str], asked: Asked) -> Answer:
    tick = int(match[2]) if match[1] == "tick" else round(asked.ruler.ticks_at(int(match[2]) / RATE_HZ))
    return _moment(tick, asked)


def _moment(tick: int, asked: Asked) -> Answer:
    p = place_at(asked.ruler, tick)
    return Answer(
        p.spoken,
        (
            ("position", p.position),
            ("clock", clock(p.seconds, True)),
            ("eighth of the bar", f"{p.eighth}"),
            ("sixteenth of the bar", f"{p.sixteenth}"),
            ("seconds", f"{p.seconds:.4f}"),
            ("ticks", f"{p.tick:,}"),
            ("samples at 44.1 kHz", f"{p.samples:,}"),
        ),
    )


def _length(match: re.Match[str], asked: Asked) -> Answer:
    amount = sum(float(part) for part in re.split(r"\s*\+\s*", match[1]))
    unit, bar = _unit(match[2]), _bar(match[3]) if match[3] else 1
    start = asked.ruler.bar_start(bar)
    ticks = ticks_of_length(asked.ruler, amount, unit, start)
    if not 0 < ticks < 10_000_000:
        raise InputError(f"{amount:g} {unit} cannot be counted. Choose something between a tick and {MAX_BARS} bars.")
    held = bars_held(asked.ruler, round(ticks), start)
    rows = [
        (name, f"{length_in(asked.ruler, ticks, name, start):,.3f}".rstrip("0").rstrip("."))
        for name in UNITS
        if name != unit
    ]
    return Answer(f"{amount:g} {unit[:-1] if amount == 1 else unit} from bar {bar}", (("holds", held.said), *rows))


def _tempos(match: re.Match[str], asked: Asked) -> Answer:
    a, b = float(match[1]), float(match[2])
    if not (30 <= a <= 300 and 30 <= b <= 300):
        raise InputError(
            f"A tempo of {a if not 30 <= a <= 300 else b:g} bpm lies outside 30 to 300. Choose a value between them."
        )
    ratio, percent, semitones = stretch(a, b)
    return Answer(
        f"from {a:g} to {b:g} bpm",
        (
            ("speed", f"× {ratio:.4f}"),
            ("new length", f"{percent:.2f} %"),
            ("pitch, if it only runs faster", f"{semitones:+.2f} semitones"),
        ),
    )


def _from_place(match: re.Match[str], asked: Asked) -> Answer:
    """'4 bars before bar 33', 'two beats after bar 17'."""
    amount, unit, bar = float(match[1]), _unit(match[2]), _bar(match[4])
    start = asked.ruler.bar_start(bar)
    if unit == "bars" and amount == int(amount):
        count = int(amount)
        first = bar - count if match[3] == "before" else bar + count
        low = first if match[3] == "before" else bar
        place = _moment(asked.ruler.bar_start(_bar(str(first))), asked)
        return Answer(
            f"{_bars(count)} {match[3]} bar {bar}",
            (("there is", f"bar {first}"), ("between lie", f"bars {low} to {low + count - 1}"), *place.rows),
        )
    ticks = ticks_of_length(asked.ruler, amount, unit, start)
    return _moment(round(start - ticks if match[3] == "before" else start + ticks), asked)


def _note(match: re.Match[str], asked: Asked) -> Answer:
    """A note value at the ruler's first tempo."""
    quarters = VALUES[match[1]]
    tick = quarters * UNIT_TICKS["quarters"]
    seconds = asked.ruler.seconds_at(tick) - asked.ruler.seconds_at(0)
    return Answer(
        f"a {match[1]} note",
        (
            ("time", f"{1000 * seconds:.2f} ms"),
            ("a second", f"{1 / seconds:.3f} times"),
            ("ticks", f"{tick:g}"),
            ("quarters", f"{quarters:g}"),
        ),
    )


def _between_times(match: re.Match[str], asked: Asked) -> Answer:
    low, high = (int(match[i]) * 60 + float(match[i + 1]) for i in (1, 3))
    if high <= low:
        raise InputError(
            f"{match[3]}:{match[4]} does not come after {match[1]}:{match[2]}. Write the earlier time first."
        )
    a, b = asked.ruler.ticks_at(low), asked.ruler.ticks_at(high)
    rows = [(name, f"{length_in(asked.ruler, b - a, name, round(a)):,.3f}".rstrip("0").rstrip(".")) for name in UNITS]
    return Answer(f"from {match[1]}:{match[2]} to {match[3]}:{match[4]}", tuple(rows))


def _tempo_for(match: re.Match[str], asked: Asked) -> Answer:
    bars = float(match[1])
    seconds = int(match[2]) * 60 + float(match[3]) if match[2] else float(match[4])
    metre = asked.ruler.bar_at(0)[2]
    if not (0 < bars <= MAX_BARS and seconds > 0):
        raise InputError(f"{bars:g} bars in {seconds:g} s cannot be counted. Write more than none of both.")
    bpm = bars * metre.bar_ticks / UNIT_TICKS["quarters"] * 60.0 / seconds
    return Answer(
        f"{_bars(bars)} of {metre} in {clock(seconds)}",
        (("tempo", f"{bpm:.2f} bpm"), ("one bar", f"{seconds / bars:.3f} s")),
    )


def _time_of_clock(match: re.Match[str], asked: Asked) -> Answer:
    """A clock time as a place; and as a length from the start."""
    seconds = int(match[1]) * 60 + float(match[2])
    place = _moment(round(asked.ruler.ticks_at(seconds)), asked)
    bars = length_in(asked.ruler, asked.ruler.ticks_at(seconds), "bars", 0)
    return Answer(place.heard, (*place.rows, ("bars until then", f"{bars:.3f}".rstrip("0").rstrip("."))))


# further ways of asking, as examples of what is understood
WAYS = (
    "how long is 16 bars", "3:30 in bars", "what is at 1:05", "4 bars before bar 33", "a dotted eighth in ms", "how many bars is 90 seconds",
    "which tempo makes 64 bars last 2:00", "third beat of bar 12",
)  # fmt: skip
OF = r"\d+ (?:of|x) [^,+]+?"
SUM = r"\d+(?:\s*\+\s*\d+)*"
QUESTIONS: tuple[tuple[str, Callable[[re.Match[str], Asked], Answer], str], ...] = (
    (rf"({SUM}) bars? (?:that )?(?:ends?|ending) (?:with|on|at|in) bar (-?\d+)", _ending, "8 bars that end with bar 36"),
    (rf"({SUM}) bars? (?:from|at|starting (?:at|with|from)) bar (-?\d+)", _from_bar, "8 bars from bar 29"),
    (r"bars? (-?\d+) ?(?:to|-|through|until) ?(?:bar )?(-?\d+)", _between, "bars 17 to 24"),
    (rf"{OF}(?:(?: and |\s*\+\s*|, ){OF})*", _of, "two of these and four of those"),
    (r"(?:on )?(?P<steps>\d+(?:(?:, | and |, and )\d+)+|\d+(?= in ))(?: in (?P<unit>beats|eighths|sixteenths))?(?: (?:from|of) bar (?P<bar>\d+))?",
     _counts, "one and five in eighths"),
    (rf"({NUMBER}(?:\s*\+\s*{NUMBER})*) ?{UNIT}{FROM_BAR}", _length, "90 seconds from bar 9"),
    (rf"({NUMBER})(?: bpm)? to ({NUMBER}) ?bpm", _tempos, "120 to 128 bpm"),
    (rf"(?:bar )(?P<bar>-?\d+)(?:,? beat (?P<beat>{NUMBER}))?(?P<step>)", _place, "bar 29 beat 3"),
    (r"(?P<bar>-?\d+)\.(?P<beat>\d+)(?:\.(?P<step>\d+))?", _place, "29.3.2"),
    (r"(\d+):(\d\d(?:\.\d+)?)", _time_of_clock, "1:05.2"),
    (rf"({NUMBER}) ?{UNIT} (before|after) bar (-?\d+)", _from_place, "4 bars before bar 33"),
    (r"note (\d/\d+(?: dotted| triplet)?)", _note, "note 1/8 dotted"),
    (r"between (\d+):(\d\d(?:\.\d+)?) and (\d+):(\d\d(?:\.\d+)?)", _between_times, "between 1:05 and 2:10"),
    (rf"tempo ({NUMBER}) bars (?:(\d+):(\d\d(?:\.\d+)?)|({NUMBER}) ?(?:seconds?|secs?|s))", _tempo_for, "tempo 64 bars 2:00"),
    (r"(tick|sample) (\d+)", _at_unit, "tick 12000"),
)  # fmt: skip
