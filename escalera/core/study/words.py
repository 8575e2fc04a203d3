"""What people say of a track: how it moves, its key and tuning, numerals, what the form repeats."""

from __future__ import annotations

from escalera.core.energy.stats import BANDS
from escalera.core.study.heard_track import SURE, ChordHeard, SectionRead, StudyReading
from escalera.core.study.sounding import SIGNS, enters
from escalera.core.theory.chords import parse_chord, roman
from escalera.core.theory.keys import Key, parse_key, transpose_key
from escalera.errors import EscaleraError

SWUNG, STRAIGHT, TRIPLET = 0.585, 0.565, 0.64  # where off-beats lie within a beat: from, up to, from
SWUNG_SIXTEENTH = 0.79
CENTS_HEARD = 8.0
ASIDE = 0.12  # of the power that one side has more
INTERVALS = ("", "a semitone", "a tone", "a minor third", "a major third", "a fourth", "a tritone")


def doubt(confidence: float) -> str:
    """A question mark for what is not sure."""
    return "" if confidence >= SURE else "?"


def feel_said(section: SectionRead) -> str:
    """Straight, swung, half time; empty where too little is heard of it."""
    words = []
    if section.off_beat is not None:
        if section.off_beat >= SWUNG:
            words.append(
                "swung in triplets"
                if section.off_beat >= TRIPLET
                else f"swung, off-beats at {section.off_beat:.0%} of the beat"
            )
        elif section.off_beat <= STRAIGHT:
            words.append("straight eighths")
    late = section.late_sixteenth
    if late is not None and late >= SWUNG_SIXTEENTH:
        words.append("swung sixteenths")
    if section.half_time:
        words.append("half time: the backbeat lies on three")
    return ", ".join(words)


def kick_said(reading: StudyReading, index: int) -> str:
    """Where the kick enters in a section that begins without it; empty otherwise."""
    bar = enters(reading, index, "kick")
    return "" if bar is None else f"{SIGNS['kick'].label} enters in its bar {bar + 1}"


def tuning_said(cents: float | None) -> str:
    """How far it lies off A 440, with what that may come from."""
    if cents is None or abs(cents) < CENTS_HEARD:
        return "" if cents is None else "at A 440"
    hz = 440.0 * 2 ** (cents / 1200.0)
    return f"{cents:+.0f} cents, A at {hz:.1f} Hz".replace("-", "−")


def fingered(key: str, tuned_down: int, capo: int) -> str:
    """The key that is fingered where strings are tuned down by semitones or stopped by a capo, so that `key` sounds."""
    return str(transpose_key(parse_key(key), tuned_down - capo))


def key_change_said(semitones: int) -> str:
    """A change of key by its interval."""
    size = abs(semitones)
    word = INTERVALS[size] if size < len(INTERVALS) else f"{size} semitones"
    return f"{'up' if semitones > 0 else 'down'} {word}"


def key_at(reading: StudyReading, bar: int) -> Key | None:
    """The key in a bar."""
    if reading.key is None:
        return None
    by = next((s for b, s in reversed(reading.key_parts) if b <= bar), 0)
    return transpose_key(parse_key(reading.key), by)


def numerals(reading: StudyReading, index: int) -> list[str]:
    """The chords of a section as numerals, those that follow one another once each; the loop where it goes round."""
    section = reading.sections[index]
    key = key_at(reading, section.first_bar)
    if key is None:
        return []
    low, high = reading.beat_of_bar(section.first_bar), reading.beat_of_bar(section.first_bar + section.bars)
    found = [_numeral(c, key) for c in reading.chords if low <= c.beat < high]
    return looped(found)


def _numeral(heard: ChordHeard, key: Key) -> str:
    try:
        return roman(parse_chord(heard.chord, key), key)
    except EscaleraError:
        return "?"


def looped(row: list[str]) -> list[str]:
    """The shortest part of a row that, gone round and round, makes it; the row itself where none does."""
    for size in range(1, len(row) // 2 + 1):
        if all(row[i] == row[i % size] for i in range(len(row))):
            return row[:size]
    return row


def form_said(reading: StudyReading) -> str:
    """The form as people write it down: Intro 4, Verse 16 …"""
    return ", ".join(f"{s.name} {s.bars}" for s in reading.sections)


def places_said(reading: StudyReading, index: int) -> str:
    """Which bands sit to one side in a section, in words; empty where all are in the middle."""
    s = reading.sections[index]
    rows = [b.balance for b in reading.bars[s.first_bar : s.first_bar + s.bars] if b.balance]
    if not rows:
        return ""
    mean = [sum(row[i] for row in rows) / len(rows) for i in range(len(BANDS))]
    aside = [
        f"{name} Hz {abs(x):.0%} {'right' if x > 0 else 'left'}" for name, x in zip(BANDS, mean) if abs(x) >= ASIDE
    ]
    return ", ".join(aside) or "all bands in the middle"


def inner_parts(reading: StudyReading, index: int) -> list[str]:
    """Parts within a section, where a sign comes in or goes away for good, as "bar 9: the kick comes in"."""
    s, found = reading.sections[index], []
    for key, sign in SIGNS.items():
        there = [sign.measure(b) >= sign.enough for b in reading.bars[s.first_bar : s.first_bar + s.bars]]
        turn = _turn(there)
        if turn is not None and key != "kick":
            found.append(
                (
                    turn,
                    f"bar {turn + 1}: {sign.label} {'come' if sign.label.endswith('s') else 'comes'} in"
                    if there[turn]
                    else f"bar {turn + 1}: {sign.label} {'go' if sign.label.endswith('s') else 'goes'}",
                )
            )
    return [said for _, said in sorted(found)]


def _turn(there: list[bool]) -> int | None:
    """The bar after which something is there that was not, or not any more, when that happens once and holds for two bars on either side."""
    turns = [i for i in range(1, len(there)) if there[i] != there[i - 1]]
    return turns[0] if len(turns) == 1 and 2 <= turns[0] <= len(there) - 2 else None
