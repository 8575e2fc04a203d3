"""The loudness of sections against each other: what is usual for a style, and what a song does.

Ranges are LU under the loudest section, as arrangements of a style have them: dance keeps nearly one level but for breaks; bands leave two to
four for the chorus; songs whose verses are stripped leave up to ten.
"""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass

PLAIN = {
    "intro": (-14.0, -2.0),
    "verse": (-10.0, -1.5),
    "pre-chorus": (-6.0, -0.5),
    "chorus": (-3.0, 0.0),
    "bridge": (-8.0, -0.5),
    "break": (-14.0, -3.0),
    "outro": (-14.0, -1.0),
}
USUAL: dict[str, dict[str, tuple[float, float]]] = {
    "dance": {
        "intro": (-9.0, -1.0), "verse": (-6.0, -1.0), "build": (-5.0, -0.3), "drop": (-1.5, 0.0), "break": (-12.0, -3.0), "outro": (-9.0, -1.0),
    },
    "song": PLAIN,
    "band": PLAIN | {"intro": (-8.0, -0.5), "verse": (-5.0, -1.5), "chorus": (-1.5, 0.0), "solo": (-2.0, 0.0)},
    "weather": {"intro": (-18.0, -4.0), "verse": (-14.0, -3.0), "chorus": (-3.0, 0.0), "outro": (-18.0, -4.0)},
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class LoudnessStep:
    """A section under the loudest one, LU, with what is usual for its role in the song's style, None where nothing is."""

    under_lu: float | None
    usual: tuple[float, float] | None

    @property
    def said(self) -> str:
        if self.under_lu is None:
            return "silent"
        if self.usual is None:
            return ""
        low, high = self.usual
        if self.under_lu > high + 0.3:
            return f"{self.under_lu - high:.1f} LU louder than usual"
        if self.under_lu < low - 0.3:
            return f"{low - self.under_lu:.1f} LU softer than usual"
        return "as usual"


def loudness_steps(school: str, roles: list[str], lufs: list[float | None]) -> list[LoudnessStep]:
    """Every section's step under the loudest; roles and loudness in the song's order."""
    loudest = max((v for v in lufs if v is not None), default=None)
    table = USUAL.get(school, PLAIN)
    return [
        LoudnessStep(None if v is None or loudest is None else v - loudest, table.get(role))
        for role, v in zip(roles, lufs)
    ]
