"""Ways of asking that come down to a plain question about counting: politeness, other orders, clock times, note values."""

from __future__ import annotations

import re
from collections.abc import Callable

from escalera.core.time.note_values import STRAIGHT

ORDINALS = {
    "first": "1", "second": "2", "third": "3", "fourth": "4", "fifth": "5", "sixth": "6", "seventh": "7", "eighth": "8", "1st": "1", "2nd": "2", "3rd": "3",
    "4th": "4", "5th": "5", "6th": "6", "7th": "7", "8th": "8",
}  # fmt: skip
VALUE_WORDS = {
    "whole": "1/1", "half": "1/2", "quarter": "1/4", "eighth": "1/8", "8th": "1/8", "sixteenth": "1/16", "16th": "1/16", "thirty-second": "1/32", "32nd": "1/32",
    "crotchet": "1/4", "quaver": "1/8", "semiquaver": "1/16", "minim": "1/2", "semibreve": "1/1",
}  # fmt: skip
VALUE = "|".join(sorted([*VALUE_WORDS, *(re.escape(v) for v in STRAIGHT)], key=len, reverse=True))
LENGTH_UNIT = r"(?:bars?|beats?|quarters?|eighths?|8ths?|sixteenths?|16ths?|ticks?|seconds?|secs?|s|samples?|measures?)"
IN_UNIT = rf"(?: in (?:{LENGTH_UNIT}|time|minutes|ms|milliseconds))"
N, CLOCK = r"-?\d+(?:\.\d+)?", r"\d+:\d\d(?:\.\d+)?"
HOW_FAR = r"how (?:long|many bars|much) (?:is it |are there |lies? |is )?"

Reword = tuple[str, str | Callable[[re.Match[str]], str]]


def _clock_seconds(match: re.Match[str]) -> str:
    return f"{60 * int(match['m']) + float(match['s'] or 0):g} seconds"


def _note(match: re.Match[str]) -> str:
    value = VALUE_WORDS.get(match["value"], match["value"])
    kind = match["kind"] or match["after"] or ""
    kind = {"dotted": " dotted", "triplet": " triplet", "straight": ""}.get(kind.strip().removesuffix("s"), "")
    return f"note {value}{kind}"


# tried in this order, each where it fits the whole question or (with ^ or $ left out) a part of it
REWORDS: tuple[Reword, ...] = (
    (r"^(?:please |so |and |hey |ok |okay )+", ""),
    (r"^(?:can you |could you |would you )?(?:tell me|show me|give me|count|work out|i want|i need)(?: to know)? ", ""),
    (r" (?:please|again|exactly|long|then)$", ""),
    (r"\bmeasures?\b", "bars"),
    (r" (?:as|in) (?:min(?:utes)? and sec(?:ond)?s|min:sec)$", " in time"),
    (r"\bminutes?\b|\bmins?\b", "min"),
    (r"\b(?P<m>\d+) ?(?:min|m) (?:and )?(?P<s>\d+(?:\.\d+)?)(?: ?(?:seconds?|secs?|s))?\b", _clock_seconds),
    (r"\b(?P<m>\d+) ?min(?P<s>)\b", _clock_seconds),
    (r"\b(?:an?|one) (?=bar|beat|second)", "1 "),
    # note values
    (rf"^(?:what is |what's |how long is |length of |delay (?:time )?(?:of|for) |echo (?:time )?(?:of|for) |time (?:of|for) )?(?:an? |the )?"
     rf"(?P<kind>dotted |triplet |straight )?(?P<value>{VALUE})(?:[- ]?notes?)?(?P<after> dotted| triplets?)?(?: notes?)? in (?:ms|milliseconds|seconds|time)$", _note),
    (rf"^(?:what is |what's |how long is |how many (?:ms|milliseconds) (?:is|are|has) )(?:an? |the )"
     rf"(?P<kind>dotted |triplet |straight )?(?P<value>{VALUE})(?:[- ]?notes?)?(?P<after> dotted| triplets?)?(?: notes?)?$", _note),
    # from one place to another
    (rf"^(?:{HOW_FAR}|what is the distance )?(?:from|between) bars? ({N}) (?:to|and|until|till|through) (?:bar )?({N}){IN_UNIT}?$",
     r"bars \1 to \2"),
    (rf"^(?:{HOW_FAR})?(?:from|between) ({CLOCK}) (?:to|and|until|till) ({CLOCK})(?: in bars)?$", r"between \1 and \2"),
    (rf"^(?:how long (?:is|are|do|does)|what is the length of) bars ({N}) ?(?:to|-|through|until) ?({N})(?: last| take)?$", r"bars \1 to \2"),
    # a tempo for a length
    (rf"^(?:(?:what|which) tempo (?:makes|gives|fits|do i need for)|tempo for) ({N}) bars? (?:last|take|in|fit|fit in|fit into|to last|long) (.+)$",
     r"tempo \1 bars \2"),
    (rf"^({N}) bars? in (\d+:\d\d|{N} seconds),? what tempo$", r"tempo \1 bars \2"),
    # how long, how many
    (rf"^how many (?:{LENGTH_UNIT}|ms) (?:are there in|are in|fit into|fit in|is|are|in|does|do|make|has|have) (.+?)(?: have| last| take| make)?$", r"\1"),
    (rf"^how (?:long|much time) (?:is|are|do|does|will|would|lasts?|takes?) (.+?)(?: last| take| be)?(?: {IN_UNIT.strip()})?$", r"\1"),
    (rf"^(?:what is |what's )?(?:the )?(?:length|duration|time) (?:of|for) (.+?){IN_UNIT}?$", r"\1"),
    (rf"^(.+?) (?:as|to|into|in) (?:{LENGTH_UNIT}|minutes|minutes and seconds|time|clock time|the clock)$", r"\1"),
    # where, when, what is at
    (r"^(?:which|what) (?:bar|beat|position|place) (?:is|lies|comes|falls|plays|are we in|am i in) (?:at |on )?(.+)$", r"\1"),
    (r"^(?:what (?:is|comes|lies|plays)|what's|where (?:am i|are we|is|does)|where's|when (?:is|does)|when's|go to|jump to)(?: at| on| in| with)? "
     r"(.+?)(?: start| starts| begin| begins| come| fall| lie)?$", r"\1"),
    (r"^(?:at|on) (.+)$", r"\1"),
    (r"^(?:the )?(?:position|place|start|beginning|time) of (?=bar )", ""),
    (r"^(?:the )?(\w+) beat (?:of|in) bar (-?\d+)$", lambda m: f"bar {m[2]} beat {ORDINALS.get(m[1], m[1])}"),
    (r"^beat (\d+(?:\.\d+)?) (?:of|in) bar (-?\d+)$", r"bar \2 beat \1"),
    (r"^(?:the )?(?:and|&) of (\d+) (?:of|in) bar (-?\d+)$", r"bar \2 beat \1.5"),
    (r"^bar (-?\d+),? (?:the )?(?:and|&) of (\d+)$", r"bar \1 beat \2.5"),
    (r"^bar (-?\d+),? (\w+) beat$", lambda m: f"bar {m[1]} beat {ORDINALS.get(m[2], m[2])}"),
    # spans said in another order
    (rf"^(?:the )?last ({N}) bars? (?:before|until|up to) bar (-?\d+)$", r"\1 bars before bar \2"),
    (rf"^(?:the )?(?:first |next )({N}) bars? (?:from|of|after|starting at) bar (-?\d+)$", r"\1 bars from bar \2"),
    (rf"^from bar (-?\d+),? ({N}) bars?$", r"\2 bars from bar \1"),
    (rf"^bar (-?\d+) (?:plus|\+|and) ({N}) bars?$", r"\2 bars after bar \1"),
    (rf"^bar (-?\d+) (?:minus|less) ({N}) bars?$", r"\2 bars before bar \1"),
    (r"^(\d+) times (\d+) bars?$", r"\1 of \2 bars"),
    (r"^(\d+) \* (\d+) bars?$", r"\1 of \2 bars"),
    (r"^half of ({N}) bars?$".replace("{N}", N), lambda m: f"{float(m[1]) / 2:g} bars"),
    (rf"^({N})(?: bpm)? (?:against|versus|vs|over|->) ({N})(?: bpm)?$", r"\1 to \2 bpm"),
    (rf"^(?:from )?({N}) bpm (?:to|into) ({N})(?: bpm)?$", r"\1 to \2 bpm"),
)  # fmt: skip


def reworded(question: str) -> str:
    """The question in the plainest words that mean it."""
    for pattern, better in REWORDS:
        question = re.sub(pattern, better, question).strip()
    return question
