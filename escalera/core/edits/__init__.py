"""Every kind of edit, importable from one place; importing this package fills the registry EDITS."""

from escalera.core.edits import (
    beat_edits,
    body_edits,
    curve_edits,
    form_edits,
    groove_edits,
    harmony_edits,
    judgement_edits,
    layer_edits,
    line_edits,
    low_end_edits,
    note_edits,
    section_edits,
    song_edits,
    sound_edits,
    swing_edits,
    tile_edits,
    voice_edits,
)
from escalera.core.edits.edit import EDITS, Edit

__all__ = [
    "EDITS",
    "Edit",
    "beat_edits",
    "body_edits",
    "curve_edits",
    "form_edits",
    "groove_edits",
    "harmony_edits",
    "judgement_edits",
    "layer_edits",
    "line_edits",
    "low_end_edits",
    "note_edits",
    "section_edits",
    "song_edits",
    "sound_edits",
    "swing_edits",
    "tile_edits",
    "voice_edits",
]
