"""Samples beside a song: tried in a section that goes round, laid there, exchanged, cut, mended."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import section_of, whole_number
from escalera.core.edits.recording_edits import USES, LaySample
from escalera.core.palette.sounds import DRUM_SOUND, FAMILIES
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.samples.finding import wish_from
from escalera.errors import EscaleraError
from escalera.services.heard import keep_heard, parts_from
from escalera.services.sample_hearing import (
    in_song_wav,
    laid_layer,
    landing,
    mended,
    part_wav,
    with_laid,
    without_layer,
)
from escalera.services.sample_making import make_vocoded
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web import samples as library_page
from escalera.web.edits import add_edits, answer, base_number
from escalera.web.sample_view import SampleView
from escalera.web.samples import number_of
from escalera.web.song_view import studio

blueprint = Blueprint("song_samples", __name__, url_prefix="/songs/<int:song_id>/samples")
MOST_AT_ONCE = 60


def view_of(head: Head) -> SampleView:
    values = request.values
    return SampleView(
        head, studio().samples, wish_from(values), values.get("select", ""), number_of("chosen"), number_of("clip")
    )


def context(view: SampleView) -> dict[str, Any]:
    return {
        **library_page.context(view.wall), "view": view, "song": view.song, "head": view.head, "place": "samples",
        "clips": view.clips, "slice": number_of("slice"), "families": FAMILIES, "drums": tuple(DRUM_SOUND), "songs": {}, "uses": USES,
        "fill": studio().samples.fill_near(view.song.tempo_bpm) if view.clips and view.clips.short else None,
    }  # fmt: skip


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("samples/song.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id), None)


@blueprint.get("/side")
def side(song_id: int) -> ResponseReturnValue:
    return render_template("samples/_side.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/more")
def more(song_id: int) -> ResponseReturnValue:
    return render_template("samples/_tiles.html", **context(view_of(studio().head(song_id))))


def _fragments(head: Head, outcome: Outcome | None) -> str:
    view = view_of(head)
    made = _new_layer(outcome)
    if made:  # what was laid in is chosen, to be cut and mended
        view = SampleView(
            head, studio().samples, wish_from(request.values), f"section:{view.section.id}:{made}", number_of("chosen")
        )
    return render_template("samples/_song_changed.html", **context(view), summary=outcome.summary if outcome else "")


def _new_layer(outcome: Outcome | None) -> int:
    """The recorded layer that an edit brought; 0 where it brought none."""
    if outcome is None or outcome.before is None:
        return 0
    old = outcome.before.layer_by_id
    return next((x.id for x in outcome.head.song.layers if x.clips and x.id not in old), 0)


@blueprint.get("/<int:revision_id>/<int:section_id>/<int:sample_id>.wav")
def tried(song_id: int, revision_id: int, section_id: int, sample_id: int) -> ResponseReturnValue:
    """What a sample would play in a section, by itself; 0 is the section as it stands, without the layer that is asked about."""
    song, layer_id, rendering = studio().state(song_id, revision_id), number_of("layer"), studio().rendering
    section_of(song, section_id)
    if sample_id:
        use, family = _asked(sample_id)
        after = with_laid(song, studio().samples.sample(sample_id), section_id, use, family, layer_id)
        sound = part_wav(rendering, after, section_id, laid_layer(song, after, layer_id))
    else:
        sound = in_song_wav(rendering, without_layer(song, layer_id) if layer_id else song, section_id)
    return _heard_once(sound)


def _asked(sample_id: int) -> tuple[str, str]:
    """As what, and in which family, a sample is asked about; each sample's usual way where the page says nothing of it."""
    mine = number_of("own") in (0, sample_id)
    use, family = (request.args.get(name, "") if mine else "" for name in ("use", "family"))
    return use or studio().samples.reading(sample_id).usual_use, family


def _heard_once(wav: bytes) -> Response:
    """Sound that no browser keeps: the same address may sound different once a sample is corrected."""
    return Response(wav, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


@blueprint.post("/vocode/<int:sample_id>")
def vocode(song_id: int, sample_id: int) -> ResponseReturnValue:
    """A sample, or one word of it, that speaks through the chords of some bars of the chosen section, laid there."""
    head = studio().head(song_id)
    section = view_of(head).section
    form = request.form
    first, last = (whole_number(form.get(name, "1"), "bar", 1, section.bars) for name in ("first_bar", "last_bar"))

    def act() -> Outcome:
        made = make_vocoded(studio().samples, head.song, section.id, sample_id, first - 1, last, number_of("words"))
        laid = LaySample(
            asdict(studio().samples.sample(made)),
            section.id,
            "loop",
            "voices",
            at_ticks=section_bar_ticks(section, head.song.metre)[first - 1],
        )
        return studio().edit(song_id, base_number(form.get("base", "")), laid)

    return answer(song_id, act, _fragments)


@blueprint.post("/heard")
def keep_what_was_heard(song_id: int) -> ResponseReturnValue:
    """The last two minutes that a page noted, kept as a sample."""
    head = studio().head(song_id)
    try:
        parts = parts_from(request.form.get("parts", ""))
        made, name = keep_heard(studio(), song_id, parts, datetime.now().strftime("%H:%M"))
    except EscaleraError as error:
        return render_template("_notice.html", message=str(error), kind="error"), error.status
    view = view_of(head)
    view = SampleView(head, studio().samples, wish_from(request.values), view.select, made, number_of("clip"))
    return render_template("samples/_song_changed.html", **context(view), summary=f"“{name}” is in the library.")


@blueprint.get("/<int:revision_id>/<int:section_id>/mend.wav")
def mend(song_id: int, revision_id: int, section_id: int) -> ResponseReturnValue:
    """A section with a clip brought onto whole bars in one of the ways."""
    song, way, layer_id = studio().state(song_id, revision_id), request.args.get("way", ""), number_of("layer")
    fill = studio().samples.fill_near(song.tempo_bpm) if way == "fill" else None
    sample = studio().samples.sample(fill.id) if fill else None
    song = mended(song, layer_id, number_of("clip"), way, sample)
    return _heard_once(in_song_wav(studio().rendering, song, section_id))


@blueprint.get("/<int:revision_id>/<int:section_id>/landings")
def landings(song_id: int, revision_id: int, section_id: int) -> ResponseReturnValue:
    """Where the section's energy would land with each of some samples, by id."""
    song = studio().state(song_id, revision_id)
    section_of(song, section_id)
    ids = [int(x) for x in request.args.get("ids", "").split(",") if x.isdecimal() and len(x) < 10][:MOST_AT_ONCE]
    found = {}
    for sample_id in ids:
        use, family = _asked(sample_id)
        there = landing(song, studio().samples.sample(sample_id), section_id, use, family, number_of("layer"))
        if there is not None:
            found[str(sample_id)] = [there.energy, round(there.off, 2)]
    return jsonify(found)


add_edits(blueprint, _fragments)
