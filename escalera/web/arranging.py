"""Arranging on the stair: moves with their previews, the form as text with what it would make, comparing two forms."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.commands.layout_commands import FILLS, LayOut
from escalera.core.commands.move_commands import found_moves
from escalera.core.document.form_text import numbered, parse_form
from escalera.core.document.forms import FORMS
from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.energy.explain import arranged_agreement
from escalera.core.energy.model import arranged
from escalera.core.moves import KINDS, Move
from escalera.core.moves.move import moves_for
from escalera.core.moves.previews import preview
from escalera.core.moves.suggestions import suggest, suggest_song
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import clock
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass
from escalera.services.studio import picture_of
from escalera.web.drawing import small_stair
from escalera.web.song_view import studio

blueprint = Blueprint("arranging", __name__, url_prefix="/songs/<int:song_id>")


@dataclass(frozen=True, slots=True)
class Offered:
    """A kind of move with the candidates it has for a section."""

    key: str
    label: str
    said: str
    touches: str
    moves: list[Move]


def offered(song: Song, section_id: int) -> list[Offered]:
    """All kinds that apply to a section, in the registry's order."""
    section = section_of(song, section_id)
    by_kind: dict[str, list[Move]] = {}
    for move in moves_for(song, section):
        by_kind.setdefault(move.key.partition(":")[0], []).append(move)
    return [Offered(k, KINDS[k].label, KINDS[k].said, KINDS[k].touches, rows) for k, rows in by_kind.items()]


@blueprint.get("/moves")
def moves(song_id: int) -> ResponseReturnValue:
    """All moves for a section, to be looked at before they are made."""
    head = studio().head(song_id)
    section = section_of(head.song, whole_number(request.args.get("section", "")))
    energy = arranged(head.song).of(section.id)
    return render_template(
        "stair/_moves.html",
        song=head.song,
        head=head,
        section=section,
        energy=energy,
        kinds=offered(head.song, section.id),
        suggestions=suggest(head.song, section.id),
        all=len(KINDS),
    )


@blueprint.get("/moves/preview")
def move_preview(song_id: int) -> ResponseReturnValue:
    """What moves would do: the stair before and after, terms, and what changes."""
    head = studio().head(song_id)
    section = section_of(head.song, whole_number(request.args.get("section", "")))
    try:
        found = [move for move, _ in found_moves(head.song, section.id, request.args.get("move", ""))]
        shown = preview(head.song, section.id, found)
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template(
        "stair/_preview.html",
        head=head,
        section=section,
        moves=found,
        shown=shown,
        key=request.args["move"],
        before=_stair(head.song),
        after=_stair(shown.after),
    )


@blueprint.get("/helps/song")
def song_helps(song_id: int) -> ResponseReturnValue:
    """What would most improve the whole song."""
    song = studio().head(song_id).song
    found = arranged_agreement(arranged(song))
    worst = song.section_by_id.get(found.worst_section_id or 0)
    return render_template("stair/_song_helps.html", suggestions=suggest_song(song), song=song, worst=worst)


def _stair(song: Song) -> list[tuple[float, float, float, float]]:
    arranged(song)
    return small_stair(picture_of(song))


# the form ------------------------------------------------------------------------------------------------------------------


def form_text(song: Song) -> str:
    return ", ".join(f"{s.name} {s.bars}" for s in song.sections)


@blueprint.get("/form")
def form(song_id: int) -> ResponseReturnValue:
    """The form as text, with the library and what a change would make of it."""
    head = studio().head(song_id)
    return render_template(
        "stair/_form.html",
        song=head.song,
        head=head,
        forms=FORMS,
        fills=FILLS,
        text=form_text(head.song),
        **_laid_out(head.song, form_text(head.song), 0, FILLS[0]),
    )


@blueprint.get("/form/preview")
def form_preview(song_id: int) -> ResponseReturnValue:
    song, values = studio().head(song_id).song, request.args
    source = whole_number(values.get("source_id", "0") or "0")
    return render_template(
        "stair/_form_preview.html",
        song=song,
        **_laid_out(song, values.get("text", ""), source, values.get("fill", FILLS[0])),
    )


def _laid_out(song: Song, text: str, source_id: int, fill: str) -> dict[str, Any]:
    """The rows of a form as it would be, its length and its stair; or the sentence that says where it cannot be read."""
    try:
        after = LayOut(text, source_id, fill).apply(song)
    except InputError as error:
        return {"error": str(error), "rows": [], "after": None}
    old = song.section_by_id
    rows = []
    for energy in arranged(after).sections:
        section, span = energy.span.section, energy.span
        what = (
            "new"
            if section.id not in old
            else ""
            if section.bars == old[section.id].bars
            else f"was {old[section.id].bars} bars"
        )
        rows.append((section, span, f"{clock(span.start_seconds)}–{clock(span.end_seconds)}", energy.value, what))
    kept = {s.id for s in after.sections}
    gone = [s.name for s in song.sections if s.id not in kept]
    return {
        "error": "",
        "rows": rows,
        "gone": gone,
        "bars": after.bars,
        "seconds": timeline(after).seconds,
        "was_bars": song.bars,
        "was_seconds": timeline(song).seconds,
        "before_stair": _stair(song),
        "after_stair": _stair(after),
        "after": after,
    }


@blueprint.get("/form/compare")
def form_compare(song_id: int) -> ResponseReturnValue:
    """Two forms side by side: this song's, and one of the library or as typed."""
    song = studio().head(song_id).song
    text = request.args.get("text", "")
    other = FORMS[text].text if text in FORMS else text
    try:
        parts = numbered(parse_form(other))
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    beats = song.metre.bar_ticks / 960.0 * 60.0 / song.tempo_bpm
    mine = [(s.name, s.bars) for s in song.sections]
    return render_template(
        "stair/_form_compare.html",
        mine=_with_places(mine),
        other=_with_places(parts),
        seconds=beats,
        label=FORMS[text].label if text in FORMS else "as typed",
    )


def _with_places(parts: list[tuple[str, int]]) -> list[tuple[str, int, int]]:
    """Name, bars and first bar of every part."""
    found, bar = [], 1
    for name, bars in parts:
        found.append((name, bars, bar))
        bar += bars
    return found
