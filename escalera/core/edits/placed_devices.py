"""From patterns to devices and back: what was found at a join becomes a device, and a device becomes notes, curves and throws."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.song import Ids, Placement, Song
from escalera.core.edits.edit import edit, section_of
from escalera.core.edits.join_edits import AddDevice, RemoveDevice, device_of
from escalera.core.energy.join_reading import Carrier, found_carriers
from escalera.core.joins.actions import ACTS
from escalera.core.joins.as_played import extent_of
from escalera.core.joins.workings import Workings
from escalera.core.palette.join_kinds import JOIN_KINDS, ROWS
from escalera.core.reading.placements import cleared, ordered
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, shown

WITHIN_PATTERNS = ("pickup",)  # found ones that no span of a layer holds by itself
FAMILY_CHOICES = next(row for row in ROWS if row.key == "filter-open").parameter_by_key["family"].choices


@edit("place_found", "joins placements layers")
class PlaceFound:
    """Make a device of what patterns bring at a join, so that it can be moved, varied and copied; the patterns lose it."""

    section_id: int
    device: str
    layer_id: int = 0

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        index = song.index_of(section.id)
        found = (
            next((c for c in found_carriers(song, index) if (c.kind, c.layer_id) == (self.device, self.layer_id)), None)
            if index
            else None
        )
        if found is None:
            raise EditError(
                f"No “{shown(self.device)}” is found at the join into {section.name} any more. Load the page again."
            )
        if found.kind in WITHIN_PATTERNS:
            raise EditError(
                f"{found.of.label} belong to a pattern of {section.name}. Add pickup notes as a device instead, and take them out of the pattern."
            )
        song, settings = _taken_out(song, index, found)
        length = max(1, found.end_ticks - found.start_ticks)
        if found.start_ticks >= 0:
            length = max(length, song.metre.bar_ticks)
        return AddDevice(
            section.id, found.kind, found.start_ticks, length, found.layer_id if found.of.takes_layer else 0, settings
        ).apply(song)

    def summary(self, song: Song) -> str:
        label = JOIN_KINDS[self.device].label if self.device in JOIN_KINDS else self.device
        return f"{label} into {section_of(song, self.section_id).name} made a device"


def _taken_out(song: Song, index: int, found: Carrier) -> tuple[Song, dict[str, float]]:
    """The song without what was found, and the settings that a device of it needs."""
    if found.kind == "gap":
        return song, {"tails": 1.0}
    if found.kind == "filter-open":
        return _without_opening(song, index, found)
    left, right = timeline(song).spans[index - 1 : index + 1]
    span, low, high = (
        (left, found.start_ticks + left.length_ticks, left.length_ticks)
        if found.start_ticks < 0
        else (right, 0, right.bar_metres[0].beat_ticks)
    )
    ids = Ids(song.next_id)
    section = song.section_by_id[span.section.id]
    placements = cleared(section.placements, found.layer_id, max(0, low), high, ids)
    song = song.with_section(replace(section, placements=ordered(placements)))
    return replace(song, next_id=ids.next_id), {}


def _without_opening(song: Song, index: int, found: Carrier) -> tuple[Song, dict[str, float]]:
    section, length = song.sections[index - 1], timeline(song).spans[index - 1].length_ticks
    layer = song.layer_by_id[found.layer_id]
    settings: dict[str, float] = {"family": float(FAMILY_CHOICES.index(layer.family))}
    kept: list[Placement] = []
    for p in section.placements:
        v = p.variation
        if (
            p.layer_id == layer.id
            and p.end_ticks == length
            and v.lowpass_start_hz is not None
            and v.lowpass_end_hz is not None
        ):
            settings |= {
                "from_hz": min(18_000.0, max(40.0, v.lowpass_start_hz)),
                "to_hz": min(18_000.0, max(40.0, v.lowpass_end_hz)),
            }
            kept.append(replace(p, variation=replace(v, lowpass_start_hz=None, lowpass_end_hz=None)))
        else:
            kept.append(p)
    return song.with_section(replace(section, placements=tuple(kept))), settings


@edit("write_device", "joins placements notes shaping time")
class WriteDevice:
    """Write a device at a join out as notes, silences, curves and throws of the song's own; the device is gone then."""

    section_id: int
    device_id: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        device = device_of(section, self.device_id)
        if device.parked:
            raise EditError(f"{device.of.label} rests and makes no sound. Let it sound first.")
        work = Workings(song, Ids(song.next_id))
        join = work.join(song.index_of(section.id))
        low, high = extent_of(work, join, device)
        if device.kind == "tempo-ease" and join.left is not None:
            before = join.left.section
            song = song.with_section(replace(before, tempo_changes=join.left.tempo_points))
        else:
            if low < high:
                ACTS[device.kind](work, join, device, low, high)
            song = work.written()
        return RemoveDevice(section.id, device.id).apply(song)

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{device_of(section, self.device_id).of.label} into {section.name} written into patterns"
