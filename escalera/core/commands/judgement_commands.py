"""Commands that rest on what the song was found to be: a finding accepted with its figures, the scale fitted to the stair."""

from __future__ import annotations

from escalera.core.checks import facts_text, find_finding
from escalera.core.document.song import Song
from escalera.core.edits.edit import edit
from escalera.core.edits.judgement_edits import AcceptFinding
from escalera.core.edits.song_edits import SetScale
from escalera.core.energy.explain import fitted_scale
from escalera.core.energy.model import arranged


@edit("accept_as_found", "song")
class AcceptAsFound:
    """Say that an open finding is meant, and why; the figures it rests on now are kept with the reason."""

    key: str
    reason: str

    def _accepted(self, song: Song) -> AcceptFinding:
        return AcceptFinding(self.key, self.reason, facts_text(find_finding(song, self.key)))

    def apply(self, song: Song) -> Song:
        return self._accepted(song).apply(song)

    def summary(self, song: Song) -> str:
        return self._accepted(song).summary(song)


@edit("fit_scale", "song")
class FitScale:
    """Re-set the song's energy scale so that its lowest and highest sections meet their targets."""

    def apply(self, song: Song) -> Song:
        return SetScale(*fitted_scale(arranged(song))).apply(song)

    def summary(self, song: Song) -> str:
        return SetScale(*fitted_scale(arranged(song))).summary(song)
