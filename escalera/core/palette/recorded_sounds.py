"""Sounds that are recordings: what the core asks of them besides what was read from the recording itself.

`recorded-beat` plays clips and keeps its pitch, `recorded-part` plays clips and goes along with the key, `recorded-note` plays
one clip at any pitch, and `recorded-` with a drum's name is that drum in a groove.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

from escalera.core.palette.sound_kind import Sound

PREFIX = "recorded-"
AS_IT_IS = 60  # the pitch at which a clip sounds as it was recorded
BEAT, PART, NOTE = f"{PREFIX}beat", f"{PREFIX}part", f"{PREFIX}note"
LEVEL_DB = -10.0

_OWN = {
    BEAT: Sound(
        BEAT, "Recorded beat", "drums", "movement", (AS_IT_IS, AS_IT_IS), LEVEL_DB, (), "a recording that keeps its pitch",
        drum="recorded beat", drum_note=AS_IT_IS, attack=0.8,
    ),
    PART: Sound(
        PART, "Recorded part", "chords", "texture", (AS_IT_IS, AS_IT_IS), LEVEL_DB, (), "a recording that goes along with the key"
    ),
    NOTE: Sound(
        NOTE, "Recorded note", "leads", "hook", (36, 84), LEVEL_DB, (), "a recording played at any pitch"
    ),
}  # fmt: skip
STAND_INS = {BEAT: "room-snare", PART: "soft-pad", NOTE: "tine-keys"}


def drum_of(key: str) -> str:
    """The drum of a recorded hit's key; empty for any other key."""
    return "" if key in _OWN or not key.startswith(PREFIX) else key.removeprefix(PREFIX).replace("-", " ")


def hit_key(drum: str) -> str:
    """The key of a recorded hit that is this drum."""
    return PREFIX + drum.replace(" ", "-")


def is_recorded(key: str) -> bool:
    """Whether a sound plays recordings."""
    return key.startswith(PREFIX)


@lru_cache(maxsize=64)
def recorded_sound(key: str, drum: Sound | None) -> Sound | None:
    """The sound of a key; `drum` is the palette's own for a hit. None where there is no such sound."""
    if key in _OWN:
        return _OWN[key]
    if drum is None:
        return None
    return replace(
        drum,
        key=key,
        label=f"Recorded {drum.drum}",
        parameters=(),
        level_db=LEVEL_DB,
        promise=f"a recording that is the {drum.drum}",
        tuned_kick=False,
        mono=False,
    )
