"""Performances without a click: whether their beats, bars and form are found, on styles that the reading was not made with."""

import numpy as np
import pytest

from escalera.core.performance.free_time import free_beats, keeps_grid
from escalera.formats.midi_read import read_midi
from escalera.services.import_grid import _beats, _Clock
from escalera.services.importing import import_midi
from tests.performances import FIT, JUDGE, freely, perform

NEAR_S = 0.07
SEEDS = (40, 41, 43, 44, 45, 47)  # each of the four styles, one with a beat of triplets


def share(found, true):
    """F of two rows of times: as many of each as lie near one of the other."""
    hits = sum(np.abs(found - t).min() < NEAR_S for t in true)
    return 2 * hits / (len(found) + len(true))


@pytest.fixture(scope="module")
def judged():
    rows = []
    for seed in SEEDS:
        shown = perform(seed, JUDGE)
        data, true = freely(shown.data, seed)
        facts = read_midi(data)
        last = max(s for part in facts.parts for s, *_ in part.notes) / 1920
        true = np.array([t for t in true if t < last + 0.1])
        rows.append((shown, data, facts, true, _beats(facts, _Clock(facts.tempos))))
    return rows


def test_beats_are_found_where_there_is_no_click(judged):
    beats = [
        max(share(b.beats_s, true), share(b.beats_s[::2], true), share(b.beats_s[1::2], true))
        for _, _, _, true, b in judged
    ]
    assert np.mean(beats) >= 0.9 and np.mean(np.array(beats) >= 0.85) >= 0.75, np.round(beats, 2)
    bars = [b.beats_a_bar for *_, b in judged]
    assert np.mean([count == shown.beats for count, (shown, *_) in zip(bars, judged)]) >= 0.9


def test_what_was_played_with_a_click_stays_on_it(judged):
    for shown, _, facts, *_ in judged:
        assert not keeps_grid(np.array([s for p in facts.parts for s, *_ in p.notes]))
        assert keeps_grid(np.array([s for p in read_midi(shown.data).parts for s, *_ in p.notes]))


def test_a_free_performance_is_read_with_its_form_and_says_so():
    right = 0
    for seed in (61, 62):
        shown = perform(seed, FIT)
        found = import_midi(freely(shown.data, seed)[0], "free")
        assert any("without a click" in line for line in found.report)
        assert found.song.sections[0].tempo_changes and found.song.metre.numerator == shown.beats
        edges = {0, *np.cumsum([s.bars for s in found.song.sections])}
        true = np.cumsum([p.bars for p in shown.parts])
        right += all(min(abs(e - t) for e in edges) <= 1 for t in true[:-1])
    assert right == 2


@pytest.mark.parametrize("count", [0, 5, 47])
def test_few_notes_say_nothing_about_a_grid(count):
    ticks = np.arange(count) * 777
    assert keeps_grid(ticks)
    assert free_beats(ticks / 1920, np.ones(count), np.full(count, 60), np.zeros(count, bool)) is None
