"""One performance over the form: loops of a family laid as one layer, alternates on repeats, fills, and an ending that slows the song."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from escalera.core.bench.sample_fit import clip_for, tempo_of
from escalera.core.document.bodies import on_all_bodies
from escalera.core.document.limits import MAX_LAYERS, MAX_TEMPO_BPM, MIN_TEMPO_BPM
from escalera.core.document.names import clean_name
from escalera.core.document.recordings import QUARTER_TICKS, Clip, Sample
from escalera.core.document.song import Layer, Placement, Section, Song
from escalera.core.edits.edit import edit
from escalera.core.edits.layer_edits import free_layer_name, in_family_order, seed_of
from escalera.core.edits.recording_edits import (
    USUAL_JOB,
    VELOCITY,
    levelled,
    sample_from,
    usual_family,
    with_sample,
)
from escalera.core.palette.recorded_sounds import BEAT, PART
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.placements import add_pattern, ordered
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.core.samples.families import MEMBERS
from escalera.core.samples.slowing import beats_followed, slows
from escalera.core.time.tempo import TempoPoint
from escalera.errors import EditError, shown
from escalera.lazy_dataclasses import dataclass

WANTED = {"chorus": ("chorus", "alternate", "verse"), "intro": ("intro", "verse"), "": ("verse", "chorus", "alternate")}
LIKE_CHORUS = ("chorus", "post-chorus", "drop")
LIKE_INTRO = ("intro", "re-intro")


@dataclass(frozen=True, slots=True)
class _Laid:
    """A family's layer while it is laid: which clip each part is, and how many ticks it takes."""

    layer: Layer
    clips: dict[str, int]

    def ticks(self, part: str, bar: int) -> int:
        length = self.layer.clips[self.clips[part]].length_ticks
        return max(bar, round(length / bar) * bar) if part not in ("fill", "ending") else length


@edit("lay_family", "layers notes placements time options")
class LayFamily:
    """Lay recordings of one performance over the whole form: verse, chorus and intro where they belong, the alternate on repeats,
    the fill at the end of sections, the ending at the song's end, whose slowing the song takes over."""

    name: str
    members: list[Any]

    def apply(self, song: Song) -> Song:
        samples = _samples(self.members)
        if not song.sections:
            raise EditError("The song has no sections yet, so that there is no form to lay it over. Add some first.")
        if len(song.layers) >= MAX_LAYERS:
            raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
        song, laid, ending = _as_layer(song, self.name, samples)
        last = song.sections[-1]
        closing = {last.id, *(p.id for p in last.parked)} if "ending" in laid.clips else set()

        def lay(flat: Song) -> Song:
            for section in flat.sections:
                at_end = "ending" if section.id in closing else "fill" if "fill" in laid.clips else ""
                flat = _laid_in(flat, laid, section, at_end)
                if at_end == "ending" and len(ending) > 1 and slows(ending):
                    flat = _slowed(flat, flat.section_by_id[section.id], ending)
            return flat

        song = on_all_bodies(song, lay)
        loudest = max(song.sections, key=lambda s: s.target.end)
        return levelled(song, song.section_by_id[loudest.id], laid.layer.id)

    def summary(self, song: Song) -> str:
        return f"{shown(self.name)} laid over the form, as one performance"


def _samples(members: list[Any]) -> dict[str, Sample]:
    """One sample for each part. Raises EditError."""
    found: dict[str, Sample] = {}
    for member in members:
        if (
            not isinstance(member, dict)
            or member.get("part") not in MEMBERS
            or not isinstance(member.get("sample"), dict)
        ):
            raise EditError(
                f"A member of a family is one of {', '.join(MEMBERS)} with its sample. Choose the family again."
            )
        found.setdefault(member["part"], sample_from(member["sample"]))
    if not set(found) - {"fill", "ending"}:
        raise EditError("The family has no loop to go round, only a fill or an ending. Lay those in one by one.")
    return found


def _as_layer(song: Song, name: str, samples: dict[str, Sample]) -> tuple[Song, _Laid, list[float]]:
    """The song with the family's layer; and the beats of its ending in seconds at the song's tempo."""
    leading = next(s for part, s in samples.items() if part not in ("fill", "ending"))
    family = usual_family(leading)
    clips: list[Clip] = []
    ending: list[float] = []
    for part, sample in samples.items():
        clip = clip_for(song, sample, family)
        if part == "ending":
            clip, ending = _ending(clip, sample, tempo_of(leading, song.tempo_bpm), song.tempo_bpm)
        clips.append(clip)
    for sample in samples.values():
        song = with_sample(song, sample, keep=frozenset(c.sample for c in clips))
    title = free_layer_name(song, clean_name(name[:1].upper() + name[1:]))
    key = BEAT if family in ("drums", "effects") else PART
    layer = Layer(
        song.next_id, title, key, family, USUAL_JOB[family], seed_of(title, {x.seed for x in song.layers}), BY_KEY[key].level_db,
        clips=tuple(clips), source=leading.source[:200],
    )  # fmt: skip
    song = replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1)
    return song, _Laid(layer, {part: i for i, part in enumerate(samples)}), ending


def _ending(clip: Clip, sample: Sample, own_tempo: float, song_tempo: float) -> tuple[Clip, list[float]]:
    """An ending as long as its beats are counted, and those beats as seconds at the song's tempo, its slowing kept."""
    followed = beats_followed(sample.onset_rows, own_tempo, sample.seconds)
    times = [(b - followed[0]) * own_tempo / song_tempo for b in followed]
    whole = max(1, len(times) - 1)
    rest = (sample.seconds - followed[-1]) * own_tempo / 60.0 if len(followed) > 1 else 0.0
    if len(times) > 2:  # what rings after the last beat lasts as long as it does, counted in beats of the last length
        rest = (sample.seconds - followed[-1]) / (followed[-1] - followed[-2])
    return replace(clip, beats=round(whole + rest, 6), fit="stretch", start_s=followed[0]), times


def _laid_in(song: Song, laid: _Laid, section: Section, at_end: str) -> Song:
    """One section with the loop that suits its role, and its fill or ending."""
    bar = song.metre.bar_ticks
    end = section_bar_ticks(section, song.metre)[-1]
    role = "chorus" if section.role in LIKE_CHORUS else "intro" if section.role in LIKE_INTRO else ""
    part = next(p for p in (*WANTED[role], *MEMBERS) if p in laid.clips and p not in ("fill", "ending"))
    close = min(end, laid.ticks(at_end, bar)) if at_end else 0
    begins = (end - close) // QUARTER_TICKS * QUARTER_TICKS if close else end
    repeats = "alternate" if part == "verse" and "alternate" in laid.clips else ""
    rows = [(part, begins, 0)] if begins > 0 else []
    for what, until, start in [*rows, *([(at_end, end, begins)] if close else [])]:
        song, pattern_id = add_pattern(
            song,
            f"{laid.layer.name}, {what}",
            laid.layer.family,
            _pattern(laid, what, repeats if what == part else "", bar),
        )
        placement = Placement(song.next_id, laid.layer.id, pattern_id, start, until, start)
        here = song.section_by_id[section.id]
        song = song.with_section(replace(here, placements=ordered([*here.placements, placement])))
        song = replace(song, next_id=song.next_id + 1)
        if what == part and not song.layer_by_id[laid.layer.id].pattern_id:
            song = song.with_layer(replace(song.layer_by_id[laid.layer.id], pattern_id=pattern_id))
    return song


def _pattern(laid: _Laid, part: str, repeats: str, bar: int) -> Pattern:
    """A part as a pattern; with an alternate, which is heard every second time round."""
    rows, at = [], 0
    for each in (part, repeats) if repeats else (part,):
        clip = laid.layer.clips[laid.clips[each]]
        length = laid.ticks(each, bar)
        rows.append([at, min(length, clip.length_ticks), CLIP, laid.clips[each], 0, VELOCITY])
        at += length
    return Pattern(at, rows)


def _slowed(song: Song, section: Section, beats: list[float]) -> Song:
    """The song with a closing section in the tempo of a played ending: a step at every beat of it."""
    end = section_bar_ticks(section, song.metre)[-1]
    placed = max((p for p in section.placements), key=lambda p: p.id)
    begins = placed.start_ticks
    points = [p for p in section.tempo_changes if p.tick < begins]
    for number, (a, b) in enumerate(zip(beats, beats[1:])):
        tick = begins + number * QUARTER_TICKS
        if tick < end:
            points.append(TempoPoint(tick, round(min(MAX_TEMPO_BPM, max(MIN_TEMPO_BPM, 60.0 / (b - a))), 3)))
    return song.with_section(replace(section, tempo_changes=tuple(points)))
