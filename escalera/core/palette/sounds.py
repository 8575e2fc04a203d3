"""The sounds, one row each. A row carries all that the interface, the engine and the energy model ask.

`register` is the useful range in MIDI notes; following notes place their root at its bottom and voice-led
chords round its middle. `hold` says whether a sound lasts as long as its note ("sustained") or dies away by
itself ("struck"). `attack` weights its hits for drive.
"""

from __future__ import annotations

from dataclasses import dataclass

FAMILIES = ("drums", "low end", "chords", "leads", "voices", "atmosphere", "effects")
JOBS = ("attack", "body", "width", "top", "movement", "texture", "weight", "hook", "answer")


@dataclass(frozen=True, slots=True)
class Sound:
    key: str
    label: str
    family: str
    job: str
    register: tuple[int, int]
    hold: str = "sustained"
    drum: str = ""
    attack: float = 0.0
    drum_note: int = 0
    program: int = 0
    level_db: float = -8.0
    rise: bool = False

    @property
    def is_drum(self) -> bool:
        return bool(self.drum)

    @property
    def centre(self) -> int:
        return (self.register[0] + self.register[1]) // 2


SOUNDS: tuple[Sound, ...] = (
    Sound("round-kick", "Round kick", "drums", "attack", (36, 36), "struck", drum="kick", attack=1.0, drum_note=36, level_db=-9),
    Sound("room-snare", "Room snare", "drums", "attack", (38, 38), "struck", drum="snare", attack=0.9, drum_note=38, level_db=-9),
    Sound("loose-clap", "Loose clap", "drums", "attack", (39, 39), "struck", drum="clap", attack=0.8, drum_note=39, level_db=-9),
    Sound("tin-hat", "Tin hat", "drums", "top", (42, 42), "struck", drum="closed hat", attack=0.35, drum_note=42, level_db=-10),
    Sound("open-tin-hat", "Open tin hat", "drums", "top", (46, 46), "struck", drum="open hat", attack=0.45, drum_note=46, level_db=-12),
    Sound("wide-crash", "Wide crash", "drums", "width", (49, 49), "struck", drum="crash", attack=0.8, drum_note=49, level_db=-12),
    Sound("seed-shaker", "Seed shaker", "drums", "movement", (70, 70), "struck", drum="shaker", attack=0.3, drum_note=70, level_db=-12),
    Sound("sub-sine", "Sub sine", "low end", "weight", (28, 43), program=38, level_db=-14),
    Sound("plucked-bass", "Plucked bass", "low end", "body", (31, 52), "struck", program=33, level_db=-11),
    Sound("wide-saws", "Wide saws", "chords", "width", (50, 76), program=81, level_db=-14),
    Sound("soft-pad", "Soft pad", "chords", "body", (50, 74), program=89, level_db=-16),
    Sound("tine-keys", "Tine keys", "chords", "body", (50, 79), "struck", program=4, level_db=-13),
    Sound("glass-bell", "Glass bell", "leads", "hook", (69, 96), "struck", program=14, level_db=-15),
    Sound("plucked-lead", "Plucked lead", "leads", "hook", (60, 88), "struck", program=87, level_db=-12),
    Sound("vowel-voice", "Vowel voice", "voices", "hook", (55, 79), program=54, level_db=-12),
    Sound("noise-riser", "Noise riser", "effects", "movement", (60, 60), program=122, level_db=-15, rise=True),
)  # fmt: skip

BY_KEY = {sound.key: sound for sound in SOUNDS}
DEFAULT_FOR_FAMILY = {
    "drums": "round-kick", "low end": "plucked-bass", "chords": "tine-keys", "leads": "plucked-lead",
    "voices": "vowel-voice", "atmosphere": "soft-pad", "effects": "noise-riser",
}  # fmt: skip
DRUM_SOUND = {sound.drum: sound.key for sound in SOUNDS if sound.drum}
CHOKES = {"open hat": "closed hat"}  # the first is cut short by a hit of the second

# General MIDI drum notes to drum roles; what is not listed sounds as the shaker, the least intrusive
DRUM_NOTES: dict[int, str] = {
    35: "kick", 36: "kick", 37: "snare", 38: "snare", 39: "clap", 40: "snare", 42: "closed hat", 44: "closed hat",
    46: "open hat", 49: "crash", 51: "closed hat", 52: "crash", 53: "closed hat", 55: "crash", 57: "crash",
    59: "closed hat", 41: "kick", 43: "kick", 45: "snare", 47: "snare", 48: "snare", 50: "snare",
}  # fmt: skip

# General MIDI programs (0..127) in groups of eight to the sound that stands in for them
PROGRAM_SOUND: tuple[str, ...] = (
    "tine-keys", "glass-bell", "soft-pad", "plucked-lead", "plucked-bass", "soft-pad", "soft-pad", "wide-saws",
    "plucked-lead", "plucked-lead", "plucked-lead", "soft-pad", "noise-riser", "plucked-lead", "seed-shaker", "noise-riser",
)  # fmt: skip
PROGRAM_EXCEPTIONS = {52: "vowel-voice", 53: "vowel-voice", 54: "vowel-voice", 85: "vowel-voice", 91: "vowel-voice",
                      38: "sub-sine", 39: "sub-sine", 47: "plucked-bass", 88: "glass-bell", 98: "glass-bell"}  # fmt: skip
PROGRAM_FAMILY: tuple[str, ...] = (
    "chords", "leads", "chords", "chords", "low end", "chords", "chords", "chords",
    "leads", "leads", "leads", "chords", "atmosphere", "leads", "leads", "effects",
)  # fmt: skip


def sound_for_program(program: int) -> str:
    """The sound that stands in for a General MIDI program, 0..127."""
    return PROGRAM_EXCEPTIONS.get(program, PROGRAM_SOUND[program // 8])
