"""Geometry of the stair: numbers for the templates. x in per cent of the song's bars, y in pixels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from itertools import pairwise

from markupsafe import Markup, escape

from escalera.core.bounce_judgement import BounceReading
from escalera.core.document.song import Song
from escalera.core.document.target import Target
from escalera.core.edits.target_edits import phrase_shares
from escalera.core.energy.explain import Agreement
from escalera.core.energy.join_reading import join_said
from escalera.core.energy.joins import join_devices
from escalera.core.energy.model import SectionCore, SectionEnergy, SongEnergy
from escalera.core.planning.song_facts import SongFacts
from escalera.lazy_dataclasses import dataclass
from escalera.services.rendering import MeasuredSection, MeasuredSong

TOP, FLOOR = 50.0, 238.0  # pixels of energy 10 and 0
NAME_ROWS = (28.0, 12.0)  # baselines of the names above the stair, the lower row first
NAME_PIXELS, LONGEST_NAME = 7.8, 18
UNIT = (FLOOR - TOP) / 10.0
HEIGHT = 272
STACK = ("low end", "drums", "chords", "leads", "voices", "atmosphere", "effects")
NARROWEST, PIXELS_A_BAR = 780.0, 6.25  # pixels of the whole stair at least, and of a bar (stair.css has the same)
SMALLEST_SHARE = 0.03
SAME_HEIGHT = 0.2  # phrases of a section that differ by less are drawn as one


LINE_WIDTH = 1000  # of the lines over the stair


def y_of(energy: float) -> float:
    """Pixel of an energy; values above 10.6 are drawn at the edge."""
    return round(FLOOR - min(max(energy, 0.0), 10.6) * UNIT, 1)


@dataclass(frozen=True, slots=True)
class Flat:
    """A phrase of a step, or neighbours of one height: where its top lies, and what is hatched between it and the target."""

    x: float
    width: float
    top: float
    missing: str
    too_much: str
    hatch: tuple[float, float]


@dataclass(frozen=True, slots=True)
class TreadPiece:
    """A straight piece of a tread: its ends, and how far each of them goes with the start and with the end of the target."""

    x: tuple[float, float]
    y: tuple[float, float]
    energy: tuple[float, float]
    with_start: tuple[float, float]
    with_end: tuple[float, float]


@dataclass(frozen=True, slots=True)
class DrawnStep:
    """One section of the stair as drawn."""

    section_id: int
    name: str
    label: str
    pixels: float
    label_y: float
    label_x: float
    anchor: str
    x: float
    width: float
    first_bar: int
    bars: int
    role: str
    tread: tuple[TreadPiece, ...]
    target: tuple[float, float]
    wanted: float
    phrases: tuple[float, ...]  # shares where they begin, and 1
    riser: Markup
    flats: tuple[Flat, ...]
    value: float
    measured: float | None


@dataclass(frozen=True, slots=True)
class Medallion:
    x: float
    sign: str
    title: str
    as_meant: bool
    section_id: int  # the one it leads into


@dataclass(frozen=True, slots=True)
class Stair:
    steps: tuple[DrawnStep, ...]
    medallions: tuple[Medallion, ...]
    rungs: tuple[tuple[int, float], ...]
    line: str
    tension: str
    bars: int


def draw_stair(song: Song, energy: SongEnergy, measured: MeasuredSong | None, found: Agreement) -> Stair:
    """The whole stair of a song."""
    total, bar, steps, line, pull = max(1, song.bars), 0, [], [], []
    for section in energy.sections:
        count = section.span.section.bars
        x, width = 100.0 * bar / total, 100.0 * count / total
        own = measured.of(section.span.section.id) if measured else None
        steps.append(_step(section, x, width, _pixels(total) * width / 100.0, own.value if own else None))
        if own:
            line += _stepped(own, bar, total)
        pull += [
            f"{LINE_WIDTH * (bar + i + 0.5) / total:.1f},{FLOOR - 46 * float(v):.1f}"
            for i, v in enumerate(section.tension)
        ]
        bar += count
    rungs = tuple((value, y_of(value)) for value in range(0, 11, 2))
    return Stair(
        _spread(steps, _pixels(total)), _medallions(song, energy, found), rungs, " ".join(line), " ".join(pull), total
    )


def bounce_line(song: Song, reading: BounceReading, sketch: bool = False) -> list[str]:
    """Energy by phrase as points of polylines 1000 wide; a new one begins after bars that are missing."""
    heard = {s.section_id: s for s in (reading.sketch if sketch else reading.sections)}
    total, at = max(1, song.bars), 0
    lines: list[list[str]] = [[]]
    for section in song.sections:
        bars = heard[section.id].bars if section.id in heard else (None,) * section.bars
        first = 0
        for count in section.phrases:
            values = [v for v in bars[first : first + count] if v is not None]
            if len(values) < count / 2:
                lines.append([])
            else:
                y = y_of(sum(values) / len(values))
                lines[-1] += [f"{LINE_WIDTH * x / total:.1f},{y}" for x in (at + first, at + first + count)]
            first += count
        at += section.bars
    return [" ".join(points) for points in lines if points]


def _stepped(measured: MeasuredSection, bar: int, total: int) -> list[str]:
    """The measured energy of its phrases as points of the line."""
    points, at = [], bar
    for bars, height in zip(measured.span.section.phrases, measured.phrases.tolist()):
        points += [f"{LINE_WIDTH * x / total:.1f},{y_of(height)}" for x in (at, at + bars)]
        at += bars
    return points


def _tread(target: Target, x: float, width: float) -> tuple[TreadPiece, ...]:
    """Pieces of the line; where it has turns only the outermost ends go with its start and end."""
    knots = target.knots
    bends = [target.bend(share) for share, _ in knots]
    if target.turns:
        bends = [0.0, *[float("nan")] * (len(knots) - 2), 1.0]
    starts = [0.0 if bend != bend else round(1.0 - bend, 4) for bend in bends]
    ends = [0.0 if bend != bend else round(bend, 4) for bend in bends]
    return tuple(
        TreadPiece(
            (round(x + width * a[0], 3), round(x + width * b[0], 3)),
            (y_of(a[1]), y_of(b[1])),
            (round(a[1], 2), round(b[1], 2)),
            (starts[i], starts[i + 1]),
            (ends[i], ends[i + 1]),
        )
        for i, (a, b) in enumerate(pairwise(knots))
    )


def _step(energy: SectionEnergy, x: float, width: float, pixels: float, measured: float | None) -> DrawnStep:
    section, value = energy.span.section, energy.value
    stretches = _stretches(energy)
    flats = tuple(_flat(a, b, height, section.target, x, width) for a, b, height, _ in stretches)
    return DrawnStep(
        section.id,
        section.name,
        _shortened(section.name) if pixels >= 16.0 else "",
        round(pixels, 1),
        NAME_ROWS[0],
        0.0,
        "middle",
        round(x, 3),
        round(width, 3),
        energy.span.first_bar,
        section.bars,
        section.role,
        _tread(section.target, x, width),
        (section.target.start, section.target.end),
        section.target.mean,
        tuple(phrase_shares(section)),
        Markup("").join(
            _riser(energy.core, flat.top, flat.x, flat.width, playing) for flat, (*_, playing) in zip(flats, stretches)
        ),
        flats,
        value,
        measured,
    )


def _stretches(energy: SectionEnergy) -> list[tuple[float, float, float, frozenset[int]]]:
    """Phrases as shares of their section, with their energy and the layers that play; neighbours that hardly differ as one."""
    section, total = energy.span.section, energy.span.length_ticks
    found: list[tuple[float, float, float, frozenset[int]]] = []
    for (low, high), height in zip(energy.span.phrase_ticks(), energy.phrases.tolist()):
        playing = frozenset(p.layer_id for p in section.placements if p.start_ticks < high and p.end_ticks > low)
        a, b = low / total, high / total
        if found and abs(found[-1][2] - height) < SAME_HEIGHT:
            first, last, before, others = found.pop()
            mean = (before * (last - first) + height * (b - a)) / (b - first)
            found.append((first, b, mean, others | playing))
        else:
            found.append((a, b, height, playing))
    if len(found) == 1:
        found = [(0.0, 1.0, energy.value, found[0][3])]
    turns = {share for share, _ in section.target.knots}
    return [
        (a, b, height, playing)
        for low, high, height, playing in found
        for a, b in pairwise(sorted({low, high, *(share for share in turns if low < share < high)}))
    ]


def _flat(low: float, high: float, height: float, target: Target, x: float, width: float) -> Flat:
    start, end = y_of(target.at(low)), y_of(target.at(high, before=True))
    top = y_of(height)
    missing, too_much, hatch = _gaps(start, end, top)
    return Flat(round(x + width * low, 3), round(width * (high - low), 3), top, missing, too_much, hatch)


def _pixels(bars: int) -> float:
    """Width of the stair when it is as narrow as it gets; what is kept apart there is apart everywhere."""
    return max(NARROWEST, bars * PIXELS_A_BAR)


def _shortened(name: str) -> str:
    """A name as far as a step may say it; the whole stands in its title and in the inspector."""
    return name if len(name) <= LONGEST_NAME else name[: LONGEST_NAME - 1].rstrip() + "…"


@lru_cache(maxsize=256)
def _riser(energy: SectionCore, top: float, x: float, width: float, playing: frozenset[int]) -> Markup:
    """Shares of the layers that play, stacked from the floor up by family; what is too small to draw or negative gives its height
    to the rest."""
    heard = [layer for layer in energy.layers if layer.id in playing] or energy.layers
    shares = [(layer, energy.shares[layer.id]) for layer in heard if energy.shares[layer.id] > SMALLEST_SHARE]
    shares.sort(key=lambda row: STACK.index(row[0].family))
    total, y, parts = sum(share for _, share in shares), FLOOR, []
    for layer, share in shares:
        height = (FLOOR - top) * share / total
        y -= height
        box = f'x="{x}%" width="{width}%" y="{y:.2f}" height="{height:.2f}"'
        family = layer.family.replace(" ", "-")
        title = escape(f"{layer.name}: {share:.1f} of {energy.value:.1f}")
        parts.append(
            f'<rect class="glaze fam-{family}" {box}/><rect class="grout" fill="url(#p-{family})" {box}><title>{title}</title></rect>'
        )
    return Markup("".join(parts))


def _gaps(start: float, end: float, top: float) -> tuple[str, str, tuple[float, float]]:
    """Polygons in shares of the box from the highest to the lowest of tread and tiles: missing above, too much below.

    Returns two strings of points for clip paths (empty where there is nothing) and the box's y and height.
    """
    low, high = min(start, end, top), max(start, end, top)
    height = high - low
    if height < 1.5:
        return "", "", (low, 0.0)

    def share(y: float) -> float:
        return round((y - low) / height, 4)

    a, b, t = share(start), share(end), share(top)
    if max(a, b) <= t:
        return f"0,{a} 1,{b} 1,{t} 0,{t}", "", (low, height)
    if min(a, b) >= t:
        return "", f"0,{t} 1,{t} 1,{b} 0,{a}", (low, height)
    cross = round((t - a) / (b - a), 4)
    left, right = f"0,{a} {cross},{t} 0,{t}", f"{cross},{t} 1,{b} 1,{t}"
    return (left, right, (low, height)) if a < t else (right, left, (low, height))


def _spread(steps: Sequence[DrawnStep], pixels: float) -> tuple[DrawnStep, ...]:
    """Names in a band of their own above the stair: in its lower row, or in the upper one where it would touch the name before."""
    placed: list[DrawnStep] = []
    edges = [-100.0] * len(NAME_ROWS)  # where the last name of each row ends
    for step in steps:
        needed, middle = len(step.label) * NAME_PIXELS, (step.x + step.width / 2) / 100.0 * pixels
        left = max(0.0, min(middle - needed / 2, pixels - needed))
        row = next((i for i, edge in enumerate(edges) if left >= edge), None)
        if row is None:  # both rows are taken: as much of it as the emptier one has room for
            row = min(range(len(edges)), key=lambda i: edges[i])
            fits = int((middle + needed / 2 - edges[row]) / NAME_PIXELS) - 1
            label = step.label[: max(0, fits - 1)] + "…" if fits > 2 else ""
            step, left = replace(step, label=label), edges[row]
            needed = len(label) * NAME_PIXELS
        if step.label:
            edges[row] = left + needed + 6.0
        x = (left + needed / 2) / pixels * 100.0
        placed.append(replace(step, label_y=NAME_ROWS[row], label_x=round(x, 3), anchor="middle"))
    return tuple(placed)


def _medallions(song: Song, energy: SongEnergy, found: Agreement) -> tuple[Medallion, ...]:
    total, bar, signs = max(1, song.bars), 0, []
    for index, (left, right, as_meant) in enumerate(zip(energy.sections, energy.sections[1:], found.as_meant), 1):
        bar += left.span.section.bars
        said, sign = join_said(song, index, join_devices(left.core, right.core))
        moved = "moves as the targets do" if as_meant else "moves otherwise than the targets"
        title = f"{left.span.section.name} to {right.span.section.name}: {said}; {moved}"
        signs.append(Medallion(round(100.0 * bar / total, 3), sign, title, as_meant, right.span.section.id))
    return tuple(signs)


def small_stair(picture: dict) -> list[tuple[float, float, float, float]]:  # type: ignore[type-arg]
    """Steps of a shelf card: x, width (per cent), y of arranged energy and of the target, 0..40 pixels."""
    total, x, steps = max(1, picture.get("bars", 1)), 0.0, []
    for step in picture.get("steps", ()):
        width = 100.0 * step["bars"] / total
        steps.append(
            (
                round(x, 2),
                round(width, 2),
                40 - 3.8 * min(step["arranged"], 10.4),
                40 - 1.9 * (step["start"] + step["end"]),
            )
        )
        x += width
    return steps


def facts_stair(facts: SongFacts) -> list[tuple[float, float, float, float]]:
    """The small stair of a song of which only the facts are at hand, as `small_stair` gives it."""
    steps = [{"bars": s.bars, "start": s.start, "end": s.end, "arranged": s.arranged} for s in facts.steps]
    return small_stair({"bars": facts.bars, "steps": steps})


def wave_path(levels: Sequence[int], width: float, middle: float, reach: float) -> str:
    """The outline of a sound about a line: levels from 0 to 99 over the width, as the data of a path."""
    step = width / max(1, len(levels))
    tops = [(i * step, reach * level / 99.0) for i, level in enumerate(levels)]
    above = " ".join(f"{x:.1f},{middle - y:.1f}" for x, y in tops)
    below = " ".join(f"{x:.1f},{middle + y:.1f}" for x, y in reversed(tops))
    return f"M{above} L{below} Z" if tops else ""
