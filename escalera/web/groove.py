"""The groove page of a song: a beat said, tapped, found or drawn; varied, timed, placed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.song import Song
from escalera.core.edits.beat_edits import SetPhraseHit, TakeBeat, as_rows, read_taps
from escalera.core.edits.edit import whole_number
from escalera.core.edits.groove_material_edits import ROLLS
from escalera.core.energy.model import section_energy
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.beat import LANES
from escalera.core.rhythm.beat_variations import VARIATIONS
from escalera.core.rhythm.groove_family import FAMILY
from escalera.core.rhythm.performance import GRIDS
from escalera.core.rhythm.spoken_beats import hear, vocabulary, write_spoken
from escalera.core.rhythm.tapped_beats import read_tapped
from escalera.errors import EditError, FormatError, InputError
from escalera.services import library
from escalera.services.commands import beat_called
from escalera.services.groove_library import Wanted, groove_of_midi, listed_grooves, midi_of_groove, tapped_alike
from escalera.services.hearing import beat_song
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.edits import add_edits, answer, base_number, effect_on, entered
from escalera.web.groove_drawing import RESOLUTIONS
from escalera.web.groove_view import GrooveView, near_lines, swing_in_words
from escalera.web.page_view import PhraseView
from escalera.web.song_view import studio

blueprint = Blueprint("groove", __name__, url_prefix="/songs/<int:song_id>/groove")


def view_of(head: Head) -> GrooveView:
    values = request.values
    return GrooveView(head, values.get("select", ""), values.get("step", ""), values.get("shown", ""))


def context(view: GrooveView) -> dict[str, Any]:
    return {
        "view": view,
        "song": view.song,
        "head": view.head,
        "place": "groove",
        "resolutions": RESOLUTIONS,
        "variations": VARIATIONS,
        "grids": GRIDS,
        "lanes": LANES,
        "words": vocabulary(dict(view.song.words)),
        "swing_in_words": swing_in_words,
        "library": listed_grooves(view.song),
        "drums": sorted({d for g in library.grooves().values() for d in g.beat.drums}),
        "families": list(FAMILY.values()),
        "rolls": list(ROLLS),
        "drum_sounds": [s for s in SOUNDS if s.is_drum],
    }


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("groove/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id), None)


def _fragments(head: Head, outcome: Outcome | None) -> str:
    view = view_of(head)
    return render_template(
        "groove/_changed.html",
        **context(view),
        summary=outcome.summary if outcome else "",
        entered=entered(outcome),
        effect=effect_on(view.song, view.section.id, outcome),
    )


def place(song: Song, select: str) -> dict[str, object]:
    """The phrase that a selection means."""
    view = PhraseView(Head(0, 0, True, False, song), select)
    return {"section_id": view.section.id, "phrase": view.phrase}


def _taps(fields: Mapping[str, str]) -> tuple[list[tuple[float, str]], float | None]:
    try:
        return read_taps(fields.get("taps", "")), float(fields["one"]) if fields.get("one") else None
    except ValueError:
        raise EditError("The taps cannot be read. Tap again from the start.") from None


@blueprint.get("/listen")
def listen(song_id: int) -> ResponseReturnValue:
    """A spoken beat as it is being written: what was understood, and what not."""
    view = view_of(studio().head(song_id))
    heard = hear(request.args.get("spoken", ""), view.metre, dict(view.song.words))
    return render_template(
        "groove/_heard.html",
        heard=heard,
        view=view,
        canonical=write_spoken(heard.beat, dict(view.song.words)),
        lanes=LANES,
    )


def _wanted() -> Wanted:
    """What is asked of grooves that come near to taps."""
    asked = request.args
    low, high = (
        int(v) if (v := asked.get(k, "")) in tuple("12345") else usual for k, usual in (("from", 1), ("to", 5))
    )
    return Wanted(asked.get("has", ""), asked.get("lacks", ""), low, high, asked.get("role", ""))


@blueprint.get("/tapped")
def tapped(song_id: int) -> ResponseReturnValue:
    """Taps as a beat, before it is taken."""
    view = view_of(studio().head(song_id))
    try:
        found = read_tapped(*_taps(request.args.to_dict()), view.tempo_bpm, view.metre)
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template(
        "groove/_tapped.html",
        found=found,
        near=near_lines(found.beat, tapped_alike(found.beat, view.song, _wanted())),
        spoken=write_spoken(found.beat),
        tempo=view.tempo_bpm,
    )


@blueprint.get("/hit")
def hit(song_id: int) -> ResponseReturnValue:
    """What one hit does to the section's energy and drive."""
    view = view_of(studio().head(song_id))
    drum, tick = request.args.get("drum", ""), whole_number(request.args.get("tick", ""))
    here = view.beat.at.get((drum, tick))
    if here is None:
        return "", 204
    try:
        song = SetPhraseHit(view.section.id, view.phrase, drum, tick, 0).apply(view.song)
    except EditError:
        return "", 204
    now = section_energy(view.song, view.span)
    without = section_energy(song, timeline(song).span_of(view.section.id))
    drive = now.contributions().get("drive", 0.0) - without.contributions().get("drive", 0.0)
    return render_template(
        "groove/_hit.html", hit=here, metre=view.metre, energy=now.value - without.value, drive=drive
    )


@blueprint.get("/hear.wav")
def hear_beat(song_id: int) -> ResponseReturnValue:
    """A beat by itself: of this phrase, of the library, or as it is spoken."""
    view = view_of(studio().head(song_id))
    played = view.beat
    if request.args.get("key"):
        played = beat_called(view.song, request.args["key"])[1]
    elif request.args.get("spoken"):
        played = hear(request.args["spoken"], view.metre, dict(view.song.words)).beat
    elif request.args.get("taps"):
        found = read_tapped(*_taps(request.args.to_dict()), view.tempo_bpm, view.metre)
        played = found.played if request.args.get("as_played") else found.beat
    if not played.hits:
        raise EditError("There is nothing to hear yet. Say, tap or draw at least one hit.")
    return Response(
        studio().hear(beat_song(view.song, played, view.section)),
        mimetype="audio/wav",
        headers={"Cache-Control": "no-store"},
    )


@blueprint.get("/groove.mid")
def midi(song_id: int) -> ResponseReturnValue:
    """The beat of this phrase as a MIDI file of one drum track."""
    view = view_of(studio().head(song_id))
    if not view.beat.hits:
        raise EditError("There is no beat in this phrase to take away. Choose another one.")
    data = midi_of_groove(view.name, view.beat, view.tempo_bpm)
    return Response(data, mimetype="audio/midi", headers={"Content-Disposition": "attachment; filename=groove.mid"})


@blueprint.post("/bring")
def bring(song_id: int) -> ResponseReturnValue:
    """A drum track of a MIDI file as the groove of this phrase, its timing kept."""
    form = request.form.to_dict()
    report: list[str] = []

    def act() -> Outcome:
        file = request.files.get("file")
        if file is None or not file.filename:
            raise FormatError("No file was chosen. Choose a MIDI file with a drum track.")
        found = groove_of_midi(file.filename, file.read())
        base = base_number(form.get("base", ""))
        view = GrooveView(Head(song_id, base, True, False, studio().state(song_id, base)), form.get("select", ""))
        played = replace(found.beat, metre=view.metre)
        report.extend(
            (
                *found.report,
                f"Swing {swing_in_words(found.swing)}, looseness {found.looseness_ms:.1f} ms; the timing was kept.",
            )
        )
        taken = TakeBeat(view.section.id, view.phrase, found.name, played.length_ticks, as_rows(played), "brought in")
        return studio().edit(song_id, base, taken)

    def fragments(head: Head, outcome: Outcome | None) -> str:
        return _fragments(head, outcome) + (
            render_template("_notice.html", message=" ".join(report), kind="calm") if outcome else ""
        )

    return answer(song_id, act, fragments)


add_edits(blueprint, _fragments, place)
