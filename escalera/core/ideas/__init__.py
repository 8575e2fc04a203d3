"""Ideas without a place: cut out of a song or caught in words, offered again where they might fit, brought back in."""

from escalera.core.ideas.cutting import cut_pattern, cut_section
from escalera.core.ideas.fitting import KINDS, Fit, Idea, answers, fits, fits_of
from escalera.core.ideas.placing import PLACES, PlaceIdea

__all__ = ["KINDS", "PLACES", "Fit", "Idea", "PlaceIdea", "answers", "cut_pattern", "cut_section", "fits", "fits_of"]
