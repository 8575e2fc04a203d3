"""What a song uses of recordings, and what of it is cleared: for exports, the decision log and whoever publishes it."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

from escalera.core.document.recordings import Sample
from escalera.core.document.song import Song
from escalera.core.samples.licences import LICENCES, Licence


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
        names = tuple(x.name for x in song.layers if not x.aside and any(c.sample == sample.content for c in x.clips))
        if names:
            found.append(Used(sample, names))
    return tuple(found)


def open_points(song: Song) -> tuple[str, ...]:
    """What is not cleared, a sentence each."""
    return tuple(u.open_point for u in used_samples(song) if u.open_point)


HEAD = ("sample", "layers", "source", "licence", "cleared", "credit", "how it was made", "open")


def rights_csv(song: Song) -> str:
    """The table of samples, a row each."""
    out = io.StringIO()
    write = csv.writer(out, lineterminator="\n")
    write.writerow(HEAD)
    for u in used_samples(song):
        s = u.sample
        row = (
            s.name,
            "; ".join(u.layers),
            s.source,
            u.licence.label,
            "yes" if u.licence.cleared else "no",
            s.credit,
            s.made,
            u.open_point,
        )
        write.writerow(_plain(cell) for cell in row)
    return out.getvalue()


def _plain(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{cell}" if cell[:1] in "=+-@\t" else cell
