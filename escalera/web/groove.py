"""The groove page of a song: a beat said, tapped, found or drawn; varied, timed, placed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, render_template, request

from escalera.core.document.song import Song
from escalera.core.edits.edit import Edit
from escalera.core.edits.groove_edits import (
    AddGroove,
    AdoptGroove,
    PlaceFill,
    SayGroove,
    SetHit,
    VaryGroove,
    groove_of,
)
from escalera.core.energy.model import section_energy
from escalera.core.palette.sounds import SOUNDS
from escalera.core.reading.groove_reading import groove_beat
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.beat import LANES, Beat, Hit, beat
from escalera.core.rhythm.beat_variations import VARIATIONS
from escalera.core.rhythm.performance import GRIDS
from escalera.core.rhythm.spoken_beats import hear, parse_spoken, vocabulary, write_spoken
from escalera.core.rhythm.tapped_beats import read_tapped
from escalera.errors import EditError, FormatError, InputError, shown
from escalera.services import library
from escalera.services.groove_library import alike, groove_of_midi, midi_of_groove
from escalera.services.hearing import beat_song
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.edits import Made, add_steps, answer, base_number, effect_on, entered, page_edits, whole_number
from escalera.web.groove_drawing import RESOLUTIONS
from escalera.web.groove_view import GrooveView, near_lines, swing_in_words
from escalera.web.song_view import studio

blueprint = Blueprint("groove", __name__, url_prefix="/songs/<int:song_id>/groove")


def view_of(head: Head) -> GrooveView:
    values = request.values
    return GrooveView(head, values.get("select", ""), values.get("step", ""), values.get("shown", ""))


def context(view: GrooveView) -> dict[str, Any]:
    return {"view": view, "song": view.song, "head": view.head, "place": "groove", "resolutions": RESOLUTIONS, "variations": VARIATIONS,
            "grids": GRIDS, "lanes": LANES, "words": vocabulary(dict(view.song.words)), "swing_in_words": swing_in_words,
            "library": library.grooves(), "drum_sounds": [s for s in SOUNDS if s.is_drum]}  # fmt: skip


@blueprint.get("")
def page(song_id: int):  # type: ignore[no-untyped-def]
    return render_template("groove/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int):  # type: ignore[no-untyped-def]
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


@blueprint.post("/edits")
def edits(song_id: int):  # type: ignore[no-untyped-def]
    return page_edits(song_id, _made, _fragments)


def _made(head: Head, form: dict[str, str]) -> Made | None:
    make = KINDS.get(form.get("kind", ""))
    return (make(GrooveView(head, form.get("select", "")), form), "") if make else None


def _kept(view: GrooveView) -> tuple[list[Edit], int]:
    """What makes the phrase's beat a groove, and the groove's id."""
    if view.groove:
        return [], view.groove.id
    return [AdoptGroove(view.section.id, view.phrase)], view.song.next_id


def _new(view: GrooveView, played: Beat, name: str, feel: str = "") -> list[Edit]:
    """A beat as a new groove of this phrase."""
    hits = [[h.tick, h.drum, h.velocity] for h in played.hits]
    return [AddGroove(name, played.length_ticks, hits, feel, 0, view.section.id, view.phrase)]


def _hit(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    drum, tick, velocity = (
        form.get("drum", ""),
        whole_number(form.get("tick", "")),
        whole_number(form.get("velocity", "100")),
    )
    if not view.beat.hits:
        return _new(
            view, beat(view.metre.bar_ticks, view.metre, [Hit(tick, drum, velocity)]), f"Beat of {view.section.name}"
        )
    before, groove_id = _kept(view)
    return [*before, SetHit(groove_id, drum, tick, velocity)]


def _say(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    played = parse_spoken(form.get("spoken", ""), view.metre, dict(view.song.words))
    if not view.beat.hits or form.get("anew"):
        return _new(view, played, form.get("name") or f"Beat of {view.section.name}")
    before, groove_id = _kept(view)
    return [*before, SayGroove(groove_id, form.get("spoken", ""), str(view.metre))]


def _tap(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    found = read_tapped(*_taps(form), view.tempo_bpm, view.metre)
    return _new(view, found.played if form.get("as_played") else found.beat, "Tapped beat")


def _taps(form: dict[str, str]) -> tuple[list[tuple[float, str]], float | None]:
    """Taps as 'seconds:drum,…' and the moment of the one."""
    try:
        taps = [
            (float(t), {"l": "kick", "h": "snare"}[d])
            for t, d in (row.split(":") for row in form.get("taps", "").split(",") if row)
        ]
        return taps, float(form["one"]) if form.get("one") else None
    except (ValueError, KeyError):
        raise EditError("The taps cannot be read. Tap again from the start.") from None


def _take(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    """A groove of the library or of the song, for this phrase."""
    entry = _entry(view.song, form.get("key", ""))
    return _new(view, entry[1], entry[0], entry[2])


def _entry(song: Song, key: str) -> tuple[str, Beat, str]:
    if key.startswith("own:"):
        groove = groove_of(song, whole_number(key[4:]))
        return groove.name, groove_beat(song, groove), groove.feel
    found = library.grooves().get(key)
    if found is None:
        raise EditError(f"“{shown(key)}” is not in the library. Choose a groove from the list.")
    return found.name, found.beat, found.feel


def _fill(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    name, played, _ = _entry(view.song, form.get("key", ""))
    hits = [[h.tick, h.drum, h.velocity] for h in played.hits]
    return [
        PlaceFill(view.section.id, name, played.length_ticks, hits, None if form.get("everywhere") else view.phrase)
    ]


def _vary(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    before, groove_id = _kept(view)
    return [*before, VaryGroove(groove_id, form.get("variation", ""), view.section.id, view.phrase)]


def _keep(view: GrooveView, form: dict[str, str]) -> list[Edit]:
    return [AdoptGroove(view.section.id, view.phrase, form.get("name", ""))]


KINDS = {
    "hit": _hit,
    "say": _say,
    "tap": _tap,
    "take_groove": _take,
    "take_fill": _fill,
    "vary_beat": _vary,
    "keep_beat": _keep,
}


@blueprint.get("/listen")
def listen(song_id: int):  # type: ignore[no-untyped-def]
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


@blueprint.get("/tapped")
def tapped(song_id: int):  # type: ignore[no-untyped-def]
    """Taps as a beat, before it is taken."""
    view = view_of(studio().head(song_id))
    try:
        found = read_tapped(*_taps(request.args.to_dict()), view.tempo_bpm, view.metre)
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template(
        "groove/_tapped.html",
        found=found,
        near=near_lines(found.beat, alike(found.beat, view.song, limit=3)),
        spoken=write_spoken(found.beat),
        tempo=view.tempo_bpm,
    )


@blueprint.get("/hit")
def hit(song_id: int):  # type: ignore[no-untyped-def]
    """What one hit does to the section's energy and drive."""
    view = view_of(studio().head(song_id))
    drum, tick = request.args.get("drum", ""), whole_number(request.args.get("tick", ""))
    here = view.beat.at.get((drum, tick))
    if here is None:
        return "", 204
    song = view.song
    before, groove_id = _kept(view)
    for step in (*before, SetHit(groove_id, drum, tick, 0)):
        try:
            song = step.apply(song)
        except EditError:
            return "", 204
    now = section_energy(view.song, view.span)
    without = section_energy(song, timeline(song).span_of(view.section.id))
    drive = now.contributions().get("drive", 0.0) - without.contributions().get("drive", 0.0)
    return render_template(
        "groove/_hit.html", hit=here, metre=view.metre, energy=now.value - without.value, drive=drive
    )


@blueprint.get("/hear.wav")
def hear_beat(song_id: int):  # type: ignore[no-untyped-def]
    """A beat by itself: of this phrase, of the library, or as it is spoken."""
    view = view_of(studio().head(song_id))
    played = view.beat
    if request.args.get("key"):
        played = _entry(view.song, request.args["key"])[1]
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
def midi(song_id: int):  # type: ignore[no-untyped-def]
    """The beat of this phrase as a MIDI file of one drum track."""
    view = view_of(studio().head(song_id))
    if not view.beat.hits:
        raise EditError("There is no beat in this phrase to take away. Choose another one.")
    data = midi_of_groove(view.name, view.beat, view.tempo_bpm)
    return Response(data, mimetype="audio/midi", headers={"Content-Disposition": "attachment; filename=groove.mid"})


@blueprint.post("/bring")
def bring(song_id: int):  # type: ignore[no-untyped-def]
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
        return studio().edit(song_id, base, _new(view, played, found.name, "brought in"))

    def fragments(head: Head, outcome: Outcome | None) -> str:
        return _fragments(head, outcome) + (
            render_template("_notice.html", message=" ".join(report), kind="calm") if outcome else ""
        )

    return answer(song_id, act, fragments)


add_steps(blueprint, _fragments)
