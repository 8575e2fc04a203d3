"""The voices of a stack, and instruments that are recorded like them: what each sings against the lead, where it stands, how loud it is beside it."""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass

UNISON, HARMONY, COLOUR, FREE = "the same notes", "another note to each", "held sounds", "notes of its own"


@dataclass(frozen=True, slots=True)
class VoicePart:
    """A voice of a stack. `interval` names a row of second voices (empty for none), `pan` is -1 to 1, `below_db` how far it lies under
    the lead, `sound` sings it while nobody has."""

    key: str
    sings: str
    pan: float = 0.0
    below_db: float = 0.0
    interval: str = ""
    sound: str = "vowel-voice"
    family: str = "voices"

    @property
    def pair(self) -> str:
        """What it is called without its side."""
        return self.key.removesuffix(" left").removesuffix(" right")

    @property
    def backing(self) -> bool:
        return self.sung and self.key not in ("lead", "answer")

    @property
    def sung(self) -> bool:
        """Whether it is a voice; instruments are recorded in the same way."""
        return self.family == "voices"


def _pair(
    key: str, sings: str, pan: float, below_db: float, interval: str = "", sound: str = "vowel-voice"
) -> tuple[VoicePart, ...]:
    return tuple(
        VoicePart(f"{key} {side}", sings, sign * pan, below_db, interval, sound)
        for side, sign in (("left", -1), ("right", 1))
    )


ROWS = (
    VoicePart("lead", UNISON),
    *_pair("double", UNISON, 0.7, 8.0),
    VoicePart("octave above", HARMONY, 0.0, 12.0, "octave-above"),
    VoicePart("octave below", HARMONY, 0.0, 10.0, "octave-below"),
    *_pair("third above", HARMONY, 0.8, 8.0, "third-above"),
    *_pair("fourth below", HARMONY, 0.85, 8.0, "fourth-below"),
    *_pair("sixth below", HARMONY, 0.85, 9.0, "sixth-below"),
    *_pair("oohs", COLOUR, 1.0, 10.0, "", "ooh-voices"),
    VoicePart("ad libs", FREE, 0.35, 7.0),
    VoicePart("answer", FREE, -0.35, 6.0),
    VoicePart("instrument", FREE, family="chords"),
    VoicePart("instrument left", FREE, -0.8, 3.0, family="chords"),
    VoicePart("instrument right", FREE, 0.8, 3.0, family="chords"),
    VoicePart("bass line", FREE, family="low end"),
    VoicePart("percussion", FREE, family="drums"),
)  # fmt: skip
VOICE_PARTS: dict[str, VoicePart] = {row.key: row for row in ROWS}
LEAD = "lead"
