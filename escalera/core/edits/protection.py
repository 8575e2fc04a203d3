"""Layers that somebody sent and that must stay as they are: their notes and their sound, not their place in the mix."""

from __future__ import annotations

from escalera.core.document.fields import names
from escalera.core.document.song import Layer, Song, Variation
from escalera.errors import EditError

SOUND = names(Layer, "pinned")
Played = set[tuple[str, int, float, bool, bool]]


def keep_held(before: Song, after: Song) -> Song:
    """The song after an edit. Raises EditError when the edit changed what was sent by somebody.

    Where a held layer plays, how loud, on which side and in which spaces may change; letting go of it is an edit of its own.
    """
    for layer in before.layers:
        there = after.layer_by_id.get(layer.id)
        if not layer.sent_by or (there is not None and not there.sent_by):
            continue
        if there is None or _changed(before, layer, after, there):
            raise EditError(f"{layer.name} was sent by {layer.sent_by} and stays as it is. Let go of it first (its Record), or change another layer.")  # fmt: skip
    return after


def _changed(before: Song, layer: Layer, after: Song, there: Layer) -> bool:
    if any(getattr(layer, field) != getattr(there, field) for field in SOUND):
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
