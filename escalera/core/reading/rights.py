"""What a song uses of recordings, and what of it is cleared: for exports, the decision log and whoever publishes it."""

from __future__ import annotations

from escalera.core.document.recordings import Sample
from escalera.core.document.song import Song
from escalera.core.samples.licences import LICENCES, Licence
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Used:
    """A sample that recorded layers play, and which ones."""

    sample: Sample
    layers: tuple[str, ...]

    @property
    def licence(self) -> Licence:
        return LICENCES[self.sample.licence]

    @property
    def open_point(self) -> str:
        """What is still to be settled before it may be published; empty where nothing is."""
        if not self.licence.cleared:
            return f"{self.sample.name} is not cleared ({self.licence.label.lower()}): {self.licence.allows}"
        if self.licence.credit and not self.sample.credit:
            return f"{self.sample.name} needs a credit line ({self.licence.label})."
        return ""


def used_samples(song: Song) -> tuple[Used, ...]:
    """Every sample that a layer plays, set-aside layers left out, in the order of the song's list."""
    found = []
    for sample in song.samples:
        names = tuple(
            x.name for x in song.layers if not x.aside and any(c.sample == sample.content for c in x.recordings)
        )
        if names:
            found.append(Used(sample, names))
    return tuple(found)


def open_points(song: Song) -> tuple[str, ...]:
    """What is not cleared, a sentence each."""
    return tuple(u.open_point for u in used_samples(song) if u.open_point)
