"""What practice wants of every kind of section, as tables: who belongs, who waits, who leaves.

A wish is (at its start, at its end) in points: what playing throughout one phrase is worth. Above 0 a part belongs there,
below it should have a reason to be there, at NEVER it stays out. Two points outweigh a distance of one from the target.
"""

from __future__ import annotations

from escalera.core.document.schools import switch_value
from escalera.core.document.song import Song
from escalera.lazy_dataclasses import dataclass

NEVER = -50.0
PARTS = (
    "kick", "snare", "hat", "open hat", "percussion", "toms", "ride", "sub", "bass", "chords", "wide", "figure", "hook",
    "counter", "lead voice", "harmony", "place",
)  # fmt: skip
Wish = tuple[float, float]


def _wishes(**rows: float | Wish) -> dict[str, Wish]:
    """Wishes by part; what is not named may come or stay away, at a small cost."""
    named = {key.replace("_", " "): value for key, value in rows.items()}
    found = {part: named.get(part, -0.3) for part in PARTS}
    return {part: value if isinstance(value, tuple) else (value, value) for part, value in found.items()}


PEAK = _wishes(
    kick=6, snare=6, hat=2, open_hat=0.8, percussion=0.5, toms=-0.5, ride=-0.2, sub=4, bass=6, chords=5, wide=1, figure=0.6,
    hook=1.2, counter=0.2, lead_voice=2.5, harmony=0.6, place=-0.3,
)  # fmt: skip
DROP = {
    **PEAK,
    **_wishes(**{k.replace(" ", "_"): v for k, v in PEAK.items()}),
    "lead voice": (0.0, 0.0),
    "hook": (2.0, 2.0),
    "figure": (1.0, 1.0),
}
QUIET = _wishes(
    kick=-2, snare=-2.5, hat=-0.8, open_hat=-2, percussion=-0.5, toms=-2, ride=-3, sub=-1.5, bass=-0.8, chords=1.2, wide=0.6,
    figure=0.3, hook=0.2, counter=-0.3, lead_voice=-0.2, harmony=-2, place=1,
)  # fmt: skip
PLANS: dict[str, dict[str, Wish]] = {
    "intro": _wishes(
        kick=(-1.5, -0.2), snare=(-2, -1), hat=(-0.4, 0.4), open_hat=-2, percussion=(0, 0.6), toms=-2, ride=-3, sub=-1.5,
        bass=(-1, 0.2), chords=1, wide=0.2, figure=0.4, hook=(0.2, 0.6), counter=-0.6, lead_voice=-3, harmony=-4, place=1.2,
    ),
    "verse": _wishes(
        kick=1, snare=0.8, hat=0.8, open_hat=-1.5, percussion=(-0.3, 0.3), toms=-1.5, ride=-3, sub=-0.5, bass=1.5, chords=(0.8, 1.2),
        wide=-1, figure=(-0.8, 0.1), hook=-1.5, counter=(-0.8, 0), lead_voice=4, harmony=-3, place=0,
    ),
    "pre-chorus": _wishes(
        kick=0.8, snare=0.8, hat=1, open_hat=-0.5, percussion=0.5, toms=0.2, ride=-2, sub=-0.8, bass=1.2, chords=1.5, wide=(0, 0.8),
        figure=(0.2, 0.8), hook=-1.5, counter=0, lead_voice=3, harmony=-1.5, place=-0.3,
    ),
    "chorus": PEAK,
    "post-chorus": {**PEAK, "lead voice": (0.5, 0.5), "hook": (2.0, 2.0), "counter": (0.6, 0.6)},
    "drop": DROP,
    "break": QUIET,
    "breakdown": QUIET,
    "build": _wishes(
        kick=(0.4, -1), snare=(0.2, 0.8), hat=(0.4, 1), open_hat=-0.5, percussion=(0.2, 1), toms=0, ride=-3, sub=(-0.5, -3),
        bass=(0.2, -2), chords=1.5, wide=(0.2, 1), figure=(0.4, 1), hook=(-0.3, 0.3), counter=0, lead_voice=0.5, harmony=-1.5, place=0.2,
    ),
    "pre-drop": {**QUIET, "figure": (0.6, 0.6), "lead voice": (0.5, 0.5)},
    "bridge": _wishes(
        kick=(-0.5, 0.6), snare=(-0.8, 0.6), hat=(-0.3, 0.5), open_hat=-1, percussion=0.6, ride=-2, sub=-0.8, bass=(0, 1), chords=1.2, wide=0.8,
        figure=0.5, hook=-1.5, counter=0.8, lead_voice=2, harmony=-1, place=0.4,
    ),
    "solo": {**PEAK, "lead voice": (-4.0, -4.0), "harmony": (-4.0, -4.0), "counter": (1.5, 1.5)},
    "jam": {**PEAK, "lead voice": (-1.0, -1.0)},
    "interlude": {**QUIET, "hook": (1.0, 1.0), "bass": (0.4, 0.4), "hat": (0.3, 0.3), "lead voice": (-3.0, -3.0)},
    "turnaround": _wishes(kick=0.8, snare=0.5, hat=0.6, bass=1, chords=1, hook=0.5, lead_voice=-2, harmony=-3, ride=-2),
    "re-intro": {**QUIET, "hook": (0.8, 0.8), "lead voice": (-3.0, -3.0)},
    "tag": {**PEAK, "kick": (1.0, -1.0), "snare": (1.0, -1.0), "sub": (0.5, -1.0), "harmony": (0.3, 0.3)},
    "outro": _wishes(
        kick=(0.3, -2), snare=(0, -2.5), hat=(0.4, -1.5), open_hat=-2, percussion=(0.4, -0.5), toms=-2, ride=-3, sub=(-0.3, -2.5), bass=(0.8, -1),
        chords=(1.2, 0.8), wide=(0, 0.3), figure=(0.3, 0), hook=(0.3, 0.4), counter=-0.5, lead_voice=(0, -1), harmony=-2, place=(0.6, 1.4),
    ),
    "none": _wishes(kick=0.8, snare=0.8, hat=0.8, bass=1, sub=0.5, chords=1, hook=0.5, lead_voice=0.8),
}  # fmt: skip
RISING = ("intro", "verse", "pre-chorus", "chorus", "post-chorus", "build", "drop", "bridge", "solo", "jam", "none")
FALLING = ("outro", "tag")
PEAKS = ("chorus", "drop", "post-chorus")
GROOVE = ("kick", "snare", "hat", "bass")


@dataclass(frozen=True, slots=True)
class Stance:
    """One way of laying a song out: its name, what it says, and what it wishes beside the tables (role, part, points)."""

    key: str
    label: str
    said: str
    wishes: tuple[tuple[str, str, float], ...]
    held: int = 0  # which of the layers that may be kept for the end is


def _all(roles: tuple[str, ...], parts: tuple[str, ...], points: float) -> tuple[tuple[str, str, float], ...]:
    return tuple((role, part, points) for role in roles for part in parts)


VERSES, OPENINGS, VALLEYS = ("verse", "bridge"), ("intro", "re-intro", "interlude"), ("break", "breakdown", "pre-drop")
DRUMS = ("kick", "snare", "hat", "percussion")
HARMONY = ("chords", "wide", "figure")
STANCES: dict[str, Stance] = {row.key: row for row in (
    Stance("voice", "The tune carries the verses", "drums, bass and chords make room for what sings, or plays the tune; chords open the song",
           _all(("verse", "pre-chorus", "chorus", "bridge"), ("lead voice",), 20.0)),
    Stance("drums", "Drums and bass carry the verses", "chords wait for what comes after; drums open the song, chords stay in its valleys",
           (*_all(VERSES, ("kick", "snare", "hat", "bass"), 2.5), *_all(VERSES, HARMONY, -3.0), *_all(OPENINGS, ("hat", "percussion", "kick"), 2.5),
            *_all(OPENINGS, HARMONY, -1.6), *_all(VALLEYS, ("lead voice", "hook"), 1.5)), 1),
    Stance("chords", "Chords carry the verses", "drums come late and low; a place or a figure opens the song, drums without chords make its valleys",
           (*_all(VERSES, HARMONY, 2.0), *_all(VERSES, ("snare", "kick"), -2.5), *_all(OPENINGS, ("place", "figure", "hook"), 1.8), *_all(OPENINGS, ("chords",), -0.8),
            *_all(VALLEYS, ("bass", "percussion", "hat"), 2.2), *_all(VALLEYS, HARMONY, -1.5)), 2),
)}  # fmt: skip


def _add(table: dict[str, Wish], parts: tuple[str, ...], points: float) -> None:
    for part in parts:
        a, b = table[part]
        table[part] = (a + points, b + points)


def wish_table(song: Song, role: str, stance: Stance) -> dict[str, Wish]:
    """What a section of a role wants of every part in this song's style, as a stance turns it."""
    table = dict(PLANS.get(role, PLANS["none"]))
    for where, part, points in stance.wishes:
        if where == role:
            _add(table, (part,), points)
    if switch_value(song.school, song.switches, "verses") == "groove" and role in (
        "verse",
        "pre-chorus",
        "bridge",
        "solo",
        "turnaround",
    ):
        _add(table, GROOVE, 1.5)
    if switch_value(song.school, song.switches, "verses") == "strip" and role == "verse":
        _add(table, ("chords",), 1.5)
        _add(table, ("kick", "snare"), -0.6)
    if switch_value(song.school, song.switches, "start") == "drums" and role in ("intro", "outro"):
        _add(table, ("kick", "hat", "percussion"), 1.6)
    if switch_value(song.school, song.switches, "voices") == "many" and role in PEAKS:
        table["harmony"] = (1.6, 1.6)
    return table
