"""Named feels: what the beat does, and the tempos at which it is usually played (quarters a minute)."""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Feel:
    key: str
    label: str
    low_bpm: float
    high_bpm: float
    said: str

    @property
    def middle_bpm(self) -> float:
        return round((self.low_bpm + self.high_bpm) / 2)


FEELS: tuple[Feel, ...] = (
    Feel("slow-ballad", "Slow ballad", 56, 76, "one breath a bar; the snare on 3 or on 2 and 4"),
    Feel("slow-triplets", "Slow triplets", 58, 74, "three even notes to every beat"),
    Feel("heavy-half-time", "Heavy half time", 130, 160, "counted fast, felt at half: snare on 3, hats in a hurry"),
    Feel("laid-back-backbeat", "Laid-back backbeat", 80, 98, "snare on 2 and 4, a little late"),
    Feel("off-beat-chop", "Off-beat chop", 66, 92, "chords on every and; the one may stay empty"),
    Feel("three-three-two", "3–3–2 between the beats", 90, 108, "kick on the beats, snare on 3, 3 and 2 sixteenths around them"),
    Feel("mid-backbeat", "Middle backbeat", 100, 120, "snare on 2 and 4, straight eighths"),
    Feel("shuffle", "Shuffle", 96, 136, "eighths swing long and short"),
    Feel("four-on-the-floor", "Four on the floor", 118, 130, "kick on every beat, open hat between"),
    Feel("broken-two-step", "Broken two-step", 128, 138, "kick leaves out the 3, hats lean"),
    Feel("driving-four", "Driving four", 132, 145, "kick on every beat, sixteenths rolling"),
    Feel("straight-rock", "Straight eighths, driving", 126, 160, "eighths on guitar and hat, snare on 2 and 4"),
    Feel("fast-breaks", "Fast breaks", 160, 178, "chopped drums over a half-time bass"),
    Feel("double-time", "Double time", 176, 210, "the snare on every and"),
    Feel("waltz", "Waltz", 84, 180, "three to the bar, the weight on one"),
    Feel("six-eight-sway", "Six-eight sway", 84, 126, "two beats of three; counted here in quarters"),
)  # fmt: skip


def feels_at(tempo_bpm: float) -> list[Feel]:
    """The feels whose range holds a tempo, those first whose middle is nearest."""
    inside = [feel for feel in FEELS if feel.low_bpm <= tempo_bpm <= feel.high_bpm]
    return sorted(inside, key=lambda feel: abs(feel.middle_bpm - tempo_bpm))
