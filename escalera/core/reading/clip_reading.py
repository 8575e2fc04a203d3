"""What a recorded layer's clips play: which patterns, which samples, and what begins in them."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.recordings import Clip, Sample
from escalera.core.document.song import Layer, Song
from escalera.errors import EditError


def played_clips(layer: Layer) -> tuple[Clip, ...]:
    """A layer's clips as its notes play them: a drum's hit sounds as it was recorded whatever note the drum has."""
    if not layer.sound.is_drum:
        return layer.clips
    return tuple(replace(clip, root=layer.sound.drum_note) for clip in layer.clips)


def sample_in(song: Song, clip: Clip) -> Sample:
    """What the song knows of a clip's sample. EditError where it knows nothing."""
    found = song.sample_by_content.get(clip.sample)
    if found is None:
        raise EditError("The song does not know this sample any more. Lay it in again from Samples.")
    return found


def clip_patterns(song: Song, layer: Layer) -> list[int]:
    """Patterns in which a layer plays clips, by id."""
    own = {p.pattern_id for s in song.bodies for p in s.placements if p.layer_id == layer.id} | {layer.pattern_id}
    return [i for i in sorted(own) if i in song.pattern_by_id and song.pattern_by_id[i].pattern.has_clips]


def onset_ticks(song: Song, clip: Clip) -> list[tuple[int, int]]:
    """Where something begins in a clip: ticks from its start, and the zone (0 low, 1 middle, 2 high)."""
    rows = sample_in(song, clip).onset_rows
    inside = rows[(rows[:, 0] > clip.start_s - 0.005) & (rows[:, 0] < clip.end_s - 0.02) & (rows[:, 1] > 0.2)]
    share = (inside[:, 0] - clip.start_s) / clip.seconds
    share = 1.0 - share if clip.reversed else share
    return [(max(0, round(float(x) * clip.length_ticks)), int(z)) for x, z in zip(share, inside[:, 2])]
