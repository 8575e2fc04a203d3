"""The sounds of the palette, and what stands in for General MIDI's drums and programs.

The rows lie in `table`; this module finds them by key, drum role and program.
"""

from __future__ import annotations

from escalera.core.palette.bank import bank_program, bank_sound
from escalera.core.palette.recorded_sounds import STAND_INS, drum_of, is_recorded, recorded_sound
from escalera.core.palette.sound_kind import FAMILIES, JOBS, Sound
from escalera.core.palette.table import SOUNDS

__all__ = ["BY_KEY", "CHOKES", "DEFAULT_FOR_FAMILY", "DRUM_NOTES", "DRUM_SOUND", "FAMILIES", "JOBS", "PROGRAM_FAMILY",
           "SOUNDS", "Sound", "sound_for_program"]  # fmt: skip


class Palette(dict[str, Sound]):
    """The sounds by key. Iterating gives the palette's own; a bank's instruments and recordings are found by key as well."""

    def __missing__(self, key: str) -> Sound:
        found = self._recorded(key)
        if found is not None:
            return found
        program = bank_program(key)
        if program is None:
            raise KeyError(key)
        return bank_sound(program, self[sound_for_program(program)])

    def __contains__(self, key: object) -> bool:
        known = isinstance(key, str) and (bank_program(key) is not None or self._recorded(key) is not None)
        return super().__contains__(key) or known

    def _recorded(self, key: str) -> Sound | None:
        drum = DRUM_SOUND.get(drum_of(key)) if is_recorded(key) else None
        return recorded_sound(key, self[drum] if drum else None) if is_recorded(key) else None


DRUM_SOUND: dict[str, str] = {}
BY_KEY = Palette({sound.key: sound for sound in SOUNDS})
DEFAULT_FOR_FAMILY = {
    "drums": "round-kick", "low end": "plucked-bass", "chords": "tine-keys", "leads": "plucked-lead",
    "voices": "vowel-voice", "atmosphere": "rain", "effects": "noise-riser",
}  # fmt: skip
for _sound in SOUNDS:
    if _sound.is_drum:
        DRUM_SOUND.setdefault(_sound.drum, _sound.key)
CHOKES = {"open hat": "closed hat"}  # the first is cut short by a hit of the second

# General MIDI drum notes to drum roles; what is not listed sounds as the shaker, the least intrusive
DRUM_NOTES: dict[int, str] = {
    35: "kick", 36: "kick", 37: "rim", 38: "snare", 39: "clap", 40: "snare", 42: "closed hat", 44: "closed hat",
    46: "open hat", 49: "crash", 51: "ride", 52: "crash", 53: "ride", 55: "crash", 56: "cowbell", 57: "crash",
    59: "ride", 41: "low tom", 43: "low tom", 45: "mid tom", 47: "mid tom", 48: "high tom", 50: "high tom",
    60: "high hand drum", 61: "low hand drum", 62: "high hand drum", 63: "high hand drum", 64: "low hand drum",
    54: "shaker", 69: "shaker", 70: "shaker", 75: "rim", 76: "click", 77: "click",
}  # fmt: skip

# General MIDI programs (0..127) in groups of eight to the sound that stands in for them
PROGRAM_SOUND: tuple[str, ...] = (
    "grand-piano", "glass-bell", "tone-organ", "plucked-guitar", "picked-bass", "bowed-strings", "bowed-strings", "warm-brass",
    "reed-solo", "reed-solo", "arp-lead", "soft-pad", "sparkle-pad", "plucked-guitar", "wood-mallet", "noise-riser",
)  # fmt: skip
PROGRAM_EXCEPTIONS = {
    4: "tine-keys", 5: "tine-keys", 10: "music-box", 12: "wood-mallet", 13: "wood-mallet", 25: "strummed-guitar",
    35: "gliding-bass", 38: "detuned-bass", 39: "growl-bass", 45: "pizzicato", 47: "pizzicato", 52: "ooh-voices",
    53: "ooh-voices", 54: "vowel-voice", 81: "wide-saws", 85: "vowel-voice", 91: "ooh-voices", 88: "glass-bell",
    90: "wide-saws", 95: "breath-pad", 98: "glass-bell", 119: "reversed-crash", 122: "sea", 126: "crowd",
}  # fmt: skip
PROGRAM_FAMILY: tuple[str, ...] = (
    "chords", "leads", "chords", "chords", "low end", "chords", "chords", "chords",
    "leads", "leads", "leads", "chords", "atmosphere", "leads", "leads", "effects",
)  # fmt: skip


def sound_for_program(program: int) -> str:
    """The sound that stands in for a General MIDI program, 0..127."""
    return PROGRAM_EXCEPTIONS.get(program, PROGRAM_SOUND[program // 8])


def played_by(key: str) -> str:
    """The palette's own sound that has a key's profile and plays it where no bank is: itself, or what stands in for it."""
    if is_recorded(key):
        return STAND_INS.get(key) or DRUM_SOUND[drum_of(key)]
    program = bank_program(key)
    return key if program is None else sound_for_program(program)
