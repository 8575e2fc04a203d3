"""What is risky about a song's stems as they sound: each rule looks at one stem that was heard."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from escalera.core.document.song import Layer, Song
from escalera.core.handing.readiness import Point
from escalera.lazy_dataclasses import dataclass

SILENT_DBFS = -70.0
FULL_DBFS = 0.0


@dataclass(frozen=True, slots=True)
class StemHeard:
    """A layer as its wet file has it: the highest sample in dBFS, bars (from 1) in which its dry sound breaks off while it is loud, and
    whether it still sounds where the files end."""

    layer_id: int
    peak_dbfs: float
    breaks_off_bars: tuple[int, ...] = ()
    cut_at_end: bool = False


Said = tuple[str, str]  # what, and the remedy
HEARD: dict[str, Callable[[Layer, StemHeard], Iterator[Said]]] = {}


def _rule(key: str) -> Callable[[Callable[[Layer, StemHeard], Iterator[Said]]], None]:
    def register(find: Callable[[Layer, StemHeard], Iterator[Said]]) -> None:
        HEARD[key] = find

    return register


def heard_points(song: Song, stems: Iterable[StemHeard]) -> list[Point]:
    """All points about stems that were heard, in the order of the rules."""
    rows = [(song.layer_by_id[s.layer_id], s) for s in stems if s.layer_id in song.layer_by_id]
    return [
        Point(key, said, remedy, layer.id)
        for key, find in HEARD.items()
        for layer, stem in rows
        for said, remedy in find(layer, stem)
    ]


@_rule("silent stem")
def _silent(layer: Layer, stem: StemHeard) -> Iterator[Said]:
    if stem.peak_dbfs < SILENT_DBFS:
        yield (
            f"{layer.name} is placed, and its file is silent.",
            "Look at its level, filters and curves, or take it out.",
        )


@_rule("clipping stem")
def _clipping(layer: Layer, stem: StemHeard) -> Iterator[Said]:
    if stem.peak_dbfs > FULL_DBFS:
        yield (
            f"{layer.name} alone peaks at {stem.peak_dbfs:+.1f} dBFS: files of whole numbers would clip it.",
            "Hand over WAV in floating point, or FLAC from here, which lowers all stems alike; or lower all layers together.",
        )


@_rule("tail cut")
def _tail_cut(layer: Layer, stem: StemHeard) -> Iterator[Said]:
    if stem.breaks_off_bars:
        bars = ", ".join(str(bar) for bar in stem.breaks_off_bars[:4])
        more = f" and {len(stem.breaks_off_bars) - 4} more" if len(stem.breaks_off_bars) > 4 else ""
        many = "bars" if len(stem.breaks_off_bars) > 1 else "bar"
        yield (
            f"The recording of {layer.name} breaks off while it is loud, in {many} {bars}{more}.",
            "Let its clip run until it has died away, or fade it out.",
        )


@_rule("end cut")
def _end_cut(layer: Layer, stem: StemHeard) -> Iterator[Said]:
    if stem.cut_at_end:
        yield f"{layer.name} still sounds where the files end.", "Let the last section run longer, or fade it out."
