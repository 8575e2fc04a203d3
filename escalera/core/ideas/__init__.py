"""Ideas without a place: cut out of a song or caught in words, offered again where they might fit, brought back in."""

from escalera.core.ideas.extraction import cut_pattern, cut_section
from escalera.core.ideas.placement import PLACES, PlaceIdea
from escalera.core.ideas.suitability import EXAMPLE, KINDS, Fit, Idea, answers, fits, fits_of

__all__ = [
    "EXAMPLE",
    "KINDS",
    "PLACES",
    "Fit",
    "Idea",
    "PlaceIdea",
    "answers",
    "cut_pattern",
    "cut_section",
    "fits",
    "fits_of",
]
