"""What an edit must leave as it is: layers that somebody sent (pinned), and the sound of printed ones (frozen).

Both are held by comparing the song before and after, in one place, so that no edit need remember them.
"""

from __future__ import annotations

from escalera.core.document.fields import names
from escalera.core.document.lanes import FROZEN
from escalera.core.document.song import Layer, Song, Variation
from escalera.errors import EditError

SOUND = names(Layer, "pinned")
Played = set[tuple[str, int, float, bool, bool]]


def keep_protected(before: Song, after: Song) -> Song:
    """The song after an edit. Raises EditError when the edit changed what is pinned or frozen.

    Where a pinned layer plays, how loud, on which side and in which spaces may change, and a printed layer's notes and level;
    unpinning and taking a print back are edits of their own.
    """
    for layer in before.layers:
        there = after.layer_by_id.get(layer.id)
        if layer.sent_by and (there is None or (there.sent_by and _changed(before, layer, after, there))):
            raise EditError(
                f"{layer.name} was sent by {layer.sent_by} and is pinned. Unpin it first (its "
                f"Record), or change another layer."
            )
        if layer.prints and there is not None and there.prints == layer.prints and _differ(layer, there, FROZEN):
            raise EditError(f"{layer.name} is printed, and its sound is frozen. Remove the print to change it.")
    return after


def _differ(layer: Layer, there: Layer, fields: tuple[str, ...]) -> bool:
    return any(getattr(layer, field) != getattr(there, field) for field in fields)


def _changed(before: Song, layer: Layer, after: Song, there: Layer) -> bool:
    if _differ(layer, there, SOUND):
        return True
    was, has = (_played(song, layer.id) for song in (before, after))
    return not has <= was


def _played(song: Song, layer_id: int) -> Played:
    """The notes that a layer plays anywhere or has to play, parked bodies among them, with what a place changes of them."""
    own = song.pattern_by_id.get(song.layer_by_id[layer_id].pattern_id)
    found: Played = {(own.pattern.content_hash, 0, 1.0, False, False)} if own else set()
    for section in song.bodies:
        for p in section.placements:
            if p.layer_id == layer_id:
                v: Variation = p.variation
                notes = song.pattern_by_id[p.pattern_id].pattern.content_hash
                found.add((notes, v.transpose_semitones, v.keep, v.double, v.reverse))
    return found
