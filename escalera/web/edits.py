"""Edits from the pages of a song: forms read into edits, applied, and answered with what changed."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from flask import Blueprint, render_template, request
from pydantic import TypeAdapter, ValidationError

from escalera.core.bench.bass_faults import Fault, entering_faults
from escalera.core.checks import facts_text, find_finding
from escalera.core.document.lanes import lane_value
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits import EDITS, Edit
from escalera.core.edits.edit import layer_of, pattern_of, section_of
from escalera.core.edits.tile_edits import PlaceNew, SetPattern
from escalera.core.energy.model import section_energy
from escalera.core.moves import Move, apply_move, find_move
from escalera.core.moves.option_text import AddOptions
from escalera.core.reading.section_harmony import section_key
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.core.rhythm.notation import parse_pattern
from escalera.errors import EditError, InputError, StaleRevision, shown
from escalera.services import library
from escalera.services.new_song import add_layer_edit
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.song_view import studio

ADAPTERS: dict[str, TypeAdapter[Any]] = {}
PAGE_FIELDS = (
    "select",
    "hear",
    "held",
    "step",
    "shown",
    "rungs",
    "reach",
    "write",
    "steps",
    "csrf_token",
)  # what a page says of itself beside the edit
EMPTY_IS_A_VALUE = {"set_chords": ("chords",), "vary_chords": ("chords",), "set_notes": ("notes",), "set_recipe": ("text",),
                    "set_voicing": ("value",), "teach_word": ("drum",), "set_stack": ("reason",), "set_reason": ("reason",), "set_length_reason": ("reason",)}  # fmt: skip
LISTS = ("changes", "notes", "cells")  # fields that hold rows, written as JSON
LISTED = (
    "change_notes",
    "record_notes",
    "transpose_line",
    "transform_line",
    "quantise_line",
    "split_line",
    "set_tiles",
)
Fragments = Callable[[Head, Outcome | None], str]


def apply_form(song_id: int, form: dict[str, str]) -> Outcome:
    """The edit that a page asks for. Raises InputError, StaleRevision."""
    base = base_number(form.pop("base", ""))
    for name in PAGE_FIELDS:
        form.pop(name, None)
    act = ACTS.get(form.get("kind", ""))
    return act(song_id, base, form) if act else _edited(song_id, base, form)


def _edited(song_id: int, base: int, form: dict[str, str]) -> Outcome:
    return studio().edit(song_id, base, read_edit(form, studio().state(song_id, base)))


def _printed(song_id: int, base: int, form: dict[str, str]) -> Outcome:
    return studio().print_layer(song_id, base, whole_number(form.get("layer_id", "")))


def _accepted(song_id: int, base: int, form: dict[str, str]) -> Outcome:
    form["facts"] = facts_text(find_finding(studio().state(song_id, base), form.get("key", "")))
    return _edited(song_id, base, form)


def _moved(song_id: int, base: int, form: dict[str, str]) -> Outcome:
    song = studio().state(song_id, base)
    moves = found_moves(song, whole_number(form.get("section_id", "")), form.get("move", ""))
    edits = [edit for move in moves for edit in move.edits]
    return studio().edit(song_id, base, edits, "; ".join(move.label for move in moves))


def _with_options(song_id: int, base: int, form: dict[str, str]) -> Outcome:
    section_id = whole_number(form.get("section_id", ""))
    return studio().edit(song_id, base, AddOptions(section_id, form.get("text", ""), form.get("who", "")))


# what a page asks for that is more than one edit of the registry
ACTS: dict[str, Callable[[int, int, dict[str, str]], Outcome]] = {
    "fit_scale": lambda song_id, base, form: studio().fit_scale(song_id, base),
    "print_layer": _printed,
    "print_again": _printed,
    "accept_finding": _accepted,
    "move": _moved,
    "add_options": _with_options,
}


def found_moves(song: Song, section_id: int, keys: str) -> list[Move]:
    """Moves named by their keys, each as it applies after the ones before it. Raises EditError."""
    moves = []
    for key in keys.split("|"):
        moves.append(find_move(song, section_id, key))
        song = apply_move(song, moves[-1])
    return moves


def answer(song_id: int, act: Callable[[], Outcome], fragments: Fragments):  # type: ignore[no-untyped-def]
    """Fragments after an act; when it is refused, the notice with the reason (and, if stale, the newer state)."""
    try:
        outcome = act()
    except StaleRevision as error:
        notice = render_template("_notice.html", message=str(error), kind="error")
        return fragments(studio().head(song_id), None) + notice, error.status
    except InputError as error:
        return render_template("_notice.html", message=str(error), kind="error"), error.status
    return fragments(outcome.head, outcome)


Made = tuple[Sequence[Edit], str]


def page_edits(song_id: int, made: Callable[[Head, dict[str, str]], Made | None], fragments: Fragments):  # type: ignore[no-untyped-def]
    """An edit of a page that has kinds of its own: `made` gives their edits and a summary, or None for what every page knows."""
    form = request.form.to_dict()

    def act() -> Outcome:
        base = base_number(form.get("base", ""))
        own = made(Head(song_id, base, True, False, studio().state(song_id, base)), form)
        if own is None:
            return apply_form(song_id, form)
        steps, summary = own
        return studio().edit(song_id, base, steps, summary, named_by_last=not summary)

    return answer(song_id, act, fragments)


def add_steps(blueprint: Blueprint, fragments: Fragments) -> None:
    """Undo, redo and going back to an earlier state, for a page of a song."""

    def undo(song_id: int):  # type: ignore[no-untyped-def]
        return answer(song_id, lambda: Outcome(studio().undo(song_id), "Undone"), fragments)

    def redo(song_id: int):  # type: ignore[no-untyped-def]
        return answer(song_id, lambda: Outcome(studio().redo(song_id), "Redone"), fragments)

    def restore(song_id: int, revision_id: int):  # type: ignore[no-untyped-def]
        def act() -> Outcome:
            form = request.form
            verdict = _verdict(song_id, revision_id, form) if form.get("other") else ""
            return studio().restore(song_id, base_number(form.get("base", "")), revision_id, verdict)

        return answer(song_id, act, fragments)

    blueprint.post("/states/<int:revision_id>")(restore)
    blueprint.post("/undo")(undo)
    blueprint.post("/redo")(redo)


def _verdict(song_id: int, chosen: int, form: Mapping[str, str]) -> str:
    """What a blind choice leaves in the history."""
    section = section_of(studio().state(song_id, chosen), whole_number(form.get("section", "")))
    other, who, reason = whole_number(form["other"]), form.get("who", ""), form.get("reason", "")
    return studio().versions.verdict(song_id, chosen, other, section.name, who, reason)


def effect_on(song: Song, section_id: int, outcome: Outcome | None) -> tuple[float, float] | None:
    """Arranged energy of a section after and before an edit."""
    before = outcome.before if outcome else None
    if before is None or section_id not in before.section_by_id:
        return None
    after, was = (section_energy(s, timeline(s).span_of(section_id)).value for s in (song, before))
    return after, was


def entered(outcome: Outcome | None) -> list[tuple[Section, Layer, Fault, str]]:
    """Bass faults that an edit brought into a loud section: (section, layer, fault, words)."""
    if outcome is None or outcome.before is None:
        return []
    song = outcome.head.song
    found = entering_faults(outcome.before, song)
    return [
        (span.section, layer, fault, fault.said(section_key(song, span.section))) for span, layer, fault in found[:2]
    ]


def base_number(text: str) -> int:
    if not text.isdecimal():
        raise EditError("The page did not say which state it shows. Load it again.")
    return int(text)


def read_edit(form: dict[str, str], song: Song) -> Edit:
    """An edit from form fields. Empty fields are left at their defaults. Raises EditError."""
    kind = form.get("kind", "")
    fields = {name: value for name, value in form.items() if name != "kind" and value != ""}
    if kind != "sweep" and ("first_bar" in fields or "last_bar" in fields):  # a sweep runs over bars of the song
        fields |= _bars_to_ticks(fields, song)
    if kind == "throw" and "at_bar" in fields:
        fields = _throw_to_ticks(fields, song)
    if kind == "set_curve":
        fields["points"] = _points(fields, song)  # type: ignore[assignment]
    if kind == "set_pattern_text":
        return _pattern_from_text(fields, song)
    if kind == "add_layer" and "rows" not in fields:
        return add_layer_edit(fields.get("sound", ""), fields.get("name", ""), fields.get("pattern_key", ""))
    if kind == "place_library":
        return _place_from_library(fields)
    if kind not in EDITS:
        raise EditError(f"“{shown(kind)}” is not an edit. Load the page again.")
    if kind == "set_brief":
        fields = {"lines": {k.removeprefix("lines."): form[k] for k in form if k.startswith("lines.")}}  # type: ignore[dict-item]
    if kind == "make_line":
        fields["options"] = {
            k.removeprefix("options."): fields.pop(k) for k in list(fields) if k.startswith("options.")
        }  # type: ignore[assignment]
    if kind in LISTED:
        fields |= {name: _rows(fields[name]) for name in LISTS if name in fields}  # type: ignore[misc]
    fields |= {name: form[name] for name in EMPTY_IS_A_VALUE.get(kind, ()) if name in form}
    try:
        return _adapter(kind).validate_python(fields)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"]) or kind
        raise EditError(
            f"{where.replace('_', ' ')}: “{shown(first.get('input', ''))}” cannot be used ({first['msg'].lower()})."
        ) from error


def _bars_to_ticks(fields: dict[str, str], song: Song) -> dict[str, str]:
    """A span given as the song's bar numbers, first and last included, in ticks of its section."""
    first, last, section_id = (fields.pop(n, "") for n in ("first_bar", "last_bar", "section_id"))
    span = timeline(song).span_of(section_of(song, whole_number(section_id)).id)
    low, high = whole_number(first) if first else span.first_bar, whole_number(last) if last else span.last_bar
    if not span.first_bar <= low <= high <= span.last_bar:
        raise EditError(
            f"Bars {low}–{high} do not lie in {span.section.name}, which has bars {span.first_bar}–{span.last_bar}. Choose bars inside it."
        )
    ticks = span.bar_ticks
    start, end = ticks[low - span.first_bar], ticks[high - span.first_bar + 1]
    return {"section_id": section_id, "start_ticks": str(start), "end_ticks": str(end)}


def _rows(text: str) -> list[Any]:
    try:
        rows = json.loads(text)
    except ValueError:
        rows = None
    if not isinstance(rows, list):
        raise EditError("The notes cannot be read. Load the page again.")
    return rows


def _points(fields: dict[str, str], song: Song) -> list[Any]:
    """The points of a curve as JSON; a new curve starts where the parameter stands, from the section's start to its end."""
    text = fields.get("points", "")
    if not text:
        section = section_of(song, whole_number(fields.get("section_id", "")))
        value, end = lane_value(song, fields.get("lane", "")), section_bar_ticks(section, song.metre)[-1]
        return [[0, value, "line"], [end, value, "line"]]
    try:
        points = json.loads(text)
    except ValueError:
        raise EditError("The points of the curve cannot be read. Draw it again.") from None
    return points if isinstance(points, list) else [points]


def _throw_to_ticks(fields: dict[str, str], song: Song) -> dict[str, str]:
    """A throw given as the song's bar, the beat in it and a length in beats, in ticks of its section."""
    span = timeline(song).span_of(section_of(song, whole_number(fields.get("section_id", ""))).id)
    bar = whole_number(fields.pop("at_bar", "")) - span.first_bar
    if not 0 <= bar < span.section.bars:
        raise EditError(
            f"That bar does not lie in {span.section.name}, which has bars {span.first_bar}–{span.last_bar}. Choose one of them."
        )
    try:
        beat, long = float(fields.pop("at_beat", "1")), float(fields.pop("beats_long", "1"))
    except ValueError:
        raise EditError("A beat is a number, for example 3 or 2.5.") from None
    metre = span.bar_metres[bar]
    if not 1 <= beat < metre.beats + 1 or not 0 < long <= 64:
        raise EditError(
            f"Beat {beat:g} for {long:g} beats does not fit: the bar has beats 1 to {metre.beats}. Choose one of them."
        )
    start = span.bar_ticks[bar] + round((beat - 1) * metre.beat_ticks)
    end = min(span.length_ticks, start + max(1, round(long * metre.beat_ticks)))
    return {**fields, "start_ticks": str(start), "end_ticks": str(end)}


def whole_number(text: str) -> int:
    """Raises EditError."""
    try:
        return int(text)
    except ValueError:
        raise EditError(f"“{shown(text)}” is not a bar number. Write a whole number.") from None


def _pattern_from_text(fields: dict[str, str], song: Song) -> Edit:
    """New notes for a pattern, written as text (core.rhythm.notation)."""
    entry, layer = (
        pattern_of(song, whole_number(fields.get("pattern_id", "0"))),
        layer_of(song, whole_number(fields.get("layer_id", "0"))),
    )
    try:
        length = float(fields.get("length", ""))
    except ValueError:
        raise EditError(
            "The pattern’s length is not a number of beats. Write for example 4 for one bar of 4/4."
        ) from None
    sound = layer.sound
    pattern = parse_pattern(fields.get("notes", ""), length, sound.is_drum, sound.drum_note)
    return SetPattern(entry.id, pattern.length_ticks, pattern.to_list(), fields.get("name", ""))


def _adapter(kind: str) -> TypeAdapter[Any]:
    if kind not in ADAPTERS:
        ADAPTERS[kind] = TypeAdapter(EDITS[kind])
    return ADAPTERS[kind]


def _place_from_library(fields: dict[str, str]) -> Edit:
    chosen = library.patterns().get(fields.pop("pattern_key", ""))
    if chosen is None:
        raise EditError("That pattern is not in the library. Choose one from the list.")
    notes = {"name": chosen.name, "length_ticks": chosen.pattern.length_ticks, "rows": chosen.pattern.to_list()}
    return TypeAdapter(PlaceNew).validate_python({**fields, **notes})
