"""Patterns as a line of text, for people and for the library's data.

A token is a hit or a note; beats and lengths are quarters.
  drums   beat[:velocity]                                     '0 1 2 3', '0 0.75:70 2.5'
  others  beat:length:value[+value …][:octave[:velocity]]     '0:3.9:0', '0:1:0+1+2:0:90'
A value is what the pattern's kind says: a MIDI pitch (fixed), a scale degree, a chord tone or a voice, counted from 0.
A token may begin with another kind's letter: f, d, t or v ('t0:1:0 d2:1:4').
"""

from __future__ import annotations

from escalera.core.rhythm.pattern import FIXED, KINDS, Pattern
from escalera.core.time.ticks import TICKS_PER_QUARTER, quarters
from escalera.errors import EditError, InputError, shown

HIT_TICKS = 120
LETTERS = {kind[0]: number for number, kind in enumerate(KINDS)}
Row = tuple[int, int, int, int, int, int]


def parse_hits(text: str, drum_note: int) -> list[Row]:
    """Rows of a drum pattern. Raises EditError that points at the token."""
    rows = []
    for number, token in enumerate(text.split(), 1):
        beat, _, velocity = token.partition(":")
        try:
            rows.append((quarters(float(beat)), HIT_TICKS, FIXED, drum_note, 0, int(velocity or 100)))
        except (ValueError, OverflowError):
            raise EditError(
                f"Hit {number}, “{shown(token)}”, is not a beat. Write beats such as 0, 1.5 or 2:80 (with a velocity)."
            ) from None
    return rows


def parse_notes(text: str, kind: int) -> list[Row]:
    """Rows of a pitched pattern. Raises EditError that points at the token."""
    rows: list[Row] = []
    for number, token in enumerate(text.split(), 1):
        own, body = (LETTERS[token[0]], token[1:]) if token[0] in LETTERS else (kind, token)
        fields = body.split(":")
        try:
            beat, length, values = fields[:3]
            octave, velocity = int(fields[3]) if len(fields) > 3 else 0, int(fields[4]) if len(fields) > 4 else 100
            if len(fields) > 5:
                raise ValueError
            rows += [
                (quarters(float(beat)), max(1, quarters(float(length))), own, int(v), octave, velocity)
                for v in values.split("+")
            ]
        except (ValueError, OverflowError):
            raise EditError(
                f"Note {number}, “{shown(token)}”, cannot be read. Write beat:length:value, for example 0:0.5:2."
            ) from None
    return rows


def write_pattern(pattern: Pattern, is_drum: bool) -> str:
    """The text that reads back to the same rows (a drum's lengths and notes are its sound's)."""
    tokens = []
    for start, duration, kind, value, octave, velocity in pattern.to_list():
        if is_drum:
            tokens.append(_number(start) + (f":{velocity}" if velocity != 100 else ""))
        else:
            tokens.append(f"{KINDS[kind][0]}{_number(start)}:{_number(duration)}:{value}:{octave}:{velocity}")
    return " ".join(tokens)


def _number(ticks: int) -> str:
    """Quarters with as many digits as a tick needs."""
    return f"{ticks / TICKS_PER_QUARTER:.4f}".rstrip("0").rstrip(".")


def parse_pattern(text: str, length_quarters: float, is_drum: bool, drum_note: int, kind: int = FIXED) -> Pattern:
    """A pattern from text. Raises EditError."""
    rows = parse_hits(text, drum_note) if is_drum else parse_notes(text, kind)
    try:
        return Pattern(quarters(length_quarters), rows)
    except (InputError, OverflowError, ValueError) as error:
        raise EditError(str(error)) from error
