"""Names for the sections of a track until a person gives them theirs: a letter for what is alike, and the role it probably plays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from escalera.core.study.changes import families
from escalera.core.study.heard_track import StudyReading

SHORT, QUIET, CLEAR = (
    0.75,
    0.6,
    0.35,
)  # of the usual length; energy below the mean; energy that a chorus stands above the rest
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def with_names(reading: StudyReading) -> StudyReading:
    """Sections without a name get one: the letter of their family, numbered from the second on; and a role where none is set."""
    roles = guessed_roles(reading)
    letters: dict[int, str] = {}
    sections = list(reading.sections)
    for root, members in families(reading).items():
        letters[root] = LETTERS[len(letters) % len(LETTERS)]
        for number, i in enumerate(members):
            s = sections[i]
            own = letters[root] + (str(number + 1) if len(members) > 1 else "")
            sections[i] = replace(s, name=s.name or own, role=s.role or roles[i])
    return replace(reading, sections=tuple(sections))


def guessed_roles(reading: StudyReading) -> list[str]:
    """A role for every section, by energy, length, place and what comes back."""
    count = len(reading.sections)
    energy = [reading.energy_of(i) for i in range(count)]
    alike = families(reading)
    mean = float(np.mean(energy)) if energy else 0.0
    means = {root: float(np.mean([energy[i] for i in members])) for root, members in alike.items()}
    repeated = [root for root, members in alike.items() if len(members) > 1] or list(alike)
    top = max(repeated, key=lambda r: means[r], default=0)
    roles = []
    for i in range(count):
        root = next(r for r, members in alike.items() if i in members)
        roles.append(
            _role(reading, i, count, energy[i], mean, root == top and means[top] > mean + CLEAR, len(alike[root]) > 1)
        )
    return roles


def _role(reading: StudyReading, i: int, count: int, energy: float, mean: float, is_top: bool, comes_back: bool) -> str:
    usual = float(np.median([s.bars for s in reading.sections]))
    s = reading.sections[i]
    if i == 0 and not is_top and (energy < mean - QUIET or s.bars < SHORT * usual):
        return "intro"
    if i == count - 1 and not is_top and (energy < mean - QUIET or s.bars < SHORT * usual):
        return "outro"
    if is_top:
        return "chorus"
    if not comes_back and 0 < i < count - 1 and energy < mean - QUIET:
        return "break"
    if not comes_back and i > count / 2:
        return "bridge"
    return "verse"
