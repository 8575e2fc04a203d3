"""Balance: how far audible shares agree with what goes when a layer is taken out, how far remedies keep what they foretell, and how fast it is.

Nothing was fitted on the songs judged here: the model's figures come from the literature named in `core/balance/masking.py`. Of what could have
been chosen otherwise, the excitation instead of the power was chosen on sections of the first two demo songs; the benchmark song and the third and
fourth demo were not looked at.
"""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from scipy.stats import spearmanr

from benchmarks.songs import large
from benchmarks.table import SOUND, row
from escalera.core.balance.balance_checks import HeardFacts, heard_findings
from escalera.core.balance.masking import LOUDNESS_POWER, excitation, weights
from escalera.core.balance.remedies import pair_of, remedies, with_candidate
from escalera.core.balance.rough_mix import rough_mix
from escalera.core.document.song import Song
from escalera.core.reading.timeline import timeline
from escalera.meters.third_octaves import third_octaves
from escalera.services.demo import demo_songs
from escalera.services.rendering import Rendering
from escalera.services.section_hearing import section_heard
from escalera.web.balance_drawing import house

RATE = 44_100


def agreement(rendering: Rendering, song: Song, most: int) -> tuple[list[float], list[tuple[float, float]]]:
    """Rank correlation of shares with removal in up to so many sections, and all pairs of figures."""
    ranks, pairs, line = [], [], timeline(song)
    for section in song.sections[:: max(1, len(song.sections) // most)][:most]:
        heard = section_heard(rendering, song, section.id)
        if len(heard.sounding) < 4:
            continue
        low, high = line.samples(RATE)[song.index_of(section.id) :][:2]
        whole, mine = excitation(heard.total.total) ** LOUDNESS_POWER, []
        for layer in heard.sounding:
            off = song.with_layer(replace(song.layer_by_id[layer.id], level_db=-60.0))
            rest = third_octaves(rendering.renderer.before_master(off, timeline(off), low, high))
            counted = weights(layer.levels) > 0
            gone = ((whole - excitation(rest.total) ** LOUDNESS_POWER) * counted).sum()
            own = (excitation(layer.levels.total) ** LOUDNESS_POWER * counted).sum()
            mine.append((heard.hearing.shares[layer.id], float(gone / own)))
        ranks.append(float(spearmanr(*np.array(mine).T).statistic))
        pairs += mine
    return ranks, pairs


def foretold(rendering: Rendering, song: Song, most: int) -> list[tuple[float, float]]:
    """Points foretold less points measured, of the hidden and of the hiding layer."""
    off = []
    for section in song.sections[:most]:
        heard = section_heard(rendering, song, section.id)
        for hiding in heard.hidings[:2]:
            for remedy in remedies(pair_of(song, heard, hiding.masked, hiding.by)):
                after = section_heard(rendering, with_candidate(song, remedy.candidate), section.id).hearing.shares
                now = heard.hearing.shares
                off.append((
                    remedy.masked_points - 100 * (after.get(hiding.masked, 0.0) - now[hiding.masked]),
                    remedy.by_points - 100 * (after.get(hiding.by, 0.0) - now[hiding.by]),
                ))  # fmt: skip
    return off


def timed(make: object) -> float:
    begun = time.perf_counter()
    make()  # type: ignore[operator]
    return time.perf_counter() - begun


def main() -> None:
    rendering, songs = Rendering(1200), demo_songs()
    big = large()
    rendering.measure(big)
    rendering.measure(songs[0])
    section_heard(rendering, songs[0], songs[0].sections[0].id)  # what is loaded once
    chosen = max(big.sections, key=lambda s: len({p.layer_id for p in s.placements}) * s.bars)
    seconds = timeline(big).span_of(chosen.id).length_seconds
    for part in rendering.renderer.plan(big, timeline(big).span_of(chosen.id)).parts:  # as they lie there after render
        rendering.renderer.unit(part)
    heard_s = timed(lambda: section_heard(rendering, big, chosen.id))
    heard = section_heard(rendering, big, chosen.id)
    row(f"a section heard ({len(heard.sounding)} layers, {seconds:.0f} s) after render", heard_s, 1.0, "s", load=SOUND)
    row("who hides what", 1000 * timed(lambda: heard.hidings), 300, "ms")
    row("the house drawn", 1000 * timed(lambda: house(heard)), 100, "ms")
    worst = heard.hidings[0]
    pair = pair_of(big, heard, worst.masked, worst.by)
    row("remedies of a pair", 1000 * timed(lambda: remedies(pair)), 300, "ms")
    row("a rough mix", timed(lambda: rough_mix(big, heard)), 2.0, "s")
    facts = HeardFacts(big, [section_heard(rendering, big, s.id) for s in big.sections[:6]])
    row("all rules about balance over six sections", timed(lambda: heard_findings(facts)), 2.0, "s")
    found = [(song.title, *agreement(rendering, song, 4)) for song in (*songs, big)]
    for title, ranks, _ in found:
        row(f"shares against removal, ranks, {title}", float(np.median(ranks)), 0.8, "", more_is_better=True)
    pooled = np.array([p for _, _, pairs in found for p in pairs])
    row(
        f"shares against removal, pooled over {len(pooled)} layers",
        float(spearmanr(*pooled.T).statistic),
        0.8,
        "",
        more_is_better=True,
    )
    off = np.abs(np.array([x for song in songs for x in foretold(rendering, song, 4)]))
    row(f"points foretold beside measured, median of {2 * len(off)}", float(np.median(off)), 2.0, "points")
    row("… nine of ten within", float(np.percentile(off, 90)), 5.0, "points")
    rendering.close()


if __name__ == "__main__":
    main()
