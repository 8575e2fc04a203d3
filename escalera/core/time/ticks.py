"""Ticks, quarters, seconds and samples. Every conversion of the program goes through here."""

from __future__ import annotations

TICKS_PER_QUARTER = 960


def ticks_to_seconds(ticks: float, tempo_bpm: float) -> float:
    """Length of `ticks` in seconds at `tempo_bpm` quarters a minute."""
    return ticks / TICKS_PER_QUARTER * 60.0 / tempo_bpm


def seconds_to_ticks(seconds: float, tempo_bpm: float) -> float:
    """Inverse of `ticks_to_seconds`."""
    return seconds * tempo_bpm / 60.0 * TICKS_PER_QUARTER


def quarters(value: float) -> int:
    """Quarters to ticks, rounded to the nearest."""
    return round(value * TICKS_PER_QUARTER)


def bars_counted(count: float) -> str:
    """'1 bar', '8 bars', '2.5 bars'."""
    return "1 bar" if count == 1 else f"{count:g} bars"


def clock_ms(seconds: float) -> str:
    """Seconds as minutes, seconds and thousandths: 1:04.615."""
    whole = round(seconds * 1000)
    return f"{whole // 60_000}:{whole % 60_000 / 1000:06.3f}"


def clock(seconds: float, tenths: bool = False) -> str:
    """Minutes and seconds as people read them: 3:05, or 1:12.7 with tenths."""
    if tenths:
        total = round(seconds * 10)
        return f"{total // 600}:{total % 600 // 10:02d}.{total % 10}"
    total = round(seconds)
    return f"{total // 60}:{total % 60:02d}"
