"""Laying out on the stair: three ways beside each other, each with its stair, its tiles, its reasons, and heard before it is taken."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.bench.seats import seats
from escalera.core.checks.check import grouped, run_checks
from escalera.core.commands.layout_commands import Arrange
from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.layout import Layout
from escalera.core.layout.plans import PEAKS, STANCES
from escalera.core.reading.timeline import Span, timeline
from escalera.errors import InputError, NotFound
from escalera.services.layouts import measured_off
from escalera.services.passages import passage
from escalera.services.studio import picture_of
from escalera.web.drawing import small_stair
from escalera.web.song_view import studio

blueprint = Blueprint("layouts", __name__, url_prefix="/songs/<int:song_id>/layout")
LEAD_BARS, HEARD_BARS = 4, 8
FULL = "■"


@blueprint.get("")
def dialog(song_id: int) -> ResponseReturnValue:
    """What is laid out, what stays, and three places for what comes of it."""
    head = studio().head(song_id)
    section_id = whole_number(request.args.get("section", "") or "0")
    section = section_of(head.song, section_id) if section_id else None
    return render_template(
        "stair/_layout.html",
        head=head,
        song=head.song,
        section=section,
        seats=[s for s in seats(head.song) if s.part != "effect"],
        stances=STANCES,
        pinned=_pinned(),
        fitted=head.song.scale.gain is not None,
    )


@blueprint.get("/<stance>")
def way(song_id: int, stance: str) -> ResponseReturnValue:
    """One way of laying out: nothing is changed."""
    head = studio().head(song_id)
    try:
        command = _command(stance, head.song)
        found = command.layout(head.song)
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template(
        "stair/_layout_way.html",
        head=head,
        layout=found,
        number=list(STANCES).index(stance) + 1,
        command={"stance": stance, **_fields(command)},
        stair=_stair(found.song),
        wall=_small_wall(found.song, [s.layer.id for s in seats(found.song) if s.part != "effect"]),
        findings=len(grouped(run_checks(found.song))),
        kept=[(found.song.layer_by_id[x].name, found.song.section_by_id[s].name) for x, s in found.kept.items()],
        rows=_rows(found),
        heard=_worth_hearing(found),
        query=request.query_string.decode(),
    )


@blueprint.get("/<stance>/<int:section_id>.wav")
def hear(song_id: int, stance: str, section_id: int) -> ResponseReturnValue:
    """The join into a section as this way has it."""
    song = studio().head(song_id).song
    after = _command(stance, song).layout(song).song
    section_of(after, section_id)
    heard = passage(studio().rendering, after, section_id, LEAD_BARS, HEARD_BARS)
    return Response(heard.wav, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


def _command(stance: str, song: Song) -> Arrange:
    if stance not in STANCES:
        raise NotFound("There is no such way of laying out. Open the dialog again.")
    values = request.args
    known = studio().rendering.measured_now(song)
    off = measured_off(song, known) if known is not None else None
    fit = values.get("fit_scale") == "true"
    return Arrange(stance, whole_number(values.get("section", "") or "0"), _pinned(), fit, off)


def _pinned() -> list[int]:
    return [whole_number(name[4:]) for name in request.args if name.startswith("pin.")]


def _fields(command: Arrange) -> dict[str, Any]:
    """The command's other fields as a form has them."""
    return {
        "section_id": command.section_id,
        "fit_scale": command.fit_scale,
        **{f"pin.{x}": "on" for x in command.pinned or []},
        **{f"off.{key}": off for key, off in (command.off or {}).items()},
    }


def _stair(song: Song) -> list[tuple[float, float, float, float]]:
    run_checks(song)
    return small_stair(picture_of(song))


def _small_wall(song: Song, layer_ids: list[int]) -> list[tuple[float, int, float, str]]:
    """Who plays in which phrase: x in per cent, the row, the width, the family."""
    line, found = timeline(song), []
    total = line.seconds or 1.0
    for row, layer_id in enumerate(layer_ids):
        family = song.layer_by_id[layer_id].family.replace(" ", "-")
        for span in line.spans:
            signs = _tiles(span, layer_id)
            for (low, high), sign in zip(span.phrase_ticks(), signs):
                if sign == FULL:
                    start = span.start_seconds + span.seconds_at(low)
                    length = span.seconds_at(high) - span.seconds_at(low)
                    found.append((round(100 * start / total, 2), row, round(100 * length / total, 2), family))
    return found


def _rows(layout: Layout) -> list[tuple[Section, float, float, list[tuple[str, str, str]]]]:
    """Every section that was laid out: target, energy, and for every layer its tiles, its name and why."""
    names = {x.id: x.name for x in layout.song.layers}
    found = []
    for section, wanted, value in layout.rows:
        if section.id in layout.reasons:
            span = timeline(layout.song).span_of(section.id)
            said = [(_tiles(span, x), names[x], why) for x, why in layout.reasons[section.id].items()]
            found.append((section, wanted, value, said))
    return found


def _tiles(span: Span, layer_id: int) -> str:
    """A sign a phrase: full where the layer plays, empty where it does not."""
    mine = [p for p in span.section.placements if p.layer_id == layer_id]
    return "".join(
        FULL if any(p.start_ticks < high and p.end_ticks > low for p in mine) else "□"
        for low, high in span.phrase_ticks()
    )


def _worth_hearing(layout: Layout) -> list[Section]:
    """Sections in the order in which they tell most: the last peak, the first, then in the song's order."""
    chosen = [s for s, *_ in _rows(layout)]
    peaks = [s for s in chosen if s.role in PEAKS]
    first = [*peaks[-1:], *peaks[:1]]
    return list({s.id: s for s in (*first, *chosen)}.values())
