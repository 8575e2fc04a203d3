"""Short renders of every sound and effect, kept as numbers: what renders otherwise needs a new version, or old caches lie.

After a change that is meant: raise VERSION in escalera/sound/spec.py, then run this file as a program.
"""

import json
from pathlib import Path

import numpy as np
import pytest

from escalera.core.palette.effects import EFFECT_BY_KEY
from escalera.core.palette.sounds import BY_KEY
from escalera.sound.effect_processes import PROCESSES
from escalera.sound.effect_stage import Stage
from escalera.sound.probe import play_note
from escalera.sound.spec import VERSION

FILE = Path(__file__).parents[1] / "data" / "vectors.json"
POINTS = 6
QUARTER = 22_050.0


def figures(audio):
    """Levels of six stretches of either side: what a render is, within the rounding of another processor."""
    parts = np.array_split(np.atleast_2d(audio).astype(np.float64), POINTS, axis=1)
    return [round(float(v), 7) for part in parts for v in np.sqrt(np.mean(part**2, axis=1))]


def of_sound(key):
    return figures(play_note(key, BY_KEY[key].centre, 0.12)[:, :12_000])


def of_effect(key):
    """A short burst of a tone and noise through the effect as it is when it is put into a chain."""
    t = np.arange(14_000) / 44_100
    burst = (0.4 * np.sin(2 * np.pi * 220 * t) + 0.2 * np.random.default_rng(7).uniform(-1, 1, len(t))) * (t < 0.2)
    audio = np.stack([burst, 0.6 * burst]).astype(np.float32)
    return figures(PROCESSES[key].process(audio, Stage(key, (), 0, audio.shape[1], QUARTER)))


ROWS = [("sound", key, of_sound) for key in BY_KEY] + [("effect", key, of_effect) for key in EFFECT_BY_KEY]


@pytest.fixture(scope="module")
def kept():
    return json.loads(FILE.read_text())


@pytest.mark.parametrize("what, key, render", ROWS, ids=lambda v: v if isinstance(v, str) else "")
def test_what_renders_otherwise_has_another_version(kept, what, key, render):
    assert kept["version"] == VERSION, "run this file as a program and look at what changed"
    assert render(key) == pytest.approx(kept[f"{what} {key}"], rel=2e-3, abs=2e-6), "raise VERSION"


if __name__ == "__main__":
    rows = {f"{what} {key}": render(key) for what, key, render in ROWS}
    FILE.write_text(json.dumps({"version": VERSION, **rows}, indent=0) + "\n")
