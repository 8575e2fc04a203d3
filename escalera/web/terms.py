"""The words of the picture, explained in place: pointed at or focused, each says what it is."""

from __future__ import annotations

from markupsafe import Markup

TERMS = {
    "shelf": "All your songs, each as a small stair.",
    "stair": "The song as a flight of steps: a step is a section, its height the energy.",
    "target energy": "How high you want each section to be, 0 to 10. Drag the thick line.",
    "from layers": "The energy computed from what the layers play, stacked by family.",
    "from audio": "The energy measured in the rendered sound.",
    "tension": "What pulls toward the next join: risers, rolls, gaps. It is never added to the energy.",
    "tile": "One layer in one phrase. Filled: it plays there.",
    "phrase": "A part of a section, usually four bars.",
    "join": "Where one section goes over into the next, and what leads into it.",
    "bench": "One section in a loop, its lines, chords, drums and low end written side by side.",
}


def term(word: str) -> Markup:
    """The word with its explanation, for pages."""
    said = TERMS[word.lower()]
    return Markup('<abbr class="term" tabindex="0" title="{said}" data-said="{said}">{word}</abbr>').format(
        word=word, said=said
    )
