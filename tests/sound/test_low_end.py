"""What the bench says of the lows, against the rendered sound of every layer by itself."""

import numpy as np
import pytest

from escalera.core.bench.low_end import low_end
from escalera.core.reading.events import sounding_layers
from escalera.core.reading.timeline import timeline
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

CLEAR_DB, HEARD_DB, SILENT_DB = 4.0, -42.0, -60.0


def lows(audio):
    """The audio's part between 30 and 90 Hz."""
    count = 1 << (audio.shape[1] - 1).bit_length()  # other lengths take many times as long
    spectrum = np.fft.rfft(audio.mean(axis=0), count)
    hz = np.fft.rfftfreq(count, 1 / RATE_HZ)
    return np.fft.irfft(np.where((hz >= 30) & (hz < 90), spectrum, 0), count)[: audio.shape[1]]


@pytest.mark.parametrize(
    ("title", "names"),
    [("Harbour Stairs", ("Chorus 1", "Lift 2", "Outro")), ("Paper Engines", ("Verse", "Drop 1", "Break"))],
)
def test_who_owns_the_lows_is_who_is_loudest_there_in_the_sound(demos, title, names):
    song = next(s for s in demos if s.title == title)
    renderer, line = Renderer(300), timeline(song)
    agree = clear = silent = 0
    for span, start, end in zip(line.spans, line.samples(RATE_HZ), line.samples(RATE_HZ)[1:]):
        if span.section.name not in names:
            continue
        steps = low_end(song, span).steps
        deep = [
            x.id
            for x in sounding_layers(song, span.section)
            if x.family in ("low end", "effects") or x.sound.is_kick or "tom" in x.sound.drum
        ]
        edges = [round(span.seconds_at(s.tick) * RATE_HZ) for s in steps] + [end - start]
        power = []
        for layer_id in deep:
            alone = lows(renderer.before_master(song, line, start, end, frozenset((layer_id,))))
            power.append([float((alone[a:b] ** 2).mean()) for a, b in zip(edges, edges[1:])])
        levels = 10 * np.log10(np.array(power) + 1e-12)
        for i, step in enumerate(steps):
            first, *rest = sorted(levels[:, i], reverse=True)
            if first > HEARD_DB and (not rest or first - rest[0] > CLEAR_DB):
                clear += 1
                agree += step.owner == deep[int(np.argmax(levels[:, i]))]
            elif first < SILENT_DB:
                silent += 1
                assert step.owner == 0
    assert clear > 150 and agree >= 0.95 * clear, f"{agree} of {clear}, {silent} silent"
