"""Where a song stands when one comes back to it: what is undecided, and what to do next."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from escalera.core.checks.check import CHECKS, judged
from escalera.core.document.song import Section, Song
from escalera.core.reading.brief import read_brief

HEAVY = 1.2  # weight of a finding that comes before all else


@dataclass(frozen=True, slots=True)
class NextStep:
    """What to do next, why, and where: `opens` is what a page opens for it, in a section (0 for the song)."""

    said: str
    why: str
    opens: str
    section_id: int = 0


def undecided(song: Song) -> list[Section]:
    """Sections with options that nobody has decided about: parked without a word."""
    return [s for s in song.sections if any(not p.reason for p in s.parked)]


def next_steps(song: Song, today: date, ideas: int = 0) -> list[NextStep]:
    """What to do next, the most pressing first. `ideas` is how many parked ideas might fit the song."""
    if not any(s.placements for s in song.sections):
        return [NextStep("Let something play", "the song is silent", "")]
    found, steps = judged(song).open, []
    for finding in [f for f in found if not f.check.startswith("brief")][:2]:
        place = finding.place[0] if finding.place else 0
        steps.append(
            (
                finding.weight >= HEAVY,
                NextStep(f"Mend: {CHECKS[finding.check].title.lower()}", finding.said, "checks", place),
            )
        )
    for section in undecided(song):
        count = sum(not p.reason for p in section.parked)
        options = "an option waits" if count == 1 else f"{count} options wait"
        steps.append((True, NextStep(f"Decide about {section.name}", f"{options} to be heard", "options", section.id)))
    for line in read_brief(song, today):
        if line.met is False:
            steps.append((True, NextStep("Meet the brief", line.said, "brief")))
    if ideas:
        fit = "an idea among the ideas might fit" if ideas == 1 else f"{ideas} ideas among the ideas might fit"
        steps.append((False, NextStep("Look at what was parked", fit, "ideas")))
    ordered = [step for pressing, step in steps if pressing] + [step for pressing, step in steps if not pressing]
    return ordered or [NextStep("Listen through, then hand it over", "nothing is open", "handover")]
