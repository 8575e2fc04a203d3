"""What the pages of one song show, from one place: the page and every fragment are made from the same context."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from flask import current_app, request
from markupsafe import Markup, escape

from escalera.core.bench.group_bands import group_bands
from escalera.core.bench.line_choice import hook_of, makers_for
from escalera.core.document.bodies import uses_pattern
from escalera.core.document.chord_text import write_chordline
from escalera.core.document.recordings import Sample
from escalera.core.document.song import ROLES, Layer, Section, Song
from escalera.core.edits.edit import id_in
from escalera.core.edits.target_edits import phrase_text
from escalera.core.energy.explain import INAUDIBLE, Agreement, Explanation, arranged_agreement, explain, layer_changes
from escalera.core.energy.join_reading import join_said
from escalera.core.energy.joins import join_devices
from escalera.core.energy.model import SectionEnergy, SongEnergy, arranged
from escalera.core.joins import device_tiles
from escalera.core.lines.line_reading import LineReading
from escalera.core.lines.makers import Maker
from escalera.core.moves.suggestions import APART
from escalera.core.palette.effects import NOTE_VALUES, RETURNS
from escalera.core.palette.recorded_sounds import BEAT, PART
from escalera.core.palette.sounds import FAMILIES, JOBS, SOUNDS
from escalera.core.reading.phrase_frames import line_reading
from escalera.core.reading.slips import Slip, find_slips
from escalera.core.reading.tiles import Tile, tiles, where
from escalera.core.reading.timeline import Span, Timeline
from escalera.core.rhythm.notation import write_pattern
from escalera.errors import EditError, MeasureError
from escalera.lazy_dataclasses import dataclass
from escalera.services import library
from escalera.services.rendering import RATE_HZ, MeasuredSection, MeasuredSong
from escalera.services.studio import Studio
from escalera.store.repository import Head
from escalera.web.drawing import Stair, draw_stair
from escalera.web.mix_over import MixOver, mix_over
from escalera.web.shaping_view import LayerShaping, OwnerShaping, Row, mix_shaping, spaces


def studio() -> Studio:
    return current_app.extensions["studio"]


@dataclass(frozen=True)
class Selection:
    """What the inspector is about: a section, a layer, a tile, or the song."""

    what: str
    section_id: int = 0
    layer_id: int = 0
    phrase: int = 0
    against_id: int = 0

    @property
    def text(self) -> str:
        return f"{self.what}:{self.section_id}:{self.layer_id}:{self.phrase}:{self.against_id}"


def some_section(song: Song, section_id: int) -> Section:
    """The section of that id, else the first. Raises EditError where a song has none."""
    if not song.sections:
        raise EditError("This song has no section yet. Add one on its stair first.")
    return song.section_by_id.get(section_id, song.sections[0])


def read_selection(text: str, song: Song) -> Selection:
    """A selection that exists in the song; the first section when the text names nothing that does."""
    parts = (text or "").split(":")
    numbers = [id_in(p) for p in (parts[1:] + ["0"] * 4)[:4]]
    chosen = Selection(parts[0], *numbers)
    section_there, layer_there = chosen.section_id in song.section_by_id, chosen.layer_id in song.layer_by_id
    if chosen.what == "song":
        return chosen
    if chosen.what == "mix":
        return chosen if section_there else Selection("mix", song.sections[0].id if song.sections else 0)
    if chosen.what == "layer" and layer_there:
        return chosen if section_there else replace(chosen, section_id=_first_played(song, chosen.layer_id))
    if (
        chosen.what == "tile"
        and layer_there
        and section_there
        and chosen.phrase < len(song.section_by_id[chosen.section_id].phrases)
    ):
        return chosen
    if chosen.what in ("section", "tile") and section_there:
        return Selection("section", chosen.section_id, against_id=chosen.against_id)
    return Selection("section", song.sections[0].id) if song.sections else Selection("song")


def _first_played(song: Song, layer_id: int) -> int:
    """The first section in which a layer plays; the first of all when it plays nowhere."""
    playing = (s.id for s in song.sections if any(p.layer_id == layer_id for p in s.placements))
    return next(playing, song.sections[0].id if song.sections else 0)


DEVICE_SAID = "; a device at the join plays it"


@dataclass(frozen=True)
class WallRow:
    """A layer and its row of tiles, ready made and remembered, since a wall has hundreds.

    `head` is the group's own row where this layer is the first of one; `group` its name where the layer is in one.
    """

    layer: Layer
    tiles: Markup
    group: str = ""
    head: Markup | None = None


@lru_cache(maxsize=256)
def wall_row(
    name: str,
    family: str,
    row: tuple[Tile, ...],
    names: tuple[tuple[int, str], ...],
    shift: int,
    chosen: tuple[int, int] | None,
    by_devices: frozenset[tuple[int, int]] = frozenset(),
    relief: tuple[str, float] = ("", 0.0),
) -> Markup:
    """The buttons of one row of the wall; only their labels hold words of the user, and are escaped.

    `relief` is what a recorded layer's tiles show of its sound, and the bars it takes.
    """
    section_names, glaze = dict(names), family.replace(" ", "-")
    parts = []
    for index, t in enumerate(row):
        marks = (" varied" if t.varied else "") + (" first" if t.phrase == 0 and index else "")
        marks += " chosen" if chosen == (t.section_id, t.phrase) else ""
        bare, at_join = t.state == "empty", (t.section_id, t.phrase) in by_devices
        marks += " at-join" if at_join else ""
        said = DEVICE_SAID if at_join else ""
        parts.append(
            f'<button type="button" role="gridcell" tabindex="-1" class="tile {t.state} fam-{glaze}{marks}"'
            f' id="t{t.section_id}-{t.layer_id}-{t.phrase}" data-tile="{t.section_id}:{t.layer_id}:{t.phrase}"'
            f' style="grid-column:{t.first_bar + shift}/span {t.bars}" aria-selected="{"false" if bare else "true"}"'
            f' aria-label="{escape(f"{name}, {section_names[t.section_id]}, {t.said}{said}")}">{"" if bare else _fill(t, relief)}</button>'
        )
    return Markup("".join(parts))


def _fill(tile: Tile, relief: tuple[str, float]) -> str:
    """What of a tile is coloured: all of it, or the stretches that sound; a recording shows its own envelope on it."""
    drawn = ""
    if relief[0]:
        size = 100 * relief[1] / max(tile.bars, 1)
        drawn = f'<u class="relief" style="background-image:url(&quot;{relief[0]}&quot;);background-size:{size:g}% 100%"></u>'
    plain = "".join(f'<i style="left:{100 * a:g}%;right:{100 - 100 * b:g}%"></i>' for a, b in tile.filled) or "<i></i>"
    return plain + drawn


@lru_cache(maxsize=512)
def _relief(slots: str, slot_s: float, start_s: float, end_s: float) -> str:
    """The envelope of a stretch of a recording as a picture of its own, for tiles; empty where nothing was read."""
    power = Sample("", "-", end_s, slots=slots, slot_s=slot_s).power.sum(axis=1)
    level = np.sqrt(power[int(start_s / slot_s) : max(int(start_s / slot_s) + 1, round(end_s / slot_s))])
    if not len(level) or level.max() <= 0:
        return ""
    steps = np.interp(np.linspace(0, len(level) - 1, 33), np.arange(len(level)), level / level.max()) ** 0.7
    top = "".join(f"L{3 * i} {12 - 10.5 * v:.1f}" for i, v in enumerate(steps))
    low = "".join(f"L{3 * i} {12 + 10.5 * v:.1f}" for i, v in reversed(list(enumerate(steps))))
    drawn = f"<path fill='%23fff4dd' fill-opacity='.8' d='M0 12{top}{low}Z'/>"
    head = "<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 96 24' preserveAspectRatio='none'>"
    return "data:image/svg+xml," + f"{head}{drawn}</svg>".replace("<", "%3C").replace(">", "%3E")


def relief_of(song: Song, layer: Layer) -> tuple[str, float]:
    """What a layer's tiles show of its sound, and the bars it takes; nothing for a layer that plays notes."""
    if not layer.clips or layer.sound_key not in (BEAT, PART):
        return "", 0.0
    clip = layer.clips[0]
    sample = song.sample_by_content.get(clip.sample)
    if sample is None:
        return "", 0.0
    return _relief(sample.slots, sample.slot_s, clip.start_s, clip.end_s), clip.length_ticks / song.metre.bar_ticks


def looks_alike(a: Song, b: Song) -> bool:
    """Whether two states have the same wall: the same layers, sections and placements under the same names."""

    def layers(song: Song) -> list[tuple[object, ...]]:
        return [
            (x.id, x.name, x.family, x.sound_key, x.clips, x.muted, x.reason, x.aside, x.group, x.stand_in)
            for x in song.layers
        ]

    def sections(song: Song) -> list[tuple[object, ...]]:
        return [(s.id, s.name, s.bars, s.phrases, s.placements, s.devices, s.build) for s in song.sections]

    same_names = [p.name for p in a.patterns] == [p.name for p in b.patterns]
    return same_names and a.lead_bars == b.lead_bars and layers(a) == layers(b) and sections(a) == sections(b)


def song_manifest(head: Head, line: Timeline, levels: list[float | None] | None = None) -> str:
    """What the player needs, as JSON: where every section lies and when its bars start. Keys come apart (`sound_keys`)."""
    starts = line.samples(RATE_HZ)
    rows = [
        {
            "id": span.section.id,
            "name": span.section.name,
            "start": a,
            "samples": b - a,
            "bar": span.first_bar,
            "bars": [round(t, 5) for t in span.grid.bar_seconds],
            "beats": [m.beats for m in span.bar_metres],
        }
        for span, a, b in zip(line.spans, starts, starts[1:])
    ]
    text = json.dumps({"song": head.song_id, "revision": head.revision_id, "sections": rows, "lufs": levels or []})
    return text.replace("<", "\\u003c")  # a name must not be able to end the script element


class SongView:
    """All that templates ask of a song in one state."""

    def __init__(self, head: Head, selection: Selection, measured: MeasuredSong | None, trouble: str = ""):
        self.head, self.selection, self.measured = head, selection, measured
        self.trouble = trouble  # why there will be no measurement
        self.song: Song = head.song
        self.energy: SongEnergy = arranged(head.song)

    @cached_property
    def agreement(self) -> Agreement:
        return arranged_agreement(self.energy)

    @cached_property
    def stair(self) -> Stair:
        return draw_stair(self.song, self.energy, self.measured, self.agreement)

    @cached_property
    def mix(self) -> MixOver | None:
        """The newest mix from elsewhere that lies over the song as it is."""
        return mix_over(studio().bounces.of_song(self.head.song_id, self.song), self.song)

    @property
    def wall(self) -> list[WallRow]:
        rows = self._wall_rows()
        first: dict[str, int] = {}
        for i, row in enumerate(rows):
            first.setdefault(row.layer.group, i)
        together = sorted(
            range(len(rows)), key=lambda i: (first[rows[i].layer.group], i) if rows[i].layer.group else (i, i)
        )
        found, seen = [], {""}
        for row in (rows[i] for i in together):
            name = row.layer.group
            head = None if name in seen else self._group_row(name)
            seen.add(name)
            found.append(replace(row, group=name, head=head))
        return found

    def group_bands(self) -> list[tuple[str, str]]:
        """What every layer of the chosen layer's group adds, in words."""
        rows = group_bands(self.song, self.layer.group) if self.layer else []
        return [
            (name, ", ".join(f"{100 * share:.0f} % of {band} Hz" for band, share in bands) or "adds little by itself")
            for name, bands in rows
        ]

    def _group_row(self, name: str) -> Markup:
        """A button a phrase: whether all, some or none of a group play; pressing it fills or clears the group there."""
        layers = [x for x in self.song.layers if x.group == name]
        parts: list[str] = []
        glaze = layers[0].family.replace(" ", "-")
        for span in self.energy.line.spans:
            by_layer = tiles(self.song, span)
            for phrase in range(len(span.section.phrases)):
                column = [by_layer[x.id][phrase] for x in layers]
                playing = sum(t.state != "empty" for t in column)
                state = "empty" if not playing else "full" if playing == len(layers) else "partial"
                do = json.dumps(
                    {"kind": "toggle_group", "group": name, "section_id": span.section.id, "phrase": phrase}
                )
                said = f"{name}, {span.section.name}, phrase {phrase + 1}: {playing} of {len(layers)} play"
                first = " first" if phrase == 0 and parts else ""
                parts.append(
                    f'<button type="button" role="gridcell" aria-selected="{"true" if playing else "false"}" class="tile {state} fam-{glaze}{first}" data-do="{escape(do)}"'
                    f' style="grid-column:{column[0].first_bar + self.song.lead_bars}/span {column[0].bars}" title="{escape(said)}"'
                    f' aria-label="{escape(said)}">{"<i></i>" if playing else ""}</button>'
                )
        return Markup("".join(parts))

    def _wall_rows(self) -> list[WallRow]:
        found = [tiles(self.song, span) for span in self.energy.line.spans]
        names = tuple((s.id, s.name) for s in self.song.sections)
        s, rows, devices = self.selection, [], device_tiles(self.song)
        for layer in sorted(self.song.layers, key=lambda x: bool(x.aside)):
            row = tuple(t for by_layer in found for t in by_layer[layer.id])
            chosen = (s.section_id, s.phrase) if s.what == "tile" and s.layer_id == layer.id else None
            there = devices.get(layer.id, frozenset())
            rows.append(
                WallRow(
                    layer,
                    wall_row(
                        layer.name,
                        layer.family,
                        row,
                        names,
                        self.song.lead_bars,
                        chosen,
                        there,
                        relief_of(self.song, layer),
                    ),
                )
            )
        return rows

    @property
    def seconds(self) -> float:
        return self.energy.line.seconds

    @property
    def spans(self) -> tuple[Span, ...]:
        return self.energy.line.spans

    def manifest(self) -> str:
        levels: list[float | None] = []
        if self.measured:
            levels = [round(float(v), 1) if v > -90 else None for s in self.measured.sections for v in s.lufs]
        return song_manifest(self.head, self.energy.line, levels)

    # the inspector -----------------------------------------------------------------------------------------------

    @property
    def section(self) -> Section | None:
        return self.song.section_by_id.get(self.selection.section_id)

    @property
    def layer(self) -> Layer | None:
        return self.song.layer_by_id.get(self.selection.layer_id)

    @property
    def span(self) -> Span:
        return self.energy.line.span_of(self.selection.section_id)

    @property
    def section_energy(self) -> SectionEnergy:
        return self.energy.of(self.selection.section_id)

    @property
    def against(self) -> SectionEnergy | None:
        """The section to compare with: the chosen one, else the one before (the one after the first)."""
        if len(self.song.sections) < 2:
            return None
        if (
            self.selection.against_id in self.song.section_by_id
            and self.selection.against_id != self.selection.section_id
        ):
            return self.energy.of(self.selection.against_id)
        index = self.song.index_of(self.selection.section_id)
        return self.energy.sections[index - 1 if index else 1]

    def explanation(self) -> Explanation:
        return explain(self.section_energy, self.against)

    def where(self) -> str:
        return where(self.span)

    def slips(self) -> list[Slip]:
        """What starts or ends a beat beside a bar line in the section."""
        return find_slips(self.song, self.span)

    def asks_drop(self) -> bool:
        """Whether the word drop in the section's name has not been said to mean the peak or its opposite."""
        return bool(self.section and "drop" in self.section.name.lower() and not self.song.drop_means)

    def changes(self) -> list[Any]:
        return layer_changes(self.section_energy, self.against) if self.against else []

    def join_before(self) -> tuple[str, bool, float, float] | None:
        """How the section is entered: devices, whether it moves as the targets do, wanted and arranged change."""
        index = self.song.index_of(self.selection.section_id)
        if index == 0:
            return None
        left, right = self.energy.sections[index - 1], self.energy.sections[index]
        said, _ = join_said(self.song, index, join_devices(left.core, right.core))
        wanted = right.span.section.target.mean - left.span.section.target.mean
        return (
            said,
            self.agreement.as_meant[index - 1],
            wanted,
            right.value - left.value,
        )

    def contributions(self) -> list[tuple[Layer, float, float, bool]]:
        """Layers of the section with their share, what the section would lose without them, and whether that is heard."""
        energy = self.section_energy
        rows = [(x, energy.shares[x.id], energy.without[x.id], energy.without[x.id] > INAUDIBLE) for x in energy.layers]
        return sorted(rows, key=lambda row: -row[1])

    def target_by_phrase(self) -> str:
        return phrase_text(self.span.section)

    def measured_section(self) -> MeasuredSection | None:
        return self.measured.of(self.selection.section_id) if self.measured else None

    def layer_shaping(self) -> LayerShaping:
        assert self.layer is not None
        return LayerShaping(self.song, self.layer, self.span if self.section else None, studio().rendering)

    def mix_shaping(self) -> list[OwnerShaping]:
        return mix_shaping(self.song, self.span if self.section else None)

    def spaces(self) -> list[tuple[str, str, list[Row]]]:
        return spaces(self.song)

    def tile(self) -> Tile:
        assert self.layer is not None
        return tiles(self.song, self.span)[self.layer.id][self.selection.phrase]

    def tile_placements(self) -> list[Any]:
        low, high = self.span.phrase_ticks()[self.selection.phrase]
        mine = (p for p in self.span.section.placements if p.layer_id == self.selection.layer_id)
        return [p for p in mine if p.start_ticks < high and p.end_ticks > low]

    def sound_lies_apart(self) -> bool:
        """Whether the chosen section's measured energy lies so far from its arranged one that advice goes by it."""
        measured = self.measured_section()
        return measured is not None and abs(measured.value - self.section_energy.value) > APART

    def tile_bars(self) -> list[tuple[int, bool]]:
        """Number of every bar of the chosen tile in the song, and whether the layer plays in it."""
        phrase, rows = self.tile(), self.tile_placements()
        edges = self.span.bar_ticks[phrase.first_bar - self.span.first_bar :][: phrase.bars + 1]
        return [
            (phrase.first_bar + i, any(p.start_ticks < b and p.end_ticks > a for p in rows))
            for i, (a, b) in enumerate(zip(edges, edges[1:]))
        ]

    def line(self) -> LineReading | None:
        """What the chosen tile's line is; None for drums and silence."""
        assert self.layer is not None
        return (
            None if self.layer.sound.is_drum else line_reading(self.song, self.span, self.selection.phrase, self.layer)
        )

    def makers(self) -> list[Maker]:
        """The makers of lines that suit the layer, its own family's first."""
        assert self.layer is not None
        return makers_for(self.layer)

    def hook(self, found: LineReading) -> list[tuple[bool, str]]:
        return hook_of(self.layer, found) if self.layer else []

    def pattern_text(self, pattern_id: int, layer: Layer) -> str:
        return write_pattern(self.song.pattern_by_id[pattern_id].pattern, layer.sound.is_drum)

    def pattern_uses(self, pattern_id: int) -> int:
        return uses_pattern(self.song, pattern_id)

    def chordline(self, section: Section | None = None) -> str:
        owner = section.progression if section else self.song.progression
        return write_chordline(owner, self.song.metre)

    def patterns_for(self, layer: Layer) -> tuple[list[Any], list[library.LibraryPattern]]:
        """Patterns of the song and of the library that suit a layer."""
        own = [p for p in self.song.patterns if p.family == layer.family]
        return own, library.for_sound(layer.sound_key, layer.family)


LISTS = {
    "roles": ROLES,
    "families": FAMILIES,
    "jobs": JOBS,
    "sounds": SOUNDS,
    "returns": RETURNS,
    "note_values": NOTE_VALUES,
}


def song_view(head: Head, selected: str = "", measure: bool = True) -> SongView:
    """The view of a head; starts measuring when the measurement is not there yet."""
    measured, trouble = None, ""
    if measure:
        try:
            measured = studio().rendering.measured_later(head.song_id, head.song)
        except MeasureError as error:
            trouble = str(error)
    view = SongView(head, read_selection(selected, head.song), measured, trouble)
    if measure and view.section and request.method == "GET":  # an edit is answered first
        studio().rendering.choose(head.song, view.section.id)
    return view
