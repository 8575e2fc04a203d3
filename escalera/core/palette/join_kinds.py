"""What can carry a join, one row a kind: what it is for, where it stands about the one, its few parameters, the sounds that play it.

`core/joins` makes notes, silences and curves of them.
"""

from __future__ import annotations

from functools import cached_property

from escalera.core.palette.parameters import Parameter, choice
from escalera.core.palette.sounds import FAMILIES
from escalera.lazy_dataclasses import dataclass

ANNOUNCES, LIFTS, EMPTIES, MARKS, COVERS = "announces", "lifts", "empties", "marks the one", "covers the seam"
PURPOSES = (ANNOUNCES, LIFTS, EMPTIES, MARKS, COVERS)
DIVISIONS = ("1/2", "1/4", "1/8", "1/16", "1/32")  # notes of a roll, in whole notes
FILL_NAMES = ("falling toms", "snare sixteenths", "broken", "triplets")
LEADING = ("leads", "voices")
SNARES = ("room-snare", "thud-snare", "tonal-snare", "gated-snare", "loose-clap", "tight-clap")


@dataclass(frozen=True)
class JoinKind:
    """`start_beats` and `length_beats` are where a new one stands, counted from the one (below zero is before it).

    `sounds` are those of which one layer plays it; `plays` are families whose layer takes it where there are no such sounds.
    `leads` is true for what grows until its end, which then is the gap's beginning where there is a gap.
    """

    key: str
    label: str
    purpose: str
    sign: str
    said: str
    start_beats: float
    length_beats: float
    parameters: tuple[Parameter, ...] = ()
    sounds: tuple[str, ...] = ()
    plays: tuple[str, ...] = ()
    leads: bool = False

    @cached_property
    def parameter_by_key(self) -> dict[str, Parameter]:
        return {p.key: p for p in self.parameters}

    @property
    def takes_layer(self) -> bool:
        return bool(self.sounds or self.plays)


def _cutoff(key: str, label: str, default: float) -> Parameter:
    return Parameter(key, label, 40, 18_000, default, "Hz", "log")


FAMILY = choice("family", "Family", ("all but drums and low end", *FAMILIES))
ROWS = (
    JoinKind("riser", "Riser", LIFTS, "slash", "climbs until its end", -8, 8, (), ("tone-riser", "pulse-riser", "noise-riser"), leads=True),
    JoinKind("sweep-up", "Noise sweep up", LIFTS, "slash", "noise that opens until its end", -4, 4, (), ("noise-riser",), leads=True),
    JoinKind("sweep-down", "Noise sweep down", COVERS, "backslash", "noise that falls after the one", 0, 8, (), ("falling-sweep",)),
    JoinKind("impact", "Impact", MARKS, "diamond", "a deep blow on the one", 0, 4, (), ("deep-impact",)),
    JoinKind("crash", "Crash", MARKS, "diamond", "a cymbal on the one", 0, 4, (), ("wide-crash",)),
    JoinKind("sub-drop", "Sub drop", MARKS, "down", "a sine that falls below everything", 0, 4, (), ("sub-drop",)),
    JoinKind("reversed-crash", "Reversed crash", ANNOUNCES, "slash", "a cymbal backwards into the one", -4, 4, (), ("reversed-crash",), leads=True),
    JoinKind("reversed-chord", "Reversed first chord", ANNOUNCES, "slash", "the next section's first chord swells backwards into it", -4, 4, (),
             ("reversed-swell",), leads=True),
    JoinKind("drawn-out", "Last note drawn out", COVERS, "hook", "the last note is held as far as this", -4, 4, (), (), LEADING),
    JoinKind("fill", "Fill", ANNOUNCES, "bars", "the drums turn round", -4, 4, (choice("figure", "Figure", FILL_NAMES),), leads=True),
    JoinKind("roll", "Roll", LIFTS, "bars", "hits that double until its end", -8, 8,
             (choice("from_division", "From", DIVISIONS, 1), choice("to_division", "To", DIVISIONS, 4),
              Parameter("from_velocity", "Velocity from", 1, 127, 50, "", "whole"), Parameter("to_velocity", "Velocity to", 1, 127, 115, "", "whole")),
             SNARES, leads=True),
    JoinKind("shout", "Shout (stand-in)", ANNOUNCES, "hook", "a voice calls before the one", -1, 1,
             (Parameter("pitch", "Pitch", 57, 84, 69, "", "whole"),), ("voice-chop",)),
    JoinKind("filter-open", "Filter opens", LIFTS, "wedge", "a low-pass opens until its end", -8, 8,
             (FAMILY, _cutoff("from_hz", "From", 500), _cutoff("to_hz", "To", 16_000)), leads=True),
    JoinKind("filter-close", "Filter closes", EMPTIES, "wedge-down", "a low-pass closes until its end", -8, 8,
             (FAMILY, _cutoff("from_hz", "From", 16_000), _cutoff("to_hz", "To", 500)), leads=True),
    JoinKind("turnaround", "Falling turnaround", ANNOUNCES, "backslash", "a line falls to the next section's first chord", -4, 4, (), (), ("low end", "leads", "chords")),
    JoinKind("stop", "Stop", EMPTIES, "ring", "all stop but what leads; tails ring", -4, 4, (choice("keeps", "Goes on", ("leads and voices", "nothing", "drums")),)),
    JoinKind("breath", "Breath", EMPTIES, "ring", "everybody rests for a moment; tails ring", -0.5, 0.5),
    JoinKind("gap", "Gap", EMPTIES, "ring", "silence before the one", -1, 1, (choice("tails", "Tails", ("cut", "ring")),)),
    JoinKind("beat-out", "Beat drops out", EMPTIES, "down", "drums and low end leave under what leads", -2, 2),
    JoinKind("held-chord", "Held chord", COVERS, "hold", "the chord is held, without the drums", -4, 4),
    JoinKind("echo-throw", "Echo throw", COVERS, "hook", "what leads is thrown into the echo", -1, 1, (Parameter("level_db", "Level", -40, 6, -3, "dB"),), (), LEADING),
    JoinKind("overlap", "Overlap with crossfade", COVERS, "cross", "what leaves fades while what enters rises", 0, 4),
    JoinKind("pickup", "Pickup notes", ANNOUNCES, "hook", "a few notes lead into the first one", -1, 1,
             (Parameter("notes", "Notes", 1, 4, 2, "", "whole"),), (), (*LEADING, "low end")),
    JoinKind("tempo-ease", "Tempo eases", EMPTIES, "hold", "the tempo gives way, and is back on the one", -4, 4, (Parameter("to_share", "Down to", 50, 100, 85, "%"),)),
    JoinKind("mute-pattern", "Starts and stops with the lead", EMPTIES, "bars", "the others sound only on the lead's notes", -4, 4, (), (), LEADING),
)  # fmt: skip
JOIN_KINDS: dict[str, JoinKind] = {row.key: row for row in ROWS}
