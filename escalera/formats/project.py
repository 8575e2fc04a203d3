"""Project files: documented JSON with a version. The models below are the schema (docs/project.schema.json)."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from escalera import __version__
from escalera.core.document.codec import from_plain, to_plain
from escalera.core.document.limits import (
    MAX_BARS,
    MAX_CHAIN,
    MAX_LAYERS,
    MAX_NAME,
    MAX_NOTES,
    MAX_PARKED,
    MAX_POINTS,
    MAX_REASON,
    MAX_RECIPE,
    MAX_SECTIONS,
    MAX_STACK,
    MAX_THROWS,
)
from escalera.core.document.song import Song
from escalera.core.rhythm.pattern import pattern_from_list
from escalera.core.theory.voicings import MAX_VOICES
from escalera.core.validation.whole import validate
from escalera.errors import FormatError, InputError, shown

FORMAT, VERSION = "escalera-project", 1
MAX_BYTES = 24_000_000


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class PassModel(Strict):
    on: int = Field(alias="pass", ge=0, le=32, description="which pass of the loop, from 2; 0 is a section's last")
    changes: list[tuple[int, str]] = Field(min_length=1, max_length=2000)


class ChordsModel(Strict):
    length_ticks: int = Field(ge=1)
    changes: list[tuple[int, str]] = Field(min_length=1, max_length=2000, description="tick, chord name")
    passes: list[PassModel] = Field([], max_length=32, description="what is played instead on a pass")


class VoicingModel(Strict):
    voices: int = Field(0, ge=0, le=MAX_VOICES, description="0 plays as many as the pattern has")
    spread: str = "close"
    inversion: str = "least motion"
    octave_below: bool = False
    omit: str = ""
    double: str = ""


class TargetModel(Strict):
    start: float
    end: float
    shape: str = "line"


class VariationModel(Strict):
    transpose_semitones: int = 0
    keep: float = 1.0
    double: bool = False
    reverse: bool = False
    level_start_db: float = 0.0
    level_end_db: float = 0.0
    lowpass_start_hz: float | None = None
    lowpass_end_hz: float | None = None


class PlacementModel(Strict):
    id: int
    layer: int
    pattern: int
    start: int = Field(description="ticks from the section's start")
    end: int
    offset: int = 0
    variation: VariationModel | None = None


class CurveModel(Strict):
    lane: str = Field(max_length=120, description="path of the parameter, for example layer.12.lowpass_hz")
    rate_ticks: int = Field(960, ge=1, le=100_000)
    points: list[tuple[int, float, str]] = Field(min_length=1, max_length=MAX_POINTS, description="tick, value, shape")


class BodyModel(Strict):
    id: int
    name: str
    role: str = "none"
    bars: int = Field(ge=1, le=MAX_BARS)
    phrases: list[int] = Field(min_length=1)
    target: TargetModel
    placements: list[PlacementModel] = Field(max_length=20_000)
    metres: list[tuple[int, str]] = []
    tempos: list[tuple[int, float] | tuple[int, float, bool]] = Field(
        [], description="tick, quarters a minute, and whether it glides to the next"
    )
    shift_semitones: int = Field(0, ge=-24, le=24)
    stretched: int = Field(0, ge=-999, le=999, description="bars by which it was made longer or cut short on purpose")
    length_reason: str = Field("", max_length=200)
    chords: ChordsModel | None = None
    swings: list[tuple[int, int, float]] = Field(
        [],
        max_length=100,
        description="layer (0 for all), ticks of the subdivision, where in its pair the second comes",
    )
    curves: list[CurveModel] = Field([], max_length=400)
    treatments: list[tuple[int, str, float]] = Field([], max_length=2000, description="layer, parameter, value")
    throws: list[tuple[int, int, int, str, float]] = Field(
        [], max_length=MAX_THROWS, description="layer, start, end, shared space, level in dB"
    )


class ParkedModel(Strict):
    id: int
    name: str = Field(min_length=1, max_length=MAX_NAME)
    who: str = Field("", max_length=MAX_NAME)
    reason: str = Field("", max_length=MAX_REASON)
    body: BodyModel


class SectionModel(BodyModel):
    body_name: str = Field("", max_length=MAX_NAME, description="what its body is called among the parked ones")
    body_who: str = Field("", max_length=MAX_NAME, description="who proposed the body that stands")
    parked: list[ParkedModel] = Field([], max_length=MAX_PARKED, description="bodies it can be exchanged for")


class EffectModel(Strict):
    id: int
    effect: str
    settings: dict[str, float] = {}
    on: bool = True


class StackModel(Strict):
    id: int
    sound: str
    settings: dict[str, float] = {}
    level_db: float = Field(0.0, ge=-40, le=12)
    offset_ms: float = Field(0.0, ge=0, le=100)
    inverted: bool = False
    pan: float = Field(0.0, ge=-1, le=1)
    reason: str = Field("", max_length=200)


class BusModel(Strict):
    family: str
    level_db: float = Field(0.0, ge=-60, le=12)
    effects: list[EffectModel] = Field([], max_length=MAX_CHAIN)


class LayerModel(Strict):
    id: int
    name: str
    sound: str
    family: str
    job: str
    seed: int = Field(1, ge=0, lt=2**31)
    level_db: float = -10.0
    pan: float = 0.0
    lowpass_hz: float = 20_000.0
    highpass_hz: float = 20.0
    reverb_send_db: float = -60.0
    echo_send_db: float = -60.0
    near_send_db: float = -60.0
    chamber_send_db: float = -60.0
    shimmer_send_db: float = -60.0
    duck_by: int = Field(0, description="id of the layer that ducks it; 0 is every kick, -1 every beat")
    duck_db: float = 0.0
    duck_release_beats: float = 0.75
    octave: int = 0
    tune_cents: float = Field(0.0, ge=-100, le=100)
    muted: bool = False
    pattern_id: int = 0
    source: str = Field("", max_length=200)
    recipe: str = Field("", max_length=MAX_RECIPE)
    reason: str = Field("", max_length=MAX_REASON, description="what it is there for")
    aside: str = Field("", max_length=MAX_REASON, description="why it was tried and set aside; it is muted then")
    sent_by: str = Field("", max_length=MAX_NAME, description="who sent it; its notes and sound then stay as they are")
    settings: dict[str, float] = {}
    effects: list[EffectModel] = Field([], max_length=MAX_CHAIN)
    stack: list[StackModel] = Field([], max_length=MAX_STACK)
    voicing: VoicingModel | None = None


class PatternModel(Strict):
    id: int
    name: str = Field(max_length=200)
    family: str
    length_ticks: int
    notes: list[list[int]] = Field(
        description="rows of start, duration, kind, value, octave, velocity", max_length=MAX_NOTES
    )


class GrooveModel(Strict):
    id: int
    name: str = Field(max_length=200)
    feel: str = Field("", max_length=80)
    variant_of: int = 0
    parts: dict[str, int] = Field(max_length=20, description="drum and the id of its pattern")


class ScaleModel(Strict):
    gain: float | None = None
    offset: float = 0.0


class SongModel(Strict):
    title: str
    tempo_bpm: float
    metre: str
    key: str
    school: str = "balanced"
    switches: dict[str, str] = {}
    lead_bars: int = 0
    master_gain_db: float = 0.0
    buses: list[BusModel] = Field([], max_length=7)
    master: list[EffectModel] = Field([], max_length=MAX_CHAIN)
    returns: dict[str, dict[str, float]] = {}
    scale: ScaleModel = ScaleModel()
    chords: ChordsModel | None = None
    layers: list[LayerModel] = Field(max_length=MAX_LAYERS)
    sections: list[SectionModel] = Field(max_length=MAX_SECTIONS)
    patterns: list[PatternModel] = Field(max_length=20_000)
    grooves: list[GrooveModel] = Field([], max_length=2000)
    words: dict[str, str] = Field({}, max_length=200, description="own words for drums")
    next_id: int
    notes: str = Field("", max_length=10_000)
    push_ticks: int = 0
    tuning_hz: float = 440.0
    tuned_down: int = 0
    capo_fret: int = 0
    accepted: list[tuple[str, str, str]] = Field(
        [], max_length=400, description="findings that are meant like this: key, figures, reason"
    )
    brief: dict[str, str] = Field({}, max_length=40, description="what is wanted: wish and text")
    drop_means: Literal["", "peak", "out"] = ""
    tune: tuple[int, int, int] = Field(
        (0, 0, 0),
        description="section id, layer id and phrase (from 0) of the line that is the tune; zeros let it be found",
    )


class ProjectModel(Strict):
    format: Literal["escalera-project"]
    version: int = Field(ge=1)
    program: str = ""
    song: SongModel


def write_project(song: Song) -> bytes:
    """A project file: the whole document, notes included."""
    project = {"format": FORMAT, "version": VERSION, "program": __version__, "song": to_plain(song, with_notes=True)}
    return json.dumps(project, indent=1, ensure_ascii=False).encode()


def read_project(data: bytes) -> Song:
    """A song from a project file. Raises FormatError with value, limit and remedy."""
    if len(data) > MAX_BYTES:
        raise FormatError(f"The project file has {len(data) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are read.")
    try:
        plain = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise FormatError(
            f"The project file is not whole JSON ({shown(error, 80)}). Save it again from where it came."
        ) from error
    if not isinstance(plain, dict) or plain.get("format") != FORMAT:
        raise FormatError(f"This JSON file is not an Escalera project: its “format” is not “{FORMAT}”.")
    if isinstance(plain.get("version"), int) and plain["version"] > VERSION:
        raise FormatError(
            f"The project has version {plain['version']}; this program reads up to {VERSION}. Update Escalera."
        )
    _count_notes(plain)
    try:
        model = ProjectModel.model_validate(plain)
    except ValidationError as error:
        raise FormatError(_sentence(error)) from error
    song_plain = model.song.model_dump(by_alias=True)
    sections = song_plain["sections"]
    for section in (*sections, *(p["body"] for s in sections for p in s["parked"])):
        for placement in section["placements"]:
            if placement["variation"] is None:
                del placement["variation"]
    try:
        song = from_plain(song_plain, lambda p: pattern_from_list(p["length_ticks"], p["notes"]))
    except InputError as error:
        raise FormatError(f"The project cannot be used: {error}") from error
    return validate(song)


def _count_notes(plain: dict[str, Any]) -> None:
    """Refuse a flood of notes before anything is made of it."""
    song = plain.get("song")
    patterns = song.get("patterns", []) if isinstance(song, dict) else []
    rows = (p.get("notes", []) for p in patterns if isinstance(p, dict)) if isinstance(patterns, list) else ()
    count = sum(len(r) for r in rows if isinstance(r, list))
    if count > MAX_NOTES:
        raise FormatError(
            f"The project has {count:,} notes; at most {MAX_NOTES:,} are read. Split it over several songs."
        )


def _sentence(error: ValidationError) -> str:
    first = error.errors()[0]
    where = " → ".join(str(part) for part in first["loc"])
    more = f" (and {error.error_count() - 1} more places)" if error.error_count() > 1 else ""
    if first["type"] == "extra_forbidden":
        return f"The project file has a field that is not known: {where}{more}. Remove it, or update Escalera."
    return f"The project file cannot be used at {where}: {first['msg'].lower()}, found “{shown(first.get('input', ''))}”{more}."


def project_schema() -> dict[str, Any]:
    """The JSON Schema of project files."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **ProjectModel.model_json_schema()}
