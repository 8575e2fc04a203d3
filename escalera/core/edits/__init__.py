"""Every kind of edit, importable from one place; importing this package fills the registry EDITS."""

from escalera.core.edits import body_edits as bodies
from escalera.core.edits import curve_edits as curves
from escalera.core.edits import form_edits as stretch
from escalera.core.edits import groove_edits as grooves
from escalera.core.edits import harmony_edits as chords
from escalera.core.edits import judgement_edits as judging
from escalera.core.edits import layer_edits as layers
from escalera.core.edits import line_edits as lines
from escalera.core.edits import low_end_edits as lowend
from escalera.core.edits import note_edits as written
from escalera.core.edits import section_edits as sections
from escalera.core.edits import song_edits as whole
from escalera.core.edits import sound_edits as devices
from escalera.core.edits import tile_edits as tiles
from escalera.core.edits import voice_edits as parts
from escalera.core.edits.edit import EDITS, Edit

__all__ = ["EDITS", "Edit", "bodies", "chords", "curves", "devices", "grooves", "judging", "layers", "lines", "lowend", "parts", "sections", "stretch", "tiles", "whole",
           "written"]  # fmt: skip
