"""Shared spaces while a section is mixed: few buffers at a time, and the same sum whenever and wherever they answer."""

import weakref
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace

import numpy as np
import pytest

from escalera.core.edits import EDITS
from escalera.core.palette.effects import RETURNS
from escalera.core.reading.timeline import timeline
from escalera.sound import spaces
from escalera.sound.mix import Renderer
from escalera.sound.section import AT_ONCE, mix_section
from escalera.sound.spaces import Order, most_buffers, order_of
from tests.songs import ids, small_song


def plan_of(sent, buses=0):
    """A plan of which every part is sent into the spaces of one string of digits."""
    parts = [
        SimpleNamespace(gains=SimpleNamespace(sends=[float(str(i) in row) for i in range(len(RETURNS))]), throws=(), moving=())
        for row in sent.split(",")
    ]  # fmt: skip
    chains = {n: SimpleNamespace(devices=("drive",)) for n in range(buses)}
    return SimpleNamespace(parts=parts, buses=chains, returns=[(("kind", max(0, i - 1)),) for i in range(len(RETURNS))])


@pytest.mark.parametrize(
    ("sent", "buses", "order", "most"),
    [
        ("-,-,-", 0, Order((), (), ()), 0),
        ("-,1", 0, Order((), (1,), ()), 1),
        ("1,1,-,-", 0, Order((1,), (), ()), 2),  # nothing is sent into it any more: it answers early, and aside
        ("1,2,-,-,3,3,-,-", 0, Order((1, 2, 3), (), ()), 3),  # two answer while the third is opened
        ("0,-,3,-,3,4,0,-,-", 0, Order((3, 4, 0), (), ()), 4),
        ("13,13,13", 0, Order((), (3,), (1,)), 3),
        ("03,03,03", 1, Order((), (3, 0), ()), 2),  # the buses are work as well
    ],
)
def test_spaces_answer_as_soon_as_they_have_heard_all(sent, buses, order, most):
    plan = plan_of(sent, buses)
    assert order_of(plan, AT_ONCE) == order and most_buffers(plan, AT_ONCE) == most


def sent_song():
    """Six layers that go into all spaces: one of them thrown, one by a curve, one of them ducked."""
    song = small_song()
    for sound in ("tin-hat", "glass-bell", "wide-saws"):
        song = EDITS["add_layer"](sound, rows=[[0, 200, 0, 42, 0, 90]], length_ticks=3840).apply(song)
        new = max(song.layers, key=lambda layer: layer.id)
        song = EDITS["place"](ids(song)["Chorus"], new.id, new.pattern_id).apply(song)
    chorus, layers = ids(song)["Chorus"], sorted(layer.id for layer in song.layers)
    for layer, space in zip(layers, ("near", "echo", "chamber", "near", "shimmer", "hall")):
        song = EDITS["set_control"](layer, f"send.{space}", -9).apply(song)
    song = EDITS["throw"](chorus, layers[4], 0, 3840, "echo", -3.0).apply(song)
    song = EDITS["set_curve"](chorus, f"layer.{layers[3]}.send.hall", [[0, -50, "line"], [7680, -6, "line"]]).apply(
        song
    )
    return EDITS["set_control"](layers[2], "duck_db", 9).apply(song)


def test_the_sum_is_that_of_the_layers_whoever_works_on_it_and_few_buffers_are_held(monkeypatch):
    song = sent_song()
    span, renderer, alive, alive_then = timeline(song).spans[1], Renderer(200), set(), []
    plan = renderer.plan(song, span)
    order = order_of(plan, AT_ONCE)
    assert order.early and order.here and sum(map(len, (order.early, order.here, order.there))) == len(RETURNS)

    def silent(*shape):
        found = np.zeros(shape, np.float32)
        alive.add(number := len(alive_then))
        weakref.finalize(found, alive.discard, number)
        alive_then.append(len(alive))
        return found

    alone = mix_section(plan, renderer._begin)
    with ThreadPoolExecutor(2) as beside:
        assert np.array_equal(mix_section(plan, renderer._begin, None, False, beside).audio, alone.audio)
    layers = [renderer.section_mix(song, span, frozenset((layer.id,))) for layer in song.layers]
    total = np.zeros_like(alone.audio)
    for each in layers:
        at, length = each.offset - alone.offset, min(each.audio.shape[1], total.shape[1] - each.offset + alone.offset)
        total[:, at : at + length] += each.audio[:, :length]
    assert np.abs(total - alone.audio).max() < 1e-3 < np.abs(alone.audio).max()
    monkeypatch.setattr(spaces, "silent", silent)
    mix_section(plan, renderer._begin)
    assert len(alive_then) == len(RETURNS) + 1 > most_buffers(plan, AT_ONCE) >= max(alive_then)
