"""What must hold of recorded layers: their clips lie in samples that the song knows."""

from __future__ import annotations

from collections.abc import Callable

from escalera.core.document.song import Song
from escalera.core.palette.recorded_sounds import is_recorded
from escalera.errors import shown

Need = Callable[[bool, str], None]
SHORTEST_S = 0.004


def recordings(song: Song, need: Need) -> None:
    """Every recorded layer plays something, and what it plays is there."""
    contents = [s.content for s in song.samples]
    need(len(contents) == len(set(contents)), "two of its samples have the same content")
    for layer in song.layers:
        name = f"layer “{shown(layer.name)}”"
        need(bool(layer.clips) or not is_recorded(layer.sound_key), f"{name} plays a recording, and none is named")
        for part in layer.stack:
            need(
                is_recorded(part.sound_key) == (part.clip is not None), f"{name} stacks a recording, and none is named"
            )
        clips = layer.recordings if is_recorded(layer.sound_key) else layer.recordings[len(layer.clips) :]
        for number, clip in enumerate(clips, 1):
            sample = song.sample_by_content.get(clip.sample)
            need(sample is not None, f"{name} plays the sample “{shown(clip.sample)}”, which the song does not know")
            need(clip.seconds >= SHORTEST_S, f"clip {number} of {name} ends before it begins")
            need(
                sample is None or clip.end_s <= sample.seconds + SHORTEST_S,
                f"clip {number} of {name} ends after its sample",
            )
