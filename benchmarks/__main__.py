"""Prints a table: every figure beside its budget, and as a ratio (1.0 or less is within). Usage: make bench"""

from __future__ import annotations

import json
import os
import random
import re
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from benchmarks.arranging import arranging
from benchmarks.bench import bench
from benchmarks.files import files
from benchmarks.groove import groove
from benchmarks.harmony import harmony
from benchmarks.joins import joins
from benchmarks.layouts import layouts
from benchmarks.memory import memory
from benchmarks.planning import planning
from benchmarks.samples import samples
from benchmarks.silence import silence
from benchmarks.songs import CACHE_MB, generated, large
from benchmarks.studies import heard_pieces, stems, studies
from benchmarks.table import PYTHON, SOUND, print_over, row, seconds, slowness
from benchmarks.tasks import tasks
from benchmarks.voices import voices
from escalera.core.document.song import Song
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.meters.loudness import loudness, true_peak_dbtp
from escalera.services.demo import demo_songs
from escalera.services.rendering import Rendering
from escalera.services.studio import Studio
from escalera.sound.disk import DiskShelf
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ

# How often each edit comes in a sitting, in per cent
MIX = {
    "toggle_tile": 35,
    "set_target": 20,
    "vary": 15,
    "set_control": 14,
    "move_section": 8,
    "rename_section": 5,
    "set_tempo": 3,
}


def render_speed(name: str, song: Song, budget: float) -> float:
    length = timeline(song).seconds
    Renderer(CACHE_MB).render(song)
    times = [seconds(lambda: Renderer(CACHE_MB).render(song)) for _ in range(5)]
    row(f"render of {name}, cold cache, times real time", length / statistics.median(times), budget, "x", True, SOUND)
    return statistics.median(times)


def edit_to_sound(song: Song) -> None:
    """After an edit of one layer in one section of eight bars: its next bar, and the whole section with the master; where its parts were
    dropped, as after a whole render, and where it was chosen before, so that they are there. Mixes lie on disk, as they do in a server."""
    with tempfile.TemporaryDirectory() as folder:
        shelf = DiskShelf(Path(folder), 900_000_000)
        _edit_to_sound(song, Renderer(CACHE_MB, shelf=shelf))
        shelf.close()


def _edit_to_sound(song: Song, renderer: Renderer) -> None:
    line = timeline(song)
    renderer.render(song)
    sections = [s for s in song.sections if s.bars == 8]
    bars, wholes, chosen = [], [], []
    for number, layer in enumerate(song.layers):
        playing = [s for s in sections if any(p.layer_id == layer.id for p in s.placements)]
        section = playing[number % len(playing)]
        index = song.index_of(section.id)
        changed = EDITS["vary"](section.id, layer.id, lowpass_start_hz=900.0, lowpass_end_hz=5000.0).apply(song)
        wholes.append(seconds(lambda i=index, s=changed: renderer.chunk(s, timeline(s), i)))
        renderer.begin_section(renderer.plan(song, line.spans[index]), lambda: True)
        changed = EDITS["vary"](section.id, layer.id, lowpass_start_hz=700.0, lowpass_end_hz=5000.0).apply(song)
        chosen.append(seconds(lambda i=index, s=changed: renderer.chunk(s, timeline(s), i)))
        changed = EDITS["vary"](section.id, layer.id, lowpass_start_hz=800.0, lowpass_end_hz=5000.0).apply(song)
        span, start = line.spans[index], line.samples(RATE_HZ)[index]
        bar = round(span.seconds_at(span.bar_ticks[1]) * RATE_HZ)
        bars.append(seconds(lambda s=changed, a=start, b=bar: renderer.before_master(s, timeline(s), a, a + b)))
    row(
        "one-layer edit in 8 bars: next bar mixed, median of all layers",
        1000 * statistics.median(bars),
        30,
        "ms",
        load=SOUND,
    )
    row(
        "one-layer edit in 8 bars that are chosen: mixed and mastered, median",
        1000 * statistics.median(chosen),
        100,
        "ms",
        load=SOUND,
    )
    row(
        "one-layer edit in 8 bars after a whole render: the same",
        1000 * statistics.median(wholes),
        500,
        "ms",
        load=SOUND,
    )


def mixed_edits(studio: Studio, song_id: int, count: int, seed: int) -> list[float]:
    """Times of `count` edits through the web layer, response rendered, on disk."""
    from escalera.web import create_app

    app = create_app(studio, testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client, dice, times = app.test_client(), random.Random(seed), []
    while len(times) < count:
        head = studio.head(song_id)
        song = head.song
        section, layer = dice.choice(song.sections), dice.choice(song.layers)
        kind = dice.choices(list(MIX), list(MIX.values()))[0]
        here = {"section_id": section.id, "layer_id": layer.id}
        fields = {
            "toggle_tile": {**here, "phrase": dice.randrange(len(section.phrases))},
            "vary": {**here, "keep": 0.5},
            "set_target": {"section_id": section.id, "start": round(dice.uniform(0, 10), 1)},
            "set_control": {"layer_id": layer.id, "control": "level_db", "value": dice.randint(-24, -6)},
            "move_section": {"section_id": section.id, "by": dice.choice((-1, 1))},
            "rename_section": {"section_id": section.id, "name": f"Part {dice.randrange(10**6)}"},
            "set_tempo": {"tempo_bpm": dice.randint(80, 140)},
        }[kind] | {"kind": kind}
        start = time.perf_counter()
        client.post(
            f"/songs/{song_id}/edits",
            data={"base": head.revision_id, "select": f"section:{song.sections[0].id}:0:0:0", **fields},
            headers={"Accept-Encoding": "gzip"},
        )
        times.append(time.perf_counter() - start)
    return times


def edits(song: Song) -> None:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), cache_mb=CACHE_MB)
        studio.rendering.measured_later = lambda *_: None  # type: ignore[method-assign, assignment]
        song_id = studio.add_song(song, "Benchmark")
        mixed_edits(studio, song_id, 30, 1)
        times = mixed_edits(studio, song_id, 500, 2)
        row("edit answered, 95th percentile of 500 mixed edits", 1000 * float(np.percentile(times, 95)), 60, "ms")
        for number in range(470):
            head = studio.head(song_id)
            studio.edit(song_id, head.revision_id, EDITS["set_target"](head.song.sections[0].id, number % 10, 5))
        late = mixed_edits(studio, song_id, 100, 5)
        row(
            "edit answered after 1,000 revisions, 95th percentile of 100",
            1000 * float(np.percentile(late, 95)),
            60,
            "ms",
        )
        stop = threading.Event()

        def keep_rendering() -> None:
            while not stop.is_set():
                Renderer(400).render(song)

        thread = threading.Thread(target=keep_rendering)
        thread.start()
        busy = mixed_edits(studio, song_id, 100, 3)
        stop.set()
        thread.join()
        row(
            "edit answered while a render runs, 95th percentile of 100",
            1000 * float(np.percentile(busy, 95)),
            200,
            "ms",
        )
        row("stair page, compressed", page_kilobytes(studio, song_id), 300, "KB")
        studio.close()


def page_kilobytes(studio: Studio, song_id: int) -> float:
    from escalera.web import create_app

    answer = (
        create_app(studio, testing=True).test_client().get(f"/songs/{song_id}", headers={"Accept-Encoding": "gzip"})
    )
    return len(answer.data) / 1000


def prediction() -> None:
    """Rank correlation of arranged and measured energy over the sections of seven songs."""
    from scipy.stats import spearmanr

    forms = ("verse-chorus", "two-drops", "chorus-first", "strophic", "through")
    songs = [*demo_songs(), *(generated(seed, form) for seed, form in enumerate(forms, 11))]
    pairs: list[tuple[float, float]] = []
    rendering = Rendering(1500)
    for song in songs:
        found = rendering.measure(song)
        own = [(a.value, m.value) for a, m in zip(arranged(song).sections, found.sections)]
        print(f"  {song.title:20} {len(own):3} sections, rank correlation {spearmanr(*zip(*own)).statistic:5.2f}")
        pairs += own
        rendering.renderer.cache.clear()
    rendering.close()
    row(
        "arranged predicts measured energy: rank correlation, all sections",
        float(spearmanr(*zip(*pairs)).statistic),
        0.8,
        "",
        True,
    )


def measuring(song: Song) -> None:
    """Meters of a song of four minutes: of the whole on two threads; and of all sections, which are read while the song is rendered, so
    that what they add is told."""
    rendering = Rendering(CACHE_MB)
    audio = rendering.renderer.render(song)

    def whole() -> None:
        with ThreadPoolExecutor(2) as pool:
            figures = pool.submit(loudness, audio, RATE_HZ), pool.submit(true_peak_dbtp, audio)
            [f.result() for f in figures]

    row(
        "loudness and true peak of the whole demo song",
        statistics.median(seconds(whole) for _ in range(5)),
        0.3,
        "s",
        load=SOUND,
    )

    def cold(act: Callable[[Song], object]) -> float:
        rendering.forget()
        return seconds(lambda: act(song))

    added = [cold(rendering.measure) - cold(rendering.renderer.render) for _ in range(5)]
    row("what all meters add to a render of the demo song", statistics.median(added), 1.0, "s", load=SOUND)
    rendering.measure(song)
    section = next(s for s in song.sections if s.bars >= 8)
    changed = EDITS["vary"](section.id, section.placements[0].layer_id, lowpass_start_hz=900.0, lowpass_end_hz=5000.0)
    row(
        "the demo song measured again after an edit in one section",
        seconds(lambda: rendering.measure(changed.apply(song))),
        1.0,
        "s",
        load=SOUND,
    )
    rendering.close()


def memory_floor(song: Song, render_s: float) -> None:
    """What reading every layer's sound once and adding it up costs at least, beside the render."""
    samples = round(timeline(song).seconds * RATE_HZ)
    stems, total = np.ones((4, samples), np.float32), np.zeros(samples, np.float32)
    once = min(seconds(lambda: [np.add(total, stem, out=total) for stem in stems]) for _ in range(3))
    channels = 2 * len(song.layers) / 4
    print(
        f"  one pass over all stems: {once * channels:.2f} s on one thread, {100 * once * channels / render_s:.0f} % of the render"
    )


def memory_used() -> None:
    row("peak memory of everything so far", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6, 1.5, "GB")


STARTS = 5
MADE_S = 60.0  # that a first start has to make its other songs


def first_sound() -> None:
    """From the start of the server to the first section's sound, on a data folder in which the song was heard before and all demo songs
    are made; the median of a few starts."""
    address, times, size = "http://127.0.0.1:5091", [], 0
    with tempfile.TemporaryDirectory() as folder:
        command = [str(Path(sys.executable).parent / "escalera"), "demo", "--port", "5091"]
        for number in range(1 + STARTS):
            start = time.perf_counter()
            server = subprocess.Popen(command, env={**os.environ, "ESCALERA_DATA": folder}, stderr=subprocess.DEVNULL)
            try:
                size = _ask_for_sound(f"{address}/songs/2")
                times.append(time.perf_counter() - start)
                while not number and time.perf_counter() - start < MADE_S:
                    if "are being made" not in urllib.request.urlopen(f"{address}/").read().decode():
                        break
                    time.sleep(0.5)
                time.sleep(0 if number else 3)
            finally:
                server.terminate()
                server.wait()
    row(f"first sound after server start ({size / 1e6:.1f} MB)", statistics.median(times[1:]), 2.0, "s")


def _ask_for_sound(address: str) -> int:
    while True:
        try:
            page = urllib.request.urlopen(address).read().decode()
            revision = re.search(r'name="base" value="(\d+)"', page)
            assert revision
            keys = json.load(urllib.request.urlopen(f"{address}/keys/{revision.group(1)}.json"))["keys"]
            return len(urllib.request.urlopen(f"{address}/audio/{revision.group(1)}/0/{keys[0]}.wav").read())
        except urllib.error.URLError:
            time.sleep(0.02)


def main() -> int:
    start = time.perf_counter()
    demo, benchmark = demo_songs()[0], large()
    tiles = sum(len(s.placements) for s in benchmark.sections)
    print(
        f"Benchmark song: {timeline(benchmark).seconds:.0f} s, {len(benchmark.layers)} layers, {len(benchmark.sections)} sections, {tiles} placements"
    )
    print(f"This machine beside the idle one: Python {slowness(PYTHON):.2f}×, sound {slowness(SOUND):.2f}× as long\n")
    for each in demo_songs()[:2]:
        render_speed(each.title, each, 130)
    took = render_speed("the benchmark song", benchmark, 200)
    silence()
    memory_floor(benchmark, took)
    memory_used()
    edit_to_sound(benchmark)
    measuring(demo)
    first_sound()
    try:
        edits(benchmark)
    except EditError as error:
        print(error)
    harmony(benchmark)
    groove(benchmark)
    arranging(benchmark)
    bench(benchmark)
    joins()
    layouts()
    files()
    samples()
    studies()
    voices()
    planning()
    tasks()
    heard_pieces()
    stems()
    memory()
    prediction()
    print(f"\nTook {time.perf_counter() - start:.0f} s")
    return 1 if print_over() else 0


if __name__ == "__main__":
    sys.exit(main())
