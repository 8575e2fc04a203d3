"""Figures of the bench: edits on its page, the next bar after one, a pattern of 500 notes, its readings, the hand on the ladder."""

from __future__ import annotations

import json
import random
import statistics
import tempfile
import threading
from pathlib import Path

from benchmarks.songs import CACHE_MB
from benchmarks.table import SOUND, row, seconds, time_edits
from escalera.core.bench.layer_jobs import jobs
from escalera.core.bench.low_end import low_end
from escalera.core.bench.tune_map import tune_map
from escalera.core.document.song import Layer, Song
from escalera.core.edits import EDITS
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.timeline import timeline
from escalera.services.studio import Studio
from escalera.sound.mix import Renderer
from escalera.sound.schedule import RATE_HZ
from tests.chromium import chromium, chromium_path

MANY = 500


def bench(song: Song) -> None:
    time_edits(song, "bench", 200, 4, _edit)
    crowded, layer_id = _crowded(song)
    time_edits(crowded, "bench", 60, 5, lambda s, _, dice: _stir(s, layer_id, dice), f" with {MANY} notes")
    next_bar(song)
    readings(song)
    hand(crowded, layer_id)


def _pitched(song: Song, section_id: int) -> list[Layer]:
    placed = {p.layer_id for p in song.section_by_id[section_id].placements}
    return [
        x for x in song.layers if x.id in placed and not x.sound.is_drum and x.sound.register[0] < x.sound.register[1]
    ]


def _edit(song: Song, section_id: int, dice: random.Random) -> dict[str, object]:
    layers = _pitched(song, section_id)
    if not layers or dice.random() < 0.3:
        return {"kind": "hit", "drum": dice.choice(("kick", "snare", "closed hat")), "tick": dice.randrange(0, 15360, 240), "velocity": dice.choice((0, 60, 100))}  # fmt: skip
    layer = dice.choice(layers)
    here = {"section_id": section_id, "layer_id": layer.id, "phrase": 0, "select": f"tile:{section_id}:{layer.id}:0:0"}
    notes = line_in(song, timeline(song).span_of(section_id), 0, layer).notes
    tick, pitch = dice.randrange(0, 3840, 240), layer.register_centre + dice.randrange(-6, 7)
    change = [None, None, tick, pitch, 240, 90]
    if notes and dice.random() < 0.6:
        n = dice.choice(notes)
        change = [n.tick, n.pitch, max(0, n.tick), min(127, n.pitch + dice.choice((-2, 2, 5))), n.duration, n.velocity]
    return dice.choice((
        {**here, "kind": "change_notes", "changes": json.dumps([change]), "how": "scale"},
        {**here, "kind": "change_notes", "changes": json.dumps([change]), "how": "chord", "here": "true"},
        {**here, "kind": "make_line", "maker": dice.choice(("bass-kick", "arpeggio", "pad", "third-seventh"))},
        {**here, "kind": "transform_line", "transformation": dice.choice(("octave-up", "octave-down", "thin"))},
    ))  # fmt: skip


def _crowded(song: Song) -> tuple[Song, int]:
    """The song with a layer that plays 500 notes in the first phrase, and the layer's id."""
    dice = random.Random(7)
    song = EDITS["add_layer"]("short-pluck").apply(song)
    layer = next(x for x in reversed(song.layers) if x.sound_key == "short-pluck")
    section = max(song.sections, key=lambda s: s.phrases[0])
    rows: dict[tuple[int, int], list[object]] = {}
    while len(rows) < MANY:
        tick, pitch = dice.randrange(0, 15360, 120), dice.randrange(60, 88)
        rows[tick, pitch] = [None, None, tick, pitch, 110, dice.randrange(40, 127)]
    return EDITS["change_notes"](section.id, layer.id, 0, list(rows.values()), "scale", True).apply(song), layer.id


def _place(song: Song, layer_id: int) -> int:
    return next(s.id for s in song.sections if any(p.layer_id == layer_id for p in s.placements))


def _stir(song: Song, layer_id: int, dice: random.Random) -> dict[str, object]:
    section = _place(song, layer_id)
    n = dice.choice(line_in(song, timeline(song).span_of(section), 0, song.layer_by_id[layer_id]).notes)
    change = [n.tick, n.pitch, n.tick, n.pitch + dice.choice((-1, 1)), n.duration, n.velocity]
    return {"kind": "change_notes", "select": f"tile:{section}:{layer_id}:0:0", "section_id": section, "layer_id": layer_id,
            "phrase": 0, "changes": json.dumps([change]), "how": "scale"}  # fmt: skip


def next_bar(song: Song) -> None:
    """After one note was changed in a section of eight bars, which is chosen on its page and was heard: its next bar, mixed."""
    renderer, times = Renderer(CACHE_MB), []
    renderer.render(song)
    for number, section in enumerate(s for s in song.sections if s.bars == 8):
        layer = _pitched(song, section.id)[number % len(_pitched(song, section.id))]
        note = next(iter(line_in(song, timeline(song).span_of(section.id), 0, layer).notes), None)
        if note is None:
            continue
        change = [[note.tick, note.pitch, note.tick, note.pitch + 2, note.duration, note.velocity]]
        changed = EDITS["change_notes"](section.id, layer.id, 0, change, "scale", True).apply(song)
        line = timeline(changed)
        index = changed.index_of(section.id)
        span, start = line.spans[index], line.samples(RATE_HZ)[index]
        bar = round(span.seconds_at(span.bar_ticks[1]) * RATE_HZ)
        renderer.chunk(song, timeline(song), index)
        renderer.begin_section(renderer.plan(song, timeline(song).spans[index]), lambda: True)
        times.append(seconds(lambda s=changed, a=start, b=bar: renderer.before_master(s, timeline(s), a, a + b)))
    row("a note changed in 8 bars: next bar mixed, median", 1000 * statistics.median(times), 30, "ms", load=SOUND)


def readings(song: Song) -> None:
    spans = timeline(song).spans
    for name, act in (("low end by sixteenths", low_end), ("registers and jobs", jobs)):
        times = []
        for span in spans:
            song.memo.clear()
            timeline(song)
            times.append(seconds(lambda s=span, read=act: read(song, s)))
        row(f"{name}, slowest section", 1000 * max(times), 60, "ms")
    song.memo.clear()
    row("map of the tune, whole song, nothing cached", 1000 * seconds(lambda: tune_map(song)), 250, "ms")


def hand(song: Song, layer_id: int) -> None:
    """Frames a second while a note is dragged over a ladder of 500, in Chromium without a graphics card."""
    from playwright.sync_api import sync_playwright
    from waitress.server import create_server

    from escalera.web import create_app

    if chromium_path() is None:
        print("Chromium is missing: the hand on the ladder was not measured.")
        return
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as driver:
        studio = Studio(Path(folder), cache_mb=300)
        song_id = studio.add_song(song, "Crowded")
        server = create_server(create_app(studio), host="127.0.0.1", port=0, threads=4)
        threading.Thread(target=server.run, daemon=True).start()
        browser = chromium(driver)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(
            f"http://127.0.0.1:{server.effective_port}/songs/{song_id}/bench?select=tile:{_place(song, layer_id)}:{layer_id}:0:0"
        )
        page.wait_for_selector("#plot .peg")
        box = page.locator("#plot .peg .head").nth(MANY // 2).bounding_box()
        assert box is not None
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.evaluate(
            "() => { window.frames_ = []; const tick = (t) => { window.frames_.push(t); requestAnimationFrame(tick); }; requestAnimationFrame(tick); }"
        )
        for i in range(60):
            page.mouse.move(x + 3 * (i % 20), y + 2 * (i % 15))
        times = page.evaluate("() => window.frames_")
        page.mouse.up()
        gaps = sorted(b - a for a, b in zip(times, times[1:]))
        browser.close()
        server.close()
        studio.close()
    row(f"a drag over {MANY} notes: 95th percentile of frames", gaps[int(0.95 * len(gaps))], 34, "ms, however fast")
