"""Energy ranks as ears and meters do: judged pairs, as arranged and as measured from the rendered sound."""

import numpy as np
import pytest

from escalera.core.energy.model import arranged
from escalera.services.rendering import Rendering
from tests.judged_energy import ALIKE, PAIRS, fitting, frozen, laid_out

FROZEN = frozen()
LOOKED_AT = {name: song for name, song in fitting().items() if name in ("generated 31", "dance 1", "guitar rock 1")}


def both(song):
    """Arranged and measured energy by the name of the variant, and what each variant plays."""
    rendering = Rendering(200)
    measured = rendering.measure(song)
    rendering.close()
    return {
        s.span.section.name: (s.value, m.value, frozenset((p.layer_id, p.variation) for p in s.span.section.placements))
        for s, m in zip(arranged(song).sections, measured.sections)
    }


@pytest.mark.parametrize("songs", [FROZEN, LOOKED_AT], ids=["frozen", "looked at"])
def test_sections_rank_as_they_are_judged_and_both_readings_agree(songs):
    right, apart, alike = [], [], []
    for song in songs.values():
        found = both(laid_out(song))
        playing = {name for name, (_, _, plays) in found.items() if plays}
        for more, less, _ in PAIRS:
            if more in playing and less in playing and found[more][2] != found[less][2]:
                right.append([found[more][i] > found[less][i] + 0.1 for i in (0, 1)])
        alike += [abs(found[a][i] - found[b][i]) for a, b, _ in ALIKE for i in (0, 1)]
        apart += [abs(found[name][0] - found[name][1]) for name in playing]
        silent = [found[name][i] for name in found if name not in playing for i in (0, 1)]
        assert max(silent, default=0.0) <= 0.2
    assert len(right) >= 45 and (np.mean(right, axis=0) >= 0.97).all()
    assert max(alike) <= 0.5
    assert np.median(apart) <= 0.4 and np.percentile(apart, 90) <= 1.0


def test_at_least_a_hundred_and_twenty_pairs_are_judged_half_of_them_frozen():
    assert all(len(why) > 5 for _, _, why in (*PAIRS, *ALIKE))
    count = {name: len(PAIRS) + len(ALIKE) for name in (*FROZEN, *fitting())}
    assert sum(count.values()) >= 240 and sum(count[name] for name in FROZEN) >= 120
