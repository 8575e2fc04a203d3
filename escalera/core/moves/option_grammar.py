"""The grammar of a said option: which words are which part, in what order, and when."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from rapidfuzz import fuzz, process

from escalera.core.document.song import Section, Song
from escalera.core.moves import option_parts as parts
from escalera.core.moves.move import KINDS, Move, apply_move, moves_for
from escalera.core.moves.option_parts import Act, section_of_id, spliced
from escalera.core.moves.option_words import NUMBER, SLIP, UnknownWords, called, number_of, tokens
from escalera.core.reading.timeline import section_bar_ticks
from escalera.errors import EditError, shown

SAMPLES = "“no drums”, “only bass and keys”, “as in Verse 1”, “drums alone for two bars, then everything”, “toms instead of hats”, “bass an octave up”"


def changed(song: Song, section_id: int, text: str) -> Song:
    """The song with all parts of an option made: in the order of time where they have one, else one on top of the other. EditError."""
    steps = _in_time(text)
    if steps:
        return _one_after_the_other(song, section_id, steps)
    return _all_at_once(song, section_id, text)


def _all_at_once(song: Song, section_id: int, text: str) -> Song:
    """Tries the longest part first: ‘only bass and drums’ is one."""
    cuts = [m.span() for m in re.finditer(r"\s*(?:,\s*(?:and|then|but)?|\band\b|\bthen\b|\bbut\b|\+)\s*", text)]
    trouble: EditError | None = None
    for low, high in [(len(text), len(text)), *reversed(cuts)]:
        try:
            there = _part(song, section_id, text[:low])
        except EditError as error:
            trouble = trouble or error
            continue
        return _all_at_once(there, section_id, text[high:]) if text[high:] else there
    raise trouble or EditError(f"Nothing is written. Say what to try, for example {SAMPLES}.")


# order and time ---------------------------------------------------------------------------------------------------------

LASTS = re.compile(rf"(.+?),? (?:for|over) (?:the )?(?:(first|last|next) )?{NUMBER} (bars?|beats?)")
PLACED = re.compile(
    rf"(.+?),? (?:(?:in|for|over) the (first|second|last) (half|phrase|bar|beat)|from bar {NUMBER}(?: on| onwards?)?|(?:until|up to|till) bar {NUMBER})"
)
AFTERWARDS = re.compile(r"\s*(?:,\s*)?(?:\band\b\s*)?\b(?:then|after that|afterwards)\b\s*,?\s*")


def _in_time(text: str) -> list[str]:
    """The steps of a sentence that says how long, or where, something is so; empty where it does not."""
    steps = [step for step in AFTERWARDS.split(text) if step]
    return steps if any(LASTS.fullmatch(s) or PLACED.fullmatch(s) for s in steps) else []


def _one_after_the_other(song: Song, section_id: int, steps: Sequence[str]) -> Song:
    """Every step in its stretch; one without a length lasts until the end."""
    section, at = section_of_id(song, section_id), 0
    whole = section_bar_ticks(section, song.metre)[-1]
    for step in steps:
        words, low, high = _stretch(song, section, step, at)
        if low >= high:
            raise EditError(f"“{shown(step)}” lies beyond {section.name}, which has {section.bars} bars. Say fewer.")
        there = _all_at_once(song, section_id, _as_heard(song, words))
        if there.section_by_id[section_id].bars != section.bars:
            raise EditError(
                f"“{shown(words)}” changes the length, and a part of a section cannot have another. Say it without a time."
            )
        song, at = spliced(song, there, section_id, low, high), min(high, whole)
    return song


def _as_heard(song: Song, words: str) -> str:
    """Layers named for a stretch are alone there: ‘keys and pad for the first eight bars’."""
    try:
        called(song, words)
    except EditError:
        return words
    return words if words.strip().startswith(("no ", "only ")) else f"only {words}"


def _stretch(song: Song, section: Section, step: str, at: int) -> tuple[str, int, int]:
    """What is so, and from which tick of the section to which."""
    bars = section_bar_ticks(section, song.metre)
    lasts, placed = LASTS.fullmatch(step), PLACED.fullmatch(step)
    if lasts:
        words, where, count, unit = lasts.groups()
        length = round(number_of(count) * (bars[1] if unit.startswith("bar") else song.metre.beat_ticks))
        low = {"last": bars[-1] - length, "first": 0}.get(where or "next", at)
        return words, max(0, low), min(bars[-1], low + length)
    if placed:
        words, which, unit, first, until = placed.groups()
        if first or until:
            bar = min(section.bars, max(0, int(number_of(first)) - 1 if first else int(number_of(until)) - 1))
            return (words, bars[bar], bars[-1]) if first else (words, 0, bars[bar])
        return words, *_named_stretch(song, section, which, unit)
    return step, at, bars[-1]


def _named_stretch(song: Song, section: Section, which: str, unit: str) -> tuple[int, int]:
    bars, beat = section_bar_ticks(section, song.metre), song.metre.beat_ticks
    end = bars[-1]
    if unit == "half":
        middle = bars[section.bars // 2] or end // 2
        return (0, middle) if which == "first" else (middle, end)
    if unit == "phrase":
        lengths = section.phrases
        place = {"first": 0, "second": min(1, len(lengths) - 1), "last": len(lengths) - 1}[which]
        first = sum(lengths[:place])
        return bars[first], bars[first + lengths[place]]
    length = bars[1] if unit == "bar" else beat
    return {"first": (0, length), "second": (length, 2 * length), "last": (end - length, end)}[which]


def _part(song: Song, section_id: int, text: str) -> Song:
    section, trouble = section_of_id(song, section_id), None
    for pattern, act in PARTS:
        match = pattern.fullmatch(text.strip())
        if match:
            try:
                return act(song, section, *match.groups())
            except UnknownWords as error:
                trouble = trouble or (None if pattern is PARTS[-1][0] else error)
    move = _move_called(song, section, text)
    if move is None:
        raise trouble or EditError(
            f"“{shown(text)}” is not understood for {section.name}. Say for example {SAMPLES}, or the name of a move."
        )
    return apply_move(song, move)


X = r"(?:the )?(.+?)"
PARTS: tuple[tuple[re.Pattern[str], Act], ...] = tuple(
    (re.compile(pattern), act)
    for pattern, act in (
        (r"(?:as|like) it (?:is|was)|(?:the )?same|leave it(?: alone)?|no change", parts.same),
        (rf"(?:everything|everybody|all|the (?:full |whole )?band) (?:except|but|without) {X}", parts.all_but),
        (r"silence|nothing|(?:all )?stops?|rest|empty|everybody out|everything out", parts.nothing),
        (rf"{X} (?:comes? in|enters?|starts?) (?:later|in the second half|halfway)", parts.later),
        (r"(?:the )?(?:key |everything |all )?(up|down) (?:by )?(?:a|one) (semitone|tone|half step|whole step)", parts.key_moved),
        (r"(?:with |add |bring in )?(?:everything|everybody|everyone|tutti|(?:the )?(?:full|whole) band|all in|all of them)(?: in| plays?)?", parts.everybody),
        (r"(?:the )?(?:layers?|they|everything|instruments?)?,? ?(?:(?:to )?(?:come|comes|enter|enters|build|builds)(?: in| up)?,? )?one by one()", parts.one_by_one),
        (r"(?:the )?(?:layers?|they|everything|instruments?)?,? ?(leave|leaves|go out|drop out),? one by one", parts.one_by_one),
        (rf"{X} (?:instead of|for|in place of|rather than) (?:the )?(.+)", parts.instead),
        (rf"(?:swap|exchange|replace|change) {X} (?:for|with|by) (?:the )?(.+)", lambda song, section, old, new: parts.instead(song, section, new, old)),
        (rf"(?:play |put )?{X} {NUMBER} octaves? (up|down|higher|lower|above|below)", parts.octaves),
        (rf"{X} (up|down) {NUMBER} octaves?", lambda song, section, words, way, count: parts.octaves(song, section, words, count, way)),
        (rf"{X} {NUMBER} (?:db|decibels?) (louder|quieter|softer|up|down)", parts.louder),
        (rf"{X} (louder|quieter|softer)()", lambda song, section, words, way, _: parts.louder(song, section, words, None, way)),
        (rf"(louder|quieter|softer) {X}", lambda song, section, way, words: parts.louder(song, section, words, None, way)),
        (rf"(?:half (?:of )?|fewer |less |sparser |thin(?:ner)? )(?:the )?{X}(?: notes| hits)?|{X} (?:thinner|sparser|less busy)",
         lambda song, section, a, b: parts.fewer(song, section, a or b)),
        (rf"(?:double[- ]time |twice as many |double |more |busier )(?:the )?{X}(?: notes| hits)?|{X} (?:busier|twice as fast)",
         lambda song, section, a, b: parts.busier(song, section, a or b)),
        (rf"(?:filter(?:ed)?|muffle(?:d)?|dark(?:er)?|dull|low-pass on|a low-pass on) {X}|{X} (?:filtered|muffled|darker|dull|behind a (?:filter|low-pass))",
         lambda song, section, a, b: parts.filtered(parts.MUFFLED_HZ, parts.MUFFLED_HZ)(song, section, a or b)),
        (rf"(?:open (?:the |a )?filter|(?:the )?filter opens|filter sweep up)(?: on {X})?", parts.filtered(parts.MUFFLED_HZ, parts.OPEN_HZ)),
        (rf"(?:close (?:the |a )?filter|(?:the )?filter closes|filter sweep down)(?: on {X})?", parts.filtered(parts.OPEN_HZ, parts.MUFFLED_HZ)),
        (rf"fade in(?: {X})?|fades? in", lambda song, section, words=None: parts.fades(True)(song, section, words)),
        (rf"fade out(?: {X})?|fades? out", lambda song, section, words=None: parts.fades(False)(song, section, words)),
        (rf"(?:silence|nothing|empty|stop|break|rest)(?: for| in| on)?(?: the)? (last|first)(?: {NUMBER})? (bars?|beats?)", parts.silence),
        (rf"(?:the )?(last|first)(?: {NUMBER})? (bars?|beats?) (?:empty|silent)", parts.silence),
        (r"(?:with |add )?(?:a |an )?(.+?) (?:on the one|before it|into it|at the join|leading in)", parts.device),
        (r"(?:no|without|lose|mute|drop|take out|leave out|cut|minus|not) (?:the )?(.+?)(?: out)?", parts.without),
        (r"(.+) (?:out|off|away|silent)", parts.without),
        (r"(?:only|just|nothing but|alone) (?:the )?(.+)", parts.only),
        (r"(.+) (?:only|alone)", parts.only),
        (r"(?:as|like|same as)(?: in)? ()(.+)", lambda song, section, _, other: parts.like(song, section, None, other)),
        (r"(.+?) (?:as|like)(?: in)? (.+)", parts.like),
        (r"(?:with|add|bring in|plus|bring|keep|leave) (?:the )?(.+)", parts.with_them),
        (r"(.+) in", parts.with_them),
        (rf"{NUMBER} bars?(?: long)?", parts.bars_long),
        (r"(?:the )?(.+)", parts.only),
    )
)  # fmt: skip


def _move_called(song: Song, section: Section, text: str) -> Move | None:
    """The move whose name holds all the words, with the fewest others; a slip of the pen is forgiven."""
    wanted = tokens(text)
    best: tuple[int, Move] | None = None
    for move, words in _named(song, section):
        if wanted and all(
            word in words or process.extractOne(word, words, scorer=fuzz.ratio, score_cutoff=SLIP) for word in wanted
        ):
            extra = len(words) - len(wanted)
            if best is None or extra < best[0]:
                best = (extra, move)
    return best[1] if best else None


def _named(song: Song, section: Section) -> Iterator[tuple[Move, set[str]]]:
    """Moves by the words of their label, and of their kind's."""
    for move in moves_for(song, section):
        kind = KINDS[move.key.partition(":")[0]]
        yield move, tokens(move.label)
        yield move, tokens(f"{kind.label} {kind.key}")
